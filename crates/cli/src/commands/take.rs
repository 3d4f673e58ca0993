use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};
use serde_json::{Value, json};

use super::recording::{file_name, wait_for};
use super::{number, rows, text};
use crate::client::{Client, piece};
use crate::download::download;
use crate::error::Failure;
use crate::output::{Column, Report, ago, duration, size};

#[derive(Subcommand, Debug)]
pub(super) enum Take {
    /// List recorded files, the newest first.
    List(List),
    /// Show all that is known of a take.
    Show(Which),
    /// Fetch a recorded file; a fetch that was broken off goes on.
    Fetch(Fetch),
    /// Give a take a title or a note.
    Note {
        #[command(flatten)]
        which: Which,
        /// What people call it; empty for nothing.
        #[arg(long)]
        title: Option<String>,
        /// What people write about it; empty for nothing.
        #[arg(long)]
        note: Option<String>,
    },
    /// Keep a take, whatever the rules say.
    Lock(Which),
    /// Let the rules have a take again.
    Unlock(Which),
    /// Remove a take; it can be had back for some minutes.
    Remove {
        #[command(flatten)]
        which: Which,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
    /// Have a removed take back.
    UndoRemoval(Which),
    /// Cut a piece into a take of its own, on keyframes and without encoding anew.
    Cut {
        #[command(flatten)]
        which: Which,
        /// Begin at the last keyframe that is not later, in seconds.
        #[arg(long)]
        from: f64,
        /// End before the first keyframe that is not earlier, in seconds; at the end if left out.
        #[arg(long)]
        to: Option<f64>,
        /// What people call the new take.
        #[arg(long)]
        title: Option<String>,
    },
    /// Mend a take that was not ended in order.
    Mend(Which),
    /// Copy a take to a depot.
    Copy {
        #[command(flatten)]
        which: Which,
        /// The depot; that of the channel if left out.
        #[arg(long)]
        depot: Option<String>,
    },
    /// Bring a take back from its depot.
    Restore(Which),
    /// Print a link under which anybody can fetch a take's copy from its depot for a while.
    Link {
        #[command(flatten)]
        which: Which,
        /// How long, in seconds, up to a week.
        #[arg(long, default_value_t = 3600)]
        valid: u64,
    },
}

/// Which take.
#[derive(Args, Clone, Debug)]
pub(super) struct Which {
    /// The session's number.
    session: u64,
    /// The take's number within the session.
    #[arg(default_value_t = 1)]
    number: u32,
}

impl Which {
    fn path(&self) -> String {
        format!("/takes/{}/{}", self.session, self.number)
    }
}

#[derive(Args, Debug)]
pub(super) struct List {
    /// Only of this channel.
    #[arg(long)]
    channel: Option<String>,
    /// Only of this day (UTC), as in 2026-05-17.
    #[arg(long)]
    day: Option<String>,
    /// Only those that are at least so long, in seconds.
    #[arg(long)]
    longer: Option<f64>,
    /// Only those that are at most so long, in seconds.
    #[arg(long)]
    shorter: Option<f64>,
    /// Those that were removed and can be had back.
    #[arg(long)]
    removed: bool,
    /// At most so many.
    #[arg(long, default_value_t = 20)]
    limit: u32,
    /// Only what comes after this in the list: `next` of an earlier answer.
    #[arg(long)]
    before: Option<String>,
}

#[derive(Args, Debug)]
pub(super) struct Fetch {
    #[command(flatten)]
    which: Which,
    /// Where to put it; its own name in this folder if left out.
    #[arg(long, short)]
    output: Option<PathBuf>,
    /// As plain MP4 with all tracks, whatever it was recorded as.
    #[arg(long, conflicts_with = "sound")]
    mp4: bool,
    /// With --mp4: begin at the last keyframe that is not later, in seconds.
    #[arg(long, requires = "mp4")]
    from: Option<f64>,
    /// With --mp4: end before the first keyframe that is not earlier, in seconds.
    #[arg(long, requires = "mp4")]
    to: Option<f64>,
    /// One sound alone, by its place among the tracks of sound, counted from 1.
    #[arg(long, value_name = "PLACE")]
    sound: Option<u8>,
}

impl List {
    fn path(&self) -> Result<String, Failure> {
        let mut path = format!("/takes?limit={}", self.limit);
        if let Some(channel) = &self.channel {
            path.push_str(&format!("&channel={}", piece(channel)));
        }
        if let Some(day) = &self.day {
            let (from, until) = day_bounds(day)?;
            path.push_str(&format!("&from={}&until={}", piece(&from), piece(&until)));
        }
        for (field, seconds) in [("min_ms", self.longer), ("max_ms", self.shorter)] {
            if let Some(seconds) = seconds {
                path.push_str(&format!("&{field}={:.0}", seconds.max(0.0) * 1000.0));
            }
        }
        if self.removed {
            path.push_str("&removed=true");
        }
        if let Some(before) = &self.before {
            path.push_str(&format!("&before={}", piece(before)));
        }
        Ok(path)
    }
}

/// The begin of a day and of the next one.
fn day_bounds(day: &str) -> Result<(String, String), Failure> {
    let format = time::macros::format_description!("[year]-[month]-[day]");
    let date = time::Date::parse(day, format)
        .map_err(|_| Failure::Usage(format!("--day: `{day}` stands where a day such as 2026-05-17 was expected")))?;
    let next = date.next_day().unwrap_or(date);
    Ok((format!("{date}T00:00:00Z"), format!("{next}T00:00:00Z")))
}

impl Take {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        let patch = |which: &Which, body: Value| client.call("PATCH", &which.path(), Some(body));
        let post = |which: &Which, verb: &str, body: Option<Value>| {
            client.call("POST", &format!("{}/{verb}", which.path()), body)
        };
        match self {
            Self::List(form) => {
                let answer = client.get(&form.path()?)?;
                Ok(report.rows(&answer, rows(&answer["items"]), &columns(), "No recordings.")?)
            }
            Self::Show(which) => show(&client.get(&which.path())?, report),
            Self::Fetch(form) => fetch(&client, form, report),
            Self::Note { which, title, note } => {
                let answer = patch(&which, json!({"title": title, "note": note}))?;
                Ok(report.done(&answer, "Written down.")?)
            }
            Self::Lock(which) => {
                let answer = patch(&which, json!({"is_locked": true}))?;
                Ok(report.done(&answer, "Locked: no rule and nobody removes it until it is unlocked.")?)
            }
            Self::Unlock(which) => {
                let answer = patch(&which, json!({"is_locked": false}))?;
                Ok(report.done(&answer, "Unlocked.")?)
            }
            Self::Remove { which, yes } => remove(&client, &which, yes, report),
            Self::UndoRemoval(which) => {
                let answer = post(&which, "undo-removal", None)?;
                Ok(report.done(&answer, "The take is back.")?)
            }
            Self::Cut { which, from, to, title } => {
                let millis = |seconds: f64| {
                    let whole = Duration::try_from_secs_f64(seconds).unwrap_or_default().as_millis();
                    u64::try_from(whole).unwrap_or(u64::MAX)
                };
                let body = json!({"from_ms": millis(from), "to_ms": to.map(millis), "title": title});
                let begun = post(&which, "cut", Some(body))?;
                let made = wait_for(&client, &begun, "cutting")?;
                let told = format!(
                    "Take {}/{} was cut: {}, {}.",
                    made["session"],
                    made["take"],
                    duration(number(&made, "duration_ms")),
                    size(number(&made, "size_bytes"))
                );
                Ok(report.done(&made, &told)?)
            }
            Self::Mend(which) => {
                let answer = post(&which, "mend", None)?;
                Ok(report.done(&answer, &format!("Mended: {}.", text(&answer, "repair")))?)
            }
            Self::Copy { which, depot } => {
                let answer = post(&which, "copy", Some(json!({"depot": depot})))?;
                let told = format!("It is copied to `{}`; `take list` shows how far.", text(&answer["copy"], "depot"));
                Ok(report.done(&answer, &told)?)
            }
            Self::Restore(which) => {
                let begun = post(&which, "restore", None)?;
                let answer = wait_for(&client, &begun, "restoring")?;
                Ok(report.done(&answer, "The take is on the disk again.")?)
            }
            Self::Link { which, valid } => {
                let answer = client.get(&format!("{}/link?valid_s={valid}", which.path()))?;
                Ok(report.done(&answer, &text(&answer, "link"))?)
            }
        }
    }
}

fn remove(client: &Client, which: &Which, yes: bool, report: &mut Report<'_>) -> Result<(), Failure> {
    let take = client.get(&which.path())?;
    if !yes {
        let question = format!("Remove {} ({})?", text(&take, "path"), duration(number(&take, "duration_ms")));
        super::confirm(&question)?;
    }
    let answer = client.call("DELETE", &which.path(), None)?;
    let told = format!(
        "Removed. Until {} it can be had back: waverant take undo-removal {} {}",
        ago(&text(&answer, "gone_at")),
        which.session,
        which.number
    );
    Ok(report.done(&answer, &told)?)
}

fn fetch(client: &Client, form: Fetch, report: &mut Report<'_>) -> Result<(), Failure> {
    let path = form.which.path();
    let take = client.get(&path)?;
    let recorded = text(&take, "path");
    let recorded = file_name(&recorded).unwrap_or("take.mp4");
    let stem = recorded.rsplit_once('.').map_or(recorded, |(stem, _)| stem);
    let (address, name) = match form.sound {
        Some(place) => (format!("{path}/sound/{place}"), format!("{stem}_sound-{place}.m4a")),
        None if form.mp4 => {
            let millis = |seconds: f64| format!("{:.0}", seconds.max(0.0) * 1000.0);
            let from = form.from.map(|from| format!("from_ms={}", millis(from)));
            let to = form.to.map(|to| format!("to_ms={}", millis(to)));
            let query: Vec<String> = from.into_iter().chain(to).collect();
            let name = if query.is_empty() { format!("{stem}.mp4") } else { format!("{stem}_cut.mp4") };
            (format!("{path}/mp4?{}", query.join("&")), name)
        }
        None => (format!("{path}/file"), recorded.to_owned()),
    };
    let target = form.output.unwrap_or_else(|| PathBuf::from(name));
    let bytes = download(client, &address, &target)?;
    let shown = json!({"file": target, "size_bytes": bytes});
    Ok(report.done(&shown, &format!("{} ({})", target.display(), size(bytes as f64)))?)
}

fn show(take: &Value, report: &mut Report<'_>) -> Result<(), Failure> {
    if report.json {
        return Ok(report.value(take)?);
    }
    report.table(std::slice::from_ref(take), &columns())?;
    let mut lines = Vec::new();
    for (field, told) in [("title", "title"), ("note", "note"), ("repair", "mended"), ("sha256", "SHA-256")] {
        if take[field].is_string() {
            lines.push(format!("{told}: {}", text(take, field)));
        }
    }
    if number(take, "gap_count") > 0.0 {
        lines.push(format!("{} gaps, {} are missing", text(take, "gap_count"), duration(number(take, "gap_ms"))));
    }
    if take["copy"].is_object() {
        let copy = &take["copy"];
        let error = copy["error"].as_str().map(|error| format!(" ({error})")).unwrap_or_default();
        lines.push(format!(
            "copy at {}: {}, {}{error}",
            text(copy, "depot"),
            text(copy, "object_key"),
            text(copy, "state")
        ));
    }
    for mark in rows(&take["marks"]) {
        lines.push(format!("{:>10}  {}", duration(number(mark, "at_ms")), text(mark, "title")));
    }
    for line in lines {
        report.line(&line)?;
    }
    Ok(())
}

pub(super) fn columns() -> Vec<Column> {
    vec![
        Column::number("session", |row| text(row, "session")),
        Column::number("take", |row| text(row, "number")),
        Column::text("state", state),
        Column::text("began", |row| ago(&text(row, "started_at"))),
        Column::number("length", |row| duration(number(row, "duration_ms"))),
        Column::number("size", |row| size(number(row, "size_bytes"))),
        Column::text("copy", copy),
        Column::text("file", |row| text(row, "path")),
    ]
}

/// The state with what else matters when one looks down a list.
fn state(row: &Value) -> String {
    let mut state = text(row, "state");
    if row["is_locked"] == true {
        state.push_str(", locked");
    }
    if row["is_here"] == false {
        state.push_str(if row["copy"]["state"] == "there" { ", at its depot" } else { ", its file is missing" });
    }
    if number(row, "gap_count") > 0.0 {
        state.push_str(", gaps");
    }
    state
}

fn copy(row: &Value) -> String {
    let copy = &row["copy"];
    match copy["state"].as_str() {
        Some("sending") => {
            let share = number(copy, "sent_bytes") / number(row, "size_bytes").max(1.0) * 100.0;
            format!("{share:.0} % at {}", text(copy, "depot"))
        }
        Some(state) => format!("{state} {}", text(copy, "depot")),
        None => "-".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_day_is_from_midnight_to_midnight() {
        let bounds = day_bounds("2026-12-31").unwrap();
        assert_eq!(bounds, ("2026-12-31T00:00:00Z".to_owned(), "2027-01-01T00:00:00Z".to_owned()));
        assert!(day_bounds("yesterday").unwrap_err().to_string().contains("2026-05-17"));
    }

    #[test]
    fn a_list_tells_what_matters() {
        let take = json!({"state": "complete", "is_locked": true, "is_here": false, "size_bytes": 1000,
            "copy": {"state": "sending", "sent_bytes": 250, "depot": "attic"}});
        let told = ("complete, locked, its file is missing".to_owned(), "25 % at attic".to_owned());
        assert_eq!((state(&take), copy(&take)), told);
        let there = json!({"state": "complete", "is_here": false, "copy": {"state": "there", "depot": "attic"}});
        assert_eq!((state(&there), copy(&there)), ("complete, at its depot".to_owned(), "there attic".to_owned()));
    }
}
