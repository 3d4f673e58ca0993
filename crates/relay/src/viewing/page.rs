use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

/// What the page of a channel says besides the show.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct ChannelPage {
    /// What it is about, as Markdown.
    pub description: String,
    /// Words to find it by.
    pub tags: Vec<String>,
    /// Where more is.
    pub links: Vec<PageLink>,
    /// When the next show begins.
    #[serde(with = "time::serde::rfc3339::option")]
    pub starts_at: Option<OffsetDateTime>,
    /// The colour of what can be pressed, as `#rrggbb`.
    pub accent: Option<String>,
    /// Lines of CSS of the house's own.
    pub style: String,
    /// What is shown beside the player in a frame of its own, such as a chat.
    pub slot: Option<String>,
    /// Whether the list of the house names the channel.
    pub is_listed: bool,
    /// Whether the newest recording is shown while the channel is not on air.
    pub shows_recording: bool,
    /// The media type of its poster, if it has one.
    pub poster: Option<String>,
}

/// An address with what stands for it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PageLink {
    /// What people read.
    pub label: String,
    /// Where it leads.
    pub address: String,
}
