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
            for (rows, columns) in [(sound_rows(channels), sound_columns()), (line_rows(channels), line_columns())] {
                if !rows.is_empty() {
                    writeln!(report.out)?;
                    report.table(&rows, &columns)?;
                }
            }
            let told = findings(channels).into_iter().chain(breaches(channels)).chain(line_findings(channels));
            for (name, finding) in told {
                writeln!(report.out, "{name}: {finding}")?;
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

/// The sounds of channels that have several; destinations choose among them.
fn sound_rows(channels: &[Value]) -> Vec<Value> {
    let of_channel = |channel: &Value| {
        let sounds = rows(&channel["session"]["audio"]);
        let numbered = (1..).zip(sounds).filter(|_| sounds.len() > 1).map(|(number, sound)| {
            let (format, of) = (sound_format(sound), text(channel, "name"));
            json!({"of": of, "number": number, "name": sound["name"], "language": sound["language"], "format": format})
        });
        numbered.collect::<Vec<_>>()
    };
    channels.iter().flat_map(of_channel).collect()
}

fn sound_columns() -> Vec<Column> {
    vec![
        Column::text("sound of", |row| text(row, "of")),
        Column::number("number", |row| text(row, "number")),
        Column::text("name", |row| text(row, "name")),
        Column::text("language", |row| text(row, "language")),
        Column::text("format", |row| text(row, "format")),
    ]
}

/// The lines of encoders that come over SRT, and of legs that go over it, each with its name.
fn line_rows(channels: &[Value]) -> Vec<Value> {
    let named = |line: &Value, name: String| {
        let mut line = line.clone();
        line.as_object_mut()?.insert("name".to_owned(), json!(name));
        Some(line)
    };
    let of_channel = |channel: &Value| {
        let name = text(channel, "name");
        let encoder = named(&channel["session"]["line"], name.clone());
        let legs = rows(&channel["legs"]).iter();
        let legs = legs.filter_map(|leg| named(&leg["line"], format!("{name} to {}", text(leg, "destination"))));
        encoder.into_iter().chain(legs).collect::<Vec<_>>()
    };
    channels.iter().flat_map(of_channel).collect()
}

/// What is wrong with lines to destinations.
fn line_findings(channels: &[Value]) -> Vec<(String, String)> {
    let legs = channels.iter().flat_map(|channel| rows(&channel["legs"]));
    let found = legs.filter_map(|leg| Some((text(leg, "destination"), leg["line"]["finding"].as_str()?.to_owned())));
    found.collect()
}

fn line_columns() -> Vec<Column> {
    vec![
        Column::text("SRT line of", |row| text(row, "name")),
        Column::number("round trip", |row| format!("{:.1} ms", number(row, "rtt_ms"))),
        Column::number("lost at first", |row| percent(number(row, "loss_share"))),
        Column::number("sent again", |row| percent(number(row, "retransmit_share"))),
        Column::number("too late", |row| text(row, "dropped_packet_count")),
        Column::number("buffer", |row| format!("{:.0} ms", number(row, "buffered_ms"))),
        Column::number("latency", |row| format!("{:.0} ms", number(row, "latency_ms"))),
        Column::number("needs", |row| format!("{:.0} ms", number(row, "advised_latency_ms"))),
        Column::text("lost, last 2 minutes", losses),
    ]
}

fn percent(share: f64) -> String {
    format!("{:.2} %", share * 100.0)
}

/// Two points a second for two minutes, drawn like a minute of seconds.
fn losses(line: &Value) -> String {
    let points: Vec<f64> = rows(&line["points"]).iter().map(|point| number(point, "loss_share")).collect();
    let joined: Vec<f64> = points.rchunks(4).rev().map(|four| four.iter().sum()).collect();
    sparkline(&json!(joined))
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

/// Limits of destinations that the streams do not keep.
fn breaches(channels: &[Value]) -> Vec<(String, String)> {
    let legs = channels.iter().flat_map(|channel| rows(&channel["legs"]));
    let of_leg = |leg: &Value| {
        let breaches = rows(&leg["breaches"]).iter();
        breaches.map(|text| format!("limits sheet: {}", text.as_str().unwrap_or_default())).collect::<Vec<_>>()
    };
    legs.flat_map(|leg| of_leg(leg).into_iter().map(|text| (super::text(leg, "destination"), text))).collect()
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
        Column::text("key", |row| on_air(row, key)),
    ]
}

fn on_air(row: &Value, cell: impl Fn(&Value) -> String) -> String {
    if row["session"].is_null() { "-".to_owned() } else { cell(&row["session"]) }
}

/// The key on air, and those that wait.
fn key(session: &Value) -> String {
    let waiting: Vec<&str> = rows(&session["waiting"]).iter().filter_map(Value::as_str).collect();
    let slate = if session["is_slate_on"] == true { ", slate is on" } else { "" };
    let waiting = if waiting.is_empty() { String::new() } else { format!(", waiting: {}", waiting.join(", ")) };
    format!("{}{slate}{waiting}", text(session, "key_label"))
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
    match rows(&session["audio"]) {
        [] => "none".to_owned(),
        [track] => sound_format(track),
        // They have a table of their own.
        tracks => format!("{} sounds", tracks.len()),
    }
}

fn sound_format(track: &Value) -> String {
    let rate = number(track, "sample_rate_hz") / 1000.0;
    format!("{} {rate} kHz, {} ch", text(track, "codec"), text(track, "channel_count"))
}

fn leg_columns() -> Vec<Column> {
    vec![
        Column::text("channel", |row| text(row, "channel")),
        Column::text("destination", |row| text(row, "destination")),
        Column::text("state", |row| text(row, "state")),
        Column::number("for", |row| working(row, |row| duration(number(row, "state_for_ms")))),
        Column::number("out", |row| working(row, |row| bitrate(number(row, "bitrate_bps")))),
        Column::number("behind", |row| working(row, |row| format!("{:.0} ms", number(row, "behind_ms")))),
        Column::text("last minute", |row| working(row, |row| sparkline(&row["trace"]))),
        Column::number("frames", |row| working(row, |row| text(row, "sent_frame_count"))),
        Column::number("dropped", |row| working(row, super::session::dropped)),
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

/// The last minute of a bitrate, twelve steps of five seconds.
fn sparkline(trace: &Value) -> String {
    const STEPS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let values: Vec<f64> = rows(trace).iter().filter_map(Value::as_f64).collect();
    let most = values.iter().copied().fold(0.0, f64::max);
    if most <= 0.0 {
        return String::new();
    }
    let steps = values.rchunks(5).map(|five| {
        let share = five.iter().sum::<f64>() / five.len() as f64 / most;
        let step = (1..STEPS.len()).rev().find(|step| share * 7.0 >= *step as f64 - 0.5).unwrap_or(0);
        STEPS[step]
    });
    let steps: Vec<char> = steps.collect();
    steps.into_iter().rev().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn several_sounds_have_a_table() {
        let sound = |name: Value| json!({"codec": "AAC", "sample_rate_hz": 48000, "channel_count": 2, "name": name, "language": "en"});
        let one = json!({"name": "finish-line", "session": {"audio": [sound(json!("Mix"))]}});
        let two = json!({"name": "boathouse", "session": {"audio": [sound(json!("Mix")), sound(Value::Null)]}});
        let idle = json!({"name": "start", "session": null});
        let mut out = Vec::new();
        Report { out: &mut out, json: false }.table(&sound_rows(&[one, two, idle]), &sound_columns()).unwrap();
        let told = String::from_utf8(out).unwrap();
        let lines: Vec<&str> = told.lines().map(str::trim).collect();
        assert_eq!(lines.len(), 3, "one sound alone needs none: {told}");
        assert!(
            lines[1].starts_with("boathouse") && lines[1].ends_with("1  Mix   en        AAC 48 kHz, 2 ch"),
            "{told}"
        );
        assert!(lines[2].ends_with("2  -     en        AAC 48 kHz, 2 ch"), "{told}");
    }

    #[test]
    fn a_sparkline_has_a_step_for_each_five_seconds() {
        let trace: Vec<u64> = (0..60).map(|second| second / 5).collect();
        assert_eq!(sparkline(&json!(trace)), "▁▂▂▃▄▄▅▅▆▇▇█");
        assert_eq!(sparkline(&json!([0, 0])), "");
        assert_eq!(sparkline(&json!([5])), "█");
    }
}
