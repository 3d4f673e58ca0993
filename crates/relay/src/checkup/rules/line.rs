use crate::checkup::{Condition, FindingCode};
use crate::line::{LineFault, LineFaultKind};

/// Judges a line over SRT: of an encoder, or to a destination.
pub fn judge_line(fault: &LineFault) -> Condition {
    let code = match fault.kind {
        LineFaultKind::Locked => FindingCode::LineLocked,
        LineFaultKind::LatencyLarge => FindingCode::LatencyLarge,
        LineFaultKind::Loses => FindingCode::LineLoses,
        LineFaultKind::LatencySmall => FindingCode::LatencySmall,
    };
    Condition::new(code, &fault.cause, &fault.advice)
}
