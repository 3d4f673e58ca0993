use std::fs::{self, File};
use std::io::{self, IsTerminal, Read, Write};
use std::path::{Path, PathBuf};

use clap::Subcommand;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use serde_json::json;

use super::{number, rows, text};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, ago, duration, size};

#[derive(Subcommand, Debug)]
pub(super) enum Take {
    /// List recorded files, the newest first.
    List {
        /// Only of this channel.
        #[arg(long)]
        channel: Option<String>,
        /// At most so many.
        #[arg(long, default_value_t = 20)]
        limit: u32,
    },
    /// Fetch a recorded file.
    Fetch {
        /// The session's number.
        session: u64,
        /// The take's number within the session.
        #[arg(default_value_t = 1)]
        number: u32,
        /// Where to put it; its own name in this folder if left out.
        #[arg(long, short)]
        output: Option<PathBuf>,
    },
}

impl Take {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List { channel, limit } => {
                let channel = channel.map(|channel| format!("&channel={}", piece(&channel))).unwrap_or_default();
                let answer = client.get(&format!("/takes?limit={limit}{channel}"))?;
                Ok(report.rows(&answer, rows(&answer), &columns(), "No recordings yet.")?)
            }
            Self::Fetch { session, number, output } => fetch(&client, session, number, output, report),
        }
    }
}

fn fetch(
    client: &Client,
    session: u64,
    take_number: u32,
    output: Option<PathBuf>,
    report: &mut Report<'_>,
) -> Result<(), Failure> {
    let known = client.get(&format!("/sessions/{session}"))?;
    let take = rows(&known["takes"]).iter().find(|take| number(take, "number") == f64::from(take_number));
    let own_name = take.and_then(|take| take["path"].as_str()).and_then(|path| Path::new(path).file_name());
    let target = output.or_else(|| own_name.map(PathBuf::from));
    let target = target.unwrap_or_else(|| PathBuf::from(format!("session-{session}_take-{take_number}.mp4")));
    if target.exists() {
        return Err(Failure::Usage(format!(
            "{} is there already; choose another name with --output",
            target.display()
        )));
    }
    let mut response = client.fetch(&format!("/takes/{session}/{take_number}/file"))?;
    let length = response.headers().get("content-length").and_then(|value| value.to_str().ok()?.parse().ok());
    let partial = target.with_extension("partial");
    let failed = |source| Failure::File { path: partial.clone(), source };
    let mut file = File::create(&partial).map_err(failed)?;
    let bar = progress(length);
    let copied = copy(&mut response.body_mut().as_reader(), &mut file, &bar);
    bar.finish_and_clear();
    let bytes = copied.map_err(failed)?;
    fs::rename(&partial, &target).map_err(failed)?;
    let shown = json!({"file": target, "size_bytes": bytes});
    let bytes = size(f64::from(u32::try_from(bytes / 1000).unwrap_or(u32::MAX)) * 1000.0);
    Ok(report.done(&shown, &format!("{} ({bytes})", target.display()))?)
}

/// Drawn on a terminal only.
fn progress(length: Option<u64>) -> ProgressBar {
    if !io::stderr().is_terminal() {
        return ProgressBar::with_draw_target(length, ProgressDrawTarget::hidden());
    }
    let bar = ProgressBar::new(length.unwrap_or(0));
    let style = ProgressStyle::with_template("{bar:32} {bytes}/{total_bytes}  {bytes_per_sec}  {eta} left");
    bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
    bar
}

fn copy(from: &mut impl Read, to: &mut impl Write, bar: &ProgressBar) -> io::Result<u64> {
    let mut buffer = vec![0; 64 * 1024];
    let mut total = 0;
    loop {
        let count = from.read(&mut buffer)?;
        if count == 0 {
            return Ok(total);
        }
        to.write_all(&buffer[..count])?;
        total += count as u64;
        bar.set_position(total);
    }
}

pub(super) fn columns() -> Vec<Column> {
    vec![
        Column::number("session", |row| text(row, "session")),
        Column::number("take", |row| text(row, "number")),
        Column::text("state", |row| text(row, "state")),
        Column::text("began", |row| ago(&text(row, "started_at"))),
        Column::number("length", |row| duration(number(row, "duration_ms"))),
        Column::number("size", |row| size(number(row, "size_bytes"))),
        Column::text("file", |row| text(row, "path")),
    ]
}
