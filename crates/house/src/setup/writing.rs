use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;
use std::time::Duration;

use time::OffsetDateTime;
use tokio::time::timeout;
use waverant_relay::{AddressRule, CallTarget, Grants, HouseSystem, Role, Secret};
use waverant_store::{Channel, MadeStreamKey, SetupWriter, StoreError};

use super::planning::{SetupChange, SetupPlan, Step};
use crate::changes::addresses::MOST_RULES;
use crate::changes::call_targets::MOST_TARGETS;
use crate::changes::keys::{password_of, told};
use crate::{House, HouseError, MadeKey};

/// How long all of a set-up may take to be written.
const PATIENCE: Duration = Duration::from_secs(60);

/// How long who is let in may take to choose a password.
const INVITED_FOR: time::Duration = time::Duration::hours(72);

/// Somebody who was let in; the only place where the code is known.
#[derive(Debug)]
pub struct MadeInvitation {
    /// Who.
    pub name: String,
    /// The one-time code.
    pub code: Secret,
    /// When it ends.
    pub ends_at: OffsetDateTime,
}

/// A signing secret that was made; the only place where it is known.
#[derive(Debug)]
pub struct MadeSecret {
    /// Of what.
    pub name: String,
    /// The secret.
    pub secret: Secret,
}

/// What came of a set-up.
#[derive(Debug, Default)]
pub struct SetupApplied {
    /// What is other than before.
    pub changes: Vec<SetupChange>,
    /// What is worth knowing.
    pub remarks: Vec<String>,
    /// Keys that were made or brought along.
    pub keys: Vec<MadeKey>,
    /// Who was let in.
    pub invitations: Vec<MadeInvitation>,
    /// Signing secrets that were made.
    pub secrets: Vec<MadeSecret>,
    /// Whose roles are other than before.
    pub people: Vec<String>,
}

impl House {
    /// Writes a plan that has no faults, and makes it hold.
    pub(super) async fn write_setup(self: &Arc<Self>, plan: SetupPlan) -> Result<SetupApplied, HouseError> {
        if plan.changes.is_empty() {
            return Ok(SetupApplied { remarks: plan.remarks, ..SetupApplied::default() });
        }
        let written = timeout(PATIENCE, self.written(plan.steps.into_iter().chain(plan.removals)));
        let effects = written.await.unwrap_or(Err(StoreError::Slow)).map_err(changed_meanwhile)?;
        let keys = self.take_effect(&effects).await;
        let Effects { invitations, secrets, people, .. } = effects;
        Ok(SetupApplied { changes: plan.changes, remarks: plan.remarks, keys, invitations, secrets, people })
    }

    async fn written(&self, steps: impl Iterator<Item = Step>) -> Result<Effects, StoreError> {
        let now = OffsetDateTime::now_utc();
        let channels = self.store.channels().await?.into_iter().map(|channel| (channel.name, channel.id)).collect();
        let destinations = self.store.destinations().await?.into_iter().map(|one| (one.name, one.id)).collect();
        let writer = self.store.begin_setup(now).await?;
        let mut writing = Writing { writer, channels, destinations, now, effects: Effects::default() };
        for step in steps {
            writing.write(step).await?;
        }
        let Writing { writer, mut effects, .. } = writing;
        effects.touched = writer.commit().await?;
        Ok(effects)
    }

    /// What is written holds for doors, shows and couriers. That it could not be read at once is no reason to tell nobody
    /// which keys were made: it is followed later then.
    async fn take_effect(self: &Arc<Self>, effects: &Effects) -> Vec<MadeKey> {
        for target in &effects.targets {
            self.ledger.telling.put_target(target.clone());
            if let Err(error) = self.couriers.target_changed(target.id).await {
                tracing::warn!(%error, "what waits for a target of calls is told later");
            }
        }
        let removed: HashSet<u64> = effects.removed_channels.iter().map(|(id, _)| *id).collect();
        self.ledger.telling.drop_targets(|target| {
            effects.removed_targets.contains(&target.id) || target.rules.channel.is_some_and(|id| removed.contains(&id))
        });
        effects.removed_addresses.iter().for_each(|id| self.addresses.remove_rule(*id));
        effects.addresses.iter().for_each(|rule| self.addresses.add_rule(rule.clone()));
        for (channel, destination) in &effects.sendings {
            if let Some(show) = self.show(*channel) {
                show.release_destination(destination);
            }
        }
        if let Err(error) = self.follow(effects.touched.iter().copied()).await {
            tracing::warn!(%error, "a set-up is written and holds later");
        }
        effects.systems.iter().for_each(|id| self.asking.forget(*id));
        for (id, name) in &effects.removed_channels {
            self.remove_pictures(*id, name).await;
        }
        self.told_keys(&effects.keys).await
    }

    async fn told_keys(&self, made: &[(u64, MadeStreamKey, Option<String>)]) -> Vec<MadeKey> {
        let ids: BTreeSet<u64> = made.iter().map(|(channel, _, _)| *channel).collect();
        let ids: Vec<u64> = ids.into_iter().collect();
        let channels = if ids.is_empty() { Ok(Vec::new()) } else { self.store.channels_by_id(&ids).await };
        let channels: Vec<Channel> = channels.unwrap_or_else(|error| {
            tracing::error!(%error, "keys were made and cannot be told; renew them");
            Vec::new()
        });
        let channels: HashMap<u64, Channel> = channels.into_iter().map(|channel| (channel.id, channel)).collect();
        let told = made
            .iter()
            .filter_map(|(channel, key, warning)| Some(told(channels.get(channel)?, key.clone(), warning.clone())));
        told.collect()
    }
}

/// What was there when it was planned and is not any more, was changed by somebody else.
fn changed_meanwhile(error: StoreError) -> HouseError {
    match error {
        StoreError::NotFound { kind, name } => {
            HouseError::Conflict(format!("The {kind} `{name}` is gone meanwhile. Review the file again."))
        }
        StoreError::NameTaken(name) => HouseError::Conflict(format!(
            "`{name}` is there meanwhile, or opens something already. Review the file again."
        )),
        error => error.into(),
    }
}

/// What has to follow once all is written.
#[derive(Default)]
struct Effects {
    touched: BTreeSet<u64>,
    keys: Vec<(u64, MadeStreamKey, Option<String>)>,
    invitations: Vec<MadeInvitation>,
    secrets: Vec<MadeSecret>,
    people: Vec<String>,
    systems: Vec<u64>,
    targets: Vec<CallTarget>,
    removed_targets: HashSet<u64>,
    addresses: Vec<AddressRule>,
    removed_addresses: Vec<u64>,
    removed_channels: Vec<(u64, String)>,
    sendings: Vec<(u64, String)>,
}

struct Writing<'s> {
    writer: SetupWriter<'s>,
    channels: HashMap<String, u64>,
    destinations: HashMap<String, u64>,
    now: OffsetDateTime,
    effects: Effects,
}

impl Writing<'_> {
    async fn write(&mut self, step: Step) -> Result<(), StoreError> {
        match step {
            Step::AddDepot(depot) => self.writer.add_depot(&depot).await,
            Step::ChangeDepot(depot) => self.writer.change_depot(&depot).await,
            Step::RemoveDepot(name) => self.writer.remove_depot(&name).await,
            Step::AddDestination { name, settings, key } => {
                let id = self.writer.add_destination(&name, &settings, &key).await?;
                self.destinations.insert(name, id);
                Ok(())
            }
            Step::ChangeDestination { id, settings, key } => self.writer.change_destination(id, &settings, &key).await,
            Step::RemoveDestination { id, name } => self.writer.remove_destination(id, &name).await,
            Step::AddChannel { name, settings } => {
                let id = self.writer.add_channel(&name, &settings).await?;
                self.channels.insert(name, id);
                Ok(())
            }
            Step::ChangeChannel { id, settings } => self.writer.change_channel(id, &settings).await,
            Step::RemoveChannel { id, name } => {
                self.writer.remove_channel(id, &name).await?;
                self.effects.removed_channels.push((id, name));
                Ok(())
            }
            step => self.write_of_channel(step).await,
        }
    }

    async fn write_of_channel(&mut self, step: Step) -> Result<(), StoreError> {
        match step {
            Step::SetSending { channel, destination, sending } => {
                let (id, to) = (self.channel(&channel)?, self.destination(&destination)?);
                self.writer.set_sending(id, to, sending).await?;
                self.effects.sendings.push((id, destination));
                Ok(())
            }
            Step::RemoveSending { channel, destination } => {
                let (id, to) = (self.channel(&channel)?, self.destination(&destination)?);
                self.writer.remove_sending(id, to).await
            }
            Step::AddKeys { channel, keys } => {
                let id = self.channel(&channel)?;
                let (new, warnings): (Vec<_>, Vec<_>) = keys.into_iter().unzip();
                let made = self.writer.add_keys(id, &new, &password_of).await?;
                self.effects.keys.extend(made.into_iter().zip(warnings).map(|(key, warning)| (id, key, warning)));
                Ok(())
            }
            Step::ChangeKey { channel, id, terms } => {
                let channel = self.channel(&channel)?;
                self.writer.change_key(channel, id, &terms).await
            }
            Step::RetireKey { channel, id } => {
                let channel = self.channel(&channel)?;
                self.writer.retire_key(channel, id).await
            }
            Step::AddLink { channel, link } => {
                let channel = self.channel(&channel)?;
                self.writer.add_link(channel, &link).await
            }
            Step::ChangeLink { channel, id, link } => {
                let channel = self.channel(&channel)?;
                self.writer.change_link(channel, id, &link).await
            }
            Step::RemoveLink { channel, id } => {
                let channel = self.channel(&channel)?;
                self.writer.remove_link(channel, id).await
            }
            step => self.write_of_house(step).await,
        }
    }

    async fn write_of_house(&mut self, step: Step) -> Result<(), StoreError> {
        match step {
            Step::SetSystem { channel, rules, secret, is_made } => {
                let id = self.system(channel.as_deref())?;
                self.writer.set_house_system(&HouseSystem { id, rules, secret: secret.clone() }).await?;
                let of = channel.map_or_else(|| "house system".to_owned(), |name| format!("house system of {name}"));
                self.note_secret(is_made, of, secret);
                self.effects.systems.push(id);
            }
            Step::RemoveSystem { channel } => {
                let id = self.system(channel.as_deref())?;
                self.writer.remove_house_system(id).await?;
                self.effects.systems.push(id);
            }
            Step::SetTarget { target, channel, is_made } => self.write_target(*target, channel, is_made).await?,
            Step::RemoveTarget { id, name } => {
                self.writer.remove_call_target(id, &name).await?;
                self.effects.removed_targets.insert(id);
            }
            Step::SetPerson { name, is_new, role, channels } => {
                self.write_person(name, is_new, role, channels).await?;
            }
            Step::RemovePerson(name) => {
                self.writer.remove_person(&name).await?;
                self.effects.people.push(name);
            }
            Step::SetAddress(rule) => {
                let id = self.writer.set_address_rule(&rule, MOST_RULES).await?;
                self.effects.addresses.push(AddressRule { id, ..rule });
            }
            Step::RemoveAddress(id) => {
                self.writer.remove_address_rule(id).await?;
                self.effects.removed_addresses.push(id);
            }
            other => tracing::error!(?other, "a step of a set-up is unknown"),
        }
        Ok(())
    }

    async fn write_target(
        &mut self,
        mut target: CallTarget,
        channel: Option<String>,
        is_made: bool,
    ) -> Result<(), StoreError> {
        target.rules.channel = channel.map(|name| self.channel(&name)).transpose()?;
        if target.id == 0 {
            target.id = self.writer.add_call_target(&target, MOST_TARGETS).await?;
        } else {
            self.writer.change_call_target(&target).await?;
        }
        self.note_secret(is_made, format!("call target {}", target.name), target.secret.clone());
        self.effects.targets.push(target);
        Ok(())
    }

    async fn write_person(
        &mut self,
        name: String,
        is_new: bool,
        role: Option<Role>,
        channels: Vec<(String, Role)>,
    ) -> Result<(), StoreError> {
        let own: Result<Vec<(u64, Role)>, StoreError> =
            channels.into_iter().map(|(name, role)| Ok((self.channel(&name)?, role))).collect();
        let grants = Grants::new(role, own?);
        if is_new {
            let ends_at = self.now + INVITED_FOR;
            let code = self.writer.add_person(&name, &grants, ends_at).await?;
            self.effects.invitations.push(MadeInvitation { name, code, ends_at });
        } else {
            self.writer.change_person(&name, &grants).await?;
            self.effects.people.push(name);
        }
        Ok(())
    }

    fn note_secret(&mut self, is_made: bool, name: String, secret: Secret) {
        if is_made {
            self.effects.secrets.push(MadeSecret { name, secret });
        }
    }

    fn system(&self, channel: Option<&str>) -> Result<u64, StoreError> {
        channel.map_or(Ok(HouseSystem::OF_HOUSE), |name| self.channel(name))
    }

    fn channel(&self, name: &str) -> Result<u64, StoreError> {
        let missing = || StoreError::NotFound { kind: "channel", name: name.to_owned() };
        self.channels.get(name).copied().ok_or_else(missing)
    }

    fn destination(&self, name: &str) -> Result<u64, StoreError> {
        let missing = || StoreError::NotFound { kind: "destination", name: name.to_owned() };
        self.destinations.get(name).copied().ok_or_else(missing)
    }
}
