use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Cell, Paragraph, Row as TableRow, Table, TableState};
use waverant_model::{Board, ChannelState, HeardSound, LegState, LiveChannel, LiveLeg, RecorderState, Severity};

use super::scene::{Row, Scene, TRACE};
use crate::board::findings_of;
use crate::output::{bitrate, clean_line, duration, sparkline_of, word};

/// Lines for findings, at most.
const FINDINGS: usize = 6;

/// Characters of a level bar, from -60 to 0 dBFS.
const BAR: usize = 8;

const KEYS: &str = "up/down choose   space leg on/off   m mark   r record   q leave";

/// Whether there are colours. All that they say stands there in words as well.
#[derive(Clone, Copy, Debug)]
pub(super) struct Looks {
    has_colours: bool,
}

impl Looks {
    /// As the terminal says, and whoever sits there.
    pub(super) fn of_environment() -> Self {
        let is_set = |name: &str| std::env::var_os(name).is_some_and(|value| !value.is_empty());
        let is_dumb = std::env::var("TERM").is_ok_and(|term| term == "dumb" || term == "vt100");
        Self { has_colours: !is_set("NO_COLOR") && !is_dumb }
    }

    fn style(self, colour: Color) -> Style {
        if self.has_colours { Style::new().fg(colour) } else { Style::new() }
    }
}

/// Draws all of it.
pub(super) fn draw(frame: &mut Frame<'_>, scene: &mut Scene, looks: Looks) {
    let Some(board) = scene.board() else {
        let told = scene.message().unwrap_or("asking the service …");
        return frame.render_widget(Paragraph::new(clean_line(told)), frame.area());
    };
    let findings = findings(board, looks);
    let height = u16::try_from(findings.len().min(FINDINGS)).unwrap_or(0);
    let parts = [Constraint::Length(1), Constraint::Min(3), Constraint::Length(height), Constraint::Length(2)];
    let [head, list, found, foot] = Layout::vertical(parts).areas(frame.area());
    frame.render_widget(headline(board, looks), head);
    draw_list(frame, list, scene, looks);
    frame.render_widget(Paragraph::new(findings), found);
    let message = Span::styled(clean_line(scene.message().unwrap_or_default()), message_style(scene, looks));
    frame.render_widget(Paragraph::new(vec![Line::from(message), Line::from(KEYS)]), foot);
}

fn message_style(scene: &Scene, looks: Looks) -> Style {
    if scene.is_old() { looks.style(Color::Red).add_modifier(Modifier::BOLD) } else { Style::new() }
}

fn headline(board: &Board, looks: Looks) -> Line<'static> {
    let on_air = board.channels.iter().filter(|channel| channel.state == ChannelState::OnAir).count();
    let live = board.channels.iter().filter(|channel| channel.session.is_some());
    let legs: Vec<&LiveLeg> = live
        .flat_map(|channel| &channel.legs)
        .filter(|leg| !matches!(leg.state, LegState::Off | LegState::Ready))
        .collect();
    let carrying = legs.iter().filter(|leg| leg.state == LegState::Carrying).count();
    let told = findings_of(board, None).iter().filter(|found| !found.finding.is_muted).count();
    let time = board.at.time();
    let text = format!(
        "{on_air} on air   {carrying} of {} legs carry   {told} findings   {:02}:{:02}:{:02} UTC",
        legs.len(),
        time.hour(),
        time.minute(),
        time.second()
    );
    let colour = if carrying < legs.len() || told > 0 { Color::Yellow } else { Color::Green };
    Line::styled(text, looks.style(colour).add_modifier(Modifier::BOLD))
}

fn draw_list(frame: &mut Frame<'_>, area: Rect, scene: &Scene, looks: Looks) {
    let rows = scene.rows();
    let cells = rows.iter().map(|row| match row {
        Row::Channel(channel) => channel_row(channel, &scene.rates(&channel.name), looks),
        Row::Leg(_, leg) => leg_row(leg, looks),
    });
    let trace = u16::try_from(TRACE).unwrap_or(10);
    // Eighty columns are filled; where there are more, names have them.
    let lengths = [16, 11, trace, 23].map(Constraint::Length);
    let widths = std::iter::once(Constraint::Min(16)).chain(lengths);
    let table = Table::new(cells, widths).row_highlight_style(Style::new().add_modifier(Modifier::REVERSED));
    let mut state = TableState::default().with_selected((!rows.is_empty()).then_some(scene.chosen()));
    frame.render_stateful_widget(table, area, &mut state);
}

fn channel_row(channel: &LiveChannel, rates: &[f64], looks: Looks) -> TableRow<'static> {
    let colour = match channel.state {
        ChannelState::OnAir => Color::Green,
        ChannelState::Holding => Color::Yellow,
        ChannelState::OffAir | ChannelState::Over => Color::DarkGray,
    };
    let name = Cell::from(channel.name.clone()).style(Style::new().add_modifier(Modifier::BOLD));
    let Some(session) = &channel.session else {
        return TableRow::new([name, Cell::from(word(channel.state)).style(looks.style(colour))]);
    };
    let rate = session.video.as_ref().map_or(String::new(), |video| format!("{:.0} fps ", video.frame_rate));
    let sound = session.audio.first().and_then(|sound| sound.heard.as_ref()).map(level).unwrap_or_default();
    let recording = if session.recorder == RecorderState::Recording { " rec" } else { "" };
    let state = if session.is_slate_on { "slate".to_owned() } else { word(channel.state) };
    TableRow::new([
        name,
        Cell::from(format!("{state} {}", duration(session.state_for_ms))).style(looks.style(colour)),
        Cell::from(bitrate(session.bitrate_bps)),
        Cell::from(sparkline_of(rates, 1)),
        Cell::from(format!("{rate}{sound}{recording}")),
    ])
}

fn leg_row(leg: &LiveLeg, looks: Looks) -> TableRow<'static> {
    let colour = match leg.state {
        LegState::Carrying => Color::Green,
        LegState::Dialing | LegState::WaitingToRedial => Color::Yellow,
        LegState::Refused => Color::Red,
        LegState::Ready | LegState::Off => Color::DarkGray,
    };
    let name = Cell::from(format!("  {}", leg.destination));
    let state = Cell::from(word(leg.state)).style(looks.style(colour));
    if matches!(leg.state, LegState::Ready | LegState::Off) && leg.sent_frame_count == 0 {
        return TableRow::new([name, state]);
    }
    let behind = format!("{:.1} s behind", leg.behind_ms as f64 / 1000.0);
    let lost = if leg.dropped_frame_count > 0 { format!(", {} lost", leg.dropped_frame_count) } else { String::new() };
    let redials = if leg.redial_count > 0 { format!(", {} redials", leg.redial_count) } else { String::new() };
    let trace: Vec<f64> = leg.trace.iter().rev().take(TRACE * 5).rev().map(|bits| *bits as f64).collect();
    TableRow::new([
        name,
        state,
        Cell::from(bitrate(leg.bitrate_bps)),
        Cell::from(sparkline_of(&trace, 5)),
        Cell::from(format!("{behind}{lost}{redials}")),
    ])
}

/// The louder channel as a bar, and the loudness in LUFS.
fn level(heard: &HeardSound) -> String {
    let loudest = heard.channels.iter().filter_map(|channel| channel.rms).fold(f64::NEG_INFINITY, f64::max);
    let share = ((loudest + 60.0) / 60.0).clamp(0.0, 1.0);
    let full = (1..=BAR).filter(|step| share * BAR as f64 >= *step as f64 - 0.5).count();
    let loudness = heard.short_term.map_or("silent".to_owned(), |loudness| format!("{loudness:.0}"));
    format!("{}{} {loudness}", "|".repeat(full), ".".repeat(BAR - full))
}

fn findings(board: &Board, looks: Looks) -> Vec<Line<'static>> {
    let told = findings_of(board, None).into_iter().filter(|found| !found.finding.is_muted);
    let lines = told.map(|found| {
        let (colour, sign) = match found.finding.severity {
            Severity::Alarm => (Color::Red, "!!"),
            Severity::Warning => (Color::Yellow, "! "),
            Severity::Note => (Color::DarkGray, "  "),
        };
        let of = found.channel.unwrap_or_else(|| "the house".to_owned());
        Line::styled(clean_line(&format!("{sign} {of}: {}", found.finding.cause)), looks.style(colour))
    });
    lines.collect()
}

#[cfg(test)]
mod tests {
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;
    use ratatui::crossterm::event::KeyCode;
    use serde_json::{Value, json};

    use super::super::asker::{Deed, News};
    use super::*;

    fn leg(name: &str, state: &str) -> Value {
        json!({"destination": name, "state": state, "state_for_ms": 65_000, "reason": null, "note": null,
            "next_dial_in_ms": null, "bitrate_bps": 1_740_000.0, "behind_ms": 30_020, "delay_ms": 30_000,
            "sent_frame_count": 900, "sent_bytes": 1, "dropped_frame_count": 7, "dropped_ms": 200, "redial_count": 0,
            "trace": [1_000_000, 2_000_000], "line": null})
    }

    fn board(legs: usize) -> Box<Board> {
        let arrival = json!({"rate_1s_bps": 1.8e6, "rate_10s_bps": 1.8e6, "jitter_ms": 1.0, "longest_pause_ms": 0,
            "largest_burst_ms": 0, "clock_ppm": null});
        let heard = json!({"channels": [{"rms": -20.0, "peak": -9.0}], "true_peak": -8.8, "momentary": -19.0,
            "short_term": -19.6, "last_minute": -19.6, "integrated": -19.6, "range": 2.0, "correlation": 0.5});
        let sound = json!({"codec": "AAC", "sample_rate_hz": 48_000, "channel_count": 2, "language": null, "name": null,
            "bitrate_bps": 128_000.0, "heard": heard, "not_heard": null, "drift_ms_per_minute": null});
        let session = json!({"id": 1, "started_at": "2026-05-17T14:00:00Z", "state_for_ms": 65_000, "hold_left_ms": null,
            "loss_count": 0, "publisher_address": "", "key_label": "van", "waiting": [], "is_slate_on": false,
            "is_rehearsal": false, "encoder": "", "video": null, "audio": [sound], "bitrate_bps": 1.8e6,
            "audio_bitrate_bps": 0.0, "arrival": arrival, "line": null, "unusable_count": 0, "clock_fault_count": 0,
            "recorder": "recording", "recorder_reason": null, "take": null});
        let finding = json!({"code": "silence", "severity": "warning", "since": null, "cause": "the sound is silent",
            "advice": "look", "track": 1, "destination": null, "destinations": [], "is_muted": false});
        let viewers = waverant_model::ViewerCounts::default();
        let legs: Vec<Value> = (0..legs).map(|number| leg(&format!("leg-{number}"), "carrying")).collect();
        let on_air = json!({"name": "finish-line", "title": "Finish line", "state": "on air", "viewers": viewers,
            "publishing": null, "session": session, "legs": legs, "findings": [finding]});
        let off_air = json!({"name": "boathouse", "title": "Boathouse", "state": "off air", "viewers": viewers,
            "publishing": null, "session": null, "legs": [leg("plovio", "off")], "findings": []});
        let board = json!({"at": "2026-05-17T14:03:04Z", "channels": [on_air, off_air], "refused_counts": [],
            "disk": null, "uplink": null, "host": null, "findings": []});
        Box::new(serde_json::from_value(board).unwrap())
    }

    fn drawn(scene: &mut Scene) -> Vec<String> {
        let mut terminal = Terminal::new(TestBackend::new(80, 24)).unwrap();
        terminal.draw(|frame| draw(frame, scene, Looks { has_colours: false })).unwrap();
        let buffer = terminal.backend().buffer();
        let line =
            |row: u16| (0..80).map(|column| buffer[(column, row)].symbol()).collect::<String>().trim_end().to_owned();
        (0..24).map(line).collect()
    }

    #[test]
    fn a_show_fits_into_eighty_columns_without_colours() {
        let mut scene = Scene::default();
        assert_eq!(drawn(&mut scene)[0], "asking the service …");
        scene.take(News::Board(Ok(board(2))));
        let lines = drawn(&mut scene);
        assert_eq!(lines[0], "1 on air   2 of 2 legs carry   1 findings   14:03:04 UTC");
        assert!(lines[1].starts_with("finish-line      on air 1:05 min  1.80 Mbit/s"), "{}", lines[1]);
        assert!(lines[1].ends_with("|||||... -20 rec"), "{}", lines[1]);
        assert!(lines[2].starts_with("  leg-0          carrying         1.74 Mbit/s"), "{}", lines[2]);
        assert!(lines[2].contains("30.0 s behind"), "{}", lines[2]);
        assert!(lines[4].starts_with("boathouse        off air"), "{}", lines[4]);
        assert_eq!(lines[21], "!  finish-line: the sound is silent");
        assert!(lines[23].starts_with("up/down choose"), "{}", lines[23]);
    }

    #[test]
    fn keys_choose_and_do() {
        let mut scene = Scene::default();
        scene.take(News::Board(Ok(board(2))));
        assert_eq!(scene.press(KeyCode::Char(' ')), None, "a channel is no leg");
        scene.press(KeyCode::Down);
        let off = Deed::Switch { channel: "finish-line".to_owned(), destination: "leg-0".to_owned(), is_on: false };
        assert_eq!(scene.press(KeyCode::Char(' ')), Some(off));
        assert_eq!(scene.press(KeyCode::Char('m')), Some(Deed::Mark { channel: "finish-line".to_owned() }));
        assert_eq!(
            scene.press(KeyCode::Char('r')),
            Some(Deed::Record { channel: "finish-line".to_owned(), begins: false })
        );
        scene.press(KeyCode::End);
        assert_eq!(scene.press(KeyCode::Char('r')), None, "nothing is on air there");
        let on = Deed::Switch { channel: "boathouse".to_owned(), destination: "plovio".to_owned(), is_on: true };
        assert_eq!(scene.press(KeyCode::Char(' ')), Some(on));
    }

    #[test]
    fn the_chosen_row_is_seen_among_many() {
        let mut scene = Scene::default();
        scene.take(News::Board(Ok(board(500))));
        scene.press(KeyCode::End);
        let lines = drawn(&mut scene);
        assert!(lines.iter().any(|line| line.starts_with("  plovio")), "{lines:?}");
        // The list is shorter than it was: another row is chosen.
        scene.take(News::Board(Ok(board(1))));
        assert_eq!(scene.chosen(), 3);
        let failure = crate::error::Failure::Usage("the line is cut".to_owned());
        scene.take(News::Board(Err(Box::new(failure))));
        assert!(drawn(&mut scene)[22].starts_with("what you see is old: the line is cut"));
    }
}
