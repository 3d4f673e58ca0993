use clap::Subcommand;

use super::{rows, text};
use crate::client::Client;
use crate::error::Failure;
use crate::output::{Column, Report, ago};

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
                let answer = client.get(&format!("/turned-away?limit={limit}"))?;
                Ok(report.rows(&answer, rows(&answer["items"]), &columns(), "Nobody was turned away.")?)
            }
            Self::Count => {
                let counts = client.get("/live")?["refused_counts"].take();
                let columns = [
                    Column::text("reason", |row| text(row, "reason")),
                    Column::number("count", |row| text(row, "count")),
                ];
                Ok(report.rows(&counts, rows(&counts), &columns, "Nobody was turned away since the start.")?)
            }
        }
    }
}

fn columns() -> Vec<Column> {
    vec![
        Column::text("when", |row| ago(&text(row, "at"))),
        Column::text("from", |row| text(row, "address")),
        Column::text("channel", |row| text(row, "channel")),
        Column::text("key", |row| row["key_prefix"].as_str().map_or_else(|| "-".to_owned(), |key| format!("{key}-…"))),
        Column::text("why", |row| text(row, "detail")),
    ]
}
