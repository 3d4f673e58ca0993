//! Figures over time: how they are written, forgotten and read.

mod reading;

use std::sync::Arc;
use std::time::{Duration, Instant};

use time::OffsetDateTime;
use tokio::time::timeout;
use waverant_relay::Spread;
use waverant_store::StoreError;

pub use reading::ShowSpan;

use crate::House;
use crate::timelines::MachineSample;

/// How often it is looked what is to be written.
const LOOK_EVERY: Duration = Duration::from_secs(10);

/// How often what is too old is looked for.
const FORGET_EVERY: Duration = Duration::from_secs(3600);

/// How long the database may take for some blocks; then it counts as away.
const WRITE_PATIENCE: Duration = Duration::from_secs(8);

/// How long a stop waits for it.
const LAST_WRITE: Duration = Duration::from_secs(3);

impl House {
    /// Notes each second what belongs into timelines, until the service stops. It waits for nobody.
    pub(crate) async fn note_seconds(self: Arc<Self>) {
        let mut writes = self.write_times();
        let mut ticks = tokio::time::interval(Duration::from_secs(1));
        ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                _ = ticks.tick() => self.note_second(&mut writes),
                () = self.stopping().cancelled() => return,
            }
        }
    }

    /// Notes what belongs into timelines: of the machine, and who watches each show.
    fn note_second(&self, before: &mut Spread) {
        let writes = self.write_times();
        let (count, sum) = (writes.count - before.count, writes.sum - before.sum);
        *before = writes;
        let free_bytes = self.library().outlook().map(|outlook| outlook.free_bytes);
        let database_write = (count > 0).then(|| Duration::from_secs_f64(sum.max(0.0) / count as f64));
        self.note_machine(&MachineSample { host: self.host(), free_bytes, database_write });
        for show in self.shows() {
            show.set_viewers(self.viewer_counts(show.channel_id()).total());
        }
    }

    /// Writes figures until the service stops. Nobody waits for it; while the database is away they wait.
    pub(crate) async fn keep_timelines(self: Arc<Self>) {
        let mut ticks = tokio::time::interval(LOOK_EVERY);
        ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut forgotten: Option<Instant> = None;
        loop {
            tokio::select! {
                _ = ticks.tick() => {}
                () = self.stopping().cancelled() => return,
            }
            self.timelines.gather(&self.shows());
            let written = tokio::select! {
                written = timeout(WRITE_PATIENCE, self.write_figures()) => written.unwrap_or(Err(StoreError::Slow)),
                () = self.stopping().cancelled() => return,
            };
            if let Err(error) = written {
                tracing::debug!(%error, "figures are written later");
                continue;
            }
            self.timelines.remove_leftover().await;
            if forgotten.is_none_or(|at| at.elapsed() >= FORGET_EVERY) {
                forgotten = Some(Instant::now());
                if let Err(error) = self.forget_figures().await {
                    tracing::debug!(%error, "old figures are forgotten later");
                }
            }
        }
    }

    async fn write_figures(&self) -> Result<(), StoreError> {
        while let Some(batch) = self.timelines.next_batch() {
            match self.store.write_figures(&batch.blocks).await {
                Err(error) if error.is_unavailable() => return Err(error),
                // What the database does not take now it never will.
                Err(error) => tracing::error!(%error, "figures could not be written"),
                Ok(()) => {}
            }
            self.timelines.done(batch);
        }
        Ok(())
    }

    async fn forget_figures(&self) -> Result<(), StoreError> {
        let (now, days) = (OffsetDateTime::now_utc(), self.timelines.days());
        self.store.forget_figures(now, 10, days.tens).await?;
        self.store.forget_figures(now, 60, days.minutes).await?;
        self.store.forget_acts(now, self.act_days).await
    }

    /// Writes the last figures; what cannot be written goes to the disk, for the next start. To be called when all
    /// shows have ended.
    pub(crate) async fn close_timelines(&self) {
        self.timelines.close();
        let written = timeout(LAST_WRITE, self.write_figures()).await.unwrap_or(Err(StoreError::Slow));
        match written {
            Ok(()) => self.timelines.remove_leftover().await,
            Err(error) => {
                tracing::warn!(%error, "figures wait on the disk for the next start");
                self.timelines.write_leftover().await;
            }
        }
    }
}
