//! The rules of the house, without sockets, files or clocks: who may come in, how a session
//! lives, how packets are handed to many readers, how a leg behaves.

mod gate;
mod hub;
mod leg;
mod line;
mod meter;
mod printable;
mod recording;
mod session;

pub use gate::{
    AddressRange, AddressRangeError, Admission, Attempt, CallerId, ChannelEntry, ChannelName, ChannelNameError,
    Entered, Gate, Guesses, KeyDigest, KeyEntry, KeyRight, Lobby, LobbyLimits, NoPlace, Standing, TurnAway,
    TurnAwayReason, split_key,
};
pub use hub::{Cursor, Entry, Hub, HubLimits, Origin, Read};
pub use leg::{
    AudioChoice, AudioPick, AudioPickError, Breach, Gap, Leg, LegAddress, LegAddressError, LegHistory, LegPolicy,
    LegState, Limit, LimitsSheet, LimitsWatch, Mask, OnBreach, Otherwise, RtmpSink, SinkError, SinkOutput, SinkRules,
    StreamFacts, TsSink,
};
pub use line::{LineMeter, LinePoint, LineQuality, advised_latency};
pub use meter::{PictureRate, RateMeter};
pub use printable::printable;
pub use recording::{
    DiskOutlook, Keeping, Kept, NameError, NameFacts, NameTemplate, RecordingMode, RecordingRules, SplitRules, Splitter,
};
pub use session::{
    Attendance, Attended, Departure, Intake, IntakeKind, Joined, NotJoined, Offered, OnAir, Program, RtmpSource,
    SeatId, SessionLife, SessionState, Slate, SlateError, SourceCounters, StreamSource, Takeover,
};
