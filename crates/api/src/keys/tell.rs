use time::OffsetDateTime;
use waverant_house::{gate_key, protocol_word, right_word, when_over_word};
use waverant_model::{KeyRules, KeyState, LastUse, OpenHours, Retired, StreamKey};
use waverant_relay::KeyStanding;
use waverant_store as store;

/// A key's record, and whether it opens now.
pub(super) fn key(from: store::StreamKey) -> StreamKey {
    let (standing, turns_at) = gate_key(from.clone()).standing(OffsetDateTime::now_utc());
    StreamKey {
        id: from.id,
        right: right_word(from.right),
        rank: from.terms.rank,
        rules: rules(&from.terms.rules),
        label: from.terms.label,
        prefix: from.prefix,
        is_own: from.is_own,
        created_at: from.created_at,
        has_passphrase: from.terms.passphrase.is_some(),
        state: state(standing),
        turns_at,
        stands_for: Some(from.family).filter(|family| *family != from.id),
        retired: from.retired.map(|(at, show)| Retired { at, show: when_over_word(show) }),
        last_use: from.last_use.map(|used| LastUse {
            at: used.used_at,
            address: used.address,
            encoder: used.encoder,
            protocol: used.protocol,
        }),
        guest_link_until: from.guest.map(|guest| guest.until),
    }
}

pub(super) fn rules(from: &waverant_relay::KeyRules) -> KeyRules {
    let hours = from.hours.as_ref();
    KeyRules {
        starts_at: from.starts_at,
        expires_at: from.expires_at,
        hours: hours.map(|hours| OpenHours { zone: hours.zone().to_owned(), windows: hours.windows().collect() }),
        allowed_from: from.allowed_from.iter().map(ToString::to_string).collect(),
        protocols: from.protocols.iter().map(|protocol| protocol_word(*protocol)).collect(),
        most_connections: from.most_connections,
        show_when_over: when_over_word(from.when_over),
    }
}

pub(super) fn state(standing: KeyStanding) -> KeyState {
    match standing {
        KeyStanding::Open => KeyState::Open,
        KeyStanding::Early => KeyState::Early,
        KeyStanding::OutOfHours => KeyState::OutOfHours,
        KeyStanding::Expired => KeyState::Expired,
        KeyStanding::Retired => KeyState::Retired,
    }
}
