use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};
use serde::Serialize;
use waverant_model::{
    ChangeTake, CopyState, CopyTake, CutTake, JobReport, JobResult, ListedTakes, RemovedTake, Take as Kept, TakeLink,
};

use super::recording::{file_name, wait_for};
use super::{dash, word};
use crate::client::{Client, piece};
use crate::download::download;
use crate::error::Failure;
use crate::output::{Column, Report, duration, moment, size};

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

    fn verb(&self, verb: &str) -> String {
        format!("{}/{verb}", self.path())
    }

    fn change(&self, client: &Client, change: &ChangeTake) -> Result<Kept, Failure> {
        client.call("PATCH", &self.path(), change)
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
        match self {
            Self::List(form) => {
                let takes: ListedTakes = client.get(&form.path()?)?;
                Ok(report.rows(&takes, &takes.items, &columns(), "No recordings.")?)
            }
            Self::Show(which) => show(&client.get(&which.path())?, report),
            Self::Fetch(form) => fetch(&client, form, report),
            Self::Note { which, title, note } => {
                let change = ChangeTake { title, note, is_locked: None };
                Ok(report.done(&which.change(&client, &change)?, "Written down.")?)
            }
            Self::Lock(which) => {
                let change = ChangeTake { is_locked: Some(true), ..ChangeTake::default() };
                let told = "Locked: no rule and nobody removes it until it is unlocked.";
                Ok(report.done(&which.change(&client, &change)?, told)?)
            }
            Self::Unlock(which) => {
                let change = ChangeTake { is_locked: Some(false), ..ChangeTake::default() };
                Ok(report.done(&which.change(&client, &change)?, "Unlocked.")?)
            }
            Self::Remove { which, yes } => remove(&client, &which, yes, report),
            Self::UndoRemoval(which) => {
                let take: Kept = client.order("POST", &which.verb("undo-removal"))?;
                Ok(report.done(&take, "The take is back.")?)
            }
            Self::Cut { which, from, to, title } => {
                let cut = CutTake { from_ms: whole_millis(from), to_ms: to.map(whole_millis), title };
                make_cut(&client, &which, &cut, report)
            }
            Self::Mend(which) => {
                let take: Kept = client.order("POST", &which.verb("mend"))?;
                Ok(report.done(&take, &format!("Mended: {}.", dash(take.repair.as_deref())))?)
            }
            Self::Copy { which, depot } => {
                let take: Kept = client.call("POST", &which.verb("copy"), &CopyTake { depot })?;
                let depot = take.copy.as_ref().map(|copy| copy.depot.as_str());
                Ok(report.done(&take, &format!("It is copied to `{}`; `take list` shows how far.", dash(depot)))?)
            }
            Self::Restore(which) => {
                let begun: JobReport = client.order("POST", &which.verb("restore"))?;
                let back = wait_for(&client, &begun, "restoring")?;
                Ok(report.done(&back, "The take is on the disk again.")?)
            }
            Self::Link { which, valid } => {
                let made: TakeLink = client.get(&format!("{}/link?valid_s={valid}", which.path()))?;
                Ok(report.done(&made, &made.link)?)
            }
        }
    }
}

fn whole_millis(seconds: f64) -> u64 {
    let whole = Duration::try_from_secs_f64(seconds).unwrap_or_default().as_millis();
    u64::try_from(whole).unwrap_or(u64::MAX)
}

fn make_cut(client: &Client, which: &Which, cut: &CutTake, report: &mut Report<'_>) -> Result<(), Failure> {
    let begun: JobReport = client.call("POST", &which.verb("cut"), cut)?;
    let JobResult::Made(made) = wait_for(client, &begun, "cutting")? else {
        return Err(Failure::Job("cutting: a take was expected, and a check came of it".to_owned()));
    };
    let (length, bytes) = (duration(made.duration_ms.unwrap_or(0)), size(made.size_bytes));
    let told = format!("Take {}/{} was cut: {length}, {bytes}.", made.session, made.take);
    Ok(report.done(&made, &told)?)
}

fn remove(client: &Client, which: &Which, yes: bool, report: &mut Report<'_>) -> Result<(), Failure> {
    let take: Kept = client.get(&which.path())?;
    if !yes {
        super::confirm(&format!("Remove {} ({})?", take.path, duration(take.duration_ms)))?;
    }
    let removed: RemovedTake = client.order("DELETE", &which.path())?;
    let told = format!(
        "Removed. Until {} it can be had back: waverant take undo-removal {} {}",
        moment(removed.gone_at),
        which.session,
        which.number
    );
    Ok(report.done(&removed, &told)?)
}

/// What was fetched, as programs are told.
#[derive(Serialize)]
struct Fetched {
    file: PathBuf,
    size_bytes: u64,
}

fn fetch(client: &Client, form: Fetch, report: &mut Report<'_>) -> Result<(), Failure> {
    let path = form.which.path();
    let take: Kept = client.get(&path)?;
    let recorded = file_name(&take.path).unwrap_or("take.mp4");
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
    let fetched = Fetched { size_bytes: download(client, &address, &target)?, file: target };
    let told = format!("{} ({})", fetched.file.display(), size(fetched.size_bytes));
    Ok(report.done(&fetched, &told)?)
}

fn show(take: &Kept, report: &mut Report<'_>) -> Result<(), Failure> {
    if report.json {
        return Ok(report.value(take)?);
    }
    report.table(std::slice::from_ref(take), &columns())?;
    let texts = [(&take.title, "title"), (&take.note, "note"), (&take.repair, "mended"), (&take.sha256, "SHA-256")];
    for (text, what) in texts {
        if let Some(text) = text {
            report.line(&format!("{what}: {text}"))?;
        }
    }
    if take.gap_count > 0 {
        report.line(&format!("{} gaps, {} are missing", take.gap_count, duration(take.gap_ms)))?;
    }
    if let Some(copy) = &take.copy {
        let error = copy.error.as_ref().map(|error| format!(" ({error})")).unwrap_or_default();
        report.line(&format!("copy at {}: {}, {}{error}", copy.depot, copy.object_key, word(copy.state)))?;
    }
    for mark in &take.marks {
        report.line(&format!("{:>10}  {}", duration(mark.at_ms), mark.title))?;
    }
    Ok(())
}

pub(super) fn columns() -> [Column<Kept>; 8] {
    [
        Column::number("session", |row| row.session.to_string()),
        Column::number("take", |row| row.number.to_string()),
        Column::text("state", state),
        Column::text("began", |row| moment(row.started_at)),
        Column::number("length", |row| duration(row.duration_ms)),
        Column::number("size", |row| size(row.size_bytes)),
        Column::text("copy", copy),
        Column::text("file", |row| row.path.clone()),
    ]
}

/// The state with what else matters when one looks down a list.
fn state(take: &Kept) -> String {
    let mut state = word(take.state);
    if take.is_locked {
        state.push_str(", locked");
    }
    if !take.is_here {
        let is_there = take.copy.as_ref().is_some_and(|copy| copy.state == CopyState::There);
        state.push_str(if is_there { ", at its depot" } else { ", its file is missing" });
    }
    if take.gap_count > 0 {
        state.push_str(", gaps");
    }
    state
}

fn copy(take: &Kept) -> String {
    match &take.copy {
        Some(copy) if copy.state == CopyState::Sending => {
            let share = copy.sent_bytes as f64 / take.size_bytes.max(1) as f64 * 100.0;
            format!("{share:.0} % at {}", copy.depot)
        }
        Some(copy) => format!("{} {}", word(copy.state), copy.depot),
        None => "-".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn a_day_is_from_midnight_to_midnight() {
        let bounds = day_bounds("2026-12-31").unwrap();
        assert_eq!(bounds, ("2026-12-31T00:00:00Z".to_owned(), "2027-01-01T00:00:00Z".to_owned()));
        assert!(day_bounds("yesterday").unwrap_err().to_string().contains("2026-05-17"));
    }

    #[test]
    fn a_list_tells_what_matters() {
        let answer = |copied: &str, sent_bytes: u64| {
            json!({"channel": "finish-line", "session": 1, "number": 1, "path": "1.mp4", "state": "complete",
                "started_at": "2026-05-17T14:00:00Z", "duration_ms": 1000, "size_bytes": 1000, "gap_count": 0,
                "gap_ms": 0, "marks": [], "repair": null, "title": null, "note": null, "is_locked": true,
                "cut_from": null, "removed_at": null, "sha256": null, "is_here": false, "sounds": [],
                "copy": {"depot": "attic", "object_key": "1.mp4", "state": copied, "sent_bytes": sent_bytes,
                    "attempt_count": 0, "error": null}})
        };
        let take: Kept = serde_json::from_value(answer("sending", 250)).unwrap();
        let told = ("complete, locked, its file is missing".to_owned(), "25 % at attic".to_owned());
        assert_eq!((state(&take), copy(&take)), told);
        let there: Kept = serde_json::from_value(answer("there", 1000)).unwrap();
        assert_eq!(
            (state(&there), copy(&there)),
            ("complete, locked, at its depot".to_owned(), "there attic".to_owned())
        );
    }
}
