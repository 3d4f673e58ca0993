use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use waverant_relay::{SinkOutput, TsSink};
use waverant_srt::SendError;
use waverant_udp::Link;

use crate::clock;
use crate::feed::FeedReader;
use crate::leg::{CarryEnd, LegStatus, take_packets};

/// Packets are collected at least this long: pictures leave in one burst either way.
const LEAST_BATCH: Duration = Duration::from_millis(5);

/// Figures of the line are taken this often.
const FIGURES_INTERVAL: Duration = Duration::from_millis(500);

/// How long what waits may take at the end, beyond the latency.
const FAREWELL: Duration = Duration::from_secs(2);

/// The longest wait at the end, whatever the latency.
const LONGEST_FAREWELL: Duration = Duration::from_secs(9);

/// The length of a packet of a transport stream.
const TS_PACKET: usize = 188;

/// Moves packets from the hub over one SRT connection.
pub(super) struct SrtCarrier {
    link: Link,
    status: Arc<LegStatus>,
    batch: Duration,
    pending: Vec<u8>,
    figures_at: Instant,
}

impl SrtCarrier {
    pub(super) fn new(link: Link, status: Arc<LegStatus>) -> Self {
        status.begin_line();
        Self { link, status, batch: LEAST_BATCH, pending: Vec::new(), figures_at: clock::now() }
    }

    /// Changes how long packets are collected.
    pub(super) fn set_batch(&mut self, batch: Duration) {
        self.batch = batch.max(LEAST_BATCH);
    }

    /// Carries until the connection or the show ends.
    ///
    /// # Cancel safety
    /// Nothing is lost; it can be called again.
    pub(super) async fn run(&mut self, sink: &mut TsSink, reader: &mut FeedReader) -> CarryEnd {
        loop {
            if let Err(end) = self.fill(sink, reader) {
                return end;
            }
            let now = clock::now();
            if now >= self.figures_at {
                self.figures_at = now + FIGURES_INTERVAL;
                self.status.record_line(now, &self.link.statistics());
            }
            if let Err(reason) = self.link.run_until(clock::on_grid(now, self.batch), |_| {}).await {
                return CarryEnd::Lost(format!("{}: {reason}", self.status.destination_name));
            }
        }
    }

    /// Takes all packets that are there from the hub and gives them to the line.
    fn fill(&mut self, sink: &mut TsSink, reader: &mut FeedReader) -> Result<(), CarryEnd> {
        loop {
            let taken = take_packets(reader, &self.status)?;
            if taken.has_jumped() {
                sink.skip_to_keyframe();
            }
            if reader.entries().is_empty() {
                return Ok(());
            }
            let mut sent = SinkOutput::default();
            for entry in reader.entries() {
                match sink.send(entry, &mut self.pending) {
                    Ok(output) => {
                        sent.payload_bytes += output.payload_bytes;
                        sent.video_frame_count += output.video_frame_count;
                    }
                    Err(error) => {
                        return Err(CarryEnd::Refused(format!("{}: {error}", self.status.destination_name)));
                    }
                }
            }
            if sink.poll_note() {
                self.status.set_note(sink.note());
            }
            match self.give() {
                Ok(()) => self.status.count_sent(sent, u64::try_from(taken.lag.millis()).unwrap_or(0)),
                Err(SendError::Full) => {
                    self.status.count_dropped(sent.video_frame_count, waverant_media::MediaTime::ZERO);
                    sink.skip_to_keyframe();
                }
                Err(error) => return Err(CarryEnd::Lost(error.to_string())),
            }
        }
    }

    /// Gives what is written to the line, in messages of whole packets.
    fn give(&mut self) -> Result<(), SendError> {
        let mut rest = Bytes::from(std::mem::take(&mut self.pending));
        let size = (self.link.payload_size() / TS_PACKET).max(1) * TS_PACKET;
        while !rest.is_empty() {
            self.link.send(&rest.split_to(rest.len().min(size)))?;
        }
        Ok(())
    }

    /// Ends at once; who still listens is told, so that the next call is not taken for a second one.
    pub(super) fn hang_up(self) {
        self.link.close();
    }

    /// Ends in order: receivers forget what waits for its time when they hear the goodbye, so it is
    /// said when all has come and its time is over.
    pub(super) async fn close(mut self) {
        let latency = self.link.statistics().send_latency;
        let began = clock::now();
        let latest = began + (latency + FAREWELL).min(LONGEST_FAREWELL);
        while !self.link.is_flushed() && clock::now() < latest {
            if self.link.run_until(clock::now() + LEAST_BATCH, |_| {}).await.is_err() {
                return;
            }
        }
        let goodbye = (clock::now() + latency).min(began + LONGEST_FAREWELL);
        if self.link.run_until(goodbye, |_| {}).await.is_ok() {
            self.link.close();
        }
    }
}
