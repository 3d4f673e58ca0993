use std::fmt::Debug;
use std::path::PathBuf;
use std::sync::Arc;

use time::OffsetDateTime;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use waverant_codec::CodecPool;
use waverant_relay::{SlateSource, SpreadMeter, TakeDisk, TakeNumbers};

use super::{SharedTimeline, Show, ShowReport};
use crate::context::Ledger;

use crate::leg::Dialer;
use crate::senses::CheckupBudget;

/// Where the shows that run are known.
pub trait Registry: Debug + Send + Sync {
    /// Forgets a session that is over, unless a newer one has taken its place.
    fn forget(&self, show: &Arc<Show>);

    /// A session has ended: nothing of it follows.
    fn ended(&self, end: ShowEnd);
}

/// How a session ended.
#[derive(Debug)]
pub struct ShowEnd {
    /// The session's number.
    pub id: u64,
    /// When it began.
    pub started_at: OffsetDateTime,
    /// When it ended.
    pub ended_at: OffsetDateTime,
    /// Why, in words.
    pub reason: String,
    /// How often the publisher was lost.
    pub loss_count: u32,
    /// What is known of the show.
    pub report: ShowReport,
    /// Its figures over time.
    pub timeline: SharedTimeline,
}

/// What shows work with.
#[derive(Clone, Debug)]
pub struct Surroundings {
    /// Where what happens is written down.
    pub ledger: Arc<dyn Ledger>,
    /// Where running shows are known.
    pub registry: Arc<dyn Registry>,
    /// Where takes are written.
    pub disk: Arc<dyn TakeDisk>,
    /// Who numbers takes.
    pub take_numbers: Arc<TakeNumbers>,
    /// The uploaded slates.
    pub slates: Arc<dyn SlateSource>,
    /// Who draws and encodes.
    pub codec: CodecPool,
    /// What hearing and seeing shows may take of the processor.
    pub checkup: Arc<CheckupBudget>,
    /// How far legs are behind.
    pub lags: Arc<SpreadMeter>,
    /// Who makes connections to platforms.
    pub dialer: Arc<dyn Dialer>,
    /// Where what is sent later waits.
    pub spool_folder: PathBuf,
    /// Cancelled when the service stops.
    pub stopping: CancellationToken,
    /// The tasks that a stop waits for.
    pub tasks: TaskTracker,
}
