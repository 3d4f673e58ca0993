use waverant_calls::SigningSecret;
use waverant_model::HouseSystemRules;
use waverant_relay::{AskingRules, HouseSystem, Secret};
use waverant_setup::{Path, SystemForm};

use super::{Planner, Secrets, Step, Thing, thing, thing_of};
use crate::HouseError;
use crate::changes::asking::checked;
use crate::setup::describing;

impl Planner<'_> {
    /// Of a channel, by name and by number if it has one, or of the house.
    pub(super) fn plan_system(&mut self, channel: Option<(&str, Option<u64>)>, form: Option<SystemForm>) {
        let (at, thing) = place_of(channel);
        // A channel that is to be added has a number that no system has.
        let id = channel.map_or(HouseSystem::OF_HOUSE, |(_, id)| id.unwrap_or(u64::MAX));
        let before = self.present.system(id);
        let name = channel.map(|(name, _)| name.to_owned());
        let Some(form) = form else {
            // A channel that is listed without a system has none; the house may be another file's.
            if before.is_some() && channel.is_some() && self.unlisted(thing) {
                self.plan.removals.push(Step::RemoveSystem { channel: name });
            }
            return;
        };
        let before_secret = before.map(|system| &system.secret);
        let given = self.secret(&at.with("secret"), form.secret.as_ref(), before_secret);
        let given = given.or_else(|| before_secret.cloned());
        let is_made = given.is_none();
        let secret = given.unwrap_or_else(SigningSecret::make);
        let checked = readable(&secret).and_then(|()| checked(&asked(form), id));
        let Some(rules) = self.checked(&at, "rules.", checked) else { return };
        let path = [""];
        let describe =
            |rules: &AskingRules| describing::system(rules, (&path, &secret), &mut describing::Secrets::default());
        let tables = (before.map(|system| describe(&system.rules)), describe(&rules));
        let secrets = Secrets::default().with("secret", before_secret, Some(&secret));
        if self.note(thing, Some(&at), (tables.0.as_ref(), Some(&tables.1)), secrets) {
            self.plan.steps.push(Step::SetSystem { channel: name, rules, secret, is_made });
        }
    }
}

fn place_of(channel: Option<(&str, Option<u64>)>) -> (Path, Thing) {
    match channel {
        Some((name, _)) => {
            (Path::of(&["channels", name, "house_system"]), thing_of(name, "house system", "asked for it"))
        }
        None => (Path::of(&["house_system"]), thing("house system", "of the house")),
    }
}

fn readable(secret: &Secret) -> Result<(), HouseError> {
    SigningSecret::read(secret).map(drop).map_err(|error| HouseError::invalid("secret", error))
}

fn asked(form: SystemForm) -> HouseSystemRules {
    let usual = HouseSystemRules::usual(form.address);
    HouseSystemRules {
        is_on: form.is_on.unwrap_or(usual.is_on),
        publishers: form.publishers.unwrap_or(usual.publishers),
        players: form.players.unwrap_or(usual.players),
        unknown_keys: form.unknown_keys.unwrap_or(usual.unknown_keys),
        when_silent: form.when_silent.unwrap_or(usual.when_silent),
        time_limit_ms: form.time_limit_ms.unwrap_or(usual.time_limit_ms),
        retries: form.retries.unwrap_or(usual.retries),
        again_s: form.again_s,
        ..usual
    }
}
