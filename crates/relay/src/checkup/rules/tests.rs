use std::time::Duration;

use rstest::rstest;
use waverant_media::testing::{aac, h264, h264_and_aac, tracks};
use waverant_media::{MediaTime, Track, TrackId, Tracks};

use super::*;
use crate::checkup::meters::{ArrivalFigures, CadenceFigures, GroupFigures, PaceFigures, TrackFigures};
use crate::checkup::{Condition, FindingCode, Severity, StreamFigures};
use crate::leg::{Breach, LegPhase, Limit};

fn track(id: TrackId) -> TrackFigures {
    TrackFigures { id, rate_1s_bps: 1e6, rate_10s_bps: 1e6, idle: Duration::ZERO, pace: PaceFigures::default() }
}

/// The figures of a stream that is as it should be.
fn good() -> StreamFigures {
    StreamFigures {
        measured_for: Duration::from_secs(100),
        idle: Some(Duration::from_millis(20)),
        rate_1s_bps: 2.2e6,
        rate_10s_bps: 2e6,
        fallen_from_bps: None,
        cadence: Some(CadenceFigures { rate: 30.0, usual_rate: 30.0, spread_ms: 0.5, ..CadenceFigures::default() }),
        groups: GroupFigures {
            spacing: Some(MediaTime::from_millis(2000)),
            open_length: Some(MediaTime::from_millis(500)),
            ..GroupFigures::default()
        },
        arrival: ArrivalFigures { jitter_ms: 2.0, ..ArrivalFigures::default() },
        tracks: vec![track(TrackId::VIDEO), track(TrackId::AUDIO)],
    }
}

fn codes(found: &[Condition]) -> Vec<(FindingCode, bool)> {
    found.iter().map(|condition| (condition.key.code, condition.is_full)).collect()
}

fn judge(change: impl FnOnce(&mut StreamFigures)) -> Vec<Condition> {
    let mut figures = good();
    change(&mut figures);
    judge_stream(&figures, &h264_and_aac(), &IntakeFacts::default())
}

#[test]
fn a_good_stream_has_no_findings() {
    assert_eq!(judge(|_| {}), []);
}

type F = StreamFigures;
type Change = fn(&mut F);

#[rstest]
#[case::rare(|f: &mut F| f.groups.spacing = Some(MediaTime::from_millis(10_000)), FindingCode::KeyframesRare, true, "10.0 s apart")]
#[case::none_comes(|f: &mut F| f.groups.open_length = Some(MediaTime::from_millis(9_000)), FindingCode::KeyframesRare, true, "9.0 s apart")]
#[case::open(|f: &mut F| f.groups.is_open = true, FindingCode::GroupsOpen, true, "open")]
#[case::varies(|f: &mut F| f.cadence.as_mut().unwrap().uneven_share = 0.3, FindingCode::FrameRateVaries, true, "30 %")]
#[case::varies_less(|f: &mut F| f.cadence.as_mut().unwrap().uneven_share = 0.07, FindingCode::FrameRateVaries, false, "7 %")]
#[case::skips(|f: &mut F| f.cadence.as_mut().unwrap().missing_share = 0.1, FindingCode::PicturesSkipped, true, "leaves out 10 %")]
#[case::fallen(|f: &mut F| f.fallen_from_bps = Some(6e6), FindingCode::BitrateFallen, true, "from 6.0 to 2.0 Mbit/s")]
#[case::bursts(|f: &mut F| f.arrival.longest_pause = Duration::from_millis(1500), FindingCode::ComesInBursts, true, "nothing for 1.5 s")]
#[case::fewer_bursts(|f: &mut F| f.arrival.longest_pause = Duration::from_millis(700), FindingCode::ComesInBursts, false, "0.7 s")]
#[case::fast(|f: &mut F| f.arrival.clock_ppm = Some(200.0), FindingCode::ClockDrifts, true, "200 millionths fast: 0.7 s in an hour")]
#[case::slow(|f: &mut F| f.arrival.clock_ppm = Some(-70.0), FindingCode::ClockDrifts, false, "70 millionths slow")]
#[case::samples(|f: &mut F| f.tracks[1].pace.sample_drift = Some(40.0), FindingCode::SoundDrifts, true, "the sound has fewer samples than its times ask for: it drifts 40 ms a minute")]
#[case::later(|f: &mut F| f.tracks[1].pace.picture_drift = Some(40.0), FindingCode::SoundDrifts, true, "later and later")]
#[case::no_picture(|f: &mut F| f.tracks[0].idle = Duration::from_secs(4), FindingCode::PictureStopped, true, "no picture has come for 4 s")]
#[case::no_sound(|f: &mut F| f.tracks[1].idle = Duration::from_secs(6), FindingCode::SoundStopped, true, "of the sound for 6 s")]
fn each_fault_is_found_alone(
    #[case] change: Change,
    #[case] code: FindingCode,
    #[case] is_full: bool,
    #[case] part: &str,
) {
    let found = judge(change);
    assert_eq!(codes(&found), [(code, is_full)]);
    assert!(found[0].cause.contains(part), "{}", found[0].cause);
    assert!(!found[0].advice.is_empty());
}

#[test]
fn what_is_missing_is_told() {
    let only = |id, codec| judge_stream(&good(), &tracks([(id, codec)]), &IntakeFacts::default());
    assert_eq!(codes(&only(TrackId::VIDEO, h264())), [(FindingCode::SoundMissing, true)]);
    assert_eq!(codes(&only(TrackId::AUDIO, aac())), [(FindingCode::PictureMissing, true)]);
    assert_eq!(judge_stream(&good(), &Tracks::new(), &IntakeFacts::default()), [], "nothing is known yet");
}

#[test]
fn sounds_are_told_by_place_and_name() {
    let mut all = tracks([(TrackId::VIDEO, h264()), (TrackId::AUDIO, aac())]);
    all.set(Track { name: Some("commentary".into()), ..Track::new(TrackId(3), aac()) });
    let mut figures = good();
    figures.tracks.push(TrackFigures { idle: Duration::from_secs(9), ..track(TrackId(3)) });
    let found = judge_stream(&figures, &all, &IntakeFacts::default());
    assert_eq!(found[0].cause, "nothing has come of sound 2 (commentary) for 9 s");
    assert_eq!(found[0].key.track, Some(TrackId(3)));
}

#[test]
fn while_nothing_comes_only_the_intake_is_judged() {
    let mut figures = StreamFigures { idle: Some(Duration::from_secs(5)), fallen_from_bps: Some(6e6), ..good() };
    figures.arrival.longest_pause = Duration::from_secs(5);
    let intake = IntakeFacts { problem: Some("MPEG-2 video is not carried"), clock_jumps: 1, ..IntakeFacts::default() };
    let found = judge_stream(&figures, &h264_and_aac(), &intake);
    assert_eq!(codes(&found), [(FindingCode::NotCarried, true), (FindingCode::ClockJumps, true)]);
    let damage = IntakeFacts { problem: Some("packets are missing"), is_damage: true, ..IntakeFacts::default() };
    assert_eq!(codes(&judge_stream(&good(), &h264_and_aac(), &damage)), [(FindingCode::Damaged, true)]);
}

fn facts() -> LegFacts<'static> {
    LegFacts {
        destination: "tindrel",
        phase: LegPhase::Carrying,
        reason: None,
        redials: 0,
        behind: Duration::from_millis(80),
        dropped: 0,
        breaches: &[],
        is_held_back: false,
        fitting_track: None,
        line: None,
    }
}

fn leg(change: impl FnOnce(&mut LegFacts<'_>)) -> Vec<Condition> {
    let mut facts = facts();
    change(&mut facts);
    judge_leg(&facts)
}

type L<'a> = LegFacts<'a>;
type LegChange = fn(&mut L<'_>);

#[rstest]
#[case::good(|_: &mut L<'_>| {}, None)]
#[case::off(|f: &mut L<'_>| f.phase = LegPhase::Off, None)]
#[case::refused(|f: &mut L<'_>| (f.phase, f.reason) = (LegPhase::Refused, Some("no such key")), Some((FindingCode::LegRefused, true, "tindrel said no: no such key")))]
#[case::down(|f: &mut L<'_>| f.phase = LegPhase::WaitingToRedial, Some((FindingCode::LegDown, true, "tindrel is not reached")))]
#[case::flaps(|f: &mut L<'_>| f.redials = 4, Some((FindingCode::LegFlaps, true, "4 times in five minutes")))]
#[case::flapped(|f: &mut L<'_>| f.redials = 2, Some((FindingCode::LegFlaps, false, "2 times")))]
#[case::drops(|f: &mut L<'_>| f.dropped = 50, Some((FindingCode::LegSlow, true, "missed 50 pictures")))]
#[case::behind(|f: &mut L<'_>| f.behind = Duration::from_secs(6), Some((FindingCode::LegSlow, true, "6.0 s behind the show")))]
#[case::less_behind(|f: &mut L<'_>| f.behind = Duration::from_secs(3), Some((FindingCode::LegSlow, false, "3.0 s behind")))]
fn legs_are_judged(#[case] change: LegChange, #[case] expected: Option<(FindingCode, bool, &str)>) {
    let found = leg(change);
    assert_eq!(codes(&found), expected.iter().map(|(code, is_full, _)| (*code, *is_full)).collect::<Vec<_>>());
    for (condition, (.., part)) in found.iter().zip(expected) {
        assert!(condition.cause.contains(part), "{}", condition.cause);
        assert_eq!(condition.key.destination.as_deref(), Some("tindrel"));
    }
}

#[test]
fn a_limit_is_an_alarm_where_it_holds_the_show_back() {
    let breach = Breach {
        limit: Limit::Size,
        found: "the picture is large".to_owned(),
        takes: "takes small ones".to_owned(),
        advice: "make it smaller".to_owned(),
    };
    let found = |is_held_back| {
        let breaches = [breach.clone()];
        let facts = LegFacts { breaches: &breaches, is_held_back, ..facts() };
        judge_leg(&facts).remove(0)
    };
    assert_eq!((found(false).severity, found(true).severity), (Severity::Warning, Severity::Alarm));
    assert_eq!(
        (found(true).key.code, found(true).cause.as_str()),
        (FindingCode::LimitSize, "the picture is large and tindrel takes small ones")
    );
}
