use clap::Subcommand;
use time::OffsetDateTime;
use waverant_model::{AddViewingLink, TakeName, ViewingLink};

use super::time_of;
use super::viewing::write_addresses;
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, moment};

#[derive(Subcommand, Debug)]
pub(super) enum Link {
    /// List the links by which a channel can be watched.
    List {
        /// The channel.
        channel: String,
    },
    /// Make a link; who has it may watch until it ends.
    Add {
        /// The channel.
        channel: String,
        /// For whom: a person or a place.
        label: String,
        /// When it ends, as in 2026-05-17T18:00:00Z; 30 days from now if left out.
        #[arg(long, value_parser = time_of)]
        ends_at: Option<OffsetDateTime>,
        /// How many may watch by it at a time; 0 is as many as the channel takes.
        #[arg(long, value_name = "COUNT", default_value_t = 0)]
        most_viewers: u32,
        /// A site whose pages alone may show it, as in `https://www.wexcombe.example`; may be given up to 16 times.
        #[arg(long, value_name = "SITE")]
        site: Vec<String>,
        /// Show rehearsals too.
        #[arg(long)]
        rehearsals: bool,
        /// A take that it leads to instead of to what is on air, as in 17/2: session and number.
        #[arg(long, value_name = "SESSION/NUMBER", value_parser = take_of, conflicts_with = "rehearsals")]
        take: Option<TakeName>,
    },
    /// Print where a link leads, one address for each kind of player.
    Addresses {
        /// The channel.
        channel: String,
        /// The link's number.
        link: u64,
    },
    /// Make a link worthless; who watches by it is ended.
    Revoke {
        /// The channel.
        channel: String,
        /// The link's number.
        link: u64,
    },
}

impl Link {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        let path = |channel: &str| format!("/channels/{}/links", piece(channel));
        match self {
            Self::List { channel } => {
                let links: Vec<ViewingLink> = client.get(&path(&channel))?;
                let empty = format!("No links yet. Make one: waverant link add {channel} LABEL");
                Ok(report.rows(&links, &links, &columns(), &empty)?)
            }
            Self::Add { channel, label, ends_at, most_viewers, site, rehearsals, take } => {
                let form =
                    AddViewingLink { label, ends_at, most_viewers, sites: site, shows_rehearsals: rehearsals, take };
                let made: ViewingLink = client.call("POST", &path(&channel), &form)?;
                if report.json {
                    return Ok(report.value(&made)?);
                }
                report.line(&format!("Link {} is good until {}.", made.id, moment(made.ends_at)))?;
                write_addresses(report, &made, &made.addresses)
            }
            Self::Addresses { channel, link } => {
                let links: Vec<ViewingLink> = client.get(&path(&channel))?;
                let Some(found) = links.iter().find(|found| found.id == link) else {
                    let told = format!("`{channel}` has no link {link}; list them: waverant link list {channel}");
                    return Err(Failure::Usage(told));
                };
                write_addresses(report, found, &found.addresses)
            }
            Self::Revoke { channel, link } => {
                client.order::<()>("DELETE", &format!("{}/{link}", path(&channel)))?;
                Ok(report.done(&(), &format!("Link {link} of `{channel}` revoked."))?)
            }
        }
    }
}

fn take_of(text: &str) -> Result<TakeName, String> {
    let parts = text.split_once('/').and_then(|(session, number)| Some((session.parse().ok()?, number.parse().ok()?)));
    let (session, number) = parts.ok_or("session and number were expected, as in 17/2")?;
    Ok(TakeName { session, number })
}

fn columns() -> [Column<ViewingLink>; 7] {
    [
        Column::number("link", |row| row.id.to_string()),
        Column::text("label", |row| row.label.clone()),
        Column::text("ends", |row| {
            if row.ends_at <= OffsetDateTime::now_utc() { "ended".to_owned() } else { moment(row.ends_at) }
        }),
        Column::number("watching", |row| match row.most_viewers {
            0 => row.viewer_count.to_string(),
            most => format!("{} of {most}", row.viewer_count),
        }),
        Column::text("shows", |row| match (row.take, row.shows_rehearsals) {
            (Some(TakeName { session, number }), _) => format!("take {session}/{number}"),
            (None, true) => "shows, rehearsals".to_owned(),
            (None, false) => "shows".to_owned(),
        }),
        Column::text("sites", |row| if row.sites.is_empty() { "any".to_owned() } else { row.sites.join(", ") }),
        Column::text("page", |row| row.addresses.page.clone()),
    ]
}
