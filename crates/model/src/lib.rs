//! The types of the HTTP API, shared by the service and the command line: what calls send and what is answered.
//! Nothing but types: what they mean is decided in the house.
//!
//! Names ending in `_ms`, `_s`, `_bps` and `_bytes` tell their unit. Times are RFC 3339 in UTC.

/// The header by which an answer says of which version the service is.
pub const VERSION_HEADER: &str = "waverant-version";

mod account;
mod act;
mod address;
mod call_target;
mod capacity;
mod certificate;
mod channel;
mod depot;
mod destination;
mod finding;
mod hidden;
mod house_system;
mod job;
mod key;
mod limits;
mod line;
mod live;
mod log;
mod outside;
mod person;
mod problem;
mod recording;
mod rehearsal;
mod report;
mod second_factor;
mod session;
mod setup;
mod srt;
mod take;
mod timeline;
mod viewing;

pub use account::{AddToken, Administrator, ChangePassword, FirstRunState, MadeToken, Me, SignIn, Token, Withdrawn};
pub use act::{Act, ActBy, ActOutcome};
pub use address::{AddAddressRule, AddressRule, Addresses, BlockedAddress, Reception, ReleaseAddress};
pub use call_target::{
    AddCallTarget, CallFormat, CallRequest, CallTarget, CallTargetSet, CallTargetTry, CallTargets, ChangeCallTarget,
    Delivery, DeliveryDetail, DeliveryState, OccurrenceWord,
};
pub use capacity::{
    CapacityAnswer, CapacityVerdict, LiveHost, LiveNetwork, LiveProcess, PlannedShows, ResourceAnswer, ResourceName,
};
pub use certificate::{Certificate, CertificateInUse, CertificateRenewal, CertificateSource};
pub use channel::{
    AddChannel, ChangeChannel, ChangeSending, Channel, ChannelDestination, SlateChoice, Takeover, UploadedSlate,
};
pub use depot::{AddDepot, ChangeDepot, Depot, DepotTry};
pub use destination::{
    AddDestination, AudioOtherwise, ChangeDestination, Destination, DestinationTry, RevealedDestination,
    TryDestination, TryStep, TryStepName,
};
pub use finding::{
    CarryOutRemedy, ChannelFinding, Complaint, ComplaintAnswer, Finding, FindingMeaning, FindingRemedy, FindingReport,
    LikelyFinding, RemedyDone, Severity,
};
pub use hidden::Hidden;
pub use house_system::{
    CallAnswer, CallHeader, HouseSystem, HouseSystemCondition, HouseSystemRules, HouseSystemSet, HouseSystemState,
    HouseSystemTry, SetHouseSystem, TryHouseSystem, UnknownKeys, WhenSilent,
};
pub use job::{
    CheckedGap, CheckedMark, FileForm, JobKind, JobReport, JobResult, JobState, MadeTake, TakeCheck, TrackCheck,
    TrackKind,
};
pub use key::{
    AddKey, AddKeys, ChangeKey, EncoderFields, GuestPage, GuestRefusal, GuestSeen, GuestState, GuestToken, KeyRight,
    KeyRules, KeyState, LastUse, Moment, NewKey, OpenHours, Protocol, RenewKey, RetireKey, Retired, ShowThen,
    SrtFields, StreamKey,
};
pub use limits::{MissingSound, SheetAction, SheetForm};
pub use line::{LiveLine, LiveLinePoint};
pub use live::{
    Board, ChannelState, Health, HeardChannel, HeardSound, LegState, LiveArrival, LiveAudio, LiveChannel, LiveDisk,
    LiveLeg, LivePublishing, LiveSession, LiveTake, LiveUplink, LiveVideo, RecorderState, RefusedCount,
};
pub use log::{LogLine, LogLines, LogSetting};
pub use outside::{
    AddressScope, AnswererTold, DoorOutside, DoorReached, DoorTry, DoorVerdict, FilterRemedy, FilterState, NameVerdict,
    Outside, OwnAddress, PacketFilter, PublicName, Transport, TryOutcome,
};
pub use person::{
    AcceptInvitation, AddPerson, ChangePerson, ChannelRole, Invitation, InvitationCode, InvitePerson, Invited, Person,
    Role,
};
pub use problem::Problem;
pub use recording::{ChangeRecording, MarkMoment, MarkedMoment, Recording, RecordingWhen, TakeFormat};
pub use rehearsal::{BeginRehearsal, Rehearsal};
pub use report::{EventReport, GapReport, LegReport, ShowReport, SoundReport, SourceReport};
pub use second_factor::{
    AskPasskey, AuthenticatorCode, AuthenticatorKey, NewPasskey, Passkey, PasskeyChallenge, PasskeyProof,
    PresentPassword, RecoveryCodes, SecondFactor,
};
pub use session::{LegOutcome, Listed, Session, SessionDetail, TurnedAway};
pub use setup::{
    ApplySetup, MadeSetupSecret, ReviewSetup, SetupApplied, SetupChange, SetupDeed, SetupFault, SetupField, SetupFile,
    SetupKey, SetupReview, SetupSecret, SetupThing, SetupWanted,
};
pub use srt::{ChangeSrt, Srt};
pub use take::{
    ChangeTake, CopyState, CopyTake, CutTake, ListedTakes, Mark, RemovedTake, Take, TakeCopy, TakeLink, TakeSound,
    TakeState,
};
pub use timeline::{FigureSeries, Timeline, TimelineMark, Timelines};
pub use viewing::{
    AddViewingLink, Audience, BetweenShows, ChangePage, ChangeViewing, ChannelPage, Nearness, PageLink, TakeName,
    ViewerCounts, ViewerMinute, Viewing, ViewingAddresses, ViewingLink, WayOfWatching,
};
