use std::collections::BTreeMap;
use std::time::Duration;

use time::OffsetDateTime;

use super::{Occurrence, OccurrenceKind, OfChannel};
use crate::{
    Finding, FindingChange, FindingCode, LegPhase, LegRecord, NewSession, SessionEnd, Severity, ShowRecord, TakeRecord,
    TakeState,
};

/// Something of a show that is told to others, and stands in no record.
#[derive(Clone, Debug, PartialEq)]
pub enum ShowNews {
    /// Its encoder is lost; it is waited for so long.
    Holds(Duration),
    /// Its encoder is back.
    IsBack {
        /// The label of its key.
        key_label: String,
        /// From where it came.
        address: String,
    },
    /// A finding stands, or stands no more.
    Finding(FindingChange),
}

/// A session that goes on, as far as others were told of it.
#[derive(Debug)]
struct Told {
    channel: OfChannel,
    started_at: OffsetDateTime,
    is_rehearsal: bool,
    /// By destination: how far it got.
    legs: BTreeMap<u64, LegTold>,
}

/// How far a leg got.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum LegTold {
    /// Nothing was told, or all is well.
    #[default]
    Nothing,
    Carries,
    /// It was told that it does not carry.
    IsDown,
}

/// Makes occurrences of what is written down of shows: what is new in a record to who was told of the last one.
#[derive(Debug, Default)]
pub struct Chronicle {
    sessions: BTreeMap<u64, Told>,
}

impl Chronicle {
    /// What happened by a record.
    pub fn note(&mut self, record: &ShowRecord, now: OffsetDateTime) -> Option<Occurrence> {
        match record {
            ShowRecord::SessionBegan(session) => Some(self.began(session)),
            ShowRecord::SessionEnded(end) => {
                let told = self.sessions.remove(&end.id)?;
                Some(told.over(end))
            }
            ShowRecord::Leg(leg) => self.sessions.get_mut(&leg.session_id)?.leg(leg, now),
            ShowRecord::Take(take) => self.sessions.get(&take.session_id)?.take(take, now),
        }
    }

    /// What happened by news of a session.
    pub fn tell(&self, session: u64, news: &ShowNews, now: OffsetDateTime) -> Option<Occurrence> {
        let told = self.sessions.get(&session)?;
        let (name, what) = (&told.channel.name, |kind, text: String| told.what(session, kind, now, text));
        Some(match news {
            ShowNews::Holds(hold) => {
                let text = format!("{name}: the encoder is lost; it is waited for {} s", hold.as_secs());
                what(OccurrenceKind::SessionHolds, text).with("hold_s", hold.as_secs())
            }
            ShowNews::IsBack { key_label, address } => {
                let text = format!("{name}: the encoder is back: “{key_label}” from {address}");
                let back = what(OccurrenceKind::SessionIsBack, text);
                back.with("key_label", key_label.as_str()).with("address", address.as_str())
            }
            ShowNews::Finding(change) => {
                let occurrence = of_finding(change, Some(name), now);
                let subject = format!("session/{session}/{}", occurrence.subject);
                let occurrence = Occurrence { channel: Some(told.channel.clone()), ..occurrence };
                occurrence.to(subject).with("session", session)
            }
        })
    }

    fn began(&mut self, session: &NewSession) -> Occurrence {
        let told = Told {
            channel: OfChannel { id: session.channel_id, name: session.channel_name.clone() },
            started_at: session.started_at,
            is_rehearsal: session.is_rehearsal,
            legs: BTreeMap::new(),
        };
        let name = &session.channel_name;
        let text = match session.is_rehearsal {
            true => format!("{name}: a rehearsal begins"),
            false => format!("{name} is on air: “{}” from {}", session.key_label, session.publisher_address),
        };
        let begins = told.what(session.id, OccurrenceKind::SessionBegins, session.started_at, text);
        self.sessions.insert(session.id, told);
        begins
            .with("key_label", session.key_label.as_str())
            .with("address", session.publisher_address.as_str())
            .with("encoder", session.encoder.as_str())
    }
}

impl Told {
    fn what(&self, session: u64, kind: OccurrenceKind, at: OffsetDateTime, text: String) -> Occurrence {
        Occurrence::new(kind, at, text)
            .in_channel(self.channel.id, &self.channel.name)
            .to(format!("session/{session}"))
            .with("session", session)
            .with("is_rehearsal", self.is_rehearsal)
    }

    fn over(&self, end: &SessionEnd) -> Occurrence {
        let length = (end.ended_at - self.started_at).whole_seconds().max(0);
        let text = format!("{} is over after {}: {}", self.channel.name, clock(length.unsigned_abs()), end.reason);
        self.what(end.id, OccurrenceKind::SessionIsOver, end.ended_at, text)
            .with("reason", end.reason.as_str())
            .with("length_s", length)
            .with("loss_count", end.loss_count)
    }

    fn leg(&mut self, leg: &LegRecord, now: OffsetDateTime) -> Option<Occurrence> {
        let before = self.legs.get(&leg.destination_id).copied().unwrap_or_default();
        let (name, to) = (&self.channel.name, &leg.destination_name);
        let reason = leg.reason.as_deref().unwrap_or("no reason was told");
        let (after, kind, text) = match (before, leg.state) {
            (LegTold::Nothing, LegPhase::Carrying) => {
                (LegTold::Carries, OccurrenceKind::LegCarries, format!("{name}: {to} takes the show"))
            }
            (LegTold::IsDown, LegPhase::Carrying) => {
                (LegTold::Carries, OccurrenceKind::LegRecovered, format!("{name}: {to} takes the show again"))
            }
            (LegTold::Nothing | LegTold::Carries, LegPhase::WaitingToRedial) => {
                (LegTold::IsDown, OccurrenceKind::LegRedials, format!("{name}: {to} is dialed again: {reason}"))
            }
            (_, LegPhase::Refused) => {
                (LegTold::IsDown, OccurrenceKind::LegRefused, format!("{name}: {to} refuses the show: {reason}"))
            }
            (_, LegPhase::Off) => {
                self.legs.remove(&leg.destination_id);
                return None;
            }
            _ => return None,
        };
        self.legs.insert(leg.destination_id, after);
        let happened = self.what(leg.session_id, kind, now, text);
        let happened = happened.to(format!("session/{}/destination/{to}", leg.session_id));
        let happened = happened.with("destination", to.as_str()).with("redial_count", leg.redial_count);
        Some(match kind {
            OccurrenceKind::LegRedials | OccurrenceKind::LegRefused => happened.with("reason", leg.reason.clone()),
            _ => happened,
        })
    }

    fn take(&self, take: &TakeRecord, now: OffsetDateTime) -> Option<Occurrence> {
        (take.state != TakeState::Writing).then(|| Occurrence::take_ready(&self.channel, take, now))
    }
}

impl Occurrence {
    /// A take is ended, and can be played.
    pub fn take_ready(channel: &OfChannel, take: &TakeRecord, now: OffsetDateTime) -> Self {
        let is_whole = take.state == TakeState::Complete;
        let how = if is_whole { "is ready" } else { "was cut off" };
        let text =
            format!("{}: take {} {how}: {}, {}", channel.name, take.number, take.path, clock(take.duration_ms / 1000));
        Self::new(OccurrenceKind::TakeReady, now, text)
            .in_channel(channel.id, &channel.name)
            .to(format!("session/{}/take/{}", take.session_id, take.number))
            .with("session", take.session_id)
            .with("take", take.number)
            .with("path", take.path.as_str())
            .with("is_whole", is_whole)
            .with("duration_ms", take.duration_ms)
            .with("size_bytes", take.size_bytes)
            .with("gap_count", take.gap_count)
    }

    /// A session that was open when the service ended.
    pub fn cut_session(session: u64, channel: &OfChannel, reason: &str, now: OffsetDateTime) -> Self {
        Self::new(OccurrenceKind::SessionIsOver, now, format!("{} is over: {reason}", channel.name))
            .in_channel(channel.id, &channel.name)
            .to(format!("session/{session}"))
            .with("session", session)
            .with("reason", reason)
    }

    /// A finding of the house.
    pub fn of_house_finding(change: &FindingChange, now: OffsetDateTime) -> Self {
        of_finding(change, None, now)
    }
}

fn of_finding(change: &FindingChange, channel: Option<&str>, now: OffsetDateTime) -> Occurrence {
    let (finding, is_raised) = match change {
        FindingChange::Raised(finding) => (finding, true),
        FindingChange::Cleared(past) => (&past.finding, false),
    };
    let Finding { key, severity, cause, advice, .. } = finding;
    let kind = match (is_raised, key.code) {
        (true, FindingCode::DiskLow) => OccurrenceKind::DiskLow,
        (true, FindingCode::CertificateEnds) => OccurrenceKind::CertificateNearEnd,
        (true, _) => OccurrenceKind::FindingRaised,
        (false, _) => OccurrenceKind::FindingCleared,
    };
    let place = channel.map_or_else(String::new, |name| format!("{name}: "));
    let to = key.destination.as_ref().map_or_else(String::new, |destination| format!(" ({destination})"));
    let end = if is_raised { "" } else { "over: " };
    let severity = match severity {
        Severity::Note => "note",
        Severity::Warning => "warning",
        Severity::Alarm => "alarm",
    };
    let happened = Occurrence::new(kind, now, format!("{place}{end}{cause}{to}"))
        .to(format!("finding/{}", key.code.word()))
        .with("code", key.code.word())
        .with("severity", severity)
        .with("cause", cause.as_str())
        .with("advice", advice.as_str());
    key.destination.iter().fold(happened, |happened, to| happened.with("destination", to.as_str()))
}

/// Seconds as hours, minutes and seconds.
fn clock(seconds: u64) -> String {
    format!("{}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60)
}

#[cfg(test)]
mod tests {
    use std::time::Instant;

    use time::macros::datetime;

    use super::*;
    use crate::{Condition, FindingKey, PastFinding};

    const NOW: OffsetDateTime = datetime!(2026-05-17 12:00 UTC);

    fn began(id: u64) -> ShowRecord {
        ShowRecord::SessionBegan(NewSession {
            id,
            channel_id: 7,
            channel_name: "finish-line".to_owned(),
            key_label: "van".to_owned(),
            publisher_address: "192.0.2.7:4000".to_owned(),
            encoder: "field encoder".to_owned(),
            started_at: NOW,
            is_rehearsal: false,
        })
    }

    fn ended(id: u64) -> ShowRecord {
        let ended_at = NOW + time::Duration::seconds(3723);
        let (reason, report) = ("the encoder stopped".to_owned(), String::new());
        ShowRecord::SessionEnded(SessionEnd { id, ended_at, reason, loss_count: 1, report })
    }

    fn leg(state: LegPhase) -> ShowRecord {
        ShowRecord::Leg(LegRecord {
            session_id: 1,
            destination_id: 3,
            destination_name: "plovio".to_owned(),
            state,
            reason: Some("the platform closed the connection".to_owned()),
            sent_frame_count: 0,
            sent_bytes: 0,
            dropped_frame_count: 0,
            dropped_ms: 0,
            redial_count: 0,
        })
    }

    fn take(state: TakeState) -> ShowRecord {
        ShowRecord::Take(TakeRecord {
            session_id: 1,
            number: 2,
            path: "finish-line/take-2.mp4".to_owned(),
            state,
            started_at: NOW,
            duration_ms: 62_000,
            size_bytes: 9,
            gap_count: 0,
            gap_ms: 0,
            marks: Vec::new(),
            repair: None,
        })
    }

    #[test]
    fn a_show_is_told_from_begin_to_end() {
        let mut chronicle = Chronicle::default();
        let mut told = |record: &ShowRecord| chronicle.note(record, NOW);
        assert_eq!(told(&ended(1)), None, "of what nobody was told the begin, nobody is told the end");
        let begins = told(&began(1)).unwrap();
        assert_eq!(begins.text, "finish-line is on air: “van” from 192.0.2.7:4000");
        assert_eq!((begins.lane(), begins.subject.as_str()), (7, "session/1"));
        assert_eq!(told(&take(TakeState::Writing)), None);
        let ready = told(&take(TakeState::Complete)).unwrap();
        assert_eq!(ready.text, "finish-line: take 2 is ready: finish-line/take-2.mp4, 0:01:02");
        assert_eq!(ready.subject, "session/1/take/2");
        let over = told(&ended(1)).unwrap();
        assert_eq!(over.text, "finish-line is over after 1:02:03: the encoder stopped");
        assert_eq!((&over.data["length_s"], &over.data["session"]), (&3723.into(), &1.into()));
        assert!(chronicle.sessions.is_empty());
    }

    #[test]
    fn of_a_leg_each_turn_is_told_once() {
        use LegPhase::{Carrying, Dialing, Off, Refused, WaitingToRedial};
        let mut chronicle = Chronicle::default();
        chronicle.note(&began(1), NOW);
        let walk = [
            Dialing,
            Carrying,
            Dialing,
            WaitingToRedial,
            Dialing,
            WaitingToRedial,
            Dialing,
            Carrying,
            Off,
            Dialing,
            WaitingToRedial,
            Dialing,
            Refused,
            Off,
            Dialing,
            Carrying,
        ];
        let told: Vec<&str> =
            walk.iter().filter_map(|phase| chronicle.note(&leg(*phase), NOW)).map(|one| one.kind.word()).collect();
        let expected = ["leg.carries", "leg.redials", "leg.recovered", "leg.redials", "leg.refused", "leg.carries"];
        assert_eq!(told, expected);
        let refused = chronicle.note(&leg(Refused), NOW).unwrap();
        assert_eq!(refused.data["reason"], "the platform closed the connection");
        assert_eq!(refused.subject, "session/1/destination/plovio");
    }

    #[expect(clippy::disallowed_methods, reason = "one instant is taken and never read again")]
    fn finding(code: FindingCode) -> Finding {
        let Condition { severity, cause, advice, .. } = Condition::new(code, "it is dark", "make light");
        let key = FindingKey { code, track: None, destination: Some("plovio".to_owned()) };
        Finding { key, severity, cause, advice, remedy: None, since: Instant::now() }
    }

    #[test]
    fn what_stands_in_no_record_is_told_too() {
        let mut chronicle = Chronicle::default();
        let holds = ShowNews::Holds(Duration::from_secs(30));
        assert_eq!(chronicle.tell(1, &holds, NOW), None);
        chronicle.note(&began(1), NOW);
        assert_eq!(chronicle.tell(1, &holds, NOW).unwrap().data["hold_s"], 30);
        let back = ShowNews::IsBack { key_label: "van".to_owned(), address: "192.0.2.7:4001".to_owned() };
        let back = chronicle.tell(1, &back, NOW).unwrap();
        assert_eq!(back.text, "finish-line: the encoder is back: “van” from 192.0.2.7:4001");
        let change = ShowNews::Finding(FindingChange::Raised(finding(FindingCode::Silence)));
        let raised = chronicle.tell(1, &change, NOW).unwrap();
        assert_eq!(raised.text, "finish-line: it is dark (plovio)");
        assert_eq!((raised.subject.as_str(), raised.lane()), ("session/1/finding/silence", 7));
    }

    #[test]
    fn findings_of_the_house_have_kinds_of_their_own() {
        let kind = |change: &FindingChange| Occurrence::of_house_finding(change, NOW).kind.word();
        assert_eq!(kind(&FindingChange::Raised(finding(FindingCode::DiskLow))), "disk.low");
        assert_eq!(kind(&FindingChange::Raised(finding(FindingCode::CertificateEnds))), "certificate.near_end");
        assert_eq!(kind(&FindingChange::Raised(finding(FindingCode::DatabaseAway))), "finding.raised");
        let finding = finding(FindingCode::DiskLow);
        let until = finding.since;
        let cleared = Occurrence::of_house_finding(&FindingChange::Cleared(PastFinding { finding, until }), NOW);
        assert_eq!((cleared.kind.word(), cleared.text.as_str()), ("finding.cleared", "over: it is dark (plovio)"));
    }
}
