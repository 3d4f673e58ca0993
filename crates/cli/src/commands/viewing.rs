use clap::{Args, Subcommand, ValueEnum};
use waverant_model::{ChangeViewing, Channel, ViewingAddresses};

use super::{millis, word};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, duration};

#[derive(Subcommand, Debug)]
pub(super) enum Viewing {
    /// List who may watch which channel, and how.
    List,
    /// Print where a channel is watched, one address for each kind of player.
    Addresses {
        /// The channel.
        channel: String,
    },
}

/// One address, for one kind of player.
struct Row {
    player: &'static str,
    address: String,
}

impl Viewing {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        let channel = match self {
            Self::List => {
                let channels: Vec<Channel> = client.get("/channels")?;
                let empty = "No channels yet. Add one: waverant channel add NAME";
                return Ok(report.rows(&channels, &channels, &columns(), empty)?);
            }
            Self::Addresses { channel } => channel,
        };
        let found: Channel = client.get(&format!("/channels/{}", piece(&channel)))?;
        let rows = rows(&found.viewing.addresses);
        let columns = [
            Column::text("player", |row: &Row| row.player.to_owned()),
            Column::text("address", |row| row.address.clone()),
        ];
        report.rows(&found.viewing, &rows, &columns, "")?;
        if !report.json && found.viewing.audience == waverant_model::Audience::Nobody {
            let open = format!("Nobody may watch now. Open it: waverant channel change {channel} --audience everybody");
            report.line(&open)?;
        }
        Ok(())
    }
}

fn rows(addresses: &ViewingAddresses) -> Vec<Row> {
    let row = |player, address: &str| Row { player, address: address.to_owned() };
    vec![
        row("people, in a browser", &addresses.page),
        row("HLS, also with low latency", &addresses.hls),
        row("DASH", &addresses.dash),
        row("transport stream over HTTP", &addresses.transport_stream),
        row("pictures over a WebSocket", &addresses.pictures),
    ]
}

/// Who may watch without an account.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Audience {
    /// Nobody.
    Nobody,
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
    /// How far back one can go, in seconds, 10 to 120; holds from the next session.
    #[arg(long, value_name = "SECONDS")]
    back: Option<f64>,
    /// When segments are made; holds from the next session.
    #[arg(long)]
    segments: Option<Ready>,
}

impl ViewingRules {
    pub(super) fn change(&self) -> Result<ChangeViewing, Failure> {
        Ok(ChangeViewing {
            audience: self.audience.map(|audience| match audience {
                Audience::Nobody => waverant_model::Audience::Nobody,
                Audience::Everybody => waverant_model::Audience::Everybody,
            }),
            nearness: self.nearness.map(|nearness| match nearness {
                Nearness::Nearest => waverant_model::Nearness::Nearest,
                Nearness::Near => waverant_model::Nearness::Near,
                Nearness::Steady => waverant_model::Nearness::Steady,
            }),
            back_ms: millis("--back", self.back)?,
            is_always_ready: self.segments.map(|ready| matches!(ready, Ready::Always)),
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
