use clap::Subcommand;
use serde_json::{Value, json};

use super::{number, rows, text};
use crate::client::Client;
use crate::error::Failure;
use crate::output::{Column, Report, bitrate, duration};

#[derive(Subcommand, Debug)]
pub(super) enum Live {
    /// Show what is on air, and every leg.
    Show,
}

impl Live {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let answer = Client::signed_in()?.get("/live")?;
        let channels = rows(&answer["channels"]);
        report.rows(&answer, channels, &channel_columns(), "No channels yet. Add one: waverant channel add NAME")?;
        if !report.json {
            for (channel, finding) in findings(channels) {
                writeln!(report.out, "{channel}: {finding}")?;
            }
        }
        let legs = legs(channels);
        if !report.json && !legs.is_empty() {
            writeln!(report.out)?;
            report.table(&legs, &leg_columns())?;
        }
        Ok(())
    }
}

/// What is wrong or odd about the streams that come in.
fn findings(channels: &[Value]) -> Vec<(String, String)> {
    let of_channel = |channel: &Value| {
        let name = text(channel, "name");
        let found = rows(&channel["session"]["findings"]).iter();
        found.map(|finding| (name.clone(), finding.as_str().unwrap_or_default().to_owned())).collect::<Vec<_>>()
    };
    channels.iter().flat_map(of_channel).collect()
}

/// The legs of all channels, each with its channel's name.
fn legs(channels: &[Value]) -> Vec<Value> {
    let with_channel = |channel: &Value, leg: &Value| {
        let mut leg = leg.clone();
        leg["channel"] = json!(text(channel, "name"));
        leg
    };
    channels.iter().flat_map(|channel| rows(&channel["legs"]).iter().map(|leg| with_channel(channel, leg))).collect()
}

fn channel_columns() -> Vec<Column> {
    vec![
        Column::text("channel", |row| text(row, "name")),
        Column::text("state", |row| text(row, "state")),
        Column::number("for", |row| on_air(row, |session| duration(number(session, "state_for_ms")))),
        Column::number("in", |row| on_air(row, |session| bitrate(number(session, "bitrate_bps")))),
        Column::text("picture", |row| on_air(row, picture)),
        Column::text("sound", |row| on_air(row, sound)),
        Column::number("keyframes", |row| {
            on_air(row, |session| match session["video"]["keyframe_spacing_ms"].as_f64() {
                Some(spacing) => format!("{:.2} s", spacing / 1000.0),
                None => "-".to_owned(),
            })
        }),
        Column::text("key", |row| on_air(row, |session| text(session, "key_label"))),
    ]
}

fn on_air(row: &Value, cell: impl Fn(&Value) -> String) -> String {
    if row["session"].is_null() { "-".to_owned() } else { cell(&row["session"]) }
}

fn picture(session: &Value) -> String {
    let video = &session["video"];
    if video.is_null() {
        return "none".to_owned();
    }
    let size = format!("{}x{}", text(video, "width"), text(video, "height"));
    format!("{} {size} {:.1} fps", text(video, "codec"), number(video, "frame_rate"))
}

fn sound(session: &Value) -> String {
    let describe = |track: &Value| {
        let rate = number(track, "sample_rate_hz") / 1000.0;
        format!("{} {rate} kHz, {} ch", text(track, "codec"), text(track, "channel_count"))
    };
    match rows(&session["audio"]) {
        [] => "none".to_owned(),
        [track] => describe(track),
        // Line by line there is no room for more; `--json` tells all.
        tracks => tracks.iter().map(|track| text(track, "codec")).collect::<Vec<_>>().join(" + "),
    }
}

fn leg_columns() -> Vec<Column> {
    vec![
        Column::text("channel", |row| text(row, "channel")),
        Column::text("destination", |row| text(row, "destination")),
        Column::text("state", |row| text(row, "state")),
        Column::number("for", |row| working(row, |row| duration(number(row, "state_for_ms")))),
        Column::number("out", |row| working(row, |row| bitrate(number(row, "bitrate_bps")))),
        Column::number("behind", |row| working(row, |row| format!("{:.0} ms", number(row, "behind_ms")))),
        Column::number("frames", |row| working(row, |row| text(row, "sent_frame_count"))),
        Column::number("dropped", |row| working(row, |row| text(row, "dropped_frame_count"))),
        Column::number("redials", |row| working(row, |row| text(row, "redial_count"))),
        Column::text("note", |row| match text(row, "note") {
            note if note == "-" => text(row, "reason"),
            note => note,
        }),
    ]
}

/// A dash for legs that have done nothing.
fn working(row: &Value, cell: impl Fn(&Value) -> String) -> String {
    let is_idle = matches!(row["state"].as_str(), Some("ready" | "off")) && number(row, "sent_frame_count") == 0.0;
    if is_idle { "-".to_owned() } else { cell(row) }
}
