//! How a channel is watched.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// Who may watch a channel without an account.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Audience {
    /// Nobody.
    #[default]
    Nobody,
    /// Who has a link.
    ByLink,
    /// Everybody who knows the address.
    Everybody,
}

/// What is more important to viewers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Nearness {
    /// As near to the moment as it can be: a picture at a time where the player can.
    Nearest,
    /// Some seconds behind, in parts of segments.
    #[default]
    Near,
    /// Some segments behind, whole ones alone: for lines that stutter.
    Steady,
}

/// What players get that stay connected while no show is on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum BetweenShows {
    /// Nothing: they wait.
    #[default]
    Silence,
    /// The holding picture: the channel's uploaded slate by its rule, else the built-in one.
    Picture,
}

/// A way of watching.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum WayOfWatching {
    /// Playlists and segments: HLS and DASH.
    Segments,
    /// A picture at a time over a WebSocket, in browsers.
    Pictures,
    /// A continuous stream over HTTP: MPEG-TS or FLV.
    Stream,
    /// RTMP, by viewing key.
    Rtmp,
    /// SRT, by viewing key.
    Srt,
}

/// How a channel is watched.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Viewing {
    /// Who may.
    pub audience: Audience,
    /// How near to the moment.
    pub nearness: Nearness,
    /// How far back one can go.
    pub back_ms: u32,
    /// Whether segments are made while nobody watches.
    pub is_always_ready: bool,
    /// How many may watch at a time; 0 is as many as the house takes.
    pub most_viewers: u32,
    /// The sites whose pages may show it while everybody may watch; none for all sites.
    pub sites: Vec<String>,
    /// By which ways it can be watched.
    pub ways: Vec<WayOfWatching>,
    /// What players of continuous streams get while no show is on.
    pub between_shows: BetweenShows,
    /// The depot from which its shows are told as well, for more viewers than the uplink carries.
    pub published_to: Option<String>,
    /// What its page says.
    pub page: ChannelPage,
    /// Where it is watched, by who may.
    pub addresses: ViewingAddresses,
}

/// Where a channel is watched.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ViewingAddresses {
    /// The page for people.
    pub page: String,
    /// The player alone, to be put into a page of one's own.
    pub embed: String,
    /// The newest picture as JPEG; `?width=` is 160, 320, 640 or 1280.
    pub still: String,
    /// For players of HLS.
    pub hls: String,
    /// For players of DASH.
    pub dash: String,
    /// For players that take a continuous MPEG transport stream over HTTP.
    pub transport_stream: String,
    /// For players that take a continuous FLV stream over HTTP.
    pub flv: String,
    /// For pages that take a picture at a time over a WebSocket.
    pub pictures: String,
    /// The playlist in the depot to which its shows are published, for any number of viewers.
    pub published: Option<String>,
}

/// What is to change of how a channel is watched; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeViewing {
    /// Who may; holds at once, also for who is watching.
    pub audience: Option<Audience>,
    /// How near to the moment; holds from the next session.
    pub nearness: Option<Nearness>,
    /// How far back one can go, 10000 to 14400000; beyond 120000 what is old lies on the disk, and segments are made
    /// while nobody watches as well. Holds from the next session.
    pub back_ms: Option<u32>,
    /// Whether segments are made while nobody watches; holds from the next session.
    pub is_always_ready: Option<bool>,
    /// How many may watch at a time, up to 100000; 0 is as many as the house takes. Holds for who comes.
    pub most_viewers: Option<u32>,
    /// The sites whose pages may show it while everybody may watch, as in `https://www.wexcombe.example`, up to 16;
    /// an empty list is all sites.
    pub sites: Option<Vec<String>>,
    /// By which ways it can be watched; one at least. Holds at once, also for who is watching.
    pub ways: Option<Vec<WayOfWatching>>,
    /// What players of continuous streams get while no show is on; holds at once.
    pub between_shows: Option<BetweenShows>,
    /// The depot from which its shows are told as well, while everybody may watch; it needs a public address. Empty
    /// for none. Holds at once.
    pub published_to: Option<String>,
    /// What its page says.
    #[serde(default)]
    pub page: ChangePage,
}

/// What the page of a channel says besides the show.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
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
    /// Whether the list of the house names the channel while everybody may watch it.
    pub is_listed: bool,
    /// Whether the newest recording is shown while the channel is not on air.
    pub shows_recording: bool,
    /// Whether it has a poster.
    pub has_poster: bool,
}

/// An address with what stands for it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PageLink {
    /// What people read, up to 80 characters.
    pub label: String,
    /// Where it leads: http or https.
    pub address: String,
}

/// What is to change of a page; what is left out stays, and what is empty goes.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangePage {
    /// What it is about, as Markdown, up to 8000 characters; HTML in it is left out.
    pub description: Option<String>,
    /// Words to find it by, up to 12 of up to 40 characters.
    pub tags: Option<Vec<String>>,
    /// Where more is, up to 12.
    pub links: Option<Vec<PageLink>>,
    /// When the next show begins, as in `2026-05-17T14:00:00Z`.
    pub starts_at: Option<String>,
    /// The colour of what can be pressed, as `#rrggbb`.
    pub accent: Option<String>,
    /// Lines of CSS of the house's own, up to 4000 characters.
    pub style: Option<String>,
    /// The address of what is shown beside the player in a frame of its own; its site must stand in the settings
    /// (`house.slot_sites`).
    pub slot: Option<String>,
    /// Whether the list of the house names the channel while everybody may watch it.
    pub is_listed: Option<bool>,
    /// Whether the newest recording is shown while the channel is not on air.
    pub shows_recording: Option<bool>,
}

/// An address under which somebody without an account may watch a channel.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ViewingLink {
    /// The link's number.
    pub id: u64,
    /// For whom it was made.
    pub label: String,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
    /// When it ends, also for who is watching.
    #[serde(with = "time::serde::rfc3339")]
    pub ends_at: OffsetDateTime,
    /// How many may watch by it at a time; 0 is as many as the channel takes.
    pub most_viewers: u32,
    /// How many watch by it now.
    pub viewer_count: u32,
    /// The sites whose pages alone may show it; none for anywhere.
    pub sites: Vec<String>,
    /// Whether rehearsals are shown to who has it.
    pub shows_rehearsals: bool,
    /// The take that it leads to, instead of to what is on air.
    pub take: Option<TakeName>,
    /// Where it leads.
    pub addresses: ViewingAddresses,
}

/// A link to be made.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct AddViewingLink {
    /// For whom: a person or a place.
    pub label: String,
    /// When it ends, 366 days from now at most; 30 days from now if left out.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub ends_at: Option<OffsetDateTime>,
    /// How many may watch by it at a time, up to 100000; 0, the default, is as many as the channel takes.
    #[serde(default)]
    pub most_viewers: u32,
    /// The sites whose pages alone may show it, as in `https://www.wexcombe.example`, up to 16; none for anywhere.
    #[serde(default)]
    pub sites: Vec<String>,
    /// Whether rehearsals are shown to who has it. Default no.
    #[serde(default)]
    pub shows_rehearsals: bool,
    /// The take of the channel that it leads to, also while the channel is closed; what is on air if left out.
    #[serde(default)]
    pub take: Option<TakeName>,
}

/// What names a take.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TakeName {
    /// Its session.
    pub session: u64,
    /// Its number within the session.
    pub number: u32,
}

/// How many watch, by the way they do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ViewerCounts {
    /// By playlists and segments.
    pub segments: u32,
    /// A picture at a time over a WebSocket.
    pub pictures: u32,
    /// A continuous stream over HTTP: MPEG-TS or FLV.
    pub stream: u32,
    /// RTMP.
    pub rtmp: u32,
    /// SRT.
    pub srt: u32,
    /// All of them.
    pub total: u32,
}

/// How many watched within a minute; the most for each way, and nothing of who they were.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ViewerMinute {
    /// The minute's begin.
    #[serde(with = "time::serde::rfc3339")]
    pub minute: OffsetDateTime,
    /// How many.
    pub viewers: ViewerCounts,
}
