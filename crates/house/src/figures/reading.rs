use std::time::Instant;

use time::OffsetDateTime;
use waverant_relay::{BLOCK_POINTS, Block, Strip, Wanted};
use waverant_show::SharedTimeline;
use waverant_store::{MACHINE, SessionRecord, StoreError};

use crate::House;
use crate::timelines::MachineSample;

/// A show and when it was.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ShowSpan {
    /// The session.
    pub id: u64,
    /// Its channel's name.
    pub channel: String,
    /// When it began.
    pub started_at: OffsetDateTime,
    /// How long it was, or is by now.
    pub length_s: u32,
}

impl House {
    /// A show that goes on, or one of the records.
    ///
    /// # Errors
    /// [`StoreError`] if there is none, or the database does not answer.
    pub async fn show_span(&self, id: u64) -> Result<ShowSpan, StoreError> {
        if let Some(show) = self.shows().into_iter().find(|show| show.id() == id) {
            let (channel, started_at) = (show.rules().name.to_string(), show.started_at());
            let length_s = show.timeline().lock().now_s() + 1;
            return Ok(ShowSpan { id, channel, started_at, length_s });
        }
        self.store.session(id).await.map(|session| self.span_of(session))
    }

    /// The shows of a channel in a range of time, the first first.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn show_spans(
        &self,
        channel: &str,
        (from, until): (OffsetDateTime, OffsetDateTime),
        limit: u32,
    ) -> Result<Vec<ShowSpan>, StoreError> {
        let sessions = self.store.sessions_within(channel, from, until, limit).await?;
        Ok(sessions.into_iter().map(|session| self.span_of(session)).collect())
    }

    fn span_of(&self, session: SessionRecord) -> ShowSpan {
        let (id, started_at) = (session.begun.id, session.begun.started_at);
        let ended = session.ended_at.map(|ended| (ended - started_at).as_seconds_f64().ceil().max(0.0));
        let by_now = || self.timeline_in_memory(id).map_or(0, |timeline| timeline.lock().now_s() + 1);
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "seconds of a show")]
        let length_s = ended.map_or_else(by_now, |length| length as u32);
        ShowSpan { id, channel: session.begun.channel_name, started_at, length_s }
    }

    /// The timeline of a show that goes on, or is over for less than two hours.
    fn timeline_in_memory(&self, session: u64) -> Option<SharedTimeline> {
        let running = self.shows().into_iter().find(|show| show.id() == session);
        running.map(|show| show.timeline().clone()).or_else(|| self.timelines.of_past(session))
    }

    /// From which second on there are figures of each second of a show; none if only thinned ones are left.
    pub fn seconds_since(&self, session: u64) -> Option<u32> {
        self.timeline_in_memory(session).map(|timeline| timeline.lock().oldest_s(1))
    }

    /// The figures of a show over a range of time, in seconds since its begin: from memory where they are, else from
    /// the records.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer, and is needed.
    pub async fn show_strip(&self, session: u64, wanted: &Wanted) -> Result<Strip, StoreError> {
        let (seconds, step_s) = (wanted.seconds.clone(), wanted.step_s);
        let memory = self.timeline_in_memory(session);
        let oldest = memory.as_ref().map(|timeline| timeline.lock().oldest_s(step_s));
        let mut packed: Vec<(i64, Vec<u8>)> = Vec::new();
        if step_s > 1 && oldest.is_none_or(|oldest| oldest > seconds.start) {
            let starts = u64::from(seconds.start.saturating_sub(block_length(step_s)))..u64::from(seconds.end);
            let stored = self.store.figures(session, step_s, starts).await?;
            packed.extend(stored.into_iter().map(|(start, bytes)| (signed(start), bytes)));
        }
        if let Some(timeline) = memory {
            let here = timeline.lock().packed(seconds, step_s);
            packed.extend(here.into_iter().map(|(start, bytes)| (start.into(), bytes)));
        }
        Ok(put_together(packed, wanted.clone()).await)
    }

    /// The figures of the machine over a range of time that begins at `from`, in seconds since then.
    ///
    /// # Errors
    /// [`StoreError`] if the records cannot be read. Without a database there is what was since the start.
    pub async fn machine_strip(&self, from: OffsetDateTime, wanted: &Wanted) -> Result<Strip, StoreError> {
        let (from, step_s) = (u64::try_from(from.unix_timestamp()).unwrap_or(0), wanted.step_s);
        let (start, end) = (from + u64::from(wanted.seconds.start), from + u64::from(wanted.seconds.end));
        let mut packed = Vec::new();
        if step_s > 1 && self.timelines.machine.lock().oldest_s(step_s) > start {
            let since = start.saturating_sub(block_length(step_s).into());
            packed = match self.store.figures(MACHINE, step_s, since..end).await {
                // What was since the start is here, and worth being told without what was before.
                Err(error) if error.is_unavailable() => Vec::new(),
                stored => stored?,
            };
        }
        packed.extend(self.timelines.machine.lock().packed(start..end, step_s));
        let packed = packed.into_iter().map(|(start, bytes)| (signed(start) - signed(from), bytes)).collect();
        Ok(put_together(packed, wanted.clone()).await)
    }

    /// From when on there are figures of each second of the machine, in seconds since 1970.
    pub fn machine_seconds_since(&self) -> u64 {
        self.timelines.machine.lock().oldest_s(1)
    }

    pub(crate) fn note_machine(&self, sample: &MachineSample) {
        self.timelines.machine.lock().note(OffsetDateTime::now_utc(), Instant::now(), sample);
    }
}

fn block_length(step_s: u32) -> u32 {
    step_s.saturating_mul(u32::try_from(BLOCK_POINTS).unwrap_or(u32::MAX))
}

fn signed(second: u64) -> i64 {
    i64::try_from(second).unwrap_or(i64::MAX)
}

/// Unpacks blocks, each with its first second; later ones count. A month is some work: not on the tasks of shows.
async fn put_together(packed: Vec<(i64, Vec<u8>)>, wanted: Wanted) -> Strip {
    let empty = Strip::new(wanted.seconds.clone(), wanted.step_s);
    let work = move || {
        let mut strip = Strip::new(wanted.seconds, wanted.step_s);
        for (start, bytes) in packed {
            match Block::decode(&bytes) {
                Ok(block) => strip.add(&block, start),
                Err(error) => tracing::error!(%error, start, "a block of figures cannot be read"),
            }
        }
        strip.widen(wanted.factor);
        strip
    };
    tokio::task::spawn_blocking(work).await.unwrap_or(empty)
}
