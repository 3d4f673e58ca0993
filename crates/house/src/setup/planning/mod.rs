//! What a set-up file changes of a house: what it says is checked as every change is, and compared with what there is.

mod addresses;
mod channels;
mod depots;
mod destinations;
mod keys;
mod links;
mod people;
mod steps;
mod systems;
mod targets;

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use toml::Table;
use waverant_model::Hidden;
use waverant_relay::Secret;
use waverant_setup::{Difference, Document, Fault, Path, Place, Reference, SecretText, Setup, differences};
use waverant_store::Depot;

pub(super) use steps::Step;

use super::present::Present;
use crate::{House, HouseError};

/// A set-up file and what belongs to it.
#[derive(Debug)]
pub struct SetupRequest {
    /// The file.
    pub text: String,
    /// What stands for references of the file.
    pub secrets: HashMap<String, Hidden>,
    /// Whether what the house has of a kind that the file lists, and the file does not list, is removed.
    pub removes_unlisted: bool,
}

/// What becomes of a thing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Deed {
    /// It is not there yet.
    Adds,
    /// It is other than it was.
    Changes,
    /// It is not there any more.
    Removes,
}

/// One thing of a house.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Thing {
    /// What it is.
    pub kind: &'static str,
    /// The channel that it belongs to.
    pub channel: Option<String>,
    /// Its name.
    pub name: String,
}

/// Something that is to change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SetupChange {
    /// What becomes of it.
    pub deed: Deed,
    /// Of what.
    pub thing: Thing,
    /// Field by field. A secret is never told.
    pub fields: Vec<Difference>,
    /// The channels on air that it concerns.
    pub on_air: Vec<String>,
    /// Where the file says it; none for what it does not list.
    pub place: Option<Place>,
}

/// A secret that the file refers to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WantedSecret {
    /// Where it is kept.
    pub reference: Reference,
    /// Of what it is.
    pub at: String,
    /// Where the file says so.
    pub place: Place,
    /// False if nobody gave it; what is there stays then.
    pub is_given: bool,
}

/// What a file comes to.
#[derive(Debug, Default)]
pub struct SetupPlan {
    /// What would change, in the order of the file's kinds.
    pub changes: Vec<SetupChange>,
    /// What cannot be; with any of them nothing is changed.
    pub faults: Vec<Fault>,
    /// The secrets that the file refers to.
    pub wanted: Vec<WantedSecret>,
    /// What is worth knowing.
    pub remarks: Vec<String>,
    /// What the house has of kinds that the file lists, and the file does not list.
    pub unlisted: Vec<Thing>,
    /// By which it is known whether the same is to change.
    pub mark: String,
    pub(super) steps: Vec<Step>,
    /// What is taken away, after all that is added and changed.
    pub(super) removals: Vec<Step>,
}

/// Makes the plan. It looks at all of a house, and is no work for a task that carries shows.
pub(super) fn plan(house: &Arc<House>, request: &SetupRequest, present: &Present, by: &str) -> SetupPlan {
    let mut document = match Document::read(&request.text) {
        Ok(document) => document,
        Err(faults) => return SetupPlan { faults, ..SetupPlan::default() },
    };
    let setup = Setup::read(&mut document);
    let mut planner = Planner {
        house,
        present,
        request,
        by,
        document,
        depots: BTreeMap::new(),
        destinations: BTreeSet::new(),
        channels: BTreeSet::new(),
        plan: SetupPlan::default(),
        secrets: Vec::new(),
        brought: HashMap::new(),
    };
    planner.plan_depots(setup.depots);
    planner.plan_destinations(setup.destinations);
    planner.plan_channels(setup.channels);
    planner.plan_system(None, setup.house_system);
    planner.plan_targets(setup.call_targets);
    planner.plan_people(setup.people);
    planner.plan_addresses(setup.addresses);
    planner.finish()
}

struct Planner<'p> {
    house: &'p Arc<House>,
    present: &'p Present,
    request: &'p SetupRequest,
    by: &'p str,
    document: Document<'p>,
    /// Depots as they will be.
    depots: BTreeMap<String, Depot>,
    /// Destinations that there will be.
    destinations: BTreeSet<String>,
    /// Channels that there will be.
    channels: BTreeSet<String>,
    plan: SetupPlan,
    /// Digests of secrets that are to be set.
    secrets: Vec<[u8; 32]>,
    /// Where keys stand that are brought along.
    brought: HashMap<[u8; 32], Path>,
}

impl Planner<'_> {
    fn finish(mut self) -> SetupPlan {
        self.plan.faults = self.document.take_faults();
        let whole = format!("{:?}{:?}", self.plan.changes, self.secrets);
        let digest = self.house.store.keychain().digest(&whole);
        self.plan.mark = digest.iter().take(8).map(|byte| format!("{byte:02x}")).collect();
        self.plan
    }

    /// What was checked, or a fault at the place of what is wrong. `prefix` is what the field is called elsewhere.
    fn checked<T>(&mut self, at: &Path, prefix: &str, found: Result<T, HouseError>) -> Option<T> {
        match found {
            Ok(found) => Some(found),
            Err(HouseError::Invalid { field, detail }) => {
                let field = field.strip_prefix(prefix).unwrap_or(field);
                // The name of a thing is what its table is called.
                let at = if field == "name" { at.clone() } else { at.field(field) };
                self.document.fault(at, detail);
                None
            }
            Err(error) => {
                self.document.fault(at.clone(), error.to_string());
                None
            }
        }
    }

    /// A secret of the file; what is there, if it is kept elsewhere and nobody gave it. None if it is not to be, or there
    /// was a fault.
    fn secret(&mut self, at: &Path, form: Option<&SecretText>, present: Option<&Secret>) -> Option<Secret> {
        let reference = match form? {
            SecretText::Given(text) => return Some(self.noted(Secret::new(text.reveal()), present)),
            SecretText::Kept(reference) => reference.clone(),
        };
        let given = self.request.secrets.get(&reference.to_string());
        let given = given.map(|text| Secret::new(text.reveal()));
        self.plan.wanted.push(WantedSecret {
            reference: reference.clone(),
            at: at.to_string(),
            place: self.document.place_of(at),
            is_given: given.is_some(),
        });
        match given {
            Some(secret) => Some(self.noted(secret, present)),
            None => present.cloned(),
        }
    }

    fn noted(&mut self, secret: Secret, present: Option<&Secret>) -> Secret {
        if present != Some(&secret) {
            self.secrets.push(self.house.store.keychain().digest(secret.reveal()));
        }
        secret
    }

    /// As [`secret`](Self::secret); that it is missing is a fault.
    fn needed_secret(&mut self, at: &Path, form: Option<&SecretText>, present: Option<&Secret>) -> Option<Secret> {
        let found = self.secret(at, form, present).or_else(|| present.cloned());
        if found.is_none() {
            let told = match form {
                Some(SecretText::Kept(reference)) => format!("it was not given: {}", reference.advice()),
                _ => "it is missing: write { file = \"…\" } or { env = \"…\" }".to_owned(),
            };
            self.document.fault(at.clone(), told);
        }
        found
    }

    /// Notes what becomes of a thing. False if it stays as it is.
    fn note(
        &mut self,
        thing: Thing,
        at: Option<&Path>,
        tables: (Option<&Table>, Option<&Table>),
        secrets: Secrets,
    ) -> bool {
        let (before, after) = tables;
        let deed = match (before, after) {
            (None, _) => Deed::Adds,
            (_, None) => Deed::Removes,
            _ => Deed::Changes,
        };
        let empty = Table::new();
        let mut fields = match deed {
            Deed::Removes => Vec::new(),
            _ => differences(before.unwrap_or(&empty), after.unwrap_or(&empty)),
        };
        // Of what is new the name says it already.
        fields.retain(|one| deed != Deed::Adds || one.field != "label");
        fields.extend(secrets.0.into_iter().filter(|_| deed != Deed::Removes));
        if deed == Deed::Changes && fields.is_empty() {
            return false;
        }
        let on_air = self.on_air(&thing);
        let place = at.map(|at| self.document.place_of(at));
        self.plan.changes.push(SetupChange { deed, thing, fields, on_air, place });
        true
    }

    /// The channels on air that a thing concerns.
    fn on_air(&self, thing: &Thing) -> Vec<String> {
        let is_of = |name: &str, id: u64| match (thing.kind, &thing.channel) {
            (_, Some(channel)) => channel == name,
            ("channel", None) => thing.name == name,
            ("destination", None) => self
                .present
                .sendings
                .iter()
                .any(|one| one.channel_id == id && one.destination.name == thing.name && one.sending.switched_on),
            _ => false,
        };
        let shows = self.house.shows().into_iter().map(|show| show.channel_id());
        let names = shows.filter_map(|id| Some((id, self.present.channel_name(id)?)));
        let mut on_air: Vec<String> =
            names.filter(|(id, name)| is_of(name, *id)).map(|(_, name)| name.to_owned()).collect();
        on_air.sort();
        on_air.dedup();
        on_air
    }

    /// What the house has and the file does not list: it is removed, if that is wished. True if so.
    fn unlisted(&mut self, thing: Thing) -> bool {
        if self.request.removes_unlisted {
            self.note(thing, None, (Some(&Table::new()), None), Secrets::default());
            return true;
        }
        self.plan.unlisted.push(thing);
        false
    }

    fn remark(&mut self, at: &Path, told: &str) {
        let place = self.document.place_of(at);
        self.plan.remarks.push(format!("line {}: {at}: {told}", place.line));
    }
}

/// What becomes of the secrets of a thing, without them.
#[derive(Default)]
struct Secrets(Vec<Difference>);

impl Secrets {
    fn with(mut self, field: &str, before: Option<&Secret>, after: Option<&Secret>) -> Self {
        let told = |text: &str| Some(text.to_owned());
        let (was, is) = match (before, after) {
            (before, after) if before == after => return self,
            (None, Some(_)) => (None, told("(a secret)")),
            (Some(_), Some(_)) => (told("(a secret)"), told("(another secret)")),
            (_, None) => (told("(a secret)"), None),
        };
        self.0.push(Difference { field: field.to_owned(), before: was, after: is });
        self
    }
}

fn thing(kind: &'static str, name: &str) -> Thing {
    Thing { kind, channel: None, name: name.to_owned() }
}

fn thing_of(channel: &str, kind: &'static str, name: &str) -> Thing {
    Thing { kind, channel: Some(channel.to_owned()), name: name.to_owned() }
}
