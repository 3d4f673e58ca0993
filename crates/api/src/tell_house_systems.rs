use waverant_house::SystemCondition;
use waverant_model as model;
use waverant_relay::{HouseSystem, UnknownKeys, WhenSilent};

/// A system that is asked, without its secret.
pub(crate) fn house_system(system: &HouseSystem, condition: SystemCondition) -> model::HouseSystem {
    let rules = &system.rules;
    let millis = |time: std::time::Duration| u64::try_from(time.as_millis()).unwrap_or(u64::MAX);
    let rules = model::HouseSystemRules {
        address: rules.address.clone(),
        is_on: rules.is_on,
        publishers: rules.publishers,
        players: rules.players,
        unknown_keys: match rules.unknown_keys {
            UnknownKeys::NotAsked => model::UnknownKeys::NotAsked,
            UnknownKeys::Prefix => model::UnknownKeys::Prefix,
            UnknownKeys::Digest => model::UnknownKeys::Digest,
            UnknownKeys::Whole => model::UnknownKeys::Whole,
        },
        when_silent: match rules.when_silent {
            WhenSilent::Closed => model::WhenSilent::Closed,
            WhenSilent::KnownKeys => model::WhenSilent::KnownKeys,
        },
        time_limit_ms: u32::try_from(millis(rules.time_limit)).unwrap_or(u32::MAX),
        retries: rules.retries,
        again_s: rules.again.map(|again| u32::try_from(again.as_secs()).unwrap_or(u32::MAX)),
    };
    let (answered_at, took) = condition.answered.unzip();
    let (silent_at, silence) = condition.silence.unzip();
    let condition = model::HouseSystemCondition {
        asked: condition.asked,
        silent: condition.silent,
        answered_at,
        took_ms: took.map(millis),
        silent_at,
        silence,
        is_resting: condition.is_resting,
    };
    model::HouseSystem { rules, condition }
}
