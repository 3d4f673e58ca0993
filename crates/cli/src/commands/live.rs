use clap::Subcommand;
use waverant_model::{Board, LegState, LiveAudio, LiveChannel, LiveLeg, LiveLine, LiveSession};

use super::{dash, finding, number, word};
use crate::board::findings_of;
use crate::client::Client;
use crate::error::Failure;
use crate::output::{Column, Report, bitrate, duration, sparkline_of};

#[derive(Subcommand, Debug)]
pub(super) enum Live {
    /// Show what is on air, and every leg.
    Show,
    /// Watch it full-screen: move with the arrows, switch a leg with the space bar, mark with m, record with r.
    Watch,
}

impl Live {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        if matches!(self, Self::Watch) {
            return crate::watch::run(Client::signed_in()?);
        }
        let board: Board = Client::signed_in()?.get("/live")?;
        let channels = board.channels.as_slice();
        report.rows(&board, channels, &channel_columns(), "No channels yet. Add one: waverant channel add NAME")?;
        if report.json {
            return Ok(());
        }
        table(report, &sounds(channels), &sound_columns())?;
        table(report, &lines(channels), &line_columns())?;
        let found = findings_of(&board, None);
        if !found.is_empty() {
            writeln!(report.out)?;
        }
        for found in &found {
            writeln!(report.out, "{}", finding::line(found))?;
        }
        table(report, &legs(channels), &leg_columns())
    }
}

/// A table with a line before it, if it has rows.
fn table<R>(report: &mut Report<'_>, rows: &[R], columns: &[Column<R>]) -> Result<(), Failure> {
    if !rows.is_empty() {
        writeln!(report.out)?;
        report.table(rows, columns)?;
    }
    Ok(())
}

/// A sound of a channel that has several; destinations choose among them.
struct Sound<'a> {
    of: &'a str,
    number: usize,
    sound: &'a LiveAudio,
}

fn sounds(channels: &[LiveChannel]) -> Vec<Sound<'_>> {
    let has_several = |channel: &&LiveChannel| channel.session.as_ref().is_some_and(|session| session.audio.len() > 1);
    let several = channels.iter().filter(has_several);
    let sounds = several.flat_map(|channel| {
        let sounds = channel.session.iter().flat_map(|session| &session.audio);
        (1..).zip(sounds).map(|(number, sound)| Sound { of: &channel.name, number, sound })
    });
    sounds.collect()
}

fn sound_columns<'a>() -> [Column<Sound<'a>>; 5] {
    [
        Column::text("sound of", |row| row.of.to_owned()),
        Column::number("number", |row| row.number.to_string()),
        Column::text("name", |row| dash(row.sound.name.as_deref())),
        Column::text("language", |row| dash(row.sound.language.as_deref())),
        Column::text("format", |row| sound_format(row.sound)),
    ]
}

/// The line of an encoder that comes over SRT, or of a leg that goes over it.
struct Line<'a> {
    of: String,
    line: &'a LiveLine,
}

fn lines(channels: &[LiveChannel]) -> Vec<Line<'_>> {
    let lines = channels.iter().flat_map(|channel| {
        let encoder = channel.session.iter().filter_map(|session| session.line.as_ref());
        let encoder = encoder.map(move |line| Line { of: channel.name.clone(), line });
        let legs = channel.legs.iter().filter_map(|leg| {
            let of = format!("{} to {}", channel.name, leg.destination);
            leg.line.as_ref().map(|line| Line { of, line })
        });
        encoder.chain(legs).collect::<Vec<_>>()
    });
    lines.collect()
}

fn line_columns<'a>() -> [Column<Line<'a>>; 9] {
    [
        Column::text("SRT line of", |row| row.of.clone()),
        Column::number("round trip", |row| format!("{:.1} ms", row.line.rtt_ms)),
        Column::number("lost at first", |row| percent(row.line.loss_share)),
        Column::number("sent again", |row| percent(row.line.retransmit_share)),
        Column::number("too late", |row| row.line.dropped_packet_count.to_string()),
        Column::number("buffer", |row| format!("{} ms", row.line.buffered_ms)),
        Column::number("latency", |row| format!("{} ms", row.line.latency_ms)),
        Column::number("needs", |row| format!("{} ms", row.line.advised_latency_ms)),
        Column::text("lost, last 2 minutes", |row| losses(row.line)),
    ]
}

fn percent(share: f64) -> String {
    format!("{:.2} %", share * 100.0)
}

/// Two points a second for two minutes, drawn like a minute of seconds.
fn losses(line: &LiveLine) -> String {
    let points: Vec<f64> = line.points.iter().map(|point| point.loss_share).collect();
    let joined: Vec<f64> = points.rchunks(4).rev().map(|four| four.iter().sum()).collect();
    sparkline(&joined)
}

fn channel_columns() -> [Column<LiveChannel>; 8] {
    [
        Column::text("channel", |row| row.name.clone()),
        Column::text("state", |row| word(row.state)),
        Column::number("for", |row| on_air(row, |session| duration(session.state_for_ms))),
        Column::number("in", |row| on_air(row, |session| bitrate(session.bitrate_bps))),
        Column::text("picture", |row| on_air(row, picture)),
        Column::text("sound", |row| on_air(row, sound)),
        Column::number("keyframes", |row| on_air(row, keyframes)),
        Column::text("key", |row| on_air(row, key)),
    ]
}

fn on_air(channel: &LiveChannel, cell: fn(&LiveSession) -> String) -> String {
    channel.session.as_ref().map_or_else(|| "-".to_owned(), cell)
}

/// The key on air, and those that wait.
fn key(session: &LiveSession) -> String {
    let slate = if session.is_slate_on { ", slate is on" } else { "" };
    let waiting = match session.waiting.as_slice() {
        [] => String::new(),
        waiting => format!(", waiting: {}", waiting.join(", ")),
    };
    format!("{}{slate}{waiting}", session.key_label)
}

fn picture(session: &LiveSession) -> String {
    let Some(video) = &session.video else { return "none".to_owned() };
    let size = format!("{}x{}", number(video.width), number(video.height));
    format!("{} {size} {:.1} fps", video.codec, video.frame_rate)
}

fn keyframes(session: &LiveSession) -> String {
    let spacing = session.video.as_ref().and_then(|video| video.keyframe_spacing_ms);
    spacing.map_or_else(|| "-".to_owned(), |spacing| format!("{:.2} s", spacing as f64 / 1000.0))
}

fn sound(session: &LiveSession) -> String {
    match session.audio.as_slice() {
        [] => "none".to_owned(),
        [track] => sound_format(track),
        // They have a table of their own.
        tracks => format!("{} sounds", tracks.len()),
    }
}

fn sound_format(track: &LiveAudio) -> String {
    let loudness = track.heard.as_ref().map_or(String::new(), |heard| {
        heard.short_term.map_or(", silent".to_owned(), |loudness| format!(", {loudness:.1} LUFS"))
    });
    let rate = f64::from(track.sample_rate_hz) / 1000.0;
    format!("{} {rate} kHz, {} ch{loudness}", track.codec, track.channel_count)
}

/// A leg, with its channel's name.
struct Leg<'a> {
    channel: &'a str,
    leg: &'a LiveLeg,
}

fn legs(channels: &[LiveChannel]) -> Vec<Leg<'_>> {
    let legs = channels.iter().flat_map(|channel| channel.legs.iter().map(|leg| Leg { channel: &channel.name, leg }));
    legs.collect()
}

fn leg_columns<'a>() -> [Column<Leg<'a>>; 11] {
    [
        Column::text("channel", |row| row.channel.to_owned()),
        Column::text("destination", |row| row.leg.destination.clone()),
        Column::text("state", |row| word(row.leg.state)),
        Column::number("for", |row| working(row, |leg| duration(leg.state_for_ms))),
        Column::number("out", |row| working(row, |leg| bitrate(leg.bitrate_bps))),
        Column::number("behind", |row| working(row, |leg| format!("{} ms", leg.behind_ms))),
        Column::text("last minute", |row| working(row, trace)),
        Column::number("frames", |row| working(row, |leg| leg.sent_frame_count.to_string())),
        Column::number("dropped", |row| {
            working(row, |leg| super::session::dropped(leg.dropped_frame_count, leg.dropped_ms))
        }),
        Column::number("redials", |row| working(row, |leg| leg.redial_count.to_string())),
        Column::text("note", |row| dash(row.leg.note.as_deref().or(row.leg.reason.as_deref()))),
    ]
}

/// A dash for legs that have done nothing.
fn working(Leg { leg, .. }: &Leg<'_>, cell: fn(&LiveLeg) -> String) -> String {
    let is_idle = matches!(leg.state, LegState::Ready | LegState::Off) && leg.sent_frame_count == 0;
    if is_idle { "-".to_owned() } else { cell(leg) }
}

fn trace(leg: &LiveLeg) -> String {
    sparkline(&leg.trace.iter().map(|bits| *bits as f64).collect::<Vec<_>>())
}

/// The last minute of a bitrate, twelve steps of five seconds.
fn sparkline(values: &[f64]) -> String {
    sparkline_of(values, 5)
}

#[cfg(test)]
mod tests {
    use serde_json::{Value, json};

    use super::*;

    #[test]
    fn several_sounds_have_a_table() {
        let sound = |name: Value| {
            let (rate, channels) = (48_000, 2);
            json!({"codec": "AAC", "sample_rate_hz": rate, "channel_count": channels, "name": name, "language": "en",
                "bitrate_bps": 0.0, "heard": null, "not_heard": null, "drift_ms_per_minute": null})
        };
        let channel = |name: &str, sounds: Option<Vec<Value>>| -> LiveChannel {
            let session = sounds.map(|audio| {
                json!({"id": 1, "started_at": "2026-05-17T14:00:00Z", "state_for_ms": 0, "hold_left_ms": null,
                    "loss_count": 0, "publisher_address": "", "key_label": "", "waiting": [], "is_slate_on": false,
                    "is_rehearsal": false, "encoder": "", "video": null, "audio": audio, "bitrate_bps": 0.0,
                    "audio_bitrate_bps": 0.0, "arrival": {"rate_1s_bps": 0.0, "rate_10s_bps": 0.0, "jitter_ms": 0.0,
                    "longest_pause_ms": 0, "largest_burst_ms": 0, "clock_ppm": null}, "line": null, "unusable_count": 0,
                    "clock_fault_count": 0, "recorder": "off", "recorder_reason": null, "take": null})
            });
            let viewers = waverant_model::ViewerCounts::default();
            let channel = json!({"name": name, "title": name, "state": "off air", "viewers": viewers, "session": session,
                "legs": [], "findings": []});
            serde_json::from_value(channel).unwrap()
        };
        let one = channel("finish-line", Some(vec![sound(json!("Mix"))]));
        let two = channel("boathouse", Some(vec![sound(json!("Mix")), sound(Value::Null)]));
        let mut out = Vec::new();
        let all = [one, two, channel("start", None)];
        Report { out: &mut out, json: false }.table(&sounds(&all), &sound_columns()).unwrap();
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
        let trace: Vec<f64> = (0..60).map(|second| f64::from(second / 5)).collect();
        assert_eq!(sparkline(&trace), "▁▂▂▃▄▄▅▅▆▇▇█");
        assert_eq!(sparkline(&[0.0, 0.0]), "");
        assert_eq!(sparkline(&[5.0]), "█");
    }
}
