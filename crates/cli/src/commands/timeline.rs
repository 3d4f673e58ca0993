use std::fs::OpenOptions;
use std::io::Write;
use std::path::PathBuf;

use clap::{Args, Subcommand};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use waverant_model::{FigureSeries, Timeline as Told, TimelineMark, Timelines};

use super::{dash, time_of};
use crate::client::{Client, piece, with_query};
use crate::error::Failure;
use crate::output::{Column, Report, duration, moment, trace_of};

/// Characters of a trace.
const WIDTH: usize = 40;

#[derive(Subcommand, Debug)]
pub(super) enum Timeline {
    /// Figures of a show, second by second or thinned, with what happened.
    Show {
        /// The session's number.
        session: u64,
        /// From this second of the show on.
        #[arg(long, value_name = "SECOND")]
        from: Option<u32>,
        /// Until before this second.
        #[arg(long, value_name = "SECOND")]
        until: Option<u32>,
        /// The last so many seconds instead.
        #[arg(long, value_name = "SECONDS", conflicts_with = "from")]
        last: Option<u32>,
        /// Another session, told beside it over the same seconds.
        #[arg(long, value_name = "SESSION")]
        beside: Option<u64>,
        #[command(flatten)]
        form: Form,
    },
    /// Figures of a channel's shows over a range of time.
    Channel {
        /// The channel's name.
        channel: String,
        #[command(flatten)]
        range: Range,
        #[command(flatten)]
        fineness: Fineness,
    },
    /// Figures of the machine over a range of time.
    Machine {
        #[command(flatten)]
        range: Range,
        #[command(flatten)]
        form: Form,
    },
}

#[derive(Args, Debug)]
pub(super) struct Fineness {
    /// Only these figures, with commas between, as in bitrate,loudness.
    #[arg(long)]
    figures: Option<String>,
    /// The step in seconds: 1, 10 or 60. Single seconds are there for two hours.
    #[arg(long)]
    step: Option<u32>,
}

#[derive(Args, Debug)]
pub(super) struct Form {
    #[command(flatten)]
    fineness: Fineness,
    /// Write all points to this file as a table (CSV) instead.
    #[arg(long, value_name = "FILE")]
    csv: Option<PathBuf>,
}

#[derive(Args, Debug)]
pub(super) struct Range {
    /// From when; default an hour before the end.
    #[arg(long, value_parser = time_of)]
    from: Option<OffsetDateTime>,
    /// Until when; default now.
    #[arg(long, value_parser = time_of)]
    until: Option<OffsetDateTime>,
}

impl Fineness {
    fn query(&self) -> Vec<(&'static str, Option<String>)> {
        vec![("figures", self.figures.clone()), ("step_s", told(self.step.as_ref()))]
    }
}

impl Range {
    fn query(&self) -> Vec<(&'static str, Option<String>)> {
        let at = |time: Option<OffsetDateTime>| time.and_then(|time| time.format(&Rfc3339).ok());
        vec![("from", at(self.from)), ("until", at(self.until))]
    }
}

fn told<T: ToString>(value: Option<&T>) -> Option<String> {
    value.map(ToString::to_string)
}

impl Timeline {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        let (place, mut query, fineness, csv) = match self {
            Self::Show { session, from, until, last, beside, form } => {
                let query = vec![
                    ("from_s", told(from.as_ref())),
                    ("until_s", told(until.as_ref())),
                    ("last_s", told(last.as_ref())),
                    ("beside", told(beside.as_ref())),
                ];
                (format!("/sessions/{session}/timeline"), query, form.fineness, form.csv)
            }
            Self::Channel { channel, range, fineness } => {
                (format!("/channels/{}/timeline", piece(&channel)), range.query(), fineness, None)
            }
            Self::Machine { range, form } => ("/machine/timeline".to_owned(), range.query(), form.fineness, form.csv),
        };
        query.extend(fineness.query());
        if let Some(file) = csv {
            query.push(("points", Some("20000".to_owned())));
            return save(&client, &with_query(&format!("{place}.csv"), query), &file, report);
        }
        let timelines: Timelines = client.get(&with_query(&place, query))?;
        if report.json {
            return Ok(report.value(&timelines)?);
        }
        for (index, timeline) in timelines.timelines.iter().enumerate() {
            if index > 0 {
                writeln!(report.out)?;
            }
            print(timeline, timelines.step_s, report)?;
        }
        if timelines.timelines.is_empty() {
            writeln!(report.out, "No show in that time.")?;
        }
        Ok(())
    }
}

/// Writes a table to a file that is not there yet.
fn save(client: &Client, path: &str, file: &PathBuf, report: &mut Report<'_>) -> Result<(), Failure> {
    let failed = |source| Failure::File { path: file.clone(), source };
    let mut response = client.fetch(path, None)?;
    let mut out = OpenOptions::new().write(true).create_new(true).open(file).map_err(failed)?;
    let length = std::io::copy(&mut response.body_mut().as_reader(), &mut out).map_err(failed)?;
    out.flush().map_err(failed)?;
    let told = format!("Written to {}.", file.display());
    Ok(report.done(&serde_json::json!({ "file": file, "bytes": length }), &told)?)
}

fn print(timeline: &Told, step_s: u32, report: &mut Report<'_>) -> Result<(), Failure> {
    let until = timeline.start_s.saturating_add(step_s.saturating_mul(u32::try_from(timeline.count).unwrap_or(0)));
    let at = |second: u32| duration(u64::from(second) * 1000);
    let whose = match (timeline.session, &timeline.channel) {
        (Some(session), Some(channel)) => format!("session {session} of {channel}, begun"),
        _ => "the machine, from".to_owned(),
    };
    let (start, end) = (at(timeline.start_s), at(until));
    writeln!(report.out, "{whose} {}; {start} to {end} in steps of {step_s} s", moment(timeline.began_at))?;
    writeln!(report.out)?;
    report.table(&timeline.series, &columns())?;
    if !timeline.marks.is_empty() {
        writeln!(report.out)?;
    }
    for mark in &timeline.marks {
        writeln!(report.out, "{:>10}  {}", duration(mark.at_ms), text(mark))?;
    }
    Ok(())
}

fn text(mark: &TimelineMark) -> String {
    let Some(code) = &mark.code else { return mark.text.clone() };
    let until = mark.until_ms.map_or_else(|| "stands".to_owned(), |until| format!("until {}", duration(until)));
    format!("{code} ({until}): {}", mark.text)
}

fn columns() -> [Column<FigureSeries>; 7] {
    [
        Column::text("figure", |row| row.figure.clone()),
        Column::text("of", |row| dash(Some(&row.of))),
        Column::number("lowest", |row| value(lowest(row))),
        Column::number("mean", |row| value(mean(row))),
        Column::number("highest", |row| value(highest(row))),
        Column::text("", |row| row.unit.clone()),
        Column::text("over time", |row| trace_of(&row.mean, WIDTH)),
    ]
}

fn value(value: Option<f64>) -> String {
    value.map_or_else(|| "-".to_owned(), |value| ((value * 100.0).round() / 100.0).to_string())
}

fn mean(row: &FigureSeries) -> Option<f64> {
    let there: Vec<f64> = row.mean.iter().flatten().copied().collect();
    (!there.is_empty()).then(|| there.iter().sum::<f64>() / there.len() as f64)
}

fn lowest(row: &FigureSeries) -> Option<f64> {
    row.low.iter().chain(&row.mean).flatten().copied().reduce(f64::min)
}

fn highest(row: &FigureSeries) -> Option<f64> {
    row.high.iter().chain(&row.mean).flatten().copied().reduce(f64::max)
}
