//! Whole shows through the packager, with every version of every playlist read by a strict reader, and what was
//! fetched compared with what was sent.

use std::collections::BTreeMap;
use std::sync::Arc;

use bytes::Bytes;
use proptest::prelude::*;
use rstest::rstest;
use time::macros::datetime;
use waverant_container::{Mp4File, PieceName, PlaylistCheck};
use waverant_media::testing::{aac, h264, opus, tracks};
use waverant_media::{MediaTime, Packet, TICKS_PER_SECOND, TrackId, TrackKind, Tracks};

use super::{Found, Packager, PackagingRules, WallClock};
use crate::hub::{Entry, Origin};

pub(super) const MINUTE: i64 = 60 * TICKS_PER_SECOND;

pub(super) fn clock() -> WallClock {
    WallClock { at: MediaTime::ZERO, date: datetime!(2026-06-20 14:00:00 UTC) }
}

fn entry(tracks: &Arc<Tracks>, track: TrackId, dts: i64, pts: i64, keyframe: bool) -> Entry {
    let (dts, pts) = (MediaTime::from_ticks(dts), MediaTime::from_ticks(pts));
    // A slice of its own for each, so that none can be taken for another.
    // To a decoder of Opus the first byte says 20 ms.
    let start: &[u8] = if track.kind() == TrackKind::Video { &[0, 0, 0, 13, 0x41] } else { &[8] };
    let payload = [start, &dts.ticks().to_be_bytes(), &[track.0; 4]].concat();
    let kind = track.kind();
    let random_access = keyframe || kind == TrackKind::Audio;
    let packet = Packet { track, kind, dts, pts, random_access, payload: Bytes::from(payload) };
    Entry { packet, tracks: tracks.clone(), origin: Origin::Show, video_frames_before: 0 }
}

/// A show of `ticks`, with pictures of `picture` ticks, a keyframe every `group` pictures, and a sound of AAC.
pub(super) fn show(tracks: &Arc<Tracks>, ticks: i64, picture: i64, group: i64) -> Vec<Entry> {
    let mut all = Vec::new();
    for track in tracks.iter() {
        match track.codec.sound() {
            None => all.extend((0..ticks / picture).map(|n| {
                let (dts, offset) = (n * picture, [2, 4, 1][usize::try_from(n % 3).unwrap()] * picture);
                entry(tracks, track.id, dts, dts + offset, n % group == 0)
            })),
            Some(sound) => {
                let (rate, frame) = (i64::from(sound.sample_rate), i64::from(sound.samples_per_frame));
                let at = |n: i64| n * frame * TICKS_PER_SECOND / rate;
                // As RTMP tells it, in milliseconds.
                let rounded = |n: i64| at(n) / 90 * 90;
                let frames = (0..).take_while(|n| at(*n) < ticks);
                all.extend(frames.map(|n| entry(tracks, track.id, rounded(n), rounded(n), true)));
            }
        }
    }
    all.sort_by_key(|entry| entry.packet.dts);
    all
}

/// Reads all that a packager tells, as it tells it.
#[derive(Default)]
struct Audience {
    checks: BTreeMap<TrackId, PlaylistCheck>,
    delta_checks: BTreeMap<TrackId, PlaylistCheck>,
    /// What was fetched: headers and whole segments, by track and number.
    fetched: BTreeMap<(TrackId, u64), (u64, Vec<u8>)>,
    headers: BTreeMap<(TrackId, u64), Bytes>,
    most_bytes: u64,
    seen: u64,
}

impl Audience {
    fn look(&mut self, packager: &Packager) {
        self.most_bytes = self.most_bytes.max(packager.held_bytes());
        // A long show is looked at by somebody who comes less often, and misses nothing.
        let often = if self.seen < 1_000 || packager.has_ended() { 1 } else { 40 };
        if packager.version() < self.seen + often {
            return;
        }
        self.seen = packager.version();
        for id in packager.tracks.keys().copied().collect::<Vec<_>>() {
            let Some(whole) = packager.playlist(id, false) else { continue };
            let read = self.checks.entry(id).or_default().read(&whole);
            read.unwrap_or_else(|fault| panic!("{fault} in\n{whole}"));
            let known = self.delta_checks.entry(id).or_default();
            let delta = packager.playlist(id, known.segment_count() > 0).unwrap();
            known.read(&delta).unwrap_or_else(|fault| panic!("{fault} in the delta\n{delta}\nof\n{whole}"));
            self.fetch(packager, id);
        }
    }

    fn fetch(&mut self, packager: &Packager, id: TrackId) {
        let track = &packager.tracks[&id];
        for segment in track.shelf.whole() {
            if self.fetched.contains_key(&(id, segment.number)) {
                continue;
            }
            let Found::Piece(piece) = packager.find(id, PieceName::Segment(segment.number)) else {
                panic!("no segment")
            };
            let bytes: Vec<u8> = piece.segments().flatten().copied().collect();
            assert_eq!(piece.size_bytes(), bytes.len() as u64);
            let parts = (0..segment.parts.len()).flat_map(|part| {
                let name = PieceName::Part(segment.number, u32::try_from(part).unwrap());
                let Found::Piece(part) = packager.find(id, name) else { panic!("no part {name}") };
                part.segments().flatten().copied().collect::<Vec<u8>>()
            });
            assert!(parts.eq(bytes.iter().copied()), "a segment is its parts");
            self.fetched.insert((id, segment.number), (segment.header, bytes));
            let Found::Header(header) = packager.find(id, PieceName::Header(segment.header)) else {
                panic!("no header")
            };
            self.headers.insert((id, segment.header), header);
        }
    }

    /// The samples of a track as a player has them: times on the packets' timeline and payloads.
    fn samples(&self, packager: &Packager, id: TrackId) -> Vec<(MediaTime, MediaTime, Bytes)> {
        let origin = packager.plan.unwrap().origin;
        let mut samples = Vec::new();
        for ((_, _), (header, segment)) in self.fetched.range((id, 0)..=(id, u64::MAX)) {
            let file = [self.headers[&(id, *header)].as_ref(), segment].concat();
            let file = Mp4File::parse(&file.into()).unwrap();
            assert!(!file.truncated);
            let [track] = &file.tracks[..] else { panic!("one track") };
            samples.extend(track.samples.iter().map(|sample| (sample.dts, sample.pts, sample.payload.clone())));
        }
        for sample in &mut samples {
            (sample.0, sample.1) = (sample.0 + origin, sample.1 + origin);
        }
        samples
    }
}

/// Sends a show, and checks that each packet comes out once, in order, when it should.
fn run(rules: PackagingRules, entries: &[Entry]) -> (Packager, Audience) {
    let (mut packager, mut audience) = (Packager::new(rules, clock()), Audience::default());
    for entry in entries {
        packager.push(entry);
        audience.look(&packager);
    }
    packager.finish();
    audience.look(&packager);
    (packager, audience)
}

fn check_samples(packager: &Packager, audience: &Audience, entries: &[Entry], off: MediaTime) {
    for id in packager.tracks.keys() {
        let sent: Vec<&Packet> =
            entries.iter().map(|entry| &entry.packet).filter(|packet| packet.track == *id).collect();
        let got = audience.samples(packager, *id);
        assert_eq!(got.len(), sent.len(), "track {id:?}");
        for (packet, (dts, pts, payload)) in sent.iter().zip(&got) {
            assert_eq!(&packet.payload, payload);
            let far = |told: MediaTime, real: MediaTime| (told - real).max(real - told) > off;
            assert!(!far(*dts, packet.dts) && !far(*pts, packet.pts), "{packet:?} at {dts} and {pts}");
        }
    }
}

/// RTMP rounds to milliseconds, and the clock of sound to samples.
const ROUNDED: MediaTime = MediaTime::from_millis(21);

fn usual() -> Arc<Tracks> {
    Arc::new(tracks([(TrackId::VIDEO, h264()), (TrackId::AUDIO, aac()), (TrackId(3), opus())]))
}

#[rstest]
#[case::thirty_pictures(30 * MINUTE, 3000, 60, 2)]
#[case::the_rate_of_television(10 * MINUTE, 3003, 60, 2)]
#[case::fifty_pictures_and_short_groups(5 * MINUTE, 1800, 25, 2)]
#[case::keyframes_far_apart(10 * MINUTE, 3600, 250, 10)]
#[case::five_pictures_a_second(10 * MINUTE, 18_000, 10, 2)]
fn a_show_is_told_by_the_rules_and_comes_out_whole(
    #[case] length: i64,
    #[case] picture: i64,
    #[case] group: i64,
    #[case] target: u32,
) {
    let entries = show(&usual(), length, picture, group);
    let (packager, audience) = run(PackagingRules::default(), &entries);
    assert_eq!(packager.plan.unwrap().target_duration, target);
    check_samples(&packager, &audience, &entries, ROUNDED);
    for check in audience.checks.values() {
        #[expect(clippy::cast_precision_loss)]
        let expected = length as f64 / 90_000.0;
        assert!((check.told_seconds() - expected).abs() < 0.3, "{} s of {expected}", check.told_seconds());
    }
    let groups = audience.checks[&TrackId::VIDEO].segment_count() as i64;
    assert!((groups - length / (i64::from(target) * TICKS_PER_SECOND)).abs() < 12, "{groups} segments");
}

#[rstest]
#[case::sound_alone(TrackId::AUDIO)]
#[case::pictures_alone(TrackId::VIDEO)]
fn a_show_of_one_kind_is_told_by_the_rules(#[case] id: TrackId) {
    let codec = if id == TrackId::VIDEO { h264() } else { aac() };
    let entries = show(&Arc::new(tracks([(id, codec)])), 3 * MINUTE, 3000, 60);
    let (packager, audience) = run(PackagingRules::default(), &entries);
    check_samples(&packager, &audience, &entries, ROUNDED);
    assert!(audience.checks[&id].segment_count() > 80);
    let multivariant = packager.multivariant("a/").unwrap();
    assert!(!multivariant.contains("TYPE=AUDIO") && multivariant.ends_with(&format!("a/{}/index.m3u8\n", id.0)));
}

#[test]
fn a_playlist_without_parts_is_told_by_the_rules() {
    let entries = show(&usual(), 5 * MINUTE, 3600, 50);
    let rules = PackagingRules { part: None, segment: MediaTime::from_millis(4000), ..PackagingRules::default() };
    let (packager, audience) = run(rules, &entries);
    check_samples(&packager, &audience, &entries, ROUNDED);
    let playlist = packager.playlist(TrackId::VIDEO, true).unwrap();
    assert!(!playlist.contains("PART") && !playlist.contains("SKIP") && playlist.contains("TARGETDURATION:4\n"));
}

#[test]
fn a_return_a_hole_and_a_new_size_are_discontinuities_of_all_tracks() {
    let tracks = usual();
    let mut entries = show(&tracks, MINUTE, 3600, 50);
    let smaller = Arc::new({
        let mut changed = (*tracks).clone();
        let sets: [&[u8]; 2] = [&[0x67, 0x42, 0xc0, 0x1e, 0xda, 0x02, 0x80, 0xf6, 0x80], &[0x68, 0xce, 0x3c, 0x80]];
        let config = waverant_media::AvcDecoderConfig::from_parameter_sets(&sets[..1], &sets[1..]).unwrap();
        changed.set(waverant_media::Track::new(TrackId::VIDEO, waverant_media::CodecParameters::H264(config)));
        changed
    });
    for (at, entry) in entries.iter_mut().enumerate() {
        let dts = entry.packet.dts.ticks();
        // Nothing for five seconds at 20 s, and another size from 40 s on.
        if dts >= 20 * TICKS_PER_SECOND {
            entry.packet.dts = entry.packet.dts + MediaTime::from_millis(5000);
            entry.packet.pts = entry.packet.pts + MediaTime::from_millis(5000);
        }
        if dts >= 40 * TICKS_PER_SECOND {
            entry.tracks = smaller.clone();
        }
        let _ = at;
    }
    let returned = entries.iter().position(|entry| entry.packet.dts >= MediaTime::from_millis(55_000)).unwrap();
    entries[returned].origin = Origin::Returned;
    let (packager, audience) = run(PackagingRules::default(), &entries);
    check_samples(&packager, &audience, &entries, ROUNDED);
    for check in audience.checks.values() {
        assert_eq!(check.segments().map(|(_, _, discontinuity)| discontinuity).max(), Some(3));
    }
    let sizes: Vec<_> = audience.headers.range((TrackId::VIDEO, 0)..=(TrackId::VIDEO, u64::MAX)).collect();
    assert_eq!(sizes.len(), 2, "pictures have a new header, with their new size");
    assert_eq!(audience.headers.range((TrackId::AUDIO, 0)..=(TrackId::AUDIO, u64::MAX)).count(), 1);
}

#[test]
fn a_track_that_comes_later_is_told_and_one_that_goes_ends() {
    let (one, two) = (Arc::new(tracks([(TrackId::VIDEO, h264()), (TrackId::AUDIO, aac())])), usual());
    let mut entries = show(&two, MINUTE, 3600, 50);
    entries.retain_mut(|entry| {
        let is_there = (20..40).contains(&(entry.packet.dts.ticks() / TICKS_PER_SECOND));
        entry.tracks = if is_there { two.clone() } else { one.clone() };
        is_there || entry.packet.track != TrackId(3)
    });
    let (packager, audience) = run(PackagingRules::default(), &entries);
    check_samples(&packager, &audience, &entries, ROUNDED);
    assert!(packager.playlist(TrackId(3), false).unwrap().ends_with("#EXT-X-ENDLIST\n"));
}

#[test]
fn memory_is_bounded_whatever_the_bitrate() {
    let tracks = usual();
    let mut entries = show(&tracks, 2 * MINUTE, 3600, 50);
    for entry in entries.iter_mut().filter(|entry| entry.packet.kind == TrackKind::Video) {
        entry.packet.payload = vec![0x41; 100_000].into();
    }
    let rules = PackagingRules { max_bytes: 16 * 1024 * 1024, ..PackagingRules::default() };
    let (mut packager, mut most) = (Packager::new(rules, clock()), 0);
    for entry in &entries {
        packager.push(entry);
        most = most.max(packager.held_bytes());
    }
    assert!(most < rules.max_bytes + 2 * 50 * 100_000, "{most} bytes");
}

/// A clock that stands still, and parameters that change with every picture: neither makes a part, a segment, a
/// playlist or what waits for a plan endless.
#[rstest]
#[case::from_the_first_picture_on(0, false)]
#[case::later(100, false)]
#[case::other_parameters_each_time(0, true)]
fn memory_is_bounded_whatever_the_times_say(#[case] moves: i64, #[case] changes: bool) {
    let sets = [usual(), Arc::new(tracks([(TrackId::VIDEO, waverant_media::testing::hevc())]))];
    let rules = PackagingRules { max_bytes: 8 * 1024 * 1024, ..PackagingRules::default() };
    let (mut packager, mut most) = (Packager::new(rules, clock()), 0);
    for number in 0..6000i64 {
        let at = number.min(moves) * 3600;
        let set = &sets[usize::from(changes && number % 2 == 1)];
        let mut entry = entry(set, TrackId::VIDEO, at, at, number == 0);
        entry.packet.payload = vec![0x41; 10_000].into();
        packager.push(&entry);
        most = most.max(packager.held_bytes());
    }
    assert!(most < rules.max_bytes + 4 * 1024 * 1024, "{most} bytes");
    let track = &packager.tracks[&TrackId::VIDEO];
    assert!(track.shelf.told.len() <= 257 && packager.periods.began.len() <= 600);
    packager.playlist(TrackId::VIDEO, false).unwrap();
}

#[test]
fn a_window_is_as_long_as_it_should_be_and_then_is_forgotten() {
    let entries = show(&usual(), 5 * MINUTE, 3600, 50);
    let mut packager = Packager::new(PackagingRules::default(), clock());
    entries.iter().for_each(|entry| packager.push(entry));
    let track = &packager.tracks[&TrackId::VIDEO];
    let told = track.told_length().millis();
    assert!((30_000..=34_000).contains(&told), "{told} ms are told");
    let oldest = track.shelf.told.front().unwrap().number;
    let found = |number: u64| packager.find(TrackId::VIDEO, PieceName::Segment(number));
    assert!(matches!(found(oldest - 1), Found::Piece(_)), "who has the last playlist may still fetch it");
    assert!(matches!(found(0), Found::Absent));
    let next = track.next_number;
    assert!(matches!(found(next), Found::NotYet) && matches!(found(next + 1), Found::Absent));
    let position = packager.position(TrackId::VIDEO).unwrap();
    let number = position.segment.unwrap();
    let part = |part: u32| packager.find(TrackId::VIDEO, PieceName::Part(number, part));
    assert!(matches!(part(position.part_count), Found::NotYet | Found::Absent));
    assert!(matches!(part(position.part_count + 1), Found::Absent));
    assert!(matches!(packager.find(TrackId(9), PieceName::Segment(0)), Found::Absent));
}

#[test]
fn the_multivariant_playlist_tells_what_there_is() {
    let mut set = (*usual()).clone();
    let named = |id: TrackId, language: &str, name: &str| {
        let mut track = set.get(id).unwrap().clone();
        (track.language, track.name) = (Some(language.into()), Some(name.into()));
        track
    };
    let (first, second) = (named(TrackId::AUDIO, "en", "Mix"), named(TrackId(3), "de", "Finish \"line\""));
    set.set(first);
    set.set(second);
    let entries = show(&Arc::new(set), MINUTE, 3600, 50);
    let (mut packager, _) = run(PackagingRules::default(), &entries);
    packager.set_frame_rate(Some(25.0));
    let text = packager.multivariant("7/").unwrap();
    let expected = [
        "#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=\"sound\",NAME=\"Mix\",DEFAULT=YES,AUTOSELECT=YES,LANGUAGE=\"en\",CHANNELS=\"2\",URI=\"7/1/index.m3u8\"",
        "#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=\"sound\",NAME=\"Finish 'line'\",DEFAULT=NO,AUTOSELECT=YES,LANGUAGE=\"de\",CHANNELS=\"2\",URI=\"7/3/index.m3u8\"",
        ",CODECS=\"avc1.42c01f,mp4a.40.2,Opus\",RESOLUTION=1280x720,FRAME-RATE=25.000,AUDIO=\"sound\"\n7/0/index.m3u8\n",
    ];
    for line in expected {
        assert!(text.contains(line), "{line}\nis not in\n{text}");
    }
    let manifest = packager.manifest("7/", datetime!(2026-06-20 14:02:00 UTC)).unwrap();
    assert!(manifest.contains("type=\"static\"") && manifest.contains("codecs=\"avc1.42c01f\""), "{manifest}");
}

/// Shows as lines make them: pictures lost, late, of uneven lengths, and keyframes anywhere.
fn rough_show() -> impl Strategy<Value = Vec<Entry>> {
    let picture = (0usize..100, 1i64..20_000, any::<bool>(), 0i64..4);
    (proptest::collection::vec(picture, 20..400), any::<bool>()).prop_map(|(pictures, has_sound)| {
        let video = (TrackId::VIDEO, h264());
        let set = Arc::new(tracks(if has_sound { vec![video, (TrackId::AUDIO, aac())] } else { vec![video] }));
        let (mut entries, mut at, mut sound_at) = (Vec::new(), 0, 0);
        for (chance, length, keyframe, offset) in pictures {
            // One in fifty is long missing, the rest last about 40 ms.
            at += if chance < 2 { length * 30 } else { 3000 + length / 10 };
            let keyframe = keyframe && chance % 5 == 0 || entries.is_empty();
            entries.push(entry(&set, TrackId::VIDEO, at, at + offset * 3600, keyframe));
            while has_sound && sound_at < at {
                entries.push(entry(&set, TrackId::AUDIO, sound_at, sound_at, true));
                sound_at += if chance == 7 { 90_000 } else { 1920 };
            }
        }
        entries
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn any_show_is_told_by_the_rules_and_comes_out_whole(entries in rough_show()) {
        let (packager, audience) = run(PackagingRules::default(), &entries);
        check_samples(&packager, &audience, &entries, MediaTime::from_millis(60));
    }
}
