use std::time::Duration;

use waverant_media::{MediaTime, TICKS_PER_SECOND, Track, TrackKind, Tracks};

use super::thresholds::{CLOCK_PPM, DRIFT, KEYFRAMES_RARE, PAUSE, SKIPPED, STOPPED, UNEVEN};
use crate::checkup::meters::{CadenceFigures, PaceFigures};
use crate::checkup::{Condition, FindingCode, StreamFigures};

/// What arrives at all has arrived within this time. A stream that comes in bursts has pauses.
const ALIVE: Duration = STOPPED;

/// What the intake of a stream tells.
#[derive(Clone, Debug, Default)]
pub struct IntakeFacts<'a> {
    /// The newest thing that could not be used, in words.
    pub problem: Option<&'a str>,
    /// True if that was damaged, and is over; false if it is of a kind that is not carried.
    pub is_damage: bool,
    /// Times when the encoder's clock jumped in the last minute.
    pub clock_jumps: u64,
    /// Times when it ran back in the last minute.
    pub clock_backs: u64,
}

/// Judges a stream that comes in, whatever becomes of it.
pub fn judge_stream(figures: &StreamFigures, tracks: &Tracks, intake: &IntakeFacts<'_>) -> Vec<Condition> {
    let mut found = Vec::new();
    judge_intake(intake, &mut found);
    if figures.idle.is_none_or(|idle| idle >= ALIVE) {
        // Nothing comes: that is told by the session's state, and what is measured is of the past.
        return found;
    }
    judge_presence(figures, tracks, &mut found);
    found.extend(tracks.first(TrackKind::Video).and_then(sampling));
    judge_pictures(figures, &mut found);
    judge_arrival(figures, &mut found);
    for track in tracks.iter().filter(|track| track.codec.kind() == TrackKind::Audio) {
        let pace = figures.track(track.id).map(|figures| figures.pace);
        found.extend(pace.and_then(|pace| drift(track, tracks, pace)));
    }
    found
}

/// Browsers and platforms decode H.264 as cameras of people make it, and little else.
fn sampling(video: &Track) -> Option<Condition> {
    let sampling = video.codec.sampling().filter(|_| video.codec.name() == "H.264")?;
    let is_usual = sampling.chroma_format <= 1 && sampling.bit_depth == 8;
    let cause = format!("the pictures are H.264 with {sampling}, which few players and platforms take");
    let advice = "set the encoder to 4:2:0 with 8 bits (profile High or Main), unless all destinations take more";
    (!is_usual).then(|| Condition::new(FindingCode::SamplingRare, cause, advice).of_track(video.id))
}

fn judge_intake(intake: &IntakeFacts<'_>, found: &mut Vec<Condition>) {
    if let Some(problem) = intake.problem {
        let condition = match intake.is_damage {
            true => Condition::new(
                FindingCode::Damaged,
                problem,
                "if it comes again and again, the line or the encoder is at fault: try another line or a restart of \
                 the encoder",
            ),
            false => Condition::new(FindingCode::NotCarried, problem, "set the encoder to a codec that is carried"),
        };
        found.push(condition);
    }
    let (jumps, backs) = (intake.clock_jumps, intake.clock_backs);
    if jumps + backs > 0 {
        let cause = format!(
            "the encoder's clock jumped {jumps} times and ran back {backs} times in the last minute; the times sent \
             on kept rising"
        );
        let advice = "restart the encoder; if it stays, leave out what mixes sources in it, such as playlists";
        found.push(Condition::new(FindingCode::ClockJumps, cause, advice));
    }
}

fn judge_presence(figures: &StreamFigures, tracks: &Tracks, found: &mut Vec<Condition>) {
    if tracks.is_empty() {
        return;
    }
    if !tracks.has(TrackKind::Audio) {
        let advice =
            "add a source of sound in the encoder; most platforms refuse a stream without, and silence will do";
        found.push(Condition::new(FindingCode::SoundMissing, "the stream has no track of sound", advice));
    }
    if !tracks.has(TrackKind::Video) {
        let advice = "add a source of pictures in the encoder; a still picture will do";
        found.push(Condition::new(FindingCode::PictureMissing, "the stream has no pictures", advice));
    }
    for track in tracks.iter() {
        let Some(idle) = figures.track(track.id).map(|track| track.idle).filter(|idle| *idle >= STOPPED) else {
            continue;
        };
        let seconds = idle.as_secs();
        let condition = match track.codec.kind() {
            TrackKind::Video => Condition::new(
                FindingCode::PictureStopped,
                format!("no picture has come for {seconds} s, while other tracks go on"),
                "look at the encoder's camera or capture, and whether the machine is overloaded",
            ),
            TrackKind::Audio => Condition::new(
                FindingCode::SoundStopped,
                format!("nothing has come of {} for {seconds} s", sound_name(track, tracks)),
                "look at the encoder's source of sound; a sound card that was unplugged does this",
            ),
        };
        found.push(condition.of_track(track.id));
    }
}

fn judge_pictures(figures: &StreamFigures, found: &mut Vec<Condition>) {
    let groups = &figures.groups;
    let spacing = groups.spacing.max(groups.open_length).map_or(0.0, seconds);
    if let Some(is_full) = KEYFRAMES_RARE.reached(spacing) {
        let cause = format!("keyframes are {spacing:.1} s apart");
        let advice = "set the encoder's keyframe interval to 2 s; players and platforms begin at keyframes only";
        found.push(Condition::new(FindingCode::KeyframesRare, cause, advice).told_anew_if(is_full));
    }
    if groups.is_open {
        let cause = "groups of pictures are open: pictures behind a keyframe need the group before it";
        let advice = "set the encoder to closed groups; some platforms stutter at every keyframe otherwise";
        found.push(Condition::new(FindingCode::GroupsOpen, cause, advice));
    }
    if let Some(cadence) = &figures.cadence {
        judge_cadence(cadence, found);
    }
}

fn judge_cadence(cadence: &CadenceFigures, found: &mut Vec<Condition>) {
    if let Some(is_full) = UNEVEN.reached(cadence.uneven_share) {
        let cause = format!(
            "the frame rate varies: {:.0} % of pictures do not follow at the usual step, {:.1} a second in all",
            cadence.uneven_share * 100.0,
            cadence.rate
        );
        let advice = "set the encoder to a constant frame rate";
        found.push(Condition::new(FindingCode::FrameRateVaries, cause, advice).told_anew_if(is_full));
    } else if let Some(is_full) = SKIPPED.reached(cadence.missing_share) {
        let cause = format!(
            "the encoder leaves out {:.0} % of its pictures: {:.1} come a second, and it is set to {:.1}",
            cadence.missing_share * 100.0,
            cadence.rate,
            cadence.usual_rate
        );
        let advice = "the encoder's machine is overloaded, or its line too narrow: choose a lighter preset, a smaller \
                      picture or a lower bitrate";
        found.push(Condition::new(FindingCode::PicturesSkipped, cause, advice).told_anew_if(is_full));
    }
}

fn judge_arrival(figures: &StreamFigures, found: &mut Vec<Condition>) {
    if let Some(before) = figures.fallen_from_bps {
        let (now, before) = (figures.rate_10s_bps / 1e6, before / 1e6);
        let cause = format!("the bitrate fell from {before:.1} to {now:.1} Mbit/s");
        let advice = "unless the picture stands still, the encoder has turned down for a narrow line: look at its \
                      upload, and at who else uses it";
        found.push(Condition::new(FindingCode::BitrateFallen, cause, advice));
    }
    let arrival = &figures.arrival;
    if let Some(is_full) = PAUSE.reached(arrival.longest_pause.as_secs_f64()) {
        let cause = format!(
            "the stream comes in bursts: nothing for {:.1} s, then {:.1} s of it at once",
            arrival.longest_pause.as_secs_f64(),
            arrival.largest_burst.as_secs_f64()
        );
        let advice = "the line of the encoder stands still again and again: use a cable, another line, or SRT with a \
                      longer latency";
        found.push(Condition::new(FindingCode::ComesInBursts, cause, advice).told_anew_if(is_full));
    }
    if let Some((ppm, is_full)) = arrival.clock_ppm.and_then(|ppm| Some((ppm, CLOCK_PPM.reached(ppm.abs())?))) {
        let way = if ppm > 0.0 { "fast" } else { "slow" };
        let cause = format!(
            "the encoder's clock runs {:.0} millionths {way}: {:.1} s in an hour",
            ppm.abs(),
            ppm.abs() * 3600.0 / 1e6
        );
        let advice = "nothing for a short show; in a long one players run dry or fall behind: have the encoder follow \
                      its machine's clock, not its sound card's";
        found.push(Condition::new(FindingCode::ClockDrifts, cause, advice).told_anew_if(is_full));
    }
}

fn drift(track: &Track, tracks: &Tracks, pace: PaceFigures) -> Option<Condition> {
    let name = sound_name(track, tracks);
    let beside = |drift: Option<f64>| drift.and_then(|drift| Some((drift, DRIFT.reached(drift.abs())?)));
    let (cause, is_full) = match (beside(pace.sample_drift), beside(pace.picture_drift)) {
        (Some((drift, is_full)), _) => {
            let way = if drift > 0.0 { "fewer" } else { "more" };
            let cause =
                format!("{name} has {way} samples than its times ask for: it drifts {:.0} ms a minute", drift.abs());
            (cause, is_full)
        }
        (None, Some((drift, is_full))) => {
            let way = if drift > 0.0 { "later" } else { "earlier" };
            let cause = format!("{name} comes {way} and {way} than the pictures: {:.0} ms a minute", drift.abs());
            (cause, is_full)
        }
        (None, None) => return None,
    };
    let advice = "set the sound card and the encoder to the same sample rate (48 kHz), and choose one device as the \
                  clock; restarting the encoder sets it right for a while";
    Some(Condition::new(FindingCode::SoundDrifts, cause, advice).of_track(track.id).told_anew_if(is_full))
}

/// What people call a track of sound: "the sound" if it is the only one.
pub(super) fn sound_name(track: &Track, tracks: &Tracks) -> String {
    let sounds: Vec<&Track> = tracks.iter().filter(|track| track.codec.kind() == TrackKind::Audio).collect();
    let place = sounds.iter().position(|sound| sound.id == track.id).unwrap_or(0) + 1;
    match (&track.name, sounds.len()) {
        (_, 0 | 1) => "the sound".to_owned(),
        (Some(name), _) => format!("sound {place} ({name})"),
        (None, _) => format!("sound {place}"),
    }
}

fn seconds(time: MediaTime) -> f64 {
    time.ticks() as f64 / TICKS_PER_SECOND as f64
}
