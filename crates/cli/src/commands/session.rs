use clap::Subcommand;
use serde_json::Value;

use super::{number, rows, text};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, ago, duration, size};

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
    /// Print the report of a show: what each destination got, and what happened.
    Report {
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
            Self::Report { session } => print_report(&client.get(&format!("/sessions/{session}/report"))?, report),
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

/// Prints the report of a show as text, or as JSON.
pub(super) fn print_report(answer: &Value, report: &mut Report<'_>) -> Result<(), Failure> {
    if report.json {
        return Ok(report.value(answer)?);
    }
    let source = &answer["source"];
    let length = duration(number(answer, "length_ms"));
    writeln!(
        report.out,
        "{} for {length}; the encoder was lost {} times",
        text(source, "stream"),
        text(source, "loss_count")
    )?;
    for (field, what) in
        [("unusable_count", "messages could not be used"), ("clock_fault_count", "faults of its clock")]
    {
        if number(source, field) > 0.0 {
            writeln!(report.out, "{} {what}", text(source, field))?;
        }
    }
    for finding in rows(&source["findings"]) {
        writeln!(report.out, "finding: {}", finding.as_str().unwrap_or_default())?;
    }
    writeln!(report.out)?;
    report.table(rows(&answer["legs"]), &report_columns())?;
    let told: Vec<String> = rows(&answer["legs"]).iter().flat_map(told_of_leg).collect();
    let events = rows(&answer["events"]).iter();
    let events = events.map(|event| format!("{:>10}  {}", duration(number(event, "at_ms")), text(event, "text")));
    for lines in [told, events.collect()] {
        if !lines.is_empty() {
            writeln!(report.out)?;
        }
        for line in lines {
            writeln!(report.out, "{line}")?;
        }
    }
    Ok(())
}

/// Gaps, limits and notes of a leg, a line each.
fn told_of_leg(leg: &Value) -> Vec<String> {
    let name = text(leg, "destination");
    let gaps = rows(&leg["gaps"]).iter().map(|gap| {
        let (at, length) = (duration(number(gap, "at_ms")), duration(number(gap, "length_ms")));
        format!("{name}: nothing for {length} from {at} on: {}", text(gap, "reason"))
    });
    let limits = rows(&leg["breaches"]).iter().map(|breach| format!("{name}: {}", breach.as_str().unwrap_or_default()));
    let note = leg["note"].as_str().map(|note| format!("{name}: {note}"));
    gaps.chain(limits).chain(note).collect()
}

fn report_columns() -> Vec<Column> {
    vec![
        Column::text("destination", |row| text(row, "destination")),
        Column::number("began", |row| row["began_at_ms"].as_f64().map_or_else(|| "never".to_owned(), duration)),
        Column::number("carried", |row| duration(number(row, "carried_ms"))),
        Column::number("gaps", |row| text(row, "gap_count")),
        Column::number("lost", |row| duration(number(row, "lost_ms"))),
        Column::number("frames", |row| text(row, "sent_frame_count")),
        Column::number("sent", |row| size(number(row, "sent_bytes"))),
        Column::number("dropped", dropped),
        Column::number("redials", |row| text(row, "redial_count")),
        Column::number("delay", |row| duration(number(row, "delay_ms"))),
        Column::number("most behind", |row| format!("{:.0} ms", number(row, "most_behind_ms"))),
    ]
}

/// Pictures that were dropped, and how much of the show they were.
pub(super) fn dropped(row: &Value) -> String {
    match number(row, "dropped_frame_count") {
        0.0 => "0".to_owned(),
        frames => format!("{frames:.0} ({})", duration(number(row, "dropped_ms"))),
    }
}

fn columns() -> Vec<Column> {
    vec![
        Column::number("session", |row| text(row, "id")),
        Column::text("channel", |row| text(row, "channel")),
        Column::text("began", |row| ago(&text(row, "started_at"))),
        Column::text("ended", |row| row["ended_at"].as_str().map_or_else(|| "on air".to_owned(), ago)),
        Column::text("key", |row| match row["is_rehearsal"] == true {
            true => "(rehearsal)".to_owned(),
            false => text(row, "key_label"),
        }),
        Column::number("losses", |row| text(row, "loss_count")),
        Column::text("why it ended", |row| text(row, "end_reason")),
    ]
}

fn leg_columns() -> Vec<Column> {
    vec![
        Column::text("destination", |row| text(row, "destination")),
        Column::number("frames", |row| text(row, "sent_frame_count")),
        Column::number("sent", |row| size(number(row, "sent_bytes"))),
        Column::number("dropped", dropped),
        Column::number("redials", |row| text(row, "redial_count")),
        Column::text("last trouble", |row| text(row, "reason")),
    ]
}
