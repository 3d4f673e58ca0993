use std::net::IpAddr;

use time::{Duration, OffsetDateTime};
use waverant_model::{AddAddressRule, Reception as ReceptionWord};
use waverant_relay::{Actor, AddressRange, AddressRule, Reception, printable};

use super::at_most;
use crate::addresses::BlockedAddress;
use crate::{House, HouseError};

/// Rules for addresses at a time.
pub(crate) const MOST_RULES: u32 = 500;

/// The longest that a rule with an end holds, in minutes: a year.
const MAX_MINUTES: u32 = 366 * 24 * 60;

/// The longest note, in characters.
pub(crate) const MAX_NOTE: usize = 200;

/// How callers are received.
pub(crate) fn reception_of(word: ReceptionWord) -> Reception {
    match word {
        ReceptionWord::Blocked => Reception::Blocked,
        ReceptionWord::Welcome => Reception::Welcome,
    }
}

impl House {
    /// The rules for addresses, the newest first.
    ///
    /// # Errors
    /// [`HouseError`] if the database is away.
    pub async fn address_rules(&self) -> Result<Vec<AddressRule>, HouseError> {
        Ok(self.store.address_rules(OffsetDateTime::now_utc()).await?)
    }

    /// The addresses that are blocked for what came from there, the newest first.
    pub fn blocked_addresses(&self) -> Vec<BlockedAddress> {
        self.addresses.blocked()
    }

    /// Makes a rule for callers from some addresses, in the place of another for the same ones. It holds at once, and
    /// for who comes from then on.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, there are too many, or the database is away.
    pub async fn add_address_rule(&self, form: AddAddressRule, by: &Actor) -> Result<AddressRule, HouseError> {
        let range: AddressRange = form.range.parse().map_err(|error| HouseError::invalid("range", error))?;
        let minutes = form.minutes.map(|minutes| at_most("minutes", minutes, MAX_MINUTES)).transpose()?;
        if minutes == Some(0) {
            return Err(HouseError::invalid(
                "minutes",
                "0 stands where 1 or more was expected; leave it out for no end",
            ));
        }
        let reception = reception_of(form.reception);
        let made_at = OffsetDateTime::now_utc();
        let rule = AddressRule {
            id: 0,
            range,
            reception,
            until: minutes.map(|minutes| made_at + Duration::minutes(minutes.into())),
            note: printable(form.note.unwrap_or_default().trim(), MAX_NOTE).into_owned(),
            made_at,
            made_by: by.to_string(),
        };
        let _turn = self.addresses.changing.lock().await;
        let id = self.store.set_address_rule(&rule, MOST_RULES).await?;
        let rule = AddressRule { id, ..rule };
        self.addresses.add_rule(rule.clone());
        tracing::info!(%range, reception = reception.word(), %by, "a rule for addresses is made");
        Ok(rule)
    }

    /// Takes a rule for addresses away.
    ///
    /// # Errors
    /// [`HouseError`] if there is none of this number, or the database is away.
    pub async fn remove_address_rule(&self, id: u64, by: &Actor) -> Result<(), HouseError> {
        let _turn = self.addresses.changing.lock().await;
        self.store.remove_address_rule(id).await?;
        self.addresses.remove_rule(id);
        tracing::info!(rule = id, %by, "a rule for addresses is taken away");
        Ok(())
    }

    /// Lets callers of an address be heard again that is blocked for what came from there.
    ///
    /// # Errors
    /// [`HouseError`] if it is not blocked so.
    pub fn release_address(&self, address: &str, by: &Actor) -> Result<(), HouseError> {
        let found = address.trim();
        let wrong = || format!("`{}` stands where an address like 192.0.2.7 was expected", printable(found, 60));
        let address: IpAddr = found.parse().map_err(|_| HouseError::invalid("address", wrong()))?;
        if !self.addresses.release(address) {
            return Err(HouseError::NotFound { kind: "blocked address", name: address.to_string() });
        }
        self.callers.forget(waverant_net::caller_of(address));
        tracing::info!(%address, %by, "a blocked address is released");
        Ok(())
    }
}
