use std::sync::Arc;
use std::time::{Duration, Instant};

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::time::{sleep_until, timeout};
use waverant_net::{Moved, UNACKNOWLEDGED_LIMIT, Wire, WriteQueue};
use waverant_relay::{Mask, RtmpSink, SinkError, SinkOutput, printable};
use waverant_rtmp::{ClientConnection, ClientEvent};

use crate::clock;
use crate::context::Rates;
use crate::feed::FeedReader;
use crate::leg::{CarryEnd, LegStatus, take_packets};

/// A platform that takes no byte for this long is given up, as is one that acknowledges none.
const STALL: Duration = UNACKNOWLEDGED_LIMIT;

/// What is kept of a platform's words, in characters.
const MAX_WORDS: usize = 300;

/// How long the last bytes may take at the end.
const FAREWELL: Duration = Duration::from_secs(3);

/// Moves packets from the hub through one [`ClientConnection`] to one socket.
pub(super) struct RtmpCarrier {
    wire: Wire,
    client: ClientConnection,
    status: Arc<LegStatus>,
    /// Hides the key in what the platform says.
    mask: Mask,
    rates: Arc<dyn Rates>,
    /// Packets are collected this long and written together: fewer, larger writes are what saves
    /// CPU.
    batch: Duration,
    queue: WriteQueue,
    input: Vec<u8>,
    next_fill: Instant,
    last_progress: Instant,
}

impl RtmpCarrier {
    pub(super) fn new(
        wire: Wire,
        client: ClientConnection,
        status: Arc<LegStatus>,
        (mask, rates): (Mask, Arc<dyn Rates>),
    ) -> Self {
        let now = clock::now();
        Self {
            wire,
            client,
            status,
            mask,
            rates,
            batch: Duration::ZERO,
            queue: WriteQueue::default(),
            input: vec![0; 4096],
            next_fill: now,
            last_progress: now,
        }
    }

    /// Changes how long packets are collected.
    pub(super) fn set_batch(&mut self, batch: Duration) {
        self.batch = batch;
    }

    /// Carries until the connection ends; None if `until_taken` and the platform takes the
    /// stream.
    ///
    /// # Cancel safety
    /// Nothing is lost; it can be called again.
    pub(super) async fn run(
        &mut self,
        sink: &mut RtmpSink,
        reader: &mut FeedReader,
        until_taken: bool,
    ) -> Option<CarryEnd> {
        loop {
            self.collect_output();
            let is_due = self.queue.is_empty() && self.client.is_publishing() && reader.has_news();
            if is_due && clock::now() >= self.next_fill {
                if let Err(end) = self.fill(sink, reader) {
                    return Some(end);
                }
                // Nearly always all of it goes at once, and the wait below is for news alone.
                if let Err(error) = self.wire.write_now(&mut self.queue).await {
                    return Some(broke(&error));
                }
            }
            if let Err(end) = self.step(reader, until_taken).await {
                return end;
            }
        }
    }

    /// Waits for whatever comes first. `Err(None)` says that the platform takes the stream.
    async fn step(&mut self, reader: &FeedReader, until_taken: bool) -> Result<(), Option<CarryEnd>> {
        let (idle, publishing) = (self.queue.is_empty(), self.client.is_publishing());
        let has_news = reader.has_news();
        let waits_for_news = idle && publishing && !has_news;
        // Only news within the batch time, and what is not taken, need a timer.
        let timer = match (publishing, idle) {
            (true, true) => has_news.then_some(self.next_fill),
            _ => Some(self.client.poll_timeout().unwrap_or(self.last_progress + STALL)),
        };
        let feed = reader.feed();
        let over = async {
            // Packets that are there still go out; the hub says when there are no more.
            if publishing { std::future::pending().await } else { feed.over().cancelled().await }
        };
        tokio::select! {
            biased;
            moved = self.wire.step(&mut self.input, &mut self.queue) => match moved {
                Ok(Moved::Wrote) => self.last_progress = clock::now(),
                Ok(Moved::Read(0)) => return Err(Some(CarryEnd::Lost("the platform closed the connection".into()))),
                Ok(Moved::Read(count)) => return self.handle_input(count, until_taken),
                Err(error) => return Err(Some(broke(&error))),
            },
            () = reader.news(), if waits_for_news => {}
            () = over => return Err(Some(CarryEnd::Ended)),
            () = sleep_until_maybe(timer) => self.check_deadline()?,
        }
        Ok(())
    }

    fn handle_input(&mut self, count: usize, until_taken: bool) -> Result<(), Option<CarryEnd>> {
        let input = self.input.get(..count).unwrap_or_default();
        if let Err(error) = self.client.handle_input(clock::now(), input) {
            let error = self.told(&error.to_string());
            return Err(Some(CarryEnd::Lost(format!("the platform was not understood: {error}"))));
        }
        while let Some(event) = self.client.poll_event() {
            match event {
                ClientEvent::Refused { code, description } => {
                    let said = self.told(&format!("{code}: {description}"));
                    return Err(Some(CarryEnd::Refused(format!("the platform said {said}"))));
                }
                ClientEvent::Redirected { address } => {
                    // The address may hold a key, and is not repeated.
                    let reason = "the platform sent us to another address".to_owned();
                    return Err(Some(CarryEnd::Moved { target: Some(address), reason }));
                }
                ClientEvent::ReconnectRequested { address, description } => {
                    let reason = format!("the platform asked us to connect anew: {}", self.told(&description));
                    return Err(Some(CarryEnd::Moved { target: address, reason }));
                }
                ClientEvent::Publishing if until_taken => {
                    self.next_fill = clock::now();
                    return Err(None);
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Words of the platform as they may be logged, kept and shown.
    fn told(&self, words: &str) -> String {
        printable(&self.mask.apply(words), MAX_WORDS).into_owned()
    }

    fn check_deadline(&mut self) -> Result<(), Option<CarryEnd>> {
        let now = clock::now();
        if let Err(error) = self.client.handle_timeout(now) {
            return Err(Some(CarryEnd::Lost(error.to_string())));
        }
        if self.client.is_publishing() && !self.queue.is_empty() && now >= self.last_progress + STALL {
            let reason = format!("the platform took nothing for {} s", STALL.as_secs());
            return Err(Some(CarryEnd::Lost(reason)));
        }
        Ok(())
    }

    /// Takes packets from the hub.
    fn fill(&mut self, sink: &mut RtmpSink, reader: &mut FeedReader) -> Result<(), CarryEnd> {
        let taken = take_packets(reader, &self.status)?;
        if taken.has_jumped() {
            sink.skip_to_keyframe();
        }
        if reader.entries().is_empty() {
            return Ok(());
        }
        // What is known when the headers go, and what is announced after.
        if reader.take_announcement() || !sink.has_headers() {
            sink.set_rates(self.rates.rates());
        }
        let mut sent = SinkOutput::default();
        for entry in reader.entries() {
            match sink.send(&mut self.client, entry) {
                Ok(output) => {
                    sent.payload_bytes += output.payload_bytes;
                    sent.video_frame_count += output.video_frame_count;
                }
                Err(error @ SinkError::NoCommonCodec { .. }) => {
                    return Err(CarryEnd::Refused(format!("{}: {error}", self.status.destination_name)));
                }
                Err(error) => return Err(CarryEnd::Lost(error.to_string())),
            }
        }
        if sink.poll_note() {
            self.status.set_note(sink.note());
        }
        self.status.count_sent(sent, u64::try_from(taken.lag.millis()).unwrap_or(0));
        let now = clock::now();
        // The wait for a slow platform begins with the first byte that it does not take.
        self.last_progress = now;
        self.next_fill = clock::on_grid(now, self.batch);
        self.collect_output();
        Ok(())
    }

    /// True if the server broke off or fell silent in the handshake.
    pub(super) fn is_greeting(&self) -> bool {
        self.client.is_greeting()
    }

    fn collect_output(&mut self) {
        while let Some(piece) = self.client.poll_transmit() {
            self.queue.push(piece);
        }
    }

    /// Leaves a platform that does not answer any more: it is to notice at once, and not to take the next
    /// connection for a second one.
    pub(super) fn abandon(self) {
        self.wire.reset();
    }

    /// Ends the stream in order: the platform gets every byte, then the end, and is heard out.
    pub(super) async fn close(mut self, sink: &mut RtmpSink) {
        // A stream that was not begun has no end to be told.
        let _ = sink.end(&mut self.client);
        self.client.close();
        self.collect_output();
        let _ = timeout(FAREWELL, async {
            self.queue.write_all(&mut self.wire).await?;
            self.wire.shutdown().await?;
            // Closing with unread input would reset the connection and the tail would be lost.
            while self.wire.read(&mut self.input).await? > 0 {}
            Ok::<(), std::io::Error>(())
        })
        .await;
    }
}

/// Makes a timer only where one is wanted.
async fn sleep_until_maybe(deadline: Option<Instant>) {
    match deadline {
        Some(deadline) => sleep_until(deadline.into()).await,
        None => std::future::pending().await,
    }
}

fn broke(error: &std::io::Error) -> CarryEnd {
    CarryEnd::Lost(match error.kind() {
        // The kernel gave up: nothing was acknowledged, or no room was made.
        std::io::ErrorKind::TimedOut => format!("the platform took nothing for {} s", STALL.as_secs()),
        _ => format!("the connection broke: {error}"),
    })
}
