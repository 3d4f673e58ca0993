//! Asks other systems of the house: so many questions at once, with tries, and none to one that does not answer.

use std::collections::HashMap;
use std::fmt;
use std::net::IpAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::time::{Duration, Instant};

use futures_util::FutureExt;
use futures_util::future::WeakShared;
use parking_lot::Mutex;
use thiserror::Error;
use time::OffsetDateTime;
use tokio::sync::Semaphore;
use tokio::time::{sleep, timeout_at};
use waverant_calls::{Call, CallAddress, CallClient, CallFault, Reply, SigningSecret};
use waverant_relay::{
    Answer, AnswerFault, AnswerMemory, AskedKey, Breaker, HouseSystem, KeyShown, MAX_ANSWER, Purpose, Question,
    Remembered, Telling,
};
use waverant_store::new_call_id;

/// Questions to one system at a time; more wait for their turn.
const AT_ONCE: usize = 32;

/// Questions about keys that are not known, to all systems at a time, and of one address: nobody waits for a turn
/// behind strangers.
const STRANGERS: usize = 16;
const STRANGERS_OF_ADDRESS: usize = 2;

/// Pause before a question is asked once more.
const RETRY_PAUSE: Duration = Duration::from_millis(200);

/// An answer after so long may be too late for whom it is about: over SRT some wait three seconds. It is kept until they
/// come again.
const LATE: Duration = Duration::from_secs(2);
const KEPT_IF_LATE: Duration = Duration::from_secs(10);

/// A question that is being asked.
type Asking = Pin<Box<dyn Future<Output = Result<Answer, Silence>> + Send>>;

/// Asks, and remembers.
#[derive(Default)]
pub(crate) struct AskingDesk {
    client: CallClient,
    memory: Mutex<AnswerMemory>,
    lines: Mutex<HashMap<u64, Arc<SystemLine>>>,
    strangers: Mutex<Strangers>,
    asked: Mutex<HashMap<Remembered, WeakShared<Asking>>>,
}

impl fmt::Debug for AskingDesk {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.debug_struct("AskingDesk").finish_non_exhaustive()
    }
}

/// Questions about keys that are not known which are being asked.
#[derive(Debug, Default)]
struct Strangers {
    count: usize,
    by_address: HashMap<IpAddr, usize>,
}

/// What is known of a system by asking it.
#[derive(Debug)]
struct SystemLine {
    turns: Semaphore,
    breaker: Mutex<Breaker>,
    condition: Mutex<SystemCondition>,
}

/// How a system does.
#[derive(Clone, Debug, Default)]
pub struct SystemCondition {
    /// How often it was asked, and how often it said nothing that could be followed.
    pub asked: u64,
    /// How often it did not answer.
    pub silent: u64,
    /// When it answered last, and how long that took.
    pub answered: Option<(OffsetDateTime, Duration)>,
    /// When it did not, and why.
    pub silence: Option<(OffsetDateTime, String)>,
    /// True while it is left alone.
    pub is_resting: bool,
}

/// Why nothing that could be followed was answered, in words for the house.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub(crate) enum Silence {
    /// It was asked.
    #[error("{0}")]
    Asked(String),
    /// It was not, as it did not answer before.
    #[error("it did not answer before, and is left alone for {} s more", .0.as_secs_f64().ceil())]
    LeftAlone(Duration),
}

/// A question with what belongs to it.
#[derive(Clone, Debug)]
pub(crate) struct Inquiry {
    pub(crate) system: Arc<HouseSystem>,
    pub(crate) question: Question,
    pub(crate) key: KeyShown,
}

impl Inquiry {
    fn about(&self) -> Remembered {
        let Question { right, protocol, peer, .. } = self.question;
        Remembered { system: self.system.id, key: self.key, right, protocol, address: peer.ip().to_canonical() }
    }
}

/// What was sent, and what came back, to be looked at.
#[derive(Clone, Debug)]
pub struct Exchange {
    /// Where it was sent.
    pub address: String,
    /// The headers that a question has of its own.
    pub headers: Vec<(&'static str, String)>,
    /// The question.
    pub body: String,
    /// Status, kind of content and text of what came back, and how long it took; or why nothing did.
    pub reply: Result<(u16, Option<String>, String, Duration), String>,
}

/// A stranger's place among those who are asked about; given back when dropped.
#[derive(Debug)]
pub(crate) struct StrangersPlace<'a> {
    desk: &'a AskingDesk,
    address: IpAddr,
}

impl Drop for StrangersPlace<'_> {
    fn drop(&mut self) {
        let mut strangers = self.desk.strangers.lock();
        strangers.count -= 1;
        if let Some(count) = strangers.by_address.get_mut(&self.address) {
            *count -= 1;
            if *count == 0 {
                strangers.by_address.remove(&self.address);
            }
        }
    }
}

impl AskingDesk {
    pub(crate) fn new(client: CallClient) -> Self {
        Self { client, ..Self::default() }
    }

    /// What was answered to the same question, while it holds.
    pub(crate) fn remembered(&self, inquiry: &Inquiry) -> Option<Answer> {
        self.memory.lock().answer(&inquiry.about(), Instant::now()).cloned()
    }

    /// The system was changed: what it said does not count any more, and neither does what it is being asked.
    pub(crate) fn forget(&self, system: u64) {
        self.lines.lock().remove(&system);
        self.asked.lock().retain(|about, _| about.system != system);
        self.memory.lock().forget(system);
    }

    /// How a system does.
    pub(crate) fn condition(&self, system: u64) -> SystemCondition {
        let line = self.lines.lock().get(&system).cloned();
        let Some(line) = line else { return SystemCondition::default() };
        let is_resting = line.breaker.lock().is_resting();
        SystemCondition { is_resting, ..line.condition.lock().clone() }
    }

    /// A place for a question about a key that is not known; none if too many are being asked.
    pub(crate) fn place_for_stranger(&self, address: IpAddr) -> Option<StrangersPlace<'_>> {
        let mut strangers = self.strangers.lock();
        if strangers.count >= STRANGERS {
            return None;
        }
        let of_address = strangers.by_address.entry(address).or_default();
        if *of_address >= STRANGERS_OF_ADDRESS {
            return None;
        }
        *of_address += 1;
        strangers.count += 1;
        Some(StrangersPlace { desk: self, address })
    }

    /// Asks whether somebody may come in. Who comes again meanwhile waits for the same answer.
    ///
    /// # Errors
    /// [`Silence`] if nothing came that could be followed.
    pub(crate) async fn ask_to_enter(self: &Arc<Self>, inquiry: Inquiry) -> Result<Answer, Silence> {
        let about = inquiry.about();
        let asking = {
            let mut asked = self.asked.lock();
            asked.retain(|_, asking| asking.upgrade().is_some());
            let known = asked.get(&about).and_then(WeakShared::upgrade);
            known.unwrap_or_else(|| {
                let desk = self.clone();
                let asking: Asking = Box::pin(async move { desk.ask(&inquiry, Purpose::Enter, None).await });
                let asking = asking.shared();
                asked.extend(asking.downgrade().map(|asking| (about, asking)));
                asking
            })
        };
        asking.await
    }

    /// Asks, with tries, for as long as the system's rule allows.
    ///
    /// # Errors
    /// [`Silence`] if nothing came that could be followed.
    pub(crate) async fn ask(
        &self,
        inquiry: &Inquiry,
        purpose: Purpose,
        session: Option<u64>,
    ) -> Result<Answer, Silence> {
        let HouseSystem { id, rules, .. } = &*inquiry.system;
        let line = self.lines.lock().entry(*id).or_default().clone();
        let until = tokio::time::Instant::now() + rules.time_limit;
        let in_time = timeout_at(until, async {
            let turn = line.turns.acquire().await;
            line.breaker.lock().may_ask(Instant::now()).map_err(Silence::LeftAlone)?;
            let _turn = turn;
            self.try_some_times(inquiry, (purpose, session), until.into_std()).await
        });
        let answered = in_time.await.unwrap_or_else(|_| Err(slow(&inquiry.system)));
        line.note(&inquiry.system, &answered);
        let (answer, keep, took) = answered?;
        if purpose == Purpose::Enter {
            // Who had given up finds it when it comes again.
            let keep = if took >= LATE { keep.max(KEPT_IF_LATE) } else { keep };
            self.keep(inquiry, &line, &answer, keep);
        }
        Ok(answer)
    }

    /// Keeps an answer, unless the system was changed while it was asked.
    fn keep(&self, inquiry: &Inquiry, line: &Arc<SystemLine>, answer: &Answer, keep: Duration) {
        let lines = self.lines.lock();
        if lines.get(&inquiry.system.id).is_some_and(|current| Arc::ptr_eq(current, line)) {
            self.memory.lock().keep(inquiry.about(), answer.clone(), keep, Instant::now());
        }
    }

    async fn try_some_times(
        &self,
        inquiry: &Inquiry,
        (purpose, session): (Purpose, Option<u64>),
        until: Instant,
    ) -> Result<(Answer, Duration, Duration), Silence> {
        // All tries are one question.
        let id = new_call_id("ask");
        let mut left = inquiry.system.rules.retries;
        loop {
            let limit = until.saturating_duration_since(Instant::now());
            let posted = self.post(inquiry, &id, (purpose, session), limit).await.1;
            let silence = match posted.map(|reply| (Answer::read(reply.status, &reply.body), reply.took)) {
                Ok((Ok((answer, keep)), took)) => return Ok((answer, keep, took)),
                Ok((Err(fault @ (AnswerFault::Status(_) | AnswerFault::Busy(_))), _)) => {
                    Silence::Asked(fault.to_string())
                }
                Ok((Err(fault), _)) => return Err(Silence::Asked(fault.to_string())),
                Err(fault @ CallFault::Broken { .. }) => Silence::Asked(fault.to_string()),
                // What was left of the time says nothing.
                Err(CallFault::Slow { .. }) => return Err(slow(&inquiry.system)),
                Err(fault) => return Err(Silence::Asked(fault.to_string())),
            };
            let Some(fewer) = left.checked_sub(1) else { return Err(silence) };
            left = fewer;
            sleep(RETRY_PAUSE).await;
        }
    }

    /// Asks once, whatever is known of the system, and shows all of it.
    pub(crate) async fn show(&self, inquiry: &Inquiry) -> Exchange {
        let (call, reply) =
            self.post(inquiry, &new_call_id("try"), (Purpose::Try, None), inquiry.system.rules.time_limit).await;
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        let reply = reply.map(|reply| (reply.status, reply.kind, text(&reply.body), reply.took));
        Exchange {
            address: inquiry.system.rules.address.clone(),
            body: text(&call.body),
            headers: call.headers,
            reply: reply.map_err(|fault| fault.to_string()),
        }
    }

    async fn post(
        &self,
        inquiry: &Inquiry,
        id: &str,
        (purpose, session): (Purpose, Option<u64>),
        limit: Duration,
    ) -> (Call, Result<Reply, CallFault>) {
        let (call, address) = call(inquiry, id, (purpose, session), limit);
        let reply = match address {
            Ok(address) => self.client.post(&address, call.clone()).await,
            Err(told) => Err(CallFault::NotAllowed(told)),
        };
        (call, reply)
    }
}

fn slow(system: &HouseSystem) -> Silence {
    Silence::Asked(format!("it did not answer in {} s", system.rules.time_limit.as_secs_f64()))
}

/// A question, signed, and where it goes.
fn call(
    inquiry: &Inquiry,
    id: &str,
    (purpose, session): (Purpose, Option<u64>),
    limit: Duration,
) -> (Call, Result<CallAddress, String>) {
    let HouseSystem { rules, secret, .. } = &*inquiry.system;
    let at = OffsetDateTime::now_utc();
    // Both were looked at when they were set.
    let secret = SigningSecret::read(secret);
    let digest = match (&inquiry.question.key, &secret) {
        (AskedKey::Unknown(key), Ok(secret)) => secret.digest(key.reveal()),
        _ => String::new(),
    };
    let telling = Telling { purpose, at, id, session, unknown_keys: rules.unknown_keys, digest: &digest };
    let body = inquiry.question.body(&telling);
    let timestamp = at.unix_timestamp();
    let signature = secret.as_ref().map(|secret| secret.sign(id, timestamp, &body)).unwrap_or_default();
    let headers = vec![
        ("content-type", "application/json".to_owned()),
        ("webhook-id", id.to_owned()),
        ("webhook-timestamp", timestamp.to_string()),
        ("webhook-signature", signature),
    ];
    let address = match secret {
        Ok(_) => rules.address.parse::<CallAddress>().map_err(|error| error.to_string()),
        Err(error) => Err(error.to_string()),
    };
    (Call { headers, body: body.into(), limit, most: MAX_ANSWER, takes_begin: false }, address)
}

impl Default for SystemLine {
    fn default() -> Self {
        Self { turns: Semaphore::new(AT_ONCE), breaker: Mutex::default(), condition: Mutex::default() }
    }
}

impl SystemLine {
    fn note(&self, system: &HouseSystem, answered: &Result<(Answer, Duration, Duration), Silence>) {
        let at = OffsetDateTime::now_utc();
        let mut condition = self.condition.lock();
        match answered {
            Err(Silence::LeftAlone(_)) => {}
            Ok((_, _, took)) => {
                condition.asked += 1;
                condition.answered = Some((at, *took));
                self.breaker.lock().answered();
            }
            Err(silence) => {
                condition.asked += 1;
                condition.silent += 1;
                condition.silence = Some((at, silence.to_string()));
                if self.breaker.lock().was_silent(Instant::now()) {
                    tracing::warn!(channel = system.id, %silence, "a house system is left alone for a while");
                }
            }
        }
    }
}
