//! Who comes in: the keys say so at once, and another system of the house may be asked besides, which takes a while.

use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;

use time::OffsetDateTime;
use tokio::time::{sleep, timeout};
use waverant_net::caller_of;
use waverant_relay::{
    Admission, Answer, Asked, AskedKey, GateChannel, Grant, HouseSystem, KeyShown, Opener, Purpose, Question, Secret,
    TurnAway, TurnAwayReason, WhenSilent, printable,
};
use waverant_show::{Show, Stay};

use crate::House;
use crate::admission::{Presented, turn_away};
use crate::asking::{Inquiry, Silence};
use crate::entrance::Entrance;

/// How long an answer is waited for, whatever the rules say: encoders give up as well.
const PATIENCE: Duration = Duration::from_secs(8);

/// The longest text that is taken for a key that is not known, in bytes.
const MAX_UNKNOWN_KEY: usize = 512;

/// What is told of an encoder, in characters.
const MAX_ENCODER: usize = 80;

/// What is not decided yet. Dropping it gives up.
pub type Deciding = Pin<Box<dyn Future<Output = Result<Entrance, TurnAway>> + Send>>;

/// What asking to come in leads to.
pub enum Verdict {
    /// It is decided.
    Now(Result<Entrance, TurnAway>),
    /// It will be; nobody else waits for it.
    Later(Deciding),
}

impl fmt::Debug for Verdict {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Now(decided) => out.debug_tuple("Now").field(decided).finish(),
            Self::Later(_) => out.write_str("Later(…)"),
        }
    }
}

impl House {
    /// Looks for a key in what is presented, and judges it; then asks the system that is asked for its channel, if there
    /// is one.
    pub fn ask(self: &Arc<Self>, presented: &Presented<'_>, encoder: &str) -> Verdict {
        let recognised = self.recognise(presented);
        let Some(inquiry) = self.inquiry(presented, encoder, &recognised) else {
            return Verdict::Now(recognised.map(|admission| Entrance { admission, asked: None }));
        };
        if let Some(answer) = self.asking.remembered(&inquiry) {
            return Verdict::Now(self.follow_answer(recognised, inquiry, Ok(answer)));
        }
        let house = self.clone();
        Verdict::Later(Box::pin(async move {
            let is_unknown = recognised.is_err();
            let caller = caller_of(inquiry.question.peer.ip());
            let answer = if is_unknown {
                match house.asking.place_for_stranger(caller) {
                    Some(_place) => house.ask_patiently(&inquiry).await,
                    None => Err(Silence::Asked("too many keys that are not known are being asked about".to_owned())),
                }
            } else {
                house.ask_patiently(&inquiry).await
            };
            house.follow_answer(recognised, inquiry, answer)
        }))
    }

    async fn ask_patiently(&self, inquiry: &Inquiry) -> Result<Answer, Silence> {
        let asked = timeout(PATIENCE, self.asking.ask_to_enter(inquiry.clone())).await;
        asked.unwrap_or_else(|_| Err(Silence::Asked(format!("it did not answer in {} s", PATIENCE.as_secs()))))
    }

    /// What is to be asked about somebody; none if nobody is.
    fn inquiry(
        &self,
        presented: &Presented<'_>,
        encoder: &str,
        recognised: &Result<Admission, TurnAway>,
    ) -> Option<Inquiry> {
        let directory = self.directory();
        let right = presented.right;
        let question = |key, channel, stream_name| Question {
            right,
            protocol: presented.protocol,
            peer: presented.peer,
            encoder: printable(encoder, MAX_ENCODER).into_owned(),
            channel,
            stream_name,
            key,
        };
        match recognised {
            Ok(admission) => {
                let system = directory.house_system(admission.channel.id)?.clone();
                let id = admission.hold?.key_id;
                let key = AskedKey::Known { id, label: admission.key_label.clone() };
                let name = Some(admission.stream_name.clone());
                let question = question(key, Some(admission.channel.name.clone()), name);
                system.is_asked(right).then_some(Inquiry { system, question, key: KeyShown::Known(id) })
            }
            Err(away) => {
                let system = directory.house_system(HouseSystem::OF_HOUSE)?.clone();
                let is_unknown = matches!(away.reason, TurnAwayReason::UnknownKey | TurnAwayReason::Malformed);
                // Of addresses that guess, nothing that people may have chosen is looked at, here as at the gate.
                if !is_unknown || !system.judges_unknown_keys(right) || self.is_guessing(presented.peer.ip()) {
                    return None;
                }
                let key = unknown_key(presented)?;
                let digest = self.store.keychain().digest(key);
                let question = question(AskedKey::Unknown(Secret::new(key)), None, None);
                Some(Inquiry { system, question, key: KeyShown::Unknown(digest) })
            }
        }
    }

    /// What follows from an answer, or from there being none.
    fn follow_answer(
        &self,
        recognised: Result<Admission, TurnAway>,
        inquiry: Inquiry,
        answer: Result<Answer, Silence>,
    ) -> Result<Entrance, TurnAway> {
        let silence = match answer {
            Ok(Answer::Refused(words)) => {
                let away = match &recognised {
                    Ok(admission) => turn_away(admission, TurnAwayReason::Declined),
                    Err(_) => TurnAway::of_stranger(TurnAwayReason::Declined),
                };
                let detail = Some("said by the house system".to_owned()).filter(|_| words.is_some());
                return Err(away.saying(words, detail));
            }
            Ok(Answer::LetIn(grant)) => match self.granted(&recognised, &inquiry, grant)? {
                Ok(entrance) => return Ok(entrance),
                Err(fault) => fault,
            },
            Err(silence) => silence.to_string(),
        };
        let told = |said: &str| Some(format!("the house system: {said}"));
        match recognised {
            Err(away) => Err(away.saying(None, told(&silence))),
            Ok(admission) if inquiry.system.rules.when_silent == WhenSilent::KnownKeys => {
                let finding = format!("let in by the key alone, as the house system was of no use: {silence}");
                let admission = Admission { finding: Some(finding), ..admission };
                let Inquiry { system, question, .. } = inquiry;
                Ok(Entrance { admission, asked: Some(Arc::new(Asked { system, question, grant: None })) })
            }
            Ok(admission) => Err(turn_away(&admission, TurnAwayReason::Undecided).saying(None, told(&silence))),
        }
    }

    /// Somebody whom a system lets in; or why what it says cannot be followed.
    ///
    /// # Errors
    /// [`TurnAway`] if its time is over.
    fn granted(
        &self,
        recognised: &Result<Admission, TurnAway>,
        inquiry: &Inquiry,
        grant: Grant,
    ) -> Result<Result<Entrance, String>, TurnAway> {
        let named = match &grant.channel {
            Some(name) => match self.channel_granted(inquiry, recognised, name.as_str()) {
                Ok(channel) => Some(channel),
                Err(fault) => return Ok(Err(fault)),
            },
            None => None,
        };
        let admission = match (recognised, named) {
            (Ok(admission), named) => Admission {
                channel: named.unwrap_or_else(|| admission.channel.clone()),
                key_label: grant.label.clone().unwrap_or_else(|| admission.key_label.clone()),
                ..admission.clone()
            },
            (Err(_), Some(channel)) => outside_admission(inquiry, channel, grant.label.clone()),
            (Err(_), None) => {
                let fault = "it lets in a key that is not known here, and says not into which `channel`";
                return Ok(Err(fault.to_owned()));
            }
        };
        if grant.until.is_some_and(|until| until <= OffsetDateTime::now_utc()) {
            let told =
                Some("The time for which the house lets you in is over. Ask whoever runs the channel.".to_owned());
            return Err(turn_away(&admission, TurnAwayReason::Declined).saying(told, None));
        }
        let (system, question) = (inquiry.system.clone(), inquiry.question.clone());
        Ok(Ok(Entrance { admission, asked: Some(Arc::new(Asked { system, question, grant: Some(grant) })) }))
    }

    /// The channel that a system names. That of one channel speaks for it alone.
    fn channel_granted(
        &self,
        inquiry: &Inquiry,
        recognised: &Result<Admission, TurnAway>,
        name: &str,
    ) -> Result<GateChannel, String> {
        let is_own = |admission: &Admission| admission.channel.name == name;
        if inquiry.system.id != HouseSystem::OF_HOUSE && !recognised.as_ref().is_ok_and(is_own) {
            return Err(format!("it names the channel `{name}`, and is asked for another one alone"));
        }
        let directory = self.directory();
        let rules = directory.channel_named(name);
        let rules = rules.ok_or_else(|| format!("it names the channel `{name}`, which is not there"))?;
        Ok(GateChannel { id: rules.id, name: rules.name.to_string() })
    }

    /// Has it asked now and then whether somebody may stay, for as long as it does.
    pub(crate) fn ask_again(
        self: &Arc<Self>,
        stay: Option<&Arc<Stay>>,
        asked: Option<Arc<Asked>>,
        show: Option<&Arc<Show>>,
    ) {
        let (Some(stay), Some(asked)) = (stay, asked) else { return };
        let Some(every) = asked.system.rules.again else { return };
        let (house, gone, stay) = (self.clone(), stay.gone(), Arc::downgrade(stay));
        let session = show.map(|show| show.id());
        self.tasks().spawn(async move {
            loop {
                tokio::select! {
                    () = sleep(every) => {}
                    () = gone.cancelled() => return,
                    () = house.stopping().cancelled() => return,
                }
                let answer = tokio::select! {
                    answer = house.may_stay(&asked, session) => answer,
                    () = gone.cancelled() => return,
                    () = house.stopping().cancelled() => return,
                };
                let Some(stay) = stay.upgrade() else { return };
                match answer {
                    None => return,
                    Some(Ok(Answer::LetIn(grant))) => stay.set_until(grant.until),
                    Some(Ok(Answer::Refused(words))) => {
                        let words = words.unwrap_or_else(|| "it may not stay".to_owned());
                        return stay.end(format!("the house's system said: {words}"));
                    }
                    // Nobody's show ends because another system does not answer.
                    Some(Err(silence)) => tracing::info!(session, %silence, "whether somebody may stay is not known"),
                }
            }
        });
    }

    /// What the system says now of somebody who is in; none if it is not asked any more.
    async fn may_stay(&self, asked: &Asked, session: Option<u64>) -> Option<Result<Answer, Silence>> {
        let directory = self.directory();
        let system = directory.house_system_numbered(asked.system.id)?.clone();
        if !system.is_asked(asked.question.right) {
            return None;
        }
        let key = match &asked.question.key {
            AskedKey::Known { id, .. } => KeyShown::Known(*id),
            AskedKey::Unknown(key) => KeyShown::Unknown(self.store.keychain().digest(key.reveal())),
        };
        let inquiry = Inquiry { system, question: asked.question.clone(), key };
        Some(self.asking.ask(&inquiry, Purpose::Stay, session).await)
    }
}

/// What was sent where a key is expected.
fn unknown_key<'a>(presented: &Presented<'a>) -> Option<&'a str> {
    let name = presented.name.split('?').next().unwrap_or_default().trim().trim_matches('/');
    (!name.is_empty() && name.len() <= MAX_UNKNOWN_KEY).then_some(name)
}

/// Somebody whose key another system knows.
fn outside_admission(inquiry: &Inquiry, channel: GateChannel, label: Option<String>) -> Admission {
    let number = match inquiry.key {
        KeyShown::Unknown([a, b, c, d, e, f, g, h, ..]) => u64::from_be_bytes([a, b, c, d, e, f, g, h]),
        KeyShown::Known(id) => id,
    };
    Admission {
        channel,
        hold: None,
        opener: Opener::Outside(number),
        most_connections: None,
        protocol: inquiry.question.protocol,
        key_rank: 0,
        key_label: label.unwrap_or_else(|| "a key of the house's system".to_owned()),
        key_prefix: String::new(),
        stream_name: String::new(),
        finding: None,
    }
}
