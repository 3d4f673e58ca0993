use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use waverant_calls::{CallAddress, SigningSecret};
use waverant_model as model;
use waverant_model::{SetHouseSystem, TryHouseSystem};
use waverant_relay::{
    Actor, Answer, AskedKey, AskingRules, HouseSystem, KeyShown, Protocol, Question, Secret, UnknownKeys, WhenSilent,
    printable,
};

use super::{at_most, checked_text};
use crate::asking::{Exchange, Inquiry, SystemCondition};
use crate::words::{protocol_of, right_of};
use crate::{House, HouseError};

/// Bounds of how long a question may take, and of how often it is asked again.
const TIME_LIMIT_MS: std::ops::RangeInclusive<u32> = 200..=8000;
const MAX_RETRIES: u8 = 3;
const AGAIN_S: std::ops::RangeInclusive<u32> = 10..=86_400;

/// An address that is nobody's. Source: RFC 5737
const NOBODY: IpAddr = IpAddr::V4(Ipv4Addr::new(192, 0, 2, 1));

/// The longest label of somebody who is made up, and the longest key.
const MAX_LABEL: usize = 80;
const MAX_KEY: usize = 512;

impl House {
    /// The system of a channel, or of the house if none is named; and how it does.
    ///
    /// # Errors
    /// [`HouseError`] if there is no such channel.
    pub fn house_system(
        &self,
        channel: Option<&str>,
    ) -> Result<Option<(Arc<HouseSystem>, SystemCondition)>, HouseError> {
        let id = self.system_id(channel)?;
        let system = self.directory().house_system_numbered(id).cloned();
        Ok(system.map(|system| (system, self.asking.condition(id))))
    }

    /// Has a system asked for a channel, or for the house if none is named. Returns its secret if that was made now.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, there is no such channel, or the database is away.
    pub async fn set_house_system(
        &self,
        channel: Option<&str>,
        form: SetHouseSystem,
        by: &Actor,
    ) -> Result<Option<Secret>, HouseError> {
        let id = self.system_id(channel)?;
        let _changing = self.changing.of(channel.unwrap_or_default()).await;
        let rules = checked(&form.rules, id)?;
        let given = form.secret.as_ref().map(|secret| Secret::new(secret.reveal().trim()));
        if let Some(given) = &given {
            SigningSecret::read(given).map_err(|error| HouseError::invalid("secret", error))?;
            if form.renews_secret {
                return Err(HouseError::invalid("renews_secret", "a secret is given, so none is made"));
            }
        }
        // What is read now counts, not what a page showed before.
        let kept = self.store.house_systems_of(&[id]).await?.pop().map(|system| system.secret);
        let kept = given.or(kept.filter(|_| !form.renews_secret));
        let made = kept.is_none().then(SigningSecret::make);
        let Some(secret) = made.clone().or(kept) else { return Err(HouseError::Fault) };
        self.store.set_house_system(&HouseSystem { id, rules, secret }).await?;
        self.follow([id]).await?;
        self.asking.forget(id);
        tracing::info!(channel, is_new_secret = made.is_some(), %by, "a house system is set");
        Ok(made)
    }

    /// Has no system asked any more for a channel of its own, or for the house.
    ///
    /// # Errors
    /// [`HouseError`] if there is none, or the database is away.
    pub async fn remove_house_system(&self, channel: Option<&str>, by: &Actor) -> Result<(), HouseError> {
        let _changing = self.changing.of(channel.unwrap_or_default()).await;
        let id = self.system_id(channel)?;
        self.store.remove_house_system(id).await?;
        self.follow([id]).await?;
        self.asking.forget(id);
        tracing::info!(channel, %by, "a house system is removed");
        Ok(())
    }

    /// Asks the system of a channel, or of the house, about somebody who is made up. Says what would follow, and whether
    /// it would be let in; or why the answer cannot be followed.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, or there is no system to ask.
    pub async fn try_house_system(
        &self,
        channel: Option<&str>,
        form: &TryHouseSystem,
    ) -> Result<(Exchange, Result<(bool, String), String>), HouseError> {
        let id = self.system_id(channel)?;
        let system = self.directory().house_system_numbered(id).cloned();
        let system = system.ok_or_else(|| HouseError::NotFound { kind: "house system", name: "asked here".into() })?;
        let question = made_up(channel, form)?;
        let exchange = self.asking.show(&Inquiry { system, question, key: KeyShown::Known(0) }).await;
        let meaning = match &exchange.reply {
            Ok((status, _, body, _)) => match Answer::read(*status, body.as_bytes()) {
                Ok((answer, keep)) => Ok((matches!(answer, Answer::LetIn(_)), meaning(&answer, keep))),
                Err(fault) => Err(fault.to_string()),
            },
            Err(fault) => Err(fault.clone()),
        };
        Ok((exchange, meaning))
    }

    fn system_id(&self, channel: Option<&str>) -> Result<u64, HouseError> {
        let Some(name) = channel else { return Ok(HouseSystem::OF_HOUSE) };
        let missing = || HouseError::NotFound { kind: "channel", name: name.to_owned() };
        self.directory().channel_named(name).map(|rules| rules.id).ok_or_else(missing)
    }
}

/// The rules of a system; 0 is that of the house.
pub(crate) fn checked(rules: &model::HouseSystemRules, id: u64) -> Result<AskingRules, HouseError> {
    let address: CallAddress = rules.address.parse().map_err(|error| HouseError::invalid("rules.address", error))?;
    let unknown_keys = unknown_of(rules.unknown_keys);
    if unknown_keys == UnknownKeys::Whole && !address.keeps_secrets() {
        let told = "keys are told over https:// only, or to this machine (http://127.0.0.1, http://localhost)";
        return Err(HouseError::invalid("rules.unknown_keys", told));
    }
    if unknown_keys != UnknownKeys::NotAsked && id != HouseSystem::OF_HOUSE {
        let told = "of a key that is not known it is not known which channel it is for: only the system of the whole \
                    house can be asked about it";
        return Err(HouseError::invalid("rules.unknown_keys", told));
    }
    if !rules.publishers && !rules.players {
        return Err(HouseError::invalid("rules.publishers", "neither publishers nor players are chosen; choose one"));
    }
    let within = |field, found: u32, range: std::ops::RangeInclusive<u32>| {
        let told = || format!("{found} stands where {} to {} was expected", range.start(), range.end());
        if range.contains(&found) { Ok(found) } else { Err(HouseError::invalid(field, told())) }
    };
    at_most("rules.retries", rules.retries.into(), MAX_RETRIES.into())?;
    let again = rules.again_s.map(|seconds| within("rules.again_s", seconds, AGAIN_S)).transpose()?;
    Ok(AskingRules {
        is_on: rules.is_on,
        address: address.to_string(),
        publishers: rules.publishers,
        players: rules.players,
        unknown_keys,
        when_silent: match rules.when_silent {
            model::WhenSilent::Closed => WhenSilent::Closed,
            model::WhenSilent::KnownKeys => WhenSilent::KnownKeys,
        },
        time_limit: Duration::from_millis(within("rules.time_limit_ms", rules.time_limit_ms, TIME_LIMIT_MS)?.into()),
        retries: rules.retries,
        again: again.map(|seconds| Duration::from_secs(seconds.into())),
    })
}

fn unknown_of(word: model::UnknownKeys) -> UnknownKeys {
    match word {
        model::UnknownKeys::NotAsked => UnknownKeys::NotAsked,
        model::UnknownKeys::Prefix => UnknownKeys::Prefix,
        model::UnknownKeys::Digest => UnknownKeys::Digest,
        model::UnknownKeys::Whole => UnknownKeys::Whole,
    }
}

/// Somebody who is made up.
fn made_up(channel: Option<&str>, form: &TryHouseSystem) -> Result<Question, HouseError> {
    let address = form.address.as_deref().map(|text| {
        let wrong = || format!("`{}` stands where an address like 192.0.2.1 was expected", printable(text, 60));
        text.trim().parse::<IpAddr>().map_err(|_| HouseError::invalid("address", wrong()))
    });
    let key = match &form.unknown_key {
        Some(key) => AskedKey::Unknown(Secret::new(checked_text("unknown_key", key.reveal(), MAX_KEY)?)),
        None => {
            let label = form.label.as_deref().unwrap_or("Somebody made up");
            AskedKey::Known { id: 0, label: checked_text("label", label, MAX_LABEL)? }
        }
    };
    let is_known = form.unknown_key.is_none();
    let named = channel.or(form.channel.as_deref()).filter(|_| is_known);
    Ok(Question {
        right: right_of(form.right),
        protocol: form.protocol.map_or(Protocol::Rtmp, protocol_of),
        peer: SocketAddr::new(address.transpose()?.unwrap_or(NOBODY), 40_000),
        encoder: "a try".to_owned(),
        channel: named.map(|name| printable(name, MAX_LABEL).into_owned()),
        stream_name: is_known.then(|| "…".to_owned()),
        key,
    })
}

/// What follows from an answer, in words.
fn meaning(answer: &Answer, keep: Duration) -> String {
    let kept = if keep.is_zero() { String::new() } else { format!(" This holds for {} s.", keep.as_secs()) };
    match answer {
        Answer::Refused(Some(words)) => format!("Not let in. It hears: {words}{kept}"),
        Answer::Refused(None) => format!("Not let in, without words of its own.{kept}"),
        Answer::LetIn(grant) => {
            let mut told = "Let in".to_owned();
            let mut say = |text: String| told.push_str(&text);
            grant.channel.iter().for_each(|channel| say(format!(", into the channel `{channel}`")));
            grant.label.iter().for_each(|label| say(format!(", as “{label}”")));
            for (name, is_on) in &grant.destinations {
                say(format!(", {} `{name}`", if *is_on { "sent to" } else { "not sent to" }));
            }
            if let Some(mode) = grant.recording {
                let words = match mode {
                    waverant_relay::RecordingMode::Always => "recorded",
                    waverant_relay::RecordingMode::ByHand => "recorded by hand",
                    waverant_relay::RecordingMode::Off => "not recorded",
                };
                say(format!(", {words}"));
            }
            grant.until.iter().for_each(|until| say(format!(", until {until}")));
            format!("{told}.{kept}")
        }
    }
}
