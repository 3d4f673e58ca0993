//! The rules of the house, without sockets, files or clocks: who may come in, how a session
//! lives, how packets are handed to many readers, how a leg behaves.

mod actor;
mod asking;
mod channel;
mod checkup;
mod gate;
mod hub;
mod hub_needs;
mod leg;
mod line;
mod meter;
mod occurrence;
mod packaging;
mod people;
mod printable;
mod recording;
mod records;
mod secret;
mod session;
mod spread;
mod timeline;
mod viewing;

pub use actor::Actor;
pub use asking::{
    Answer, AnswerFault, AnswerMemory, Asked, AskedKey, AskingRules, Breaker, Grant, HouseSystem, KeyShown, MAX_ANSWER,
    Purpose, Question, Remembered, Telling, UnknownKeys, WhenSilent,
};
pub use channel::ChannelRules;
pub use checkup::{
    About, ArrivalFigures, CadenceFigures, CertificateLeft, Checkup, Condition, Finding, FindingChange, FindingCode,
    FindingKey, GroupFigures, Growth, HouseFacts, IntakeFacts, LONGEST_COMPLAINT, LegFacts, PaceFigures, PastFinding,
    Patience, PictureFigures, PictureMeter, Remedy, Severity, SoundFigures, SoundMeter, StreamFigures, StreamMeter,
    TrackFigures, findings_meant, judge_house, judge_leg, judge_line, judge_picture, judge_sound, judge_stream,
};
pub use gate::{
    AddressBlock, AddressRange, AddressRangeError, AddressRule, Admission, Announced, AnnouncedError, Attempt,
    AwayAttempt, AwayBook, AwayGroup, Blocks, CallerId, ChannelName, ChannelNameError, Comer, Entered, Gate,
    GateChannel, GateKey, Guesses, HoursError, KeyDigest, KeyFault, KeyHold, KeyRight, KeyRules, KeyStanding, Lobby,
    LobbyLimits, NoPlace, OpenHours, Opener, OwnKeyError, Protocol, Reception, Said, Standing, TurnAway,
    TurnAwayReason, WhenOver, announced, own_key_fault, split_key,
};
pub use hub::{Cursor, Entry, Hub, HubLimits, Origin, Read};
pub use hub_needs::HubNeeds;
pub use leg::{
    AudioChoice, AudioPick, AudioPickError, Breach, FlvOutput, Gap, Leg, LegAddress, LegAddressError, LegDestination,
    LegHistory, LegOrder, LegPhase, LegPolicy, LegState, Limit, LimitsSheet, Mask, MissingSound, OnBreach, Otherwise,
    RtmpSink, SinkError, SinkOutput, SinkRules, StreamFacts, TsSink,
};
pub use line::{LineFault, LineFaultKind, LineMeter, LinePoint, LineQuality, advised_latency};
pub use meter::RateMeter;
pub use occurrence::{
    Announcement, AwayNews, CLOUD_EVENT, CallForm, CallRules, CallTarget, Chronicle, Occurrence, OccurrenceKind,
    OfChannel, RetryRules, ShowNews,
};
pub use packaging::{
    Found, OutsideShow, Packager, PackagingRules, PictureMessage, PictureMux, PicturePress, Piece, Position,
    SharedPiece, WallClock, WholeSegment,
};
pub use people::{
    Deed, Grants, MIN_PASSWORD, Role, Scope, TIME_CODE_KEY, TimeCodes, Where, needs_second_factor, password_fault,
};
pub use printable::printable;
pub use recording::{
    DiskOutlook, Keeping, Kept, NameError, NameFacts, NameTemplate, RecordingMode, RecordingRules, SplitRules,
    Splitter, TakeDisk, TakeFile, TakeNumbers,
};
pub use records::{
    Act, ActBy, ActOutcome, KeyUse, LegRecord, NewSession, SessionEnd, ShowRecord, TakeMark, TakeRecord, TakeState,
};
pub use secret::Secret;
pub use session::{
    Attendance, Attended, Departure, Intake, Joined, NotJoined, Offered, OnAir, Program, RtmpSource, SeatId,
    SessionLife, SessionState, Slate, SlateChoice, SlateError, SlateSource, SourceCounters, StreamSource, Takeover,
};
pub use spread::{Spread, SpreadMeter};
pub use timeline::{
    BLOCK_POINTS, Block, BlockError, DueBlock, Figure, Point, STEPS, Series, SeriesKey, Strip, Timeline, Wanted,
};
pub use viewing::{
    Asker, Audience, BetweenShows, ChannelPage, Crowd, LinkFault, Nearness, Newcomer, NoRoom, PageLink, PublishedTo,
    Room, Seated, Site, SiteError, ViewerCounts, ViewerId, ViewingLink, ViewingRules, Way, Ways,
};
