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
}

impl TurnedAway {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let Self::List { limit } = self;
        let answer = Client::signed_in()?.get(&format!("/turned-away?limit={limit}"))?;
        Ok(report.rows(&answer, rows(&answer["items"]), &columns(), "Nobody was turned away.")?)
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
