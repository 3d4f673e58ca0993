//! Keys that somebody chose.

use std::sync::Arc;

use waverant_relay::{Secret, own_key_fault};
use waverant_store::StoreError;
use zxcvbn::zxcvbn;

use crate::{House, HouseError};

/// So many tries, as a power of ten, no program makes at our doors.
const OUT_OF_REACH: f64 = 14.0;

/// Below this it is a matter of days.
const WITHIN_REACH: f64 = 8.0;

impl House {
    /// Looks whether a text can be a key, and says what it costs that it was chosen.
    pub(super) async fn checked_own_key(
        self: &Arc<Self>,
        own: &Secret,
        label: &str,
    ) -> Result<Option<String>, HouseError> {
        let (house, own, label) = (self.clone(), own.clone(), label.to_owned());
        // A long text takes its time.
        tokio::task::spawn_blocking(move || house.own_key_warning(&own, &label)).await?
    }

    /// The same, where it may take its time.
    pub(crate) fn own_key_warning(&self, own: &Secret, label: &str) -> Result<Option<String>, HouseError> {
        own_key_fault(own.reveal()).map_err(|error| HouseError::invalid("key", error))?;
        let directory = self.directory();
        if directory.gate().is_public(own.reveal()) {
            return Err(HouseError::invalid("key", "it is the name of a channel, which everybody can read"));
        }
        let names: Vec<String> =
            directory.channels().flat_map(|rules| [rules.name.to_string(), rules.title.clone()]).collect();
        Ok(warning(own.reveal(), label, &names))
    }
}

/// What is to be known of a key, if it can be guessed sooner than one that is made here.
fn warning(key: &str, label: &str, names: &[String]) -> Option<String> {
    let hints: Vec<&str> = names.iter().map(String::as_str).chain([label]).collect();
    let reach = zxcvbn(key, &hints).guesses_log10();
    if reach >= OUT_OF_REACH {
        return None;
    }
    let length = key.chars().count();
    let tries = format!("about 10^{reach:.0} tries");
    Some(if reach < WITHIN_REACH {
        format!(
            "This key of {length} characters is easily guessed: in {tries}, while one that is made here takes 10^39. \
             Whoever finds it publishes on the channel. Let it be used from known addresses only, or renew it soon."
        )
    } else {
        format!("This key of {length} characters can be guessed in {tries}; one that is made here takes 10^39.")
    })
}

/// A key that is there already is a matter of the key, not of its label.
pub(super) fn taken(error: StoreError) -> HouseError {
    match error {
        StoreError::NameTaken(label) => {
            HouseError::Conflict(format!("the key for `{label}` opens something already; choose another one"))
        }
        error => error.into(),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("boathouse", Some("easily guessed"))]
    #[case("password1", Some("easily guessed"))]
    #[case("Wexcombe2019", Some("easily guessed"))]
    #[case("qz7-Vb2!kx", Some("can be guessed"))]
    #[case("qz7Vb2kxm4Lr9TwpYc3h", None)]
    fn what_a_chosen_key_costs_is_told(#[case] key: &str, #[case] expected: Option<&str>) {
        let names = ["boathouse".to_owned(), "Wexcombe".to_owned()];
        let told = warning(key, "van", &names);
        let fits = expected.map_or(told.is_none(), |part| told.as_ref().is_some_and(|told| told.contains(part)));
        assert!(fits, "{told:?}");
        assert!(told.is_none_or(|told| !told.contains(key)));
    }
}
