use clap::Subcommand;
use waverant_model::{Board, Listed, TurnedAway as Attempt};

use super::dash;
use crate::client::Client;
use crate::error::Failure;
use crate::output::{Column, Report, moment};

#[derive(Subcommand, Debug)]
pub(super) enum TurnedAway {
    /// List who was not let in, those alike as one, the newest first.
    List {
        /// At most so many.
        #[arg(long, default_value_t = 20)]
        limit: u32,
    },
    /// Count connections that were turned away or given up since the service was started.
    Count,
}

impl TurnedAway {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List { limit } => {
                let answer: Listed<Attempt> = client.get(&format!("/turned-away?limit={limit}"))?;
                Ok(report.rows(&answer, &answer.items, &columns(), "Nobody was turned away.")?)
            }
            Self::Count => {
                let counts = client.get::<Board>("/live")?.refused_counts;
                let columns = [
                    Column::text("reason", |row: &waverant_model::RefusedCount| row.reason.clone()),
                    Column::number("count", |row| row.count.to_string()),
                ];
                Ok(report.rows(&counts, &counts, &columns, "Nobody was turned away since the start.")?)
            }
        }
    }
}

fn columns() -> [Column<Attempt>; 8] {
    [
        Column::text("last", |row| moment(row.at)),
        Column::number("times", |row| row.count.to_string()),
        Column::text("since", |row| moment(row.first_at)),
        Column::text("from", |row| row.address.clone().unwrap_or_else(|| "many addresses".to_owned())),
        Column::text("over", |row| dash(row.protocol.as_deref())),
        Column::text("channel", |row| dash(row.channel.as_deref())),
        Column::text("key", |row| row.key_prefix.as_ref().map_or_else(|| "-".to_owned(), |key| format!("{key}-…"))),
        Column::text("why", |row| row.detail.clone()),
    ]
}
