//! The checkup: what is measured of a stream, what is judged of it, and what is told.

mod about;
mod about_machine;
mod code;
mod complaints;
mod finding;
mod growth;
mod meters;
mod remedy;
mod rules;
#[cfg(test)]
mod tests;

pub use about::About;
pub use code::{FindingCode, Patience, Severity};
pub use complaints::{LONGEST_COMPLAINT, findings_meant};
pub use finding::{Checkup, Condition, Finding, FindingChange, FindingKey, PastFinding};
pub use growth::Growth;
pub use meters::{
    ArrivalFigures, CadenceFigures, GroupFigures, PaceFigures, PictureFigures, PictureMeter, SoundFigures, SoundMeter,
    StreamFigures, StreamMeter, TrackFigures,
};
pub use remedy::Remedy;
pub use rules::{
    CertificateLeft, HouseFacts, IntakeFacts, LegFacts, judge_house, judge_leg, judge_line, judge_picture, judge_sound,
    judge_stream,
};
