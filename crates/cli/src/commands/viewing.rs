use clap::{Args, Subcommand, ValueEnum};
use serde::Serialize;
use time::OffsetDateTime;
use waverant_model::{
    BetweenShows, ChangePage, ChangeViewing, Channel, ViewerCounts, ViewerMinute, ViewingAddresses, WayOfWatching,
};

use super::{millis, word};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, duration, moment};

#[derive(Subcommand, Debug)]
pub(super) enum Viewing {
    /// List who may watch which channel, and how.
    List,
    /// Print where a channel is watched, one address for each kind of player.
    Addresses {
        /// The channel.
        channel: String,
    },
    /// Show how many watched a channel, by the way they did.
    Viewers {
        /// The channel.
        channel: String,
        /// How far back, in hours, up to 168.
        #[arg(long, default_value_t = 24)]
        hours: u32,
    },
}

/// So many lines show how many watched: the most within a time each.
const LINES: u32 = 48;

/// One address, for one kind of player.
struct Row {
    player: &'static str,
    address: String,
}

impl Viewing {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List => {
                let channels: Vec<Channel> = client.get("/channels")?;
                let empty = "No channels yet. Add one: waverant channel add NAME";
                Ok(report.rows(&channels, &channels, &columns(), empty)?)
            }
            Self::Addresses { channel } => addresses(&client, &channel, report),
            Self::Viewers { channel, hours } => {
                let path = format!("/channels/{}/viewers?hours={hours}", piece(&channel));
                let minutes: Vec<ViewerMinute> = client.get(&path)?;
                let step = i64::from((hours * 60).div_ceil(LINES)) * 60;
                let empty = format!("Nobody watched `{channel}` in the last {hours} hours.");
                Ok(report.rows(&minutes, &most_within(&minutes, step), &viewer_columns(), &empty)?)
            }
        }
    }
}

fn addresses(client: &Client, channel: &str, report: &mut Report<'_>) -> Result<(), Failure> {
    let found: Channel = client.get(&format!("/channels/{}", piece(channel)))?;
    write_addresses(report, &found.viewing, &found.viewing.addresses)?;
    if report.json {
        return Ok(());
    }
    match found.viewing.audience {
        waverant_model::Audience::Nobody => {
            let open = format!("Nobody may watch now. Open it: waverant channel change {channel} --audience everybody");
            Ok(report.line(&open)?)
        }
        waverant_model::Audience::ByLink => Ok(report.line(&format!(
            "These open nothing: it is watched by link. Make one: waverant link add {channel} LABEL"
        ))?),
        waverant_model::Audience::Everybody => Ok(()),
    }
}

/// Addresses as lines; `value` for programs.
pub(super) fn write_addresses(
    report: &mut Report<'_>,
    value: &impl Serialize,
    addresses: &ViewingAddresses,
) -> Result<(), Failure> {
    let columns =
        [Column::text("player", |row: &Row| row.player.to_owned()), Column::text("address", |row| row.address.clone())];
    Ok(report.rows(value, &rows(addresses), &columns, "")?)
}

/// The most that watched within each `step` seconds.
fn most_within(minutes: &[ViewerMinute], step: i64) -> Vec<(OffsetDateTime, ViewerCounts)> {
    let mut lines: Vec<(OffsetDateTime, ViewerCounts)> = Vec::new();
    for ViewerMinute { minute, viewers } in minutes {
        let begin = *minute - time::Duration::seconds(minute.unix_timestamp().rem_euclid(step));
        match lines.last_mut().filter(|(at, _)| *at == begin) {
            Some((_, most)) if most.total >= viewers.total => {}
            Some((_, most)) => *most = *viewers,
            None => lines.push((begin, *viewers)),
        }
    }
    lines
}

fn viewer_columns() -> [Column<(OffsetDateTime, ViewerCounts)>; 7] {
    [
        Column::text("from", |(at, _)| moment(*at)),
        Column::number("viewers", |(_, most)| most.total.to_string()),
        Column::number("segments", |(_, most)| most.segments.to_string()),
        Column::number("pictures", |(_, most)| most.pictures.to_string()),
        Column::number("stream", |(_, most)| most.stream.to_string()),
        Column::number("RTMP", |(_, most)| most.rtmp.to_string()),
        Column::number("SRT", |(_, most)| most.srt.to_string()),
    ]
}

fn rows(addresses: &ViewingAddresses) -> Vec<Row> {
    let row = |player, address: &str| Row { player, address: address.to_owned() };
    let mut rows = vec![
        row("people, in a browser", &addresses.page),
        row("a page of one's own", &addresses.embed),
        row("HLS, also with low latency", &addresses.hls),
        row("DASH", &addresses.dash),
        row("transport stream over HTTP", &addresses.transport_stream),
        row("FLV over HTTP", &addresses.flv),
        row("pictures over a WebSocket", &addresses.pictures),
        row("a still, as JPEG", &addresses.still),
    ];
    rows.extend(addresses.published.as_deref().map(|address| row("HLS from the depot", address)));
    rows
}

/// Who may watch without an account.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Audience {
    /// Nobody.
    Nobody,
    /// Who has a link.
    ByLink,
    /// Everybody who knows the address.
    Everybody,
}

/// What is more important to viewers.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Nearness {
    /// As near to the moment as it can be.
    Nearest,
    /// Some seconds behind.
    Near,
    /// Some segments behind, for lines that stutter.
    Steady,
}

/// When segments are made.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Ready {
    /// All the time.
    Always,
    /// While somebody watches.
    OnDemand,
}

/// What players get while no show is on.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Between {
    /// Nothing: they wait.
    Silence,
    /// The holding picture.
    Picture,
}

/// A way of watching.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Way {
    /// HLS and DASH.
    Segments,
    /// A picture at a time over a WebSocket, in browsers.
    Pictures,
    /// MPEG-TS and FLV over HTTP.
    Stream,
    /// By viewing key.
    Rtmp,
    /// By viewing key.
    Srt,
}

impl Way {
    fn word(self) -> WayOfWatching {
        match self {
            Self::Segments => WayOfWatching::Segments,
            Self::Pictures => WayOfWatching::Pictures,
            Self::Stream => WayOfWatching::Stream,
            Self::Rtmp => WayOfWatching::Rtmp,
            Self::Srt => WayOfWatching::Srt,
        }
    }
}

/// How a channel is watched.
#[derive(Args, Debug)]
#[command(next_help_heading = "Viewing")]
pub(super) struct ViewingRules {
    /// Who may watch without an account; holds at once.
    #[arg(long)]
    audience: Option<Audience>,
    /// How near to the moment viewers are; holds from the next session.
    #[arg(long)]
    nearness: Option<Nearness>,
    /// How far back one can go, in seconds, 10 to 14400; beyond 120 what is old lies on the disk. Holds from the next
    /// session.
    #[arg(long, value_name = "SECONDS")]
    back: Option<f64>,
    /// When segments are made; holds from the next session.
    #[arg(long)]
    segments: Option<Ready>,
    /// How many may watch at a time; 0 is as many as the house takes.
    #[arg(long, value_name = "COUNT")]
    most_viewers: Option<u32>,
    /// A site whose pages may show it while everybody may watch, as in `https://www.wexcombe.example`; may be given up
    /// to 16 times.
    #[arg(long, value_name = "SITE")]
    site: Vec<String>,
    /// Pages of all sites may show it.
    #[arg(long, conflicts_with = "site")]
    any_site: bool,
    /// By which way alone it can be watched; may be given several times. Holds at once.
    #[arg(long, value_name = "WAY")]
    watch_by: Vec<Way>,
    /// It can be watched by all ways.
    #[arg(long, conflicts_with = "watch_by")]
    watch_by_all: bool,
    /// What players of continuous streams get while no show is on.
    #[arg(long, value_name = "WHAT")]
    between_shows: Option<Between>,
    /// The depot from which its shows are told as well, while everybody may watch: for more viewers than the uplink
    /// carries. It needs a public address. Holds at once.
    #[arg(long, value_name = "DEPOT")]
    publish_to: Option<String>,
    /// Its shows are told from here alone.
    #[arg(long, conflicts_with = "publish_to")]
    publish_nowhere: bool,
}

impl ViewingRules {
    pub(super) fn change(&self) -> Result<ChangeViewing, Failure> {
        Ok(ChangeViewing {
            audience: self.audience.map(|audience| match audience {
                Audience::Nobody => waverant_model::Audience::Nobody,
                Audience::ByLink => waverant_model::Audience::ByLink,
                Audience::Everybody => waverant_model::Audience::Everybody,
            }),
            nearness: self.nearness.map(|nearness| match nearness {
                Nearness::Nearest => waverant_model::Nearness::Nearest,
                Nearness::Near => waverant_model::Nearness::Near,
                Nearness::Steady => waverant_model::Nearness::Steady,
            }),
            back_ms: millis("--back", self.back)?,
            is_always_ready: self.segments.map(|ready| matches!(ready, Ready::Always)),
            most_viewers: self.most_viewers,
            sites: (self.any_site || !self.site.is_empty()).then(|| self.site.clone()),
            ways: match self.watch_by_all {
                true => Some([Way::Segments, Way::Pictures, Way::Stream, Way::Rtmp, Way::Srt].map(Way::word).into()),
                false => (!self.watch_by.is_empty()).then(|| self.watch_by.iter().copied().map(Way::word).collect()),
            },
            published_to: match self.publish_nowhere {
                true => Some(String::new()),
                false => self.publish_to.clone(),
            },
            between_shows: self.between_shows.map(|between| match between {
                Between::Silence => BetweenShows::Silence,
                Between::Picture => BetweenShows::Picture,
            }),
            page: ChangePage::default(),
        })
    }
}

fn columns() -> [Column<Channel>; 6] {
    [
        Column::text("channel", |row| row.name.clone()),
        Column::text("audience", |row| word(row.viewing.audience)),
        Column::text("nearness", |row| word(row.viewing.nearness)),
        Column::number("back", |row| duration(row.viewing.back_ms)),
        Column::text("segments", |row| if row.viewing.is_always_ready { "always" } else { "on demand" }.to_owned()),
        Column::text("page", |row| row.viewing.addresses.page.clone()),
    ]
}

#[cfg(test)]
mod tests {
    use time::macros::datetime;

    use super::*;

    #[test]
    fn lines_tell_the_most_within_their_time() {
        let at = |minute, total| ViewerMinute {
            minute: datetime!(2026-05-17 12:00 UTC) + time::Duration::minutes(minute),
            viewers: ViewerCounts { total, ..ViewerCounts::default() },
        };
        let lines = most_within(&[at(1, 3), at(2, 9), at(29, 4), at(30, 5), at(95, 1)], 1800);
        let told: Vec<(i64, u32)> =
            lines.iter().map(|(at, most)| (at.unix_timestamp() / 60 % 1440, most.total)).collect();
        assert_eq!(told, [(720, 9), (750, 5), (810, 1)]);
    }
}
