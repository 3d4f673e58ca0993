use std::path::{Path, PathBuf};

use clap::{ArgAction, Subcommand};
use waverant_model::{ChangeChannel, ChangePage, ChangeViewing, Channel, ChannelPage, PageLink};

use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Report, moment};

#[derive(Subcommand, Debug)]
pub(super) enum Page {
    /// Show what the page of a channel says.
    Show {
        /// The channel.
        channel: String,
    },
    /// Change what the page of a channel says; what is left out stays, and an empty text goes.
    Change(Box<Change>),
    /// Give the page of a channel a poster: JPEG, PNG, WebP or AVIF.
    Poster {
        /// The channel.
        channel: String,
        /// The picture.
        #[arg(required_unless_present = "remove")]
        file: Option<PathBuf>,
        /// Remove the poster.
        #[arg(long, conflicts_with = "file")]
        remove: bool,
    },
}

#[derive(clap::Args, Debug)]
pub(super) struct Change {
    /// The channel.
    channel: String,
    /// A file with what it is about, as Markdown.
    #[arg(long, value_name = "FILE")]
    description_file: Option<PathBuf>,
    /// A word to find it by; may be given up to 12 times.
    #[arg(long)]
    tag: Vec<String>,
    /// Where more is, as in `Results=https://www.wexcombe.example/results`; may be given up to 12 times.
    #[arg(long, value_name = "LABEL=ADDRESS", value_parser = link_of)]
    link: Vec<PageLink>,
    /// When the next show begins, as in 2026-05-17T14:00:00Z.
    #[arg(long, value_name = "TIME")]
    starts_at: Option<String>,
    /// The colour of what can be pressed, as in #0b5563.
    #[arg(long, value_name = "COLOUR")]
    accent: Option<String>,
    /// A file with lines of CSS of the house's own.
    #[arg(long, value_name = "FILE")]
    style_file: Option<PathBuf>,
    /// The address of what is shown beside the player; its site must stand in the settings.
    #[arg(long, value_name = "ADDRESS")]
    slot: Option<String>,
    /// Whether the list of the house names the channel.
    #[arg(long, value_name = "true|false", action = ArgAction::Set)]
    listed: Option<bool>,
    /// Whether the newest recording is shown while the channel is not on air.
    #[arg(long, value_name = "true|false", action = ArgAction::Set)]
    recording: Option<bool>,
}

impl Page {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::Show { channel } => {
                let found: Channel = client.get(&format!("/channels/{}", piece(&channel)))?;
                show(&found.viewing.page, report)
            }
            Self::Change(change) => {
                let path = format!("/channels/{}", piece(&change.channel));
                let viewing = ChangeViewing { page: change.form()?, ..ChangeViewing::default() };
                let form = ChangeChannel { viewing, ..ChangeChannel::default() };
                let changed: Channel = client.call("PATCH", &path, &form)?;
                show(&changed.viewing.page, report)
            }
            Self::Poster { channel, file: Some(file), .. } => {
                client.upload::<()>(&format!("/channels/{}/poster", piece(&channel)), "image/*", &read(&file)?)?;
                Ok(report.done(&(), &format!("The page of `{channel}` has this poster now."))?)
            }
            Self::Poster { channel, file: None, .. } => {
                client.order::<()>("DELETE", &format!("/channels/{}/poster", piece(&channel)))?;
                Ok(report.done(&(), &format!("The poster of `{channel}` is removed."))?)
            }
        }
    }
}

impl Change {
    fn form(&self) -> Result<ChangePage, Failure> {
        let text = |file: &Option<PathBuf>| match file {
            Some(file) => match String::from_utf8(read(file)?) {
                Ok(text) => Ok(Some(text)),
                Err(_) => Err(Failure::Usage(format!("{}: text in UTF-8 was expected", file.display()))),
            },
            None => Ok(None),
        };
        // One empty word, or link, says that there are none.
        let tags = self.tag.iter().filter(|tag| !tag.is_empty()).cloned().collect();
        let links = self.link.iter().filter(|link| !link.address.is_empty()).cloned().collect();
        Ok(ChangePage {
            description: text(&self.description_file)?,
            tags: (!self.tag.is_empty()).then_some(tags),
            links: (!self.link.is_empty()).then_some(links),
            starts_at: self.starts_at.clone(),
            accent: self.accent.clone(),
            style: text(&self.style_file)?,
            slot: self.slot.clone(),
            is_listed: self.listed,
            shows_recording: self.recording,
        })
    }
}

fn read(file: &Path) -> Result<Vec<u8>, Failure> {
    std::fs::read(file).map_err(|error| Failure::Usage(format!("{}: {error}", file.display())))
}

fn link_of(text: &str) -> Result<PageLink, String> {
    if text.is_empty() {
        return Ok(PageLink { label: String::new(), address: String::new() });
    }
    let (label, address) =
        text.split_once('=').ok_or("a label and an address were expected, as in Results=https://…")?;
    Ok(PageLink { label: label.to_owned(), address: address.to_owned() })
}

fn show(page: &ChannelPage, report: &mut Report<'_>) -> Result<(), Failure> {
    if report.json {
        return Ok(report.value(page)?);
    }
    let links: Vec<String> = page.links.iter().map(|link| format!("{} ({})", link.label, link.address)).collect();
    let lines = [
        ("starts", page.starts_at.map_or_else(|| "-".to_owned(), moment)),
        ("tags", super::dash(Some(&page.tags.join(", ")))),
        ("links", super::dash(Some(&links.join(", ")))),
        ("colour", super::dash(page.accent.as_deref())),
        ("slot", super::dash(page.slot.as_deref())),
        ("poster", if page.has_poster { "yes" } else { "-" }.to_owned()),
        ("listed", if page.is_listed { "yes" } else { "no" }.to_owned()),
        ("recording", if page.shows_recording { "shown after the show" } else { "-" }.to_owned()),
        ("own style", if page.style.is_empty() { "-".to_owned() } else { format!("{} characters", page.style.len()) }),
    ];
    for (name, value) in lines {
        report.line(&format!("{name:<10} {value}"))?;
    }
    if !page.description.is_empty() {
        report.line(&format!("\n{}", page.description))?;
    }
    Ok(())
}
