use std::path::Path;
use std::thread::sleep;
use std::time::Duration;

use clap::{Args, Subcommand, ValueEnum};
use indicatif::{ProgressBar, ProgressStyle};
use serde_json::{Value, json};

use super::{number, rows, text};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, duration, size};

/// How often a job is looked at.
const JOB_INTERVAL: Duration = Duration::from_millis(200);

#[derive(Subcommand, Debug)]
pub(super) enum Recording {
    /// Begin to record the session that is on air.
    Start {
        /// The channel.
        channel: String,
    },
    /// Stop recording the session that is on air; the session goes on.
    Stop {
        /// The channel.
        channel: String,
    },
    /// Point out this moment in the take that is being written.
    Mark {
        /// The channel.
        channel: String,
        /// What happens.
        title: String,
    },
    /// Check a session's takes: tracks, gaps, timestamps, end, checksum.
    Verify {
        /// The session's number.
        session: u64,
        /// The take's number; all takes of the session if left out.
        number: Option<u32>,
    },
}

/// When sessions are recorded.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum When {
    /// From the first packet on.
    Always,
    /// When somebody starts it.
    ByHand,
    /// Never.
    Off,
}

/// The form of recorded files.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Format {
    /// Fragmented MP4.
    Mp4,
    /// Matroska.
    Matroska,
}

/// A channel's rules for its recordings.
#[derive(Args, Debug)]
#[command(next_help_heading = "Recording")]
pub(super) struct Rules {
    /// When sessions are recorded.
    #[arg(long)]
    record: Option<When>,
    /// The form of the files.
    #[arg(long)]
    format: Option<Format>,
    /// A new take begins after so many seconds; 0 for no limit.
    #[arg(long, value_name = "SECONDS")]
    split_after: Option<f64>,
    /// A new take begins after so many megabytes; 0 for no limit.
    #[arg(long, value_name = "MB")]
    split_size: Option<u64>,
    /// Whether a new take begins when a lost encoder is back.
    #[arg(long, value_name = "BOOL")]
    split_at_return: Option<bool>,
    /// What takes are called: text with {channel}, {date}, {time}, {session}, {take}, and / for folders.
    #[arg(long, value_name = "TEMPLATE")]
    take_names: Option<String>,
    /// How much of what was before goes into a recording started by hand, in seconds, up to 20.
    #[arg(long, value_name = "SECONDS")]
    pre_roll: Option<f64>,
    /// Takes leave the disk after so many days; 0 for no limit.
    #[arg(long, value_name = "DAYS")]
    keep_days: Option<f64>,
    /// The newest so many takes stay on the disk; 0 for no limit.
    #[arg(long, value_name = "COUNT")]
    keep_count: Option<u32>,
    /// The newest so many gigabytes of takes stay on the disk; 0 for no limit.
    #[arg(long, value_name = "GB")]
    keep_size: Option<f64>,
    /// The depot that finished takes are copied to; empty for none.
    #[arg(long, value_name = "DEPOT")]
    copy_to: Option<String>,
    /// Whether a take leaves the disk once it is copied.
    #[arg(long, value_name = "BOOL")]
    remove_copied: Option<bool>,
}

fn scaled(option: &str, value: Option<f64>, factor: f64) -> Result<Option<u64>, Failure> {
    let Some(value) = value else { return Ok(None) };
    if !(0.0..=1e9).contains(&value) {
        return Err(Failure::Usage(format!("{option}: {value} is not between 0 and a thousand million")));
    }
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "checked")]
    let scaled = (value * factor).round() as u64;
    Ok(Some(scaled))
}

impl Rules {
    /// As the API has them; what is not given is left out.
    pub(super) fn body(&self) -> Result<Value, Failure> {
        let mut body = json!({
            "when": self.record.map(|when| match when {
                When::Always => "always",
                When::ByHand => "by_hand",
                When::Off => "off",
            }),
            "format": self.format.map(|format| match format {
                Format::Mp4 => "mp4",
                Format::Matroska => "matroska",
            }),
            "split_ms": scaled("--split-after", self.split_after, 1e3)?,
            "split_bytes": self.split_size.map(|megabytes| megabytes.saturating_mul(1_000_000)),
            "split_at_return": self.split_at_return,
            "names": self.take_names,
            "pre_roll_ms": scaled("--pre-roll", self.pre_roll, 1e3)?,
            "keep_s": scaled("--keep-days", self.keep_days, 86_400.0)?,
            "keep_count": self.keep_count,
            "keep_bytes": scaled("--keep-size", self.keep_size, 1e9)?,
            "depot": self.copy_to,
            "removes_copied": self.remove_copied,
        });
        if let Some(fields) = body.as_object_mut() {
            fields.retain(|_, value| !value.is_null());
        }
        Ok(body)
    }
}

/// A channel's rules in few words.
pub(super) fn told(rules: &Value) -> String {
    let mut parts = vec![text(rules, "when").replace('_', " ")];
    if rules["when"] == "off" {
        return parts.concat();
    }
    parts.push(text(rules, "format"));
    for (field, told) in [("split_ms", "split after"), ("pre_roll_ms", "pre-roll")] {
        if number(rules, field) > 0.0 {
            parts.push(format!("{told} {}", duration(number(rules, field))));
        }
    }
    if number(rules, "split_bytes") > 0.0 {
        parts.push(format!("split at {}", size(number(rules, "split_bytes"))));
    }
    if rules["split_at_return"] == true {
        parts.push("split at returns".to_owned());
    }
    if number(rules, "keep_s") > 0.0 {
        parts.push(format!("keep {:.1} days", number(rules, "keep_s") / 86_400.0));
    }
    if number(rules, "keep_count") > 0.0 {
        parts.push(format!("keep {} takes", number(rules, "keep_count")));
    }
    if number(rules, "keep_bytes") > 0.0 {
        parts.push(format!("keep {}", size(number(rules, "keep_bytes"))));
    }
    if let Some(depot) = rules["depot"].as_str() {
        let then = if rules["removes_copied"] == true { "move to" } else { "copy to" };
        parts.push(format!("{then} {depot}"));
    }
    parts.join(", ")
}

impl Recording {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        let path = |channel: &str, verb: &str| format!("/channels/{}/recording/{verb}", piece(channel));
        match self {
            Self::Start { channel } => {
                let answer = client.call("POST", &path(&channel, "start"), None)?;
                Ok(report.done(&answer, &format!("The session on `{channel}` is being recorded."))?)
            }
            Self::Stop { channel } => {
                let answer = client.call("POST", &path(&channel, "stop"), None)?;
                Ok(report.done(&answer, &format!("The recording of `{channel}` is stopped; the session goes on."))?)
            }
            Self::Mark { channel, title } => {
                let answer = client.call("POST", &path(&channel, "marks"), Some(json!({"title": title})))?;
                let told = format!("Marked in take {} of session {}.", answer["take"], answer["session"]);
                Ok(report.done(&answer, &told)?)
            }
            Self::Verify { session, number } => verify(&client, session, number, report),
        }
    }
}

/// Waits for a job, with a bar on a terminal; answers what came of it.
pub(super) fn wait_for(client: &Client, begun: &Value, what: &str) -> Result<Value, Failure> {
    let bar = ProgressBar::new(1000);
    let style = ProgressStyle::with_template("{msg} {bar:30} {percent} %  {eta} left");
    bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
    bar.set_message(what.to_owned());
    let path = format!("/jobs/{}", text(begun, "id"));
    loop {
        let job = client.get(&path)?;
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a share of a thousand")]
        bar.set_position((number(&job, "progress") * 1000.0) as u64);
        match job["state"].as_str() {
            Some("done") => {
                bar.finish_and_clear();
                return Ok(job["result"].clone());
            }
            Some("failed") => {
                bar.finish_and_clear();
                return Err(Failure::Job(format!("{what}: {}", text(&job, "error"))));
            }
            _ => sleep(JOB_INTERVAL),
        }
    }
}

fn verify(client: &Client, session: u64, number: Option<u32>, report: &mut Report<'_>) -> Result<(), Failure> {
    let numbers: Vec<u64> = match number {
        Some(number) => vec![number.into()],
        None => {
            let answer = client.get(&format!("/sessions/{session}"))?;
            let here = rows(&answer["takes"]).iter().filter(|take| take["is_here"] == true);
            here.filter_map(|take| take["number"].as_u64()).collect()
        }
    };
    let (mut checks, mut bad) = (Vec::new(), Vec::new());
    for number in numbers {
        let begun = client.call("POST", &format!("/takes/{session}/{number}/check"), None)?;
        let mut check = wait_for(client, &begun, &format!("checking take {session}/{number}"))?;
        if check["is_good"] != true {
            bad.push(number.to_string());
        }
        check["session"] = json!(session);
        check["number"] = json!(number);
        checks.push(check);
    }
    if report.json {
        report.done(&Value::Array(checks), "")?;
    } else if checks.is_empty() {
        report.done(&Value::Null, &format!("Session {session} has no takes on the disk."))?;
    } else {
        for check in &checks {
            print_check(check, report)?;
        }
    }
    match bad.as_slice() {
        [] => Ok(()),
        bad => Err(Failure::Job(format!("something is wrong with take {} of session {session}", bad.join(", ")))),
    }
}

fn print_check(check: &Value, report: &mut Report<'_>) -> Result<(), Failure> {
    let index = if check["has_index"] == true { "with an index" } else { "without an index" };
    let matches = match check["digest_matches"].as_bool() {
        Some(true) => "as recorded",
        Some(false) => "NOT as recorded",
        None => "nothing to compare it with",
    };
    let head = format!(
        "Take {}/{}: {}, {}, {}, {index}\nSHA-256 {} ({matches})",
        check["session"],
        check["number"],
        text(check, "format"),
        duration(number(check, "duration_ms")),
        size(number(check, "size_bytes")),
        text(check, "sha256"),
    );
    report.line(&head)?;
    report.table(rows(&check["tracks"]), &track_columns())?;
    for mark in rows(&check["marks"]) {
        report.line(&format!("  {:>10}  {}", duration(number(mark, "at_ms")), text(mark, "title")))?;
    }
    let findings = rows(&check["findings"]);
    for finding in findings {
        report.line(&format!("FAULT {}", finding.as_str().unwrap_or_default()))?;
    }
    if findings.is_empty() {
        report.line("Nothing is wrong with it.\n")?;
    } else {
        report.line("")?;
    }
    Ok(())
}

fn track_columns() -> Vec<Column> {
    vec![
        Column::text("track", |row| text(row, "kind")),
        Column::text("codec", |row| text(row, "codec")),
        Column::text("language", |row| text(row, "language")),
        Column::text("name", |row| text(row, "name")),
        Column::text("default", |row| text(row, "is_default")),
        Column::number("samples", |row| text(row, "sample_count")),
        Column::number("begins", |row| duration(number(row, "start_ms"))),
        Column::number("ends", |row| duration(number(row, "end_ms"))),
        Column::number("gaps", |row| text(row, "gap_count")),
        Column::number("time errors", |row| text(row, "timestamp_error_count")),
    ]
}

/// The name of a file without its folders.
pub(super) fn file_name(path: &str) -> Option<&str> {
    Path::new(path).file_name().and_then(|name| name.to_str())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rules_are_told_in_few_words() {
        let rules = json!({
            "when": "by_hand", "format": "matroska", "split_ms": 600_000, "split_bytes": 0, "pre_roll_ms": 5000,
            "split_at_return": true, "keep_s": 604_800, "keep_count": 0, "keep_bytes": 20e9, "depot": "attic",
            "removes_copied": true,
        });
        let expected = "by hand, matroska, split after 10:00 min, pre-roll 5.0 s, split at returns, keep 7.0 days, \
            keep 20.00 GB, move to attic";
        assert_eq!(told(&rules), expected);
        assert_eq!(told(&json!({"when": "off", "format": "mp4"})), "off");
    }
}
