use std::path::Path;
use std::thread::sleep;
use std::time::Duration;

use clap::{Args, Subcommand, ValueEnum};
use indicatif::{ProgressBar, ProgressStyle};
use serde::Serialize;
use waverant_model::{
    ChangeRecording, JobReport, JobResult, JobState, MarkMoment, MarkedMoment, Recording as Kept, RecordingWhen,
    SessionDetail, TakeCheck, TakeFormat, TrackCheck,
};

use super::{dash, word};
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
    /// As the API has them; what is not given stays.
    pub(super) fn change(&self) -> Result<ChangeRecording, Failure> {
        let millis = |option, seconds: Option<f64>| {
            let millis = scaled(option, seconds, 1e3)?;
            Ok::<_, Failure>(millis.map(|millis| u32::try_from(millis).unwrap_or(u32::MAX)))
        };
        Ok(ChangeRecording {
            when: self.record.map(|when| match when {
                When::Always => RecordingWhen::Always,
                When::ByHand => RecordingWhen::ByHand,
                When::Off => RecordingWhen::Off,
            }),
            format: self.format.map(|format| match format {
                Format::Mp4 => TakeFormat::Mp4,
                Format::Matroska => TakeFormat::Matroska,
            }),
            split_ms: millis("--split-after", self.split_after)?,
            split_bytes: self.split_size.map(|megabytes| megabytes.saturating_mul(1_000_000)),
            split_at_return: self.split_at_return,
            names: self.take_names.clone(),
            pre_roll_ms: millis("--pre-roll", self.pre_roll)?,
            keep_s: scaled("--keep-days", self.keep_days, 86_400.0)?,
            keep_count: self.keep_count,
            keep_bytes: scaled("--keep-size", self.keep_size, 1e9)?,
            depot: self.copy_to.clone(),
            removes_copied: self.remove_copied,
        })
    }
}

/// A channel's rules in few words.
pub(super) fn told(rules: &Kept) -> String {
    let when = word(rules.when).replace('_', " ");
    if rules.when == RecordingWhen::Off {
        return when;
    }
    let mut parts = vec![when, word(rules.format)];
    for (millis, told) in [(rules.split_ms, "split after"), (rules.pre_roll_ms, "pre-roll")] {
        if millis > 0 {
            parts.push(format!("{told} {}", duration(millis)));
        }
    }
    if rules.split_bytes > 0 {
        parts.push(format!("split at {}", size(rules.split_bytes)));
    }
    if rules.split_at_return {
        parts.push("split at returns".to_owned());
    }
    if rules.keep_s > 0 {
        parts.push(format!("keep {:.1} days", rules.keep_s as f64 / 86_400.0));
    }
    if rules.keep_count > 0 {
        parts.push(format!("keep {} takes", rules.keep_count));
    }
    if rules.keep_bytes > 0 {
        parts.push(format!("keep {}", size(rules.keep_bytes)));
    }
    if let Some(depot) = &rules.depot {
        let then = if rules.removes_copied { "move to" } else { "copy to" };
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
                client.order::<()>("POST", &path(&channel, "start"))?;
                Ok(report.done(&(), &format!("The session on `{channel}` is being recorded."))?)
            }
            Self::Stop { channel } => {
                client.order::<()>("POST", &path(&channel, "stop"))?;
                Ok(report.done(&(), &format!("The recording of `{channel}` is stopped; the session goes on."))?)
            }
            Self::Mark { channel, title } => {
                let marked: MarkedMoment = client.call("POST", &path(&channel, "marks"), &MarkMoment { title })?;
                let told = format!("Marked in take {} of session {}.", marked.take, marked.session);
                Ok(report.done(&marked, &told)?)
            }
            Self::Verify { session, number } => verify(&client, session, number, report),
        }
    }
}

/// Waits for a job, with a bar on a terminal; answers what came of it.
pub(super) fn wait_for(client: &Client, begun: &JobReport, what: &str) -> Result<JobResult, Failure> {
    let bar = ProgressBar::new(1000);
    let style = ProgressStyle::with_template("{msg} {bar:30} {percent} %  {eta} left");
    bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
    bar.set_message(what.to_owned());
    let path = format!("/jobs/{}", begun.id);
    loop {
        let job: JobReport = client.get(&path)?;
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a share of a thousand")]
        bar.set_position((job.progress * 1000.0) as u64);
        match job.state {
            JobState::Waiting | JobState::Running => sleep(JOB_INTERVAL),
            JobState::Failed => {
                bar.finish_and_clear();
                return Err(Failure::Job(format!("{what}: {}", dash(job.error.as_deref()))));
            }
            JobState::Done => {
                bar.finish_and_clear();
                return job.result.ok_or_else(|| Failure::Job(format!("{what}: it is done, and nothing came of it")));
            }
        }
    }
}

/// What was found of one take.
#[derive(Serialize)]
struct Checked {
    session: u64,
    number: u32,
    #[serde(flatten)]
    check: TakeCheck,
}

fn verify(client: &Client, session: u64, number: Option<u32>, report: &mut Report<'_>) -> Result<(), Failure> {
    let numbers: Vec<u32> = match number {
        Some(number) => vec![number],
        None => {
            let detail: SessionDetail = client.get(&format!("/sessions/{session}"))?;
            detail.takes.iter().filter(|take| take.is_here).map(|take| take.number).collect()
        }
    };
    let mut checks = Vec::new();
    for number in numbers {
        let begun: JobReport = client.order("POST", &format!("/takes/{session}/{number}/check"))?;
        let what = format!("checking take {session}/{number}");
        let JobResult::Check(check) = wait_for(client, &begun, &what)? else {
            return Err(Failure::Job(format!("{what}: a check was expected, and a take came of it")));
        };
        checks.push(Checked { session, number, check: *check });
    }
    if report.json {
        report.value(&checks)?;
    } else if checks.is_empty() {
        report.line(&format!("Session {session} has no takes on the disk."))?;
    } else {
        for check in &checks {
            print_check(check, report)?;
        }
    }
    let bad = checks.iter().filter(|check| !check.check.is_good).map(|check| check.number.to_string());
    match bad.collect::<Vec<_>>().as_slice() {
        [] => Ok(()),
        bad => Err(Failure::Job(format!("something is wrong with take {} of session {session}", bad.join(", ")))),
    }
}

fn print_check(Checked { session, number, check }: &Checked, report: &mut Report<'_>) -> Result<(), Failure> {
    let index = if check.has_index { "with an index" } else { "without an index" };
    let matches = match check.digest_matches {
        Some(true) => "as recorded",
        Some(false) => "NOT as recorded",
        None => "nothing to compare it with",
    };
    let (format, length) = (word(check.format), duration(check.duration_ms));
    let head = format!(
        "Take {session}/{number}: {format}, {length}, {}, {index}\nSHA-256 {} ({matches})",
        size(check.size_bytes),
        check.sha256,
    );
    report.line(&head)?;
    report.table(&check.tracks, &track_columns())?;
    for mark in &check.marks {
        report.line(&format!("  {:>10}  {}", duration(mark.at_ms), mark.title))?;
    }
    for finding in &check.findings {
        report.line(&format!("FAULT {finding}"))?;
    }
    Ok(report.line(if check.findings.is_empty() { "Nothing is wrong with it.\n" } else { "" })?)
}

fn track_columns() -> [Column<TrackCheck>; 10] {
    [
        Column::text("track", |row| word(row.kind)),
        Column::text("codec", |row| row.codec.clone()),
        Column::text("language", |row| dash(row.language.as_deref())),
        Column::text("name", |row| dash(row.name.as_deref())),
        Column::text("default", |row| if row.is_default { "yes" } else { "no" }.to_owned()),
        Column::number("samples", |row| row.sample_count.to_string()),
        Column::number("begins", |row| duration(row.start_ms)),
        Column::number("ends", |row| duration(row.end_ms)),
        Column::number("gaps", |row| row.gap_count.to_string()),
        Column::number("time errors", |row| row.timestamp_error_count.to_string()),
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
        let rules = Kept {
            when: RecordingWhen::ByHand,
            format: TakeFormat::Matroska,
            split_ms: 600_000,
            split_bytes: 0,
            split_at_return: true,
            names: String::new(),
            pre_roll_ms: 5000,
            keep_s: 604_800,
            keep_count: 0,
            keep_bytes: 20_000_000_000,
            depot: Some("attic".to_owned()),
            removes_copied: true,
        };
        let expected = "by hand, matroska, split after 10:00 min, pre-roll 5.0 s, split at returns, keep 7.0 days, \
            keep 20.00 GB, move to attic";
        assert_eq!(told(&rules), expected);
        assert_eq!(told(&Kept { when: RecordingWhen::Off, ..rules }), "off");
    }
}
