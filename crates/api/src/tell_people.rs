//! How people, roles and tokens are told to callers, and what callers mean by them.

use waverant_house::{Directory, role_word};
use waverant_model as model;
use waverant_relay::{ActBy, ActOutcome, Grants};
use waverant_store as store;

/// `own` is the number of the token by which it is asked.
pub(crate) fn token(from: store::TokenRecord, directory: &Directory, own: u64) -> model::Token {
    let store::TokenRecord { id, label, scope, addresses, created_at, expires_at, device, address, last_used_at } =
        from;
    let names = |ids: Vec<u64>| ids.into_iter().map(|id| channel_name(directory, id)).collect();
    model::Token {
        id,
        label,
        role: scope.most.map(role_word),
        channels: scope.channels.map(names),
        addresses: addresses.iter().map(ToString::to_string).collect(),
        created_at,
        expires_at,
        device,
        address,
        last_used_at,
        is_this: id == own,
    }
}

/// The role in the house, and those on single channels.
pub(crate) fn told_grants(grants: &Grants, directory: &Directory) -> (Option<model::Role>, Vec<model::ChannelRole>) {
    let own = grants.channels();
    let own = own.map(|(id, role)| model::ChannelRole { channel: channel_name(directory, id), role: role_word(role) });
    (grants.house().map(role_word), own.collect())
}

/// A channel that is gone has no name.
fn channel_name(directory: &Directory, id: u64) -> String {
    directory.channel(id).map_or_else(|| format!("(removed {id})"), |rules| rules.name.to_string())
}

pub(crate) fn act(from: store::ActRecord) -> model::Act {
    let store::ActRecord { id, act } = from;
    let object = |text: Option<String>| text.and_then(|text| serde_json::from_str(&text).ok());
    model::Act {
        id,
        at: act.at,
        person: act.person,
        by: match act.by {
            ActBy::Console => model::ActBy::Console,
            ActBy::CommandLine => model::ActBy::CommandLine,
            ActBy::Program => model::ActBy::Program,
            ActBy::Stranger => model::ActBy::Stranger,
            ActBy::Machine => model::ActBy::Machine,
        },
        token: act.token,
        address: act.address,
        what: act.what,
        channel: act.channel,
        subject: act.subject,
        outcome: match act.outcome {
            ActOutcome::Done => model::ActOutcome::Done,
            ActOutcome::Refused => model::ActOutcome::Refused,
            ActOutcome::Failed => model::ActOutcome::Failed,
        },
        reason: act.reason,
        before: object(act.before),
        after: object(act.after),
    }
}
