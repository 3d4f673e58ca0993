//! A running session: who publishes, its packets as readers get them, its legs, its recorder and its slate.
//!
//! It drives the state machines of the core with sockets, disks and clocks. It knows no SQL, no HTTP and no settings
//! file: what it needs of the house it is given ([`Surroundings`]), and its parts get less still ([`ShowContext`]).

mod clock;
mod context;
mod events;
mod feed;
mod interlude;
mod leg;
mod packaging;
mod recorder;
mod senses;
mod session;
mod slates;
#[cfg(test)]
mod testing;
mod watched;

pub use clock::on_grid;
pub use context::{Ledger, Rates, ShowContext};
pub use events::{Events, ShowEvent};
pub use feed::{Feed, FeedKey, FeedReader, Feeds, Rendition, Taken};
pub use interlude::{Interlude, interlude};
pub use leg::{
    Call, DialError, Dialed, Dialer, Dialing, LegHandle, LegLine, LegSnapshot, LegStatus, ProbeReport, ProbeStep,
    ProbeStepName, TcpDialer, probe,
};
pub use packaging::{Packaging, SegmentFolder, StoredSegment, Told, Waited};
pub use recorder::{RecorderDesk, RecorderState, Takes};
pub use senses::{CheckupBudget, Sensed};
pub use session::{
    LegReport, NoStill, Publisher, Registry, ReportedGap, STILL_WIDTHS, Seat, SeenPublisher, SharedTimeline, Show,
    ShowEnd, ShowReport, ShowStart, ShownFinding, SourceSnapshot, Stay, Steering, Surroundings,
};
pub use slates::Likeness;

use watched::watched;
