//! The recorder on a disk that does what a test wants.

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use bytes::Bytes;
use parking_lot::Mutex;
use time::OffsetDateTime;
use time::macros::datetime;
use tokio::sync::watch;
use tokio::task::JoinHandle;
use tokio::time::sleep;
use waverant_container::{FileReader, Patch, SampleRef, Source, plan_repair};
use waverant_media::testing::h264_and_aac;
use waverant_media::{MediaTime, Packet, TrackId, TrackKind, Tracks};
use waverant_relay::{
    ChannelRules, DiskOutlook, Origin, RecordingRules, SplitRules, TakeDisk, TakeFile, TakeRecord, TakeState,
};

use super::{RecorderDesk, RecorderSetup, RecorderState, Takes, run};
use crate::clock;
use crate::context::ShowContext;
use crate::feed::Feed;
use crate::testing::context;

/// A disk in memory.
#[derive(Debug, Default)]
struct TestDisk {
    files: Mutex<BTreeMap<String, Vec<u8>>>,
    /// So many appends succeed; then this error comes until it is taken away.
    fault: Mutex<Option<(u32, io::ErrorKind)>>,
    /// Of the append that fails, so many bytes get through.
    torn_bytes: AtomicU64,
    /// The next append takes so long.
    stall: Mutex<Option<Duration>>,
    free_bytes: AtomicU64,
    floor_bytes: u64,
}

#[derive(Debug)]
struct TestFile {
    disk: Arc<TestDisk>,
    name: String,
}

#[derive(Debug)]
struct SharedDisk(Arc<TestDisk>);

impl TakeDisk for SharedDisk {
    fn create(&self, path: &Path) -> io::Result<Box<dyn TakeFile>> {
        let name = path.to_string_lossy().into_owned();
        let mut files = self.0.files.lock();
        if files.contains_key(&name) {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        files.insert(name.clone(), Vec::new());
        Ok(Box::new(TestFile { disk: self.0.clone(), name }))
    }

    fn outlook(&self) -> io::Result<DiskOutlook> {
        Ok(DiskOutlook { free_bytes: self.0.free_bytes.load(Ordering::Relaxed), floor_bytes: self.0.floor_bytes })
    }
}

impl TakeFile for TestFile {
    fn append(&mut self, pieces: Vec<Bytes>) -> io::Result<()> {
        if let Some(stall) = self.disk.stall.lock().take() {
            std::thread::sleep(stall);
        }
        let mut bytes = pieces.concat();
        let failure = match &mut *self.disk.fault.lock() {
            Some((0, kind)) => Some(*kind),
            Some((left, _)) => {
                *left -= 1;
                None
            }
            None => None,
        };
        if failure.is_some() {
            bytes.truncate(usize::try_from(self.disk.torn_bytes.load(Ordering::Relaxed)).unwrap());
        }
        self.disk.free_bytes.fetch_sub(bytes.len() as u64, Ordering::Relaxed);
        self.disk.files.lock().get_mut(&self.name).unwrap().extend(bytes);
        failure.map_or(Ok(()), |kind| Err(kind.into()))
    }

    fn patch(&mut self, patches: &[Patch]) -> io::Result<()> {
        let mut files = self.disk.files.lock();
        let file = files.get_mut(&self.name).unwrap();
        for patch in patches {
            let at = usize::try_from(patch.offset).unwrap();
            file[at..at + patch.bytes.len()].copy_from_slice(&patch.bytes);
        }
        Ok(())
    }

    fn sync(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// A recorder at work.
struct Bench {
    show: ShowContext,
    feed: Arc<Feed>,
    desk: Arc<RecorderDesk>,
    disk: Arc<TestDisk>,
    takes: Arc<Takes>,
    tracks: Arc<Tracks>,
    task: JoinHandle<()>,
    sent: Vec<Packet>,
}

const PLENTY: u64 = 1 << 40;

fn fixed_clock() -> OffsetDateTime {
    datetime!(2026-05-17 14:04:09 UTC)
}

impl Bench {
    fn new(wanted: bool, rules: RecordingRules, floor_bytes: u64) -> Self {
        let disk = Arc::new(TestDisk { floor_bytes, free_bytes: AtomicU64::new(PLENTY), ..TestDisk::default() });
        let show = context(Arc::default(), PathBuf::new());
        let feed = show.feeds.live().clone();
        let desk = Arc::new(RecorderDesk::new(wanted, clock::now()));
        let channel = ChannelRules { recording: rules, ..ChannelRules::new(1, "finish-line".parse().unwrap()) };
        let takes = Arc::<Takes>::default();
        let task = tokio::spawn(run(RecorderSetup {
            show: show.clone(),
            rules: watch::channel(Arc::new(channel)).1,
            desk: desk.clone(),
            takes: takes.clone(),
            disk: Arc::new(SharedDisk(disk.clone())),
            numbers: Arc::default(),
            clock: fixed_clock,
        }));
        let tracks = Arc::new(h264_and_aac());
        Self { show, feed, desk, disk, takes, tracks, task, sent: Vec::new() }
    }

    /// Sends seconds of a show: 25 pictures each, the first one a keyframe, and sound.
    async fn play(&mut self, from: i64, until: i64, first_origin: Origin) {
        let mut origin = first_origin;
        for millis in (from * 1000..until * 1000).step_by(40) {
            for (track, kind) in [(TrackId::VIDEO, TrackKind::Video), (TrackId::AUDIO, TrackKind::Audio)] {
                let time = MediaTime::from_millis(millis);
                let random_access = kind == TrackKind::Audio || millis % 1000 == 0;
                let payload = Bytes::from(format!("{kind:?} at {millis}"));
                let packet = Packet { track, kind, dts: time, pts: time, random_access, payload };
                self.feed.push(packet.clone(), self.tracks.clone(), origin);
                self.sent.push(packet);
                origin = if first_origin == Origin::Slate { Origin::Slate } else { Origin::Show };
            }
            if millis % 200 == 0 {
                self.feed.tell_news();
                sleep(Duration::from_millis(5)).await;
            }
        }
        self.feed.tell_news();
        sleep(Duration::from_millis(20)).await;
    }

    async fn end(&mut self) {
        self.feed.end();
        (&mut self.task).await.unwrap();
    }

    fn take(&self, number: u32) -> TakeRecord {
        self.takes.all().into_iter().find(|take| take.number == number).unwrap()
    }

    fn told(&self) -> String {
        self.show.events.all().0.into_iter().map(|event| event.text).collect::<Vec<_>>().join("; ")
    }

    fn states(&self) -> Vec<TakeState> {
        self.takes.all().iter().map(|take| take.state).collect()
    }

    /// The payloads of a take, mended where it was not ended.
    fn payloads(&self, number: u32) -> Vec<Bytes> {
        let take = self.take(number);
        let mut file = self.disk.files.lock()[&take.path].clone();
        if let Some(repair) = plan_repair(&Bytes::from(file.clone())).unwrap() {
            assert_ne!(take.state, TakeState::Complete, "a take that was ended needs no mending");
            file.truncate(usize::try_from(repair.keep_bytes).unwrap());
            file.extend_from_slice(&repair.append);
        }
        let mut reader = FileReader::open(Bytes::from(file)).unwrap();
        let mut samples = Vec::new();
        while let Some(group) = reader.next_group().unwrap() {
            samples.extend(group);
        }
        let read = |sample: &SampleRef| {
            let mut payload = vec![0; sample.size as usize];
            reader.source().read_at(sample.offset, &mut payload).unwrap();
            Bytes::from(payload)
        };
        for track in 0..2 {
            let own: Vec<i64> =
                samples.iter().filter(|sample| sample.track == track).map(read).map(|p| time_of(&p)).collect();
            assert!(own.is_sorted(), "a track is out of order: {own:?}");
        }
        in_order(samples.iter().map(read).collect())
    }

    /// What was sent from one time to another, in milliseconds.
    fn sent(&self, from: i64, until: i64) -> Vec<Bytes> {
        let within = self.sent.iter().filter(|packet| (from..until).contains(&packet.dts.millis()));
        in_order(within.map(|packet| packet.payload.clone()).collect())
    }

    fn marks(&self, number: u32) -> Vec<(u64, String)> {
        self.take(number).marks.iter().map(|mark| (mark.at_ms, mark.title.clone())).collect()
    }
}

fn time_of(payload: &Bytes) -> i64 {
    String::from_utf8_lossy(payload).rsplit(' ').next().unwrap().parse().unwrap()
}

/// By the times that the payloads tell, since files keep their tracks apart.
fn in_order(mut payloads: Vec<Bytes>) -> Vec<Bytes> {
    payloads.sort_by_key(|payload| (time_of(payload), payload.clone()));
    payloads
}

fn split(split: SplitRules, matroska: bool) -> RecordingRules {
    RecordingRules { split, matroska, ..RecordingRules::default() }
}

#[tokio::test(start_paused = true)]
async fn sixty_takes_in_a_minute_lose_nothing() {
    for matroska in [false, true] {
        let rules = SplitRules { length: Some(Duration::from_secs(1)), ..SplitRules::default() };
        let mut bench = Bench::new(true, split(rules, matroska), 0);
        bench.play(0, 60, Origin::Show).await;
        bench.end().await;
        assert_eq!(bench.states(), [TakeState::Complete; 60]);
        let all: Vec<Bytes> = (1..=60).flat_map(|number| bench.payloads(number)).collect();
        assert_eq!(all, bench.sent(0, 60_000));
        // The clock stands still, so all takes but the template's number have the same name.
        assert_eq!(bench.disk.files.lock().len(), 60);
    }
}

#[tokio::test(start_paused = true)]
async fn a_disk_error_costs_what_was_on_its_way_and_a_new_take_begins() {
    for matroska in [false, true] {
        let mut bench = Bench::new(true, split(SplitRules::default(), matroska), 0);
        bench.disk.torn_bytes.store(100, Ordering::Relaxed);
        *bench.disk.fault.lock() = Some((6, io::ErrorKind::Other));
        bench.play(0, 6, Origin::Show).await;
        assert!(matches!(bench.desk.state().0, RecorderState::Stopped(reason) if reason.contains("the disk failed")));
        *bench.disk.fault.lock() = None;
        sleep(Duration::from_secs(3)).await;
        bench.play(6, 9, Origin::Show).await;
        bench.end().await;
        assert_eq!(bench.states(), [TakeState::CutOff, TakeState::Complete]);
        let first = bench.payloads(1);
        assert!(first.len() > 100 && bench.sent(0, 6000).starts_with(&first), "{} payloads", first.len());
        // It goes on with the first keyframe behind what was read.
        assert_eq!(bench.payloads(2), bench.sent(4000, 9000));
        let told = bench.told();
        assert!(told.contains("the recording was stopped: the disk failed") && told.contains("goes on"), "{told}");
    }
}

#[tokio::test(start_paused = true)]
async fn a_full_disk_is_waited_for() {
    const FLOOR: u64 = 1 << 30;
    let mut bench = Bench::new(true, RecordingRules::default(), FLOOR);
    bench.disk.free_bytes.store(FLOOR + 6_000, Ordering::Relaxed);
    bench.play(0, 8, Origin::Show).await;
    let (state, _) = bench.desk.state();
    assert!(matches!(&state, RecorderState::Stopped(reason) if reason.contains("the disk is full")), "{state:?}");
    assert!(bench.disk.free_bytes.load(Ordering::Relaxed) >= FLOOR, "the floor is not touched");
    // A little room is not enough: it would be gone at once.
    bench.disk.free_bytes.store(FLOOR + 1_000_000, Ordering::Relaxed);
    sleep(Duration::from_secs(30)).await;
    assert_eq!(bench.states(), [TakeState::CutOff]);
    bench.disk.free_bytes.store(PLENTY, Ordering::Relaxed);
    sleep(Duration::from_secs(3)).await;
    bench.play(8, 10, Origin::Show).await;
    assert_eq!(bench.desk.state().0, RecorderState::Recording);
    bench.end().await;
    assert_eq!(bench.states(), [TakeState::CutOff, TakeState::Complete], "one try, one take");
    assert!(bench.payloads(2) == bench.sent(4000, 10_000), "what the ring still had is not lost");
}

/// Not with a paused clock: a thread really waits.
#[tokio::test(flavor = "multi_thread")]
async fn a_slow_disk_costs_whole_groups_and_never_holds_the_hub() {
    let mut bench = Bench::new(true, RecordingRules::default(), 0);
    bench.play(0, 2, Origin::Show).await;
    *bench.disk.stall.lock() = Some(Duration::from_secs(3));
    let began = clock::now();
    bench.play(2, 40, Origin::Show).await;
    assert!(clock::now() - began < Duration::from_secs(3), "38 s of a show went through while the disk stood still");
    sleep(Duration::from_secs(3)).await;
    bench.play(40, 42, Origin::Show).await;
    bench.end().await;
    let take = bench.take(1);
    assert_eq!((take.state, take.gap_count), (TakeState::Complete, 1));
    assert!((30_000..40_000).contains(&take.gap_ms), "{} ms are missing", take.gap_ms);
    let found = bench.payloads(1);
    let gap = found.iter().position(|payload| payload == "Audio at 39000").unwrap();
    assert!(bench.sent(0, 42_000).starts_with(&found[..gap]));
    assert_eq!(found[gap..], bench.sent(39_000, 42_000));
    assert!(bench.marks(1)[0].1.contains("are missing: the disk was too slow"));
}

#[tokio::test(start_paused = true)]
async fn by_hand_it_begins_earlier_ends_and_begins_again() {
    let mut bench = Bench::new(false, RecordingRules::default(), 0);
    bench.play(0, 10, Origin::Show).await;
    assert!(bench.states().is_empty() && bench.desk.state().0 == RecorderState::Off);
    assert!(!bench.desk.mark(MediaTime::from_millis(9000), "nobody records".to_owned()));
    assert!(bench.desk.start(Duration::from_millis(2500)) && !bench.desk.start(Duration::ZERO));
    bench.play(10, 12, Origin::Show).await;
    assert!(bench.desk.mark(MediaTime::from_millis(11_960), "Finish of heat 2".to_owned()));
    bench.play(12, 13, Origin::Show).await;
    assert!(bench.desk.stop() && !bench.desk.stop());
    bench.play(13, 15, Origin::Show).await;
    assert_eq!(bench.states(), [TakeState::Complete]);
    assert_eq!(bench.payloads(1), bench.sent(7000, 13_000), "from the keyframe before the pre-roll");
    assert_eq!(bench.marks(1), [(4960, "Finish of heat 2".to_owned())]);
    bench.desk.start(Duration::ZERO);
    sleep(Duration::from_millis(20)).await;
    bench.play(15, 16, Origin::Show).await;
    bench.end().await;
    assert_eq!(bench.payloads(2), bench.sent(14_000, 16_000), "late, with the last keyframe");
}

#[tokio::test(start_paused = true)]
async fn a_return_is_marked_or_begins_a_take() {
    for at_return in [false, true] {
        let rules = SplitRules { at_return, ..SplitRules::default() };
        let mut bench = Bench::new(true, split(rules, false), 0);
        bench.play(0, 3, Origin::Show).await;
        bench.play(3, 5, Origin::Slate).await;
        bench.play(5, 8, Origin::Returned).await;
        bench.end().await;
        let both = [bench.sent(0, 3000), bench.sent(5000, 8000)];
        if at_return {
            assert_eq!([bench.payloads(1), bench.payloads(2)], both);
            continue;
        }
        assert_eq!(bench.payloads(1), both.concat(), "the slate is left out");
        let marks = [(2960, "publisher lost".to_owned()), (5000, "publisher back".to_owned())];
        assert_eq!(bench.marks(1), marks);
    }
}

/// The wall clock may stand still, jump or go back: takes get other names, and play on their own time.
#[tokio::test(start_paused = true)]
async fn a_clock_that_jumps_costs_nothing() {
    let rules = RecordingRules {
        names: "{channel}/{date}_{time} {take}".parse().unwrap(),
        split: SplitRules { length: Some(Duration::from_secs(2)), ..SplitRules::default() },
        ..RecordingRules::default()
    };
    let mut bench = Bench::new(true, rules, 0);
    bench.disk.files.lock().insert("finish-line/2026-05-17_140409 2.mp4".to_owned(), b"older".to_vec());
    bench.play(0, 6, Origin::Show).await;
    bench.end().await;
    let paths: Vec<String> = bench.takes.all().into_iter().map(|take| take.path).collect();
    assert_eq!(paths[1], "finish-line/2026-05-17_140409 2 (2).mp4", "what is there is never written over");
    assert_eq!(bench.disk.files.lock()["finish-line/2026-05-17_140409 2.mp4"], b"older");
    let all: Vec<Bytes> = (1..=3).flat_map(|number| bench.payloads(number)).collect();
    assert_eq!(all, bench.sent(0, 6000));
    let lengths: Vec<u64> = bench.takes.all().iter().map(|take| take.duration_ms).collect();
    assert!(lengths.iter().all(|length| (1960..=2040).contains(length)), "{lengths:?}");
}

/// Half an hour as RTMP brings it, with sound of 1024 samples in rounded milliseconds: what the file says
/// is what the encoder said, at its end as at its begin.
#[tokio::test(start_paused = true)]
async fn half_an_hour_does_not_drift() {
    for matroska in [false, true] {
        let mut bench = Bench::new(true, split(SplitRules::default(), matroska), 0);
        let pictures = (0..30 * 60 * 25).map(|number| (TrackId::VIDEO, number * 40, number % 50 == 0));
        let sounds = (0..30 * 60 * 48_000 / 1024).map(|number| (TrackId::AUDIO, number * 1024 / 48, true));
        let mut packets: Vec<(TrackId, i64, bool)> = pictures.chain(sounds).collect();
        packets.sort_by_key(|(_, millis, _)| *millis);
        for (number, (track, millis, random_access)) in packets.iter().copied().enumerate() {
            let (kind, time) = (track.kind(), MediaTime::from_millis(millis));
            let payload = Bytes::from(format!("{kind:?} at {millis}"));
            let packet = Packet { track, kind, dts: time, pts: time, random_access, payload };
            bench.feed.push(packet, bench.tracks.clone(), Origin::Show);
            if number % 200 == 0 {
                bench.feed.tell_news();
                sleep(Duration::from_millis(5)).await;
            }
        }
        bench.end().await;
        let file = Bytes::from(bench.disk.files.lock().values().next().unwrap().clone());
        let mut reader = FileReader::open(&file).unwrap();
        let mut count = 0;
        while let Some(group) = reader.next_group().unwrap() {
            for sample in group {
                let start = usize::try_from(sample.offset).unwrap();
                let sent = time_of(&file.slice(start..start + sample.size as usize));
                let drift = sample.pts.millis() - sent;
                assert!(drift.abs() <= 1, "{drift} ms at {sent} ms");
                count += 1;
            }
        }
        assert_eq!(count, packets.len());
        let told = bench.take(1).duration_ms;
        assert!((1_799_900..=1_800_100).contains(&told), "{told} ms");
    }
}
