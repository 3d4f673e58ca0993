use clap::Subcommand;
use waverant_model::{
    FindingReport, LegOutcome, LegReport, Listed, Session as Kept, SessionDetail, ShowReport, SoundReport, SourceReport,
};

use super::{dash, word};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, duration, moment, size};

#[derive(Subcommand, Debug)]
pub(super) enum Session {
    /// List sessions, the newest first.
    List {
        /// Only of this channel.
        #[arg(long)]
        channel: Option<String>,
        /// At most so many.
        #[arg(long, default_value_t = 20)]
        limit: u32,
        /// Only sessions before this one.
        #[arg(long)]
        before: Option<u64>,
    },
    /// Show a session with its legs and takes.
    Show {
        /// The session's number.
        session: u64,
    },
    /// Print the report of a show: what each destination got, and what happened.
    Report {
        /// The session's number.
        session: u64,
    },
}

impl Session {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List { channel, limit, before } => {
                let mut path = format!("/sessions?limit={limit}");
                if let Some(channel) = channel {
                    path.push_str(&format!("&channel={}", piece(&channel)));
                }
                if let Some(before) = before {
                    path.push_str(&format!("&before={before}"));
                }
                let sessions: Listed<Kept> = client.get(&path)?;
                Ok(report.rows(&sessions, &sessions.items, &columns(), "No sessions yet.")?)
            }
            Self::Show { session } => show(&client.get(&format!("/sessions/{session}"))?, report),
            Self::Report { session } => print_report(&client.get(&format!("/sessions/{session}/report"))?, report),
        }
    }
}

fn show(detail: &SessionDetail, report: &mut Report<'_>) -> Result<(), Failure> {
    report.rows(detail, std::slice::from_ref(&detail.session), &columns(), "")?;
    if report.json {
        return Ok(());
    }
    if !detail.legs.is_empty() {
        writeln!(report.out)?;
        report.table(&detail.legs, &leg_columns())?;
    }
    if !detail.takes.is_empty() {
        writeln!(report.out)?;
        report.table(&detail.takes, &super::take::columns())?;
    }
    Ok(())
}

/// Prints the report of a show as text, or as JSON.
pub(super) fn print_report(show: &ShowReport, report: &mut Report<'_>) -> Result<(), Failure> {
    if report.json {
        return Ok(report.value(show)?);
    }
    let SourceReport { stream, loss_count, unusable_count, clock_fault_count, findings } = &show.source;
    let length = duration(show.length_ms);
    writeln!(report.out, "{stream} for {length}; the encoder was lost {loss_count} times")?;
    for (count, what) in [(unusable_count, "messages could not be used"), (clock_fault_count, "faults of its clock")] {
        if *count > 0 {
            writeln!(report.out, "{count} {what}")?;
        }
    }
    for sound in &show.sounds {
        writeln!(report.out, "{}", told_of_sound(sound))?;
    }
    for finding in findings {
        writeln!(report.out, "finding: {finding}")?;
    }
    for finding in &show.findings {
        writeln!(report.out, "{}", told_of_finding(finding))?;
    }
    if show.more_finding_count > 0 {
        writeln!(report.out, "and {} findings more", show.more_finding_count)?;
    }
    writeln!(report.out)?;
    report.table(&show.legs, &report_columns())?;
    let told: Vec<String> = show.legs.iter().flat_map(told_of_leg).collect();
    let events = show.events.iter().map(|event| format!("{:>10}  {}", duration(event.at_ms), event.text));
    for lines in [told, events.collect()] {
        if !lines.is_empty() {
            writeln!(report.out)?;
        }
        for line in lines {
            writeln!(report.out, "{line}")?;
        }
    }
    Ok(())
}

fn told_of_sound(sound: &SoundReport) -> String {
    let name = sound.name.as_deref().map(|name| format!(" ({name})")).unwrap_or_default();
    let about = format!("sound {} {}{name}", sound.track, sound.codec);
    if let Some(why) = &sound.not_heard {
        return format!("{about}: not listened to: {why}");
    }
    let told = |value: Option<f64>| value.map_or_else(|| "-".to_owned(), |value| format!("{value:.1}"));
    let (loudness, range, peak) = (told(sound.loudness), told(sound.range), told(sound.true_peak));
    format!("{about}: {loudness} LUFS, range {range} LU, true peak {peak} dBTP")
}

fn told_of_finding(finding: &FindingReport) -> String {
    let FindingReport { severity, at_ms, until_ms, cause, advice, destinations, .. } = finding;
    let until = until_ms.map_or_else(|| "to the end".to_owned(), |until| format!("to {}", duration(until)));
    let reach = if destinations.is_empty() { String::new() } else { format!(" [{}]", destinations.join(", ")) };
    format!("{} from {} {until}: {cause}{reach}: {advice}", word(*severity), duration(*at_ms))
}

/// Gaps, limits and notes of a leg, a line each.
fn told_of_leg(leg: &LegReport) -> Vec<String> {
    let name = &leg.destination;
    let gaps = leg.gaps.iter().map(|gap| {
        let (at, length) = (duration(gap.at_ms), duration(gap.length_ms));
        format!("{name}: nothing for {length} from {at} on: {}", gap.reason)
    });
    let limits = leg.breaches.iter().chain(&leg.note).map(|told| format!("{name}: {told}"));
    gaps.chain(limits).collect()
}

fn report_columns() -> [Column<LegReport>; 11] {
    [
        Column::text("destination", |row| row.destination.clone()),
        Column::number("began", |row| row.began_at_ms.map_or_else(|| "never".to_owned(), duration)),
        Column::number("carried", |row| duration(row.carried_ms)),
        Column::number("gaps", |row| row.gap_count.to_string()),
        Column::number("lost", |row| duration(row.lost_ms)),
        Column::number("frames", |row| row.sent_frame_count.to_string()),
        Column::number("sent", |row| size(row.sent_bytes)),
        Column::number("dropped", |row| dropped(row.dropped_frame_count, row.dropped_ms)),
        Column::number("redials", |row| row.redial_count.to_string()),
        Column::number("delay", |row| duration(row.delay_ms)),
        Column::number("most behind", |row| format!("{} ms", row.most_behind_ms)),
    ]
}

/// Pictures that were dropped, and how much of the show they were.
pub(super) fn dropped(frames: u64, millis: u64) -> String {
    if frames == 0 { "0".to_owned() } else { format!("{frames} ({})", duration(millis)) }
}

fn columns() -> [Column<Kept>; 7] {
    [
        Column::number("session", |row| row.id.to_string()),
        Column::text("channel", |row| row.channel.clone()),
        Column::text("began", |row| moment(row.started_at)),
        Column::text("ended", |row| row.ended_at.map_or_else(|| "on air".to_owned(), moment)),
        Column::text("key", |row| if row.is_rehearsal { "(rehearsal)".to_owned() } else { row.key_label.clone() }),
        Column::number("losses", |row| row.loss_count.to_string()),
        Column::text("why it ended", |row| dash(row.end_reason.as_deref())),
    ]
}

fn leg_columns() -> [Column<LegOutcome>; 6] {
    [
        Column::text("destination", |row| row.destination.clone()),
        Column::number("frames", |row| row.sent_frame_count.to_string()),
        Column::number("sent", |row| size(row.sent_bytes)),
        Column::number("dropped", |row| dropped(row.dropped_frame_count, row.dropped_ms)),
        Column::number("redials", |row| row.redial_count.to_string()),
        Column::text("last trouble", |row| dash(row.reason.as_deref())),
    ]
}
