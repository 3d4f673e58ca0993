use clap::Subcommand;
use serde_json::Value;

use super::{number, rows, text};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, ago, size};

#[derive(Subcommand, Debug)]
pub(super) enum Session {
    /// List sessions, the newest first.
    List {
        /// Only of this channel.
        #[arg(long)]
        channel: Option<String>,
        /// At most so many.
        #[arg(long, default_value_t = 20)]
        limit: u32,
        /// Only sessions before this one.
        #[arg(long)]
        before: Option<u64>,
    },
    /// Show a session with its legs and takes.
    Show {
        /// The session's number.
        session: u64,
    },
}

impl Session {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List { channel, limit, before } => {
                let mut path = format!("/sessions?limit={limit}");
                if let Some(channel) = channel {
                    path.push_str(&format!("&channel={}", piece(&channel)));
                }
                if let Some(before) = before {
                    path.push_str(&format!("&before={before}"));
                }
                let answer = client.get(&path)?;
                Ok(report.rows(&answer, rows(&answer["items"]), &columns(), "No sessions yet.")?)
            }
            Self::Show { session } => {
                let answer = client.get(&format!("/sessions/{session}"))?;
                show(&answer, report)
            }
        }
    }
}

fn show(answer: &Value, report: &mut Report<'_>) -> Result<(), Failure> {
    report.rows(answer, std::slice::from_ref(&answer["session"]), &columns(), "")?;
    if report.json {
        return Ok(());
    }
    for (list, columns) in [(&answer["legs"], leg_columns()), (&answer["takes"], super::take::columns())] {
        if !rows(list).is_empty() {
            writeln!(report.out)?;
            report.table(rows(list), &columns)?;
        }
    }
    Ok(())
}

fn columns() -> Vec<Column> {
    vec![
        Column::number("session", |row| text(row, "id")),
        Column::text("channel", |row| text(row, "channel")),
        Column::text("began", |row| ago(&text(row, "started_at"))),
        Column::text("ended", |row| row["ended_at"].as_str().map_or_else(|| "on air".to_owned(), ago)),
        Column::text("key", |row| text(row, "key_label")),
        Column::number("losses", |row| text(row, "loss_count")),
        Column::text("why it ended", |row| text(row, "end_reason")),
    ]
}

fn leg_columns() -> Vec<Column> {
    vec![
        Column::text("destination", |row| text(row, "destination")),
        Column::number("frames", |row| text(row, "sent_frame_count")),
        Column::number("sent", |row| size(number(row, "sent_bytes"))),
        Column::number("dropped", |row| text(row, "dropped_frame_count")),
        Column::number("redials", |row| text(row, "redial_count")),
        Column::text("last trouble", |row| text(row, "reason")),
    ]
}
