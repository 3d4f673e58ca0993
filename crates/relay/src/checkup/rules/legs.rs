use std::time::Duration;

use waverant_media::TrackId;

use super::judge_line;
use super::thresholds::{BEHIND, REDIALS};
use crate::checkup::{Condition, FindingCode, Remedy, Severity};
use crate::leg::{Breach, LegPhase, Limit};
use crate::line::LineFault;

/// What is known of a leg at one moment.
#[derive(Clone, Debug)]
pub struct LegFacts<'a> {
    /// The destination's name.
    pub destination: &'a str,
    /// Where the leg stands.
    pub phase: LegPhase,
    /// Why its last connection ended.
    pub reason: Option<&'a str>,
    /// How often it dialed again in the last five minutes.
    pub redials: u64,
    /// How far it is behind the show beyond its delay.
    pub behind: Duration,
    /// Pictures that it missed in the last minute though it was connected.
    pub dropped: u64,
    /// What of the destination's limits sheet is not kept.
    pub breaches: &'a [Breach],
    /// True if it is not sent for that.
    pub is_held_back: bool,
    /// A track of pictures that would be within its limits, where the one that it gets is not.
    pub fitting_track: Option<TrackId>,
    /// What is wrong with its line, over SRT.
    pub line: Option<&'a LineFault>,
}

/// Judges a leg.
pub fn judge_leg(facts: &LegFacts<'_>) -> Vec<Condition> {
    let mut found = Vec::new();
    let destination = facts.destination;
    for breach in facts.breaches {
        let condition = Condition::new(code_of(breach.limit), breach.cause(destination), &breach.advice);
        let severity = if facts.is_held_back { Severity::Alarm } else { condition.severity };
        found.push(condition.with_severity(severity).with_remedy(remedy(breach.limit, facts.fitting_track)));
    }
    found.extend(facts.line.map(|fault| judge_line(fault).with_remedy(fault.latency.map(Remedy::LegLatency))));
    let reason = facts.reason.unwrap_or("no reason was given");
    match facts.phase {
        LegPhase::Refused => found.push(Condition::new(
            FindingCode::LegRefused,
            format!("{destination} said no: {reason}"),
            "compare its address and key with what the platform shows, and whether a show is set up there; then switch \
             it off and on",
        )),
        LegPhase::WaitingToRedial | LegPhase::Dialing => {
            let cause = format!("{destination} is not reached: {reason}");
            let advice = "it is tried again by itself; the platform, its address or our uplink is at fault";
            found.push(Condition::new(FindingCode::LegDown, cause, advice));
        }
        LegPhase::Carrying | LegPhase::Off => {}
    }
    if let Some(is_full) = REDIALS.reached(facts.redials as f64) {
        let cause = format!("{destination} was lost {} times in five minutes: {reason}", facts.redials);
        let advice = "compare the stream with what the platform takes; if that is right, its other region or a lower \
                      bitrate may hold";
        found.push(Condition::new(FindingCode::LegFlaps, cause, advice).told_anew_if(is_full));
    }
    found.extend(slow(facts));
    found.into_iter().map(|condition| condition.of_destination(destination)).collect()
}

fn slow(facts: &LegFacts<'_>) -> Option<Condition> {
    let behind = facts.behind.as_secs_f64();
    let is_behind = BEHIND.reached(behind).filter(|_| facts.phase == LegPhase::Carrying);
    if facts.dropped == 0 && is_behind.is_none() {
        return None;
    }
    let destination = facts.destination;
    let cause = match facts.dropped {
        0 => format!("{destination} is {behind:.1} s behind the show"),
        dropped => format!("{destination} missed {dropped} pictures in the last minute, {behind:.1} s behind the show"),
    };
    let advice = "the platform reads slower than the show comes, or our uplink is full: lower the bitrate, or switch \
                  another destination off";
    let is_full = facts.dropped > 0 || is_behind == Some(true);
    Some(Condition::new(FindingCode::LegSlow, cause, advice).told_anew_if(is_full))
}

/// What the house can do about a limit that is not kept.
fn remedy(limit: Limit, fitting_track: Option<TrackId>) -> Option<Remedy> {
    match limit {
        Limit::Sound => Some(Remedy::AddSilence),
        Limit::Tls | Limit::AudioCodec | Limit::AudioTracks | Limit::KeyframeSpacing | Limit::ClosedGroups => None,
        Limit::VideoCodec | Limit::Bitrate | Limit::Size | Limit::FrameRate | Limit::Profile | Limit::DynamicRange => {
            fitting_track.map(Remedy::SendTrack)
        }
    }
}

fn code_of(limit: Limit) -> FindingCode {
    match limit {
        Limit::Tls => FindingCode::LimitTls,
        Limit::VideoCodec => FindingCode::LimitVideoCodec,
        Limit::AudioCodec => FindingCode::LimitAudioCodec,
        Limit::Bitrate => FindingCode::LimitBitrate,
        Limit::Size => FindingCode::LimitSize,
        Limit::FrameRate => FindingCode::LimitFrameRate,
        Limit::KeyframeSpacing => FindingCode::LimitKeyframes,
        Limit::AudioTracks => FindingCode::LimitAudioTracks,
        Limit::Profile => FindingCode::LimitProfile,
        Limit::ClosedGroups => FindingCode::LimitClosedGroups,
        Limit::DynamicRange => FindingCode::LimitDynamicRange,
        Limit::Sound => FindingCode::LimitSound,
    }
}
