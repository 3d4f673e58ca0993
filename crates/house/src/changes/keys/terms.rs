//! What is said of keys, checked.

use time::OffsetDateTime;
use waverant_model::{
    AddKey, ChangeKey, KeyRules as Asked, Moment, OpenHours as AskedHours, Protocol as AskedProtocol,
};
use waverant_relay::{AddressRange, KeyRight, KeyRules, OpenHours, Protocol, Secret};
use waverant_srt::Passphrase;
use waverant_store::{KeyTerms, StreamKey, new_passphrase};

use crate::HouseError;
use crate::changes::checked_text;
use crate::words::{protocol_of, when_over_of};

const MAX_LABEL: usize = 96;

/// The lowest rank of a key.
const LOWEST_RANK: u8 = 9;

/// The most addresses and networks of a key.
const MAX_RANGES: usize = 8;

/// The most players of a viewing key.
const MOST_PLAYERS: u32 = 10_000;

/// What a new key is to be.
pub(crate) fn made(form: AddKey, right: KeyRight, now: OffsetDateTime) -> Result<KeyTerms, HouseError> {
    let Asked { starts_at, expires_at, hours, allowed_from, protocols, most_connections, show_when_over } = form.rules;
    let rules = KeyRules {
        starts_at,
        expires_at: checked_end(expires_at, now)?,
        hours: checked_hours(hours)?,
        allowed_from: checked_ranges(&allowed_from)?,
        protocols: checked_protocols(&protocols),
        most_connections: checked_connections(most_connections, right)?,
        when_over: when_over_of(show_when_over),
    };
    check_order(&rules)?;
    let passphrase = match form.passphrase.as_ref().map(|text| text.reveal()) {
        Some(_) if form.makes_passphrase => {
            return Err(HouseError::invalid("passphrase", "it is given, and another one is to be made; leave one out"));
        }
        None | Some("") => form.makes_passphrase.then(new_passphrase),
        Some(text) => Some(checked_passphrase(text)?),
    };
    let label = checked_text("label", &form.label, MAX_LABEL)?;
    Ok(KeyTerms { label, rank: checked_rank(form.rank)?, rules, passphrase })
}

/// What a key is to be after a change.
pub(super) fn changed(form: ChangeKey, present: &StreamKey, now: OffsetDateTime) -> Result<KeyTerms, HouseError> {
    let before = present.terms.clone();
    let moment = |given: Option<Moment>| given.map(|moment| moment.0);
    let rules = KeyRules {
        starts_at: form.starts_at.map_or(before.rules.starts_at, moment),
        expires_at: match form.expires_at {
            Some(end) => checked_end(moment(end), now)?,
            None => before.rules.expires_at,
        },
        hours: form.hours.map_or(Ok(before.rules.hours), checked_hours)?,
        allowed_from: form.allowed_from.map_or(Ok(before.rules.allowed_from), |ranges| checked_ranges(&ranges))?,
        protocols: form.protocols.map_or(before.rules.protocols, |protocols| checked_protocols(&protocols)),
        most_connections: match form.most_connections {
            Some(most) => checked_connections(most, present.right)?,
            None => before.rules.most_connections,
        },
        when_over: form.show_when_over.map_or(before.rules.when_over, when_over_of),
    };
    check_order(&rules)?;
    Ok(KeyTerms {
        label: form.label.map_or(Ok(before.label), |label| checked_text("label", &label, MAX_LABEL))?,
        rank: form.rank.map_or(Ok(before.rank), checked_rank)?,
        rules,
        passphrase: match form.passphrase.as_ref().map(|text| text.reveal()) {
            None => before.passphrase,
            Some("") => None,
            Some(text) => Some(checked_passphrase(text)?),
        },
    })
}

fn checked_rank(rank: u8) -> Result<u8, HouseError> {
    let is_known = rank <= LOWEST_RANK;
    let fault = || HouseError::invalid("rank", format!("{rank} is not between 0 and {LOWEST_RANK}"));
    is_known.then_some(rank).ok_or_else(fault)
}

fn checked_end(end: Option<OffsetDateTime>, now: OffsetDateTime) -> Result<Option<OffsetDateTime>, HouseError> {
    if end.is_some_and(|end| end <= now) {
        return Err(HouseError::invalid("expires_at", "it is in the past; to end a key now, retire it"));
    }
    Ok(end)
}

fn check_order(rules: &KeyRules) -> Result<(), HouseError> {
    match rules.starts_at.zip(rules.expires_at) {
        Some((start, end)) if start >= end => {
            Err(HouseError::invalid("starts_at", "it is not before `expires_at`: the key would never open"))
        }
        _ => Ok(()),
    }
}

fn checked_hours(hours: Option<AskedHours>) -> Result<Option<OpenHours>, HouseError> {
    let checked = hours.map(|hours| OpenHours::new(&hours.zone, &hours.windows)).transpose();
    checked.map_err(|error| HouseError::invalid("hours", error))
}

fn checked_ranges(ranges: &[String]) -> Result<Vec<AddressRange>, HouseError> {
    if ranges.len() > MAX_RANGES {
        return Err(HouseError::invalid("allowed_from", format!("{} are more than {MAX_RANGES}", ranges.len())));
    }
    let parsed = ranges.iter().map(|range| range.parse::<AddressRange>()).collect::<Result<_, _>>();
    parsed.map_err(|error| HouseError::invalid("allowed_from", error))
}

/// In one order, each once.
fn checked_protocols(asked: &[AskedProtocol]) -> Vec<Protocol> {
    let asked: Vec<Protocol> = asked.iter().map(|protocol| protocol_of(*protocol)).collect();
    Protocol::ALL.into_iter().map(|(protocol, _)| protocol).filter(|protocol| asked.contains(protocol)).collect()
}

fn checked_connections(most: Option<u32>, right: KeyRight) -> Result<Option<u32>, HouseError> {
    let fault = |text: String| Err(HouseError::invalid("most_connections", text));
    match (most, right) {
        (Some(0), _) => fault("0 would let nobody in; retire the key instead".to_owned()),
        (Some(most), KeyRight::Publish) if most > 1 => fault(format!(
            "{most} encoders cannot be the show at once: with 1 a second is turned away, without a number it takes over; \
             make a key of its own for each"
        )),
        (Some(most), KeyRight::View) if most > MOST_PLAYERS => fault(format!("{most} is more than {MOST_PLAYERS}")),
        _ => Ok(most),
    }
}

fn checked_passphrase(text: &str) -> Result<Secret, HouseError> {
    Passphrase::new(text).map_err(|error| HouseError::invalid("passphrase", error))?;
    Ok(Secret::new(text))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::json;
    use time::macros::datetime;

    use super::*;

    const NOW: OffsetDateTime = datetime!(2026-05-01 12:00 UTC);

    fn form(fields: serde_json::Value) -> AddKey {
        let mut whole = json!({ "label": "van" });
        whole.as_object_mut().unwrap().extend(fields.as_object().unwrap().clone());
        serde_json::from_value(whole).unwrap()
    }

    #[rstest]
    #[case::rank(json!({ "rank": 10 }), "rank")]
    #[case::end(json!({ "expires_at": "2026-05-01T12:00:00Z" }), "expires_at")]
    #[case::order(json!({ "starts_at": "2026-06-02T12:00:00Z", "expires_at": "2026-06-01T12:00:00Z" }), "starts_at")]
    #[case::zone(json!({ "hours": { "zone": "Wexcombe", "windows": ["mon 08:00-09:00"] } }), "hours")]
    #[case::window(json!({ "hours": { "zone": "UTC", "windows": ["mon 8-9"] } }), "hours")]
    #[case::no_window(json!({ "hours": { "zone": "UTC", "windows": [] } }), "hours")]
    #[case::range(json!({ "allowed_from": ["the boathouse"] }), "allowed_from")]
    #[case::ranges(json!({ "allowed_from": ["192.0.2.1", "192.0.2.2", "192.0.2.3", "192.0.2.4", "192.0.2.5", "192.0.2.6", "192.0.2.7", "192.0.2.8", "192.0.2.9"] }), "allowed_from")]
    #[case::nobody(json!({ "most_connections": 0 }), "most_connections")]
    #[case::two_encoders(json!({ "most_connections": 2 }), "most_connections")]
    #[case::short_passphrase(json!({ "passphrase": "short" }), "passphrase")]
    #[case::two_passphrases(json!({ "passphrase": "long enough", "makes_passphrase": true }), "passphrase")]
    #[case::no_label(json!({ "label": " " }), "label")]
    fn what_cannot_be_is_told_by_its_field(#[case] fields: serde_json::Value, #[case] expected: &str) {
        match made(form(fields), KeyRight::Publish, NOW) {
            Err(HouseError::Invalid { field, .. }) => assert_eq!(field, expected),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn a_change_changes_what_it_says_and_nothing_else() {
        let full = json!({
            "rank": 2, "starts_at": "2026-05-02T12:00:00Z", "expires_at": "2026-06-01T12:00:00Z",
            "hours": { "zone": "UTC", "windows": ["mon 08:00-09:00"] }, "allowed_from": ["192.0.2.0/24"],
            "protocols": ["srt", "rtmps", "srt"], "most_connections": 1, "show_when_over": "goes_on",
            "passphrase": "over the weir",
        });
        let terms = made(form(full), KeyRight::Publish, NOW).unwrap();
        assert_eq!(terms.rules.protocols, [Protocol::Rtmps, Protocol::Srt]);
        let present = StreamKey {
            id: 1,
            family: 1,
            channel_id: 1,
            right: KeyRight::Publish,
            terms: terms.clone(),
            prefix: "abcdefg".to_owned(),
            is_own: false,
            digest: [0; 32],
            password: None,
            created_at: NOW,
            retired: None,
            last_use: None,
            guest: None,
        };
        let change = |fields| changed(serde_json::from_value(fields).unwrap(), &present, NOW);
        assert_eq!(change(json!({})).unwrap(), terms);
        let cleared = change(json!({
            "starts_at": null, "expires_at": null, "hours": null, "allowed_from": [], "protocols": [],
            "most_connections": null, "show_when_over": "ends", "passphrase": "", "rank": 0, "label": "bus",
        }));
        assert_eq!(cleared.unwrap(), KeyTerms { label: "bus".to_owned(), ..KeyTerms::default() });
        let later = change(json!({ "starts_at": "2026-07-01T12:00:00Z" }));
        assert!(matches!(later, Err(HouseError::Invalid { field: "starts_at", .. })));
    }
}
