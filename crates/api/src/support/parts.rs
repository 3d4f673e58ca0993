use axum::Json;
use axum::extract::State;
use axum::http::HeaderMap;
use serde::Serialize;
use serde_json::{Value, json};
use time::OffsetDateTime;

use super::archive::Part;
use crate::board::look;
use crate::input::{Path, Query};
use crate::rights::Sight;
use crate::{ApiError, ApiState, channels, depots, destinations, keys, log, metrics, sessions, takes, timeline};

/// Shows of which there are report and timeline: those that go on, and the last ones.
const SHOWS: usize = 10;

/// What is longer is written for programs, without line breaks.
const READABLE: usize = 16 * 1024;

/// Points of a show's figures: so the archive of a house with many destinations stays a few megabytes.
const POINTS: u32 = 240;

/// What the archive has, apart from the list of it. A part that cannot be had says why, and the others are there.
pub(super) async fn gather(state: &ApiState, headers: &HeaderMap, now: OffsetDateTime) -> Vec<Part> {
    let board = look(&state.house);
    let mut parts = vec![
        about(state, now),
        settings(state),
        told("board.json", "what is on air, the machine, and what is wrong now", Ok(&board)),
        text("metrics.txt", "figures as monitoring reads them", metrics::text(state)),
        log(state),
    ];
    let mut shows: Vec<u64> = state.house.shows().iter().map(|show| show.id()).collect();
    // A database that hangs would be waited for at each part.
    if state.house.database_answers() {
        parts.extend(setup(state, headers).await);
        parts.extend(records(state, &mut shows).await);
    }
    shows.truncate(SHOWS);
    for session in shows {
        let report = sessions::report_of_session(state, session).await;
        parts.push(told(&format!("reports/{session}.json"), "the report of a show", report.as_ref()));
        let figures = timeline::whole_show(state, session, POINTS).await;
        parts.push(told(&format!("timeline/{session}.json"), "figures of a show over time", figures.as_ref()));
    }
    let machine = timeline::last_day(state).await;
    parts.push(told("timeline/machine.json", "figures of the machine over the last day", machine.as_ref()));
    parts
}

/// Channels, destinations and depots, without what is secret of them.
async fn setup(state: &ApiState, headers: &HeaderMap) -> Vec<Part> {
    let house = || State(state.clone());
    let all = channels::list_channels(house(), Sight::whole(), headers.clone()).await;
    let names: Vec<String> = all.iter().flat_map(|Json(all)| all.iter().map(|channel| channel.name.clone())).collect();
    let destinations = destinations::list_destinations(house(), Sight::whole()).await;
    let mut parts = vec![
        answer("channels.json", "channels with their rules", all),
        answer("destinations.json", "destinations, without their keys", destinations),
        answer("depots.json", "depots, without their keys", depots::list_depots(house()).await),
    ];
    for name in names {
        let keys = keys::list_keys(house(), Path(name.clone())).await;
        parts.push(answer(&format!("keys/{name}.json"), "labels and rules of a channel's keys", keys));
    }
    parts
}

/// What happened; `shows` gets the last ones.
async fn records(state: &ApiState, shows: &mut Vec<u64>) -> Vec<Part> {
    let house = || State(state.clone());
    let sessions = sessions::list_sessions(house(), Sight::whole(), Query(sessions::Page::newest())).await;
    if let Ok(Json(listed)) = &sessions {
        let others = listed.items.iter().map(|session| session.id).filter(|id| !shows.contains(id));
        shows.extend(others.collect::<Vec<_>>());
    }
    let takes = takes::list_takes(house(), Sight::whole(), Query(takes::TakeQuery::newest())).await;
    let turned_away = sessions::list_turned_away(house(), Query(sessions::Page::newest())).await;
    vec![
        answer("sessions.json", "the last sessions", sessions),
        answer("takes.json", "the last takes", takes),
        answer("turned-away.json", "the last callers that were turned away", turned_away),
    ]
}

fn about(state: &ApiState, now: OffsetDateTime) -> Part {
    let read = |file: &str| std::fs::read_to_string(file).map(|text| text.trim().to_owned()).unwrap_or_default();
    let os = read("/etc/os-release");
    let os = os.lines().find_map(|line| line.strip_prefix("PRETTY_NAME=")).unwrap_or_default().trim_matches('"');
    let started_at = state.support.started_at;
    let about = json!({
        "version": env!("CARGO_PKG_VERSION"),
        "made_at": now.to_string(),
        "started_at": started_at.to_string(),
        "up_for_s": (now - started_at).whole_seconds(),
        "system": os,
        "kernel": read("/proc/sys/kernel/osrelease"),
        "processor_architecture": std::env::consts::ARCH,
        "log_level": state.log.level(),
        "database_answers": state.house.database_answers(),
    });
    told("about.json", "versions, and when the service was started", Ok(&about))
}

fn settings(state: &ApiState) -> Part {
    let lines = state.support.settings.iter().map(|(name, value)| format!("{name} = {value}\n"));
    text("settings.txt", "settings as they are in force, without secrets", lines.collect())
}

fn log(state: &ApiState) -> Part {
    let lines = log::all(state).into_iter().map(|line| serde_json::to_string(&line).unwrap_or_default() + "\n");
    text("log.jsonl", "the end of the log, a line each", lines.collect())
}

fn answer<T: Serialize>(name: &str, what: &'static str, answer: Result<Json<T>, ApiError>) -> Part {
    told(name, what, answer.as_ref().map(|Json(value)| value))
}

fn told<T: Serialize>(name: &str, what: &'static str, value: Result<&T, &ApiError>) -> Part {
    let value = match value {
        Ok(value) => serde_json::to_value(value).unwrap_or(Value::Null),
        Err(error) => json!({ "missing": error.detail() }),
    };
    let pretty = serde_json::to_string_pretty(&value).unwrap_or_default();
    let written = if pretty.len() <= READABLE { pretty } else { value.to_string() };
    text(name, what, written + "\n")
}

fn text(name: &str, what: &'static str, text: String) -> Part {
    Part { name: name.to_owned(), what, bytes: text.into_bytes() }
}
