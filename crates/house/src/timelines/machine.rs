use std::ops::Range;
use std::time::{Duration, Instant};

use time::OffsetDateTime;
use waverant_relay::{DueBlock, Figure, SeriesKey, Timeline};
use waverant_store::{FigureBlock, MACHINE};

use crate::host::HostFigures;

/// When the clock on the wall was put by more than this, another timeline begins.
const PUT: time::Duration = time::Duration::seconds(5);

/// The machine's figures over time. They count from a moment at which both clocks were read.
#[derive(Debug)]
pub(crate) struct MachineTimeline {
    timeline: Timeline,
    began_at: OffsetDateTime,
    began: Instant,
    /// Of timelines that ended because the clock was put.
    ended: Vec<FigureBlock>,
}

/// What is noted of the machine each second.
#[derive(Clone, Debug, Default)]
pub(crate) struct MachineSample {
    pub(crate) host: Option<HostFigures>,
    pub(crate) free_bytes: Option<u64>,
    /// The mean time of the records that were written in this second.
    pub(crate) database_write: Option<Duration>,
}

impl MachineTimeline {
    pub(crate) fn begin(now_at: OffsetDateTime, now: Instant) -> Self {
        Self { timeline: Timeline::default(), began_at: now_at, began: now, ended: Vec::new() }
    }

    pub(crate) fn note(&mut self, now_at: OffsetDateTime, now: Instant, sample: &MachineSample) {
        let passed = now.saturating_duration_since(self.began);
        if (now_at - self.began_at - passed).abs() > PUT {
            let ended = self.finish();
            *self = Self { ended, ..Self::begin(now_at, now) };
        }
        let at_s = now.saturating_duration_since(self.began).as_secs();
        self.timeline.note(u32::try_from(at_s).unwrap_or(u32::MAX), samples(sample));
    }

    pub(crate) fn due(&mut self) -> Vec<FigureBlock> {
        let due = self.timeline.due();
        self.blocks(due)
    }

    pub(crate) fn finish(&mut self) -> Vec<FigureBlock> {
        let due = self.timeline.finish();
        self.blocks(due)
    }

    fn blocks(&mut self, due: Vec<DueBlock>) -> Vec<FigureBlock> {
        let mut blocks = std::mem::take(&mut self.ended);
        let began = self.began_s();
        blocks.extend(due.into_iter().map(|DueBlock { step_s, start_s, bytes }| FigureBlock {
            session_id: MACHINE,
            step_s,
            start_s: began + u64::from(start_s),
            began_at: self.began_at + time::Duration::seconds(start_s.into()),
            bytes,
        }));
        blocks
    }

    /// The second since 1970 in which it began.
    pub(crate) fn began_s(&self) -> u64 {
        u64::try_from(self.began_at.unix_timestamp()).unwrap_or(0)
    }

    /// The first second since 1970 that is here with a step.
    pub(crate) fn oldest_s(&self, step_s: u32) -> u64 {
        self.began_s() + u64::from(self.timeline.oldest_s(step_s))
    }

    /// The packed blocks of a range of seconds since 1970, each with its first second.
    pub(crate) fn packed(&self, seconds: Range<u64>, step_s: u32) -> Vec<(u64, Vec<u8>)> {
        let here = |second: u64| u32::try_from(second.saturating_sub(self.began_s())).unwrap_or(u32::MAX);
        let packed = self.timeline.packed(here(seconds.start)..here(seconds.end), step_s).into_iter();
        packed.map(|(start, bytes)| (self.began_s() + u64::from(start), bytes)).collect()
    }
}

fn samples(sample: &MachineSample) -> Vec<(SeriesKey, f64)> {
    const MIB: f64 = 1024.0 * 1024.0;
    let millis = |time: Duration| time.as_secs_f64() * 1000.0;
    let whole = |figure, value: Option<f64>| value.map(|value| (SeriesKey::whole(figure), value));
    let mut samples = vec![
        whole(Figure::DiskFree, sample.free_bytes.map(|free| free as f64 / MIB / 1024.0)),
        whole(Figure::DatabaseWrite, sample.database_write.map(millis)),
    ];
    if let Some(host) = &sample.host {
        let used = 1.0 - host.available_bytes as f64 / host.memory_bytes.max(1) as f64;
        samples.extend([
            whole(Figure::Processor, Some(host.processor_share * 100.0)),
            whole(Figure::ServiceProcessor, Some(host.service.processor_share * 100.0)),
            whole(Figure::DatabaseProcessor, host.database.map(|process| process.processor_share * 100.0)),
            whole(Figure::Memory, Some(used * 100.0)),
            whole(Figure::ServiceMemory, Some(host.service.resident_bytes as f64 / MIB)),
            whole(Figure::OpenFiles, Some(host.service.open_files as f64)),
            whole(Figure::DiskWrite, host.disk_write.map(millis)),
        ]);
        samples.extend(host.networks.iter().flat_map(|network| {
            let of = |figure, bps: f64| Some((SeriesKey::of(figure, &network.name), bps / 1000.0));
            [of(Figure::Received, network.received_bps), of(Figure::Sent, network.sent_bps)]
        }));
    }
    samples.into_iter().flatten().collect()
}
