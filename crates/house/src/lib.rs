//! The house: who may come in, which sessions run, what is written down of them, and how the house is changed. All
//! that asks for something (doors, API, set-up files, house systems) asks here.

mod acquaintances;
mod addresses;
mod admission;
mod asking;
mod audience;
mod callers;
mod capacity;
mod changes;
mod condition;
mod controls;
mod counts;
mod couriers;
mod directory;
mod entering;
mod entrance;
mod error;
mod figures;
mod findings;
mod follow;
mod guests;
mod host;
mod house;
mod interludes;
mod key_watch;
mod ledger;
mod numbers;
mod orders;
mod passwords;
mod people;
mod posters;
mod publishing;
mod reached;
mod remedies;
mod report;
mod setup;
mod shows;
mod telling;
mod timelines;
mod touched;
mod tuner;
mod turned_away;
mod turns;
mod watching;
mod words;

pub use addresses::BlockedAddress;
pub use admission::{ChannelBusy, DoorCaller, Presented, turn_away};
pub use asking::{Exchange, SystemCondition};
pub use audience::{AudienceLimits, Spectator, UplinkLoad, ViewerSeat};
pub use capacity::Usage;
pub use changes::{DeliverySeen, MadeKey, ShownCall, TriedTarget};
pub use counts::Counts;
pub use couriers::TargetCondition;
pub use directory::{Directory, gate_key};
pub use entering::{Deciding, Verdict};
pub use entrance::Entrance;
pub use error::HouseError;
pub use figures::ShowSpan;
pub use guests::GuestView;
pub use host::{HostFigures, NetworkFigures, ProcessFigures};
pub use house::{House, HouseSetup};
pub use key_watch::Refusal;
pub use ledger::Ledger;
pub use orders::{leg_destination, leg_order, read_sheet};
pub use people::{check_password, check_user_name};
pub use posters::MAX_POSTER_BYTES;
pub use publishing::Publishing;
pub use reached::ReachedBook;
pub use report::{leg_state, report_of};
pub use setup::{
    Deed, MadeInvitation, MadeSecret, SetupApplied, SetupChange, SetupPlan, SetupRequest, Thing, WantedSecret,
};
pub use telling::LeftOpen;
pub use timelines::FigureDays;
pub use tuner::{Tuned, Tuner, Wish};
pub use waverant_setup::Fault as SetupFault;
pub use words::{
    audience_word, between_word, mode_word, nearness_word, protocol_word, right_word, role_of, role_word,
    severity_word, slate_word, takeover_word, way_word, when_over_word,
};
