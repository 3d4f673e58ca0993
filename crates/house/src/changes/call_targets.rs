use std::collections::BTreeSet;
use std::sync::Arc;

use time::OffsetDateTime;
use waverant_calls::{CONTENT_TYPES, CallAddress, SigningSecret, check_mailbox};
use waverant_model::{AddCallTarget, CallFormat, ChangeCallTarget};
use waverant_relay::{
    Actor, Announcement, CallForm, CallRules, CallTarget, Occurrence, OccurrenceKind, Secret, printable,
};
use waverant_store::{Delivery, DeliveryFilter, DeliveryTry, WaitingCount, new_call_id};

use super::checked_text;
use crate::couriers::{Request, Sent, TargetCondition};
use crate::{House, HouseError};

/// Targets at a time.
pub(crate) const MOST_TARGETS: u32 = 100;

pub(crate) const MAX_NAME: usize = 60;

/// People who get the mail of one target.
const MAX_MAILBOXES: usize = 20;

/// The longest address with all people in it, in bytes.
const MAX_ADDRESS: usize = 900;

/// A call without what may be a secret in it: where to, the headers of its own, and what is sent.
#[derive(Debug)]
pub struct ShownCall {
    /// Where to.
    pub address: String,
    /// The headers of its own.
    pub headers: Vec<(&'static str, String)>,
    /// What is sent.
    pub body: String,
}

/// A target that was told once, to see what comes back.
#[derive(Debug)]
pub struct TriedTarget {
    /// The call; none for mail, or if it could not be made.
    pub request: Option<ShownCall>,
    /// What came of it.
    pub seen: DeliveryTry,
}

/// A delivery with its target, and the call as it is made of it now.
#[derive(Debug)]
pub struct DeliverySeen {
    /// The delivery.
    pub delivery: Delivery,
    /// The target's name.
    pub target: String,
    /// The call, or why it cannot be made; none for mail.
    pub request: Option<Result<ShownCall, String>>,
}

impl House {
    /// Who is told what happens, by name, with how each does and how much waits for it.
    ///
    /// # Errors
    /// [`HouseError`] if the database is away.
    pub async fn call_targets(&self) -> Result<Vec<(Arc<CallTarget>, TargetCondition, u64)>, HouseError> {
        let counts = self.store.waiting_counts().await?;
        let waiting = |id| counts.iter().find(|count: &&WaitingCount| count.target_id == id).map_or(0, |one| one.count);
        let targets = self.ledger.telling.targets();
        let told =
            targets.iter().map(|target| (target.clone(), self.couriers.condition(target.id), waiting(target.id)));
        Ok(told.collect())
    }

    /// How one of them does.
    pub fn target_condition(&self, id: u64) -> TargetCondition {
        self.couriers.condition(id)
    }

    /// True if mail can be sent.
    pub fn has_mail(&self) -> bool {
        self.couriers.has_mail()
    }

    /// One of them.
    ///
    /// # Errors
    /// [`HouseError`] if there is none of this name.
    pub fn call_target(&self, name: &str) -> Result<Arc<CallTarget>, HouseError> {
        let found = self.ledger.telling.targets().iter().find(|target| target.name == name).cloned();
        found.ok_or_else(|| HouseError::NotFound { kind: "call target", name: name.to_owned() })
    }

    /// Has another system or people told what happens. Returns the target, and its secret if that was made now.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, there are too many, or the database is away.
    pub async fn add_call_target(
        &self,
        form: AddCallTarget,
        by: &Actor,
    ) -> Result<(Arc<CallTarget>, Option<Secret>), HouseError> {
        let address = self.checked_address(form.address.reveal())?;
        let is_mail = address.reveal().starts_with("mailto:");
        let given = form.secret.as_ref().map(|secret| checked_secret(secret.reveal())).transpose()?;
        let made = given.is_none().then(SigningSecret::make);
        let Some(secret) = given.or(made.clone()) else { return Err(HouseError::Fault) };
        let target = CallTarget {
            id: 0,
            name: checked_text("name", &form.name, MAX_NAME)?,
            address,
            secret,
            rules: CallRules {
                is_on: form.is_on,
                channel: self.channel_told(form.channel.as_deref())?,
                kinds: checked_kinds(&form.kinds)?,
                form: checked_form(&form.format)?,
            },
        };
        let _turn = self.couriers.changing.lock().await;
        let id = self.store.add_call_target(&target, MOST_TARGETS).await?;
        self.ledger.telling.put_target(CallTarget { id, ..target });
        tracing::info!(target_name = form.name, %by, "a target of calls is added");
        let target = self.ledger.telling.target(id).ok_or(HouseError::Fault)?;
        Ok((target, made.filter(|_| !is_mail)))
    }

    /// Changes who is told what. Returns the target, and its secret if that was made now.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, there is none of this name, or the database is away.
    pub async fn change_call_target(
        &self,
        name: &str,
        form: ChangeCallTarget,
        by: &Actor,
    ) -> Result<(Arc<CallTarget>, Option<Secret>), HouseError> {
        let _turn = self.couriers.changing.lock().await;
        let mut target = (*self.call_target(name)?).clone();
        if let Some(name) = &form.name {
            target.name = checked_text("name", name, MAX_NAME)?;
        }
        if let Some(address) = &form.address {
            target.address = self.checked_address(address.reveal())?;
        }
        if let Some(channel) = &form.channel {
            target.rules.channel = self.channel_told(Some(channel.as_str()).filter(|name| !name.is_empty()))?;
        }
        if let Some(kinds) = &form.kinds {
            target.rules.kinds = checked_kinds(kinds)?;
        }
        if let Some(format) = &form.format {
            target.rules.form = checked_form(format)?;
        }
        target.rules.is_on = form.is_on.unwrap_or(target.rules.is_on);
        let made = match (&form.secret, form.renews_secret) {
            (Some(_), true) => return Err(HouseError::invalid("renews_secret", "a secret is given, so none is made")),
            (Some(secret), false) => {
                target.secret = checked_secret(secret.reveal())?;
                None
            }
            (None, true) => Some(SigningSecret::make()),
            (None, false) => None,
        };
        target.secret = made.clone().unwrap_or(target.secret);
        self.store.set_call_target(&target).await?;
        let id = target.id;
        self.ledger.telling.put_target(target);
        self.couriers.target_changed(id).await?;
        tracing::info!(target_name = name, %by, "a target of calls is changed");
        Ok((self.ledger.telling.target(id).ok_or(HouseError::Fault)?, made))
    }

    /// Tells a target nothing more; what waits for it is forgotten.
    ///
    /// # Errors
    /// [`HouseError`] if there is none of this name, or the database is away.
    pub async fn remove_call_target(&self, name: &str, by: &Actor) -> Result<(), HouseError> {
        let _turn = self.couriers.changing.lock().await;
        let target = self.call_target(name)?;
        self.store.remove_call_target(target.id, name).await?;
        self.ledger.telling.drop_targets(|known| known.id == target.id);
        tracing::info!(target_name = name, %by, "a target of calls is removed");
        Ok(())
    }

    /// Tells a target once that this is a test, whatever waits for it; it stands in no list.
    ///
    /// # Errors
    /// [`HouseError`] if there is none of this name.
    pub async fn try_call_target(&self, name: &str, by: &Actor) -> Result<TriedTarget, HouseError> {
        let target = self.call_target(name)?;
        let text = format!("This is a test, asked for by {by}.");
        let occurrence = Occurrence::new(OccurrenceKind::Test, OffsetDateTime::now_utc(), text);
        let announced = Announcement { event_id: new_call_id("evt"), targets: Vec::new(), occurrence };
        let (request, seen) = self.couriers.try_target(&target, &announced).await;
        Ok(TriedTarget { request: request.map(|request| shown(&target, request)), seen })
    }

    /// What was told, or waits to be, the newest first.
    ///
    /// # Errors
    /// [`HouseError`] if the database is away.
    pub async fn deliveries(&self, filter: &DeliveryFilter) -> Result<Vec<(Delivery, String)>, HouseError> {
        let targets = self.ledger.telling.targets();
        let name =
            |id| targets.iter().find(|target| target.id == id).map_or(String::new(), |target| target.name.clone());
        let found = self.store.deliveries(filter).await?;
        Ok(found
            .into_iter()
            .map(|delivery| (name(delivery.target_id), delivery))
            .map(|(name, one)| (one, name))
            .collect())
    }

    /// One of them, with the call that is made of it.
    ///
    /// # Errors
    /// [`HouseError`] if there is none of this number, or the database is away.
    pub async fn delivery(&self, id: u64) -> Result<DeliverySeen, HouseError> {
        let delivery = self.store.delivery(id).await?;
        let missing = || HouseError::NotFound { kind: "delivery", name: id.to_string() };
        let target = self.ledger.telling.target(delivery.target_id).ok_or_else(missing)?;
        let request = target.mailboxes().is_none().then(|| {
            let at = delivery.last.as_ref().map_or_else(OffsetDateTime::now_utc, |last| last.at);
            let sent = Sent::new(&target.rules.form, &delivery.event, Some(delivery.id))?;
            Request::new(&target, &delivery.event_id, sent, at).map(|request| shown(&target, request))
        });
        Ok(DeliverySeen { delivery, target: target.name.clone(), request })
    }

    /// Has something told once more, or at once if it waits. It comes before what waits behind it.
    ///
    /// # Errors
    /// [`HouseError`] if there is none of this number, or the database is away.
    pub async fn deliver_again(&self, id: u64, by: &Actor) -> Result<(), HouseError> {
        self.store.deliver_again(id, OffsetDateTime::now_utc()).await?;
        self.couriers.look_now();
        tracing::info!(delivery = id, %by, "something is told again");
        Ok(())
    }

    fn channel_told(&self, name: Option<&str>) -> Result<Option<u64>, HouseError> {
        let Some(name) = name else { return Ok(None) };
        let missing = || HouseError::NotFound { kind: "channel", name: name.to_owned() };
        self.directory().channel_named(name).map(|rules| Some(rules.id)).ok_or_else(missing)
    }

    /// Where a target is told.
    pub(crate) fn checked_address(&self, text: &str) -> Result<Secret, HouseError> {
        let wrong = |told: String| HouseError::invalid("address", told);
        let text = text.trim();
        if text.len() > MAX_ADDRESS {
            return Err(wrong(format!("it has {} bytes; at most {MAX_ADDRESS} are allowed", text.len())));
        }
        let Some(people) = text.strip_prefix("mailto:") else {
            let address: CallAddress = text.parse().map_err(|error| HouseError::invalid("address", error))?;
            return Ok(Secret::new(address.to_string()));
        };
        if !self.couriers.has_mail() {
            let told = "mail is sent by a server that [mail] in the settings file names, and there is none";
            return Err(wrong(told.to_owned()));
        }
        let people: Vec<&str> = people.split(',').map(str::trim).collect();
        if people.len() > MAX_MAILBOXES {
            return Err(wrong(format!("{} people are named; at most {MAX_MAILBOXES} are allowed", people.len())));
        }
        people.iter().try_for_each(|one| check_mailbox(one)).map_err(wrong)?;
        Ok(Secret::new(format!("mailto:{}", people.join(","))))
    }
}

pub(crate) fn checked_secret(text: &str) -> Result<Secret, HouseError> {
    let secret = Secret::new(text.trim());
    SigningSecret::read(&secret).map_err(|error| HouseError::invalid("secret", error))?;
    Ok(secret)
}

pub(crate) fn checked_kinds(words: &[String]) -> Result<BTreeSet<OccurrenceKind>, HouseError> {
    let kind = |word: &String| {
        let unknown = || {
            let known: Vec<&str> = OccurrenceKind::ALL
                .iter()
                .filter(|(kind, _)| kind.can_be_chosen())
                .map(|(kind, _)| kind.word())
                .collect();
            let told = format!("`{}` is not known; there are: {}", printable(word, 60), known.join(", "));
            HouseError::invalid("kinds", told)
        };
        OccurrenceKind::named(word.trim()).filter(|kind| kind.can_be_chosen()).ok_or_else(unknown)
    };
    let kinds: BTreeSet<OccurrenceKind> = words.iter().map(kind).collect::<Result<_, _>>()?;
    if kinds.is_empty() {
        return Err(HouseError::invalid("kinds", "nothing is chosen; choose at least one, as in session.begins"));
    }
    Ok(kinds)
}

/// A template that makes no text of a test makes none at night.
pub(crate) fn checked_form(format: &CallFormat) -> Result<CallForm, HouseError> {
    let CallFormat::Text { content_type, template } = format else { return Ok(CallForm::Event) };
    if !CONTENT_TYPES.contains(&content_type.as_str()) {
        let told =
            format!("`{}` stands where {} was expected", printable(content_type, 60), CONTENT_TYPES.join(" or "));
        return Err(HouseError::invalid("format.content_type", told));
    }
    let form = CallForm::Text { content_type: content_type.clone(), template: template.clone() };
    let occurrence = Occurrence::new(OccurrenceKind::Test, OffsetDateTime::now_utc(), "This is a “test”.\n");
    let announced = Announcement { event_id: "evt_test".to_owned(), targets: Vec::new(), occurrence };
    let made = Sent::new(&form, &announced.event().to_string(), None);
    made.map_err(|error| HouseError::invalid("format.template", error))?;
    Ok(form)
}

/// A call without what may be a secret in its address.
fn shown(target: &CallTarget, request: Request) -> ShownCall {
    ShownCall { address: target.shown_address(), headers: request.headers, body: request.body }
}
