use std::collections::BTreeMap;

use time::OffsetDateTime;
use toml::{Table, Value};
use waverant_relay::{AddressRule, CallTarget, HouseSystem, Secret, ViewingLink};
use waverant_setup::{FORM, Reference, write};
use waverant_store::{Channel, ChannelDestination, Depot, Destination, Person, Store, StoreError, StreamKey};

use super::describing::{self, Secrets};
use crate::words::role_word;

/// All of a house that a set-up speaks of, as it is in the records now.
#[derive(Debug)]
pub(super) struct Present {
    pub(super) depots: Vec<Depot>,
    pub(super) destinations: Vec<Destination>,
    pub(super) channels: Vec<Channel>,
    pub(super) sendings: Vec<ChannelDestination>,
    /// Those that may open something.
    pub(super) keys: Vec<StreamKey>,
    /// Those that lead to what is on air, and are not over.
    pub(super) links: Vec<ViewingLink>,
    pub(super) systems: Vec<HouseSystem>,
    pub(super) targets: Vec<CallTarget>,
    pub(super) people: Vec<Person>,
    /// By range: one that is changed gets another number.
    pub(super) addresses: Vec<AddressRule>,
    pub(super) now: OffsetDateTime,
}

impl Present {
    pub(super) async fn read(store: &Store) -> Result<Self, StoreError> {
        let now = OffsetDateTime::now_utc();
        let mut links = store.all_viewing_links().await?;
        links.retain(|link| link.take.is_none() && link.ends_at > now);
        let mut addresses = store.address_rules(now).await?;
        addresses.sort_by_key(|rule| rule.range.to_string());
        Ok(Self {
            depots: store.depots().await?,
            destinations: store.destinations().await?,
            channels: store.channels().await?,
            sendings: store.channel_destinations().await?,
            keys: current(store.all_keys().await?),
            links,
            systems: store.house_systems().await?,
            targets: store.call_targets().await?,
            people: store.people(now).await?,
            addresses,
            now,
        })
    }

    pub(super) fn channel_name(&self, id: u64) -> Option<&str> {
        self.channels.iter().find(|channel| channel.id == id).map(|channel| channel.name.as_str())
    }

    pub(super) fn system(&self, id: u64) -> Option<&HouseSystem> {
        self.systems.iter().find(|system| system.id == id)
    }

    /// The house as a set-up file, and the secrets that it refers to.
    pub(super) fn told(&self) -> (String, Vec<(Reference, Secret)>) {
        let mut secrets = Secrets::gathered();
        let mut whole = Table::new();
        whole.insert("form".to_owned(), FORM.into());
        let depots = self.depots.iter().map(|one| (one.name.clone(), describing::depot(one, &mut secrets)));
        put_named(&mut whole, "depots", depots.collect());
        let destinations = self
            .destinations
            .iter()
            .map(|one| (one.name.clone(), describing::destination(&one.name, &one.settings, &one.key, &mut secrets)));
        put_named(&mut whole, "destinations", destinations.collect());
        let channels = self.channels.iter().map(|one| (one.name.clone(), self.told_channel(one, &mut secrets)));
        put_named(&mut whole, "channels", channels.collect());
        if let Some(system) = self.system(HouseSystem::OF_HOUSE) {
            let secret = (&["house_system", "secret"][..], &system.secret);
            put(&mut whole, "house_system", describing::system(&system.rules, secret, &mut secrets).into());
        }
        let targets = self.targets.iter().map(|one| {
            let channel = one.rules.channel.and_then(|id| self.channel_name(id)).map(str::to_owned);
            (one.name.clone(), describing::target(one, channel, &mut secrets))
        });
        put_named(&mut whole, "call_targets", targets.collect());
        put_named(&mut whole, "people", self.people.iter().map(|one| self.told_person(one)).collect());
        put_list(&mut whole, "addresses", self.addresses.iter().map(describing::address).collect());
        let head =
            "# The set-up of a Waverant house: docs/setup.md says what may stand here. Secrets are kept elsewhere.\n";
        (format!("{head}{}", write(&whole)), secrets.into_met())
    }

    fn told_channel(&self, channel: &Channel, secrets: &mut Secrets) -> Table {
        let mut told = describing::channel(&channel.name, &channel.settings, secrets);
        let own = self.sendings.iter().filter(|one| one.channel_id == channel.id);
        let sendings = own.map(|one| (one.destination.name.clone(), describing::sending(one.sending)));
        put_named(&mut told, "destinations", sendings.collect());
        if let Some(system) = self.system(channel.id) {
            let path = ["channels", channel.name.as_str(), "house_system", "secret"];
            let system = describing::system(&system.rules, (&path, &system.secret), secrets);
            put(&mut told, "house_system", system.into());
        }
        let is_over = |key: &StreamKey| key.terms.rules.expires_at.is_some_and(|end| end <= self.now);
        let own = self.keys.iter().filter(|key| key.channel_id == channel.id && !is_over(key));
        let keys = own.map(|key| describing::key(&channel.name, key.right, &key.terms, secrets));
        put_list(&mut told, "keys", keys.collect());
        let own = self.links.iter().filter(|link| link.channel_id == channel.id);
        put_list(&mut told, "links", own.map(describing::link).collect());
        told
    }

    fn told_person(&self, person: &Person) -> (String, Table) {
        (person.user.name.clone(), self.roles_of(person))
    }

    /// What somebody may do, as the file writes it.
    pub(super) fn roles_of(&self, person: &Person) -> Table {
        let grants = &person.user.grants;
        let own = grants.channels();
        let own = own.filter_map(|(id, role)| Some((self.channel_name(id)?.to_owned(), role_word(role))));
        describing::person(grants.house().map(role_word), own.collect())
    }
}

/// Keys that are not retired; of those that stand for each other the newest.
fn current(keys: Vec<StreamKey>) -> Vec<StreamKey> {
    let mut newest: BTreeMap<u64, StreamKey> = BTreeMap::new();
    for key in keys.into_iter().filter(|key| key.retired.is_none()) {
        newest.insert(key.family, key);
    }
    newest.into_values().collect()
}

fn put(table: &mut Table, name: &str, value: Value) {
    table.insert(name.to_owned(), value);
}

fn put_named(table: &mut Table, name: &str, things: Vec<(String, Table)>) {
    if !things.is_empty() {
        let things: Table = things.into_iter().map(|(name, thing)| (name, Value::Table(thing))).collect();
        put(table, name, things.into());
    }
}

fn put_list(table: &mut Table, name: &str, things: Vec<Table>) {
    if !things.is_empty() {
        put(table, name, Value::Array(things.into_iter().map(Value::Table).collect()));
    }
}
