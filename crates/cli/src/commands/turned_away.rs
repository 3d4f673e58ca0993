use clap::Subcommand;
use waverant_model::{Board, Listed, TurnedAway as Attempt};

use super::dash;
use crate::client::Client;
use crate::error::Failure;
use crate::output::{Column, Report, moment};

#[derive(Subcommand, Debug)]
pub(super) enum TurnedAway {
    /// List publishers who were not let in, the newest first.
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

fn columns() -> [Column<Attempt>; 5] {
    [
        Column::text("when", |row| moment(row.at)),
        Column::text("from", |row| row.address.clone()),
        Column::text("channel", |row| dash(row.channel.as_deref())),
        Column::text("key", |row| row.key_prefix.as_ref().map_or_else(|| "-".to_owned(), |key| format!("{key}-…"))),
        Column::text("why", |row| row.detail.clone()),
    ]
}
