//! What stands in the file. A field that is left out has its usual value; a thing that is left out is left alone.

mod channel;
mod house;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

pub use channel::{ChannelForm, KeyForm, LinkForm, SendingForm};
pub use house::{AddressForm, DepotForm, DestinationForm, PersonForm, SystemForm, TargetForm};

use crate::{Document, FORM, Path, SecretText};

/// What a house, or a part of it, is to be. A kind of things that the file does not speak of is none.
#[derive(Clone, Debug, Default)]
pub struct Setup {
    /// Object storage, by name.
    pub depots: Option<BTreeMap<String, DepotForm>>,
    /// Platforms, by name.
    pub destinations: Option<BTreeMap<String, DestinationForm>>,
    /// Channels, by name.
    pub channels: Option<BTreeMap<String, ChannelForm>>,
    /// The system that is asked for the whole house.
    pub house_system: Option<SystemForm>,
    /// Who is told what happens, by name.
    pub call_targets: Option<BTreeMap<String, TargetForm>>,
    /// The crew, by name.
    pub people: Option<BTreeMap<String, PersonForm>>,
    /// How callers of some addresses are received.
    pub addresses: Option<Vec<AddressForm>>,
}

/// What is asked for over SRT.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct SrtForm {
    /// In milliseconds.
    pub latency_ms: Option<u16>,
    /// The passphrase; none without.
    pub passphrase: Option<SecretText>,
}

/// What the file may speak of.
const KINDS: [&str; 8] =
    ["form", "depots", "destinations", "channels", "house_system", "call_targets", "people", "addresses"];

/// Things of one kind that a file may list.
const MOST_THINGS: usize = 5000;

impl Setup {
    /// Reads what a document says. What cannot be is noted in it.
    pub fn read(document: &mut Document<'_>) -> Self {
        for name in document.names(&Path::default()).unwrap_or_default() {
            if !KINDS.contains(&name.as_str()) {
                let told = format!("`{name}` is not known; there are: {}", KINDS.join(", "));
                document.fault(Path::of(&[&name]), told);
            }
        }
        let form = Path::of(&["form"]);
        match document.form::<i64>(&form) {
            Some(FORM) | None => {}
            Some(other) => document.fault(
                form,
                format!("this is a file of form {other}; this version reads form {FORM}: take a newer version"),
            ),
        }
        let of_house = Path::of(&["house_system"]);
        Self {
            depots: named(document, "depots"),
            destinations: named(document, "destinations"),
            channels: named(document, "channels"),
            house_system: document.form(&of_house),
            call_targets: named(document, "call_targets"),
            people: named(document, "people"),
            addresses: listed(document, "addresses"),
        }
    }
}

fn named<T: serde::de::DeserializeOwned>(document: &mut Document<'_>, kind: &str) -> Option<BTreeMap<String, T>> {
    let path = Path::of(&[kind]);
    let names = document.names(&path)?;
    if names.len() > MOST_THINGS {
        document.fault(path, format!("{} are listed; {MOST_THINGS} are read at most", names.len()));
        return None;
    }
    let forms = names.into_iter().filter_map(|name| document.form(&path.with(&name)).map(|form| (name, form)));
    Some(forms.collect())
}

fn listed<T: serde::de::DeserializeOwned>(document: &mut Document<'_>, kind: &str) -> Option<Vec<T>> {
    let path = Path::of(&[kind]);
    let count = document.count(&path)?;
    if count > MOST_THINGS {
        document.fault(path, format!("{count} are listed; {MOST_THINGS} are read at most"));
        return None;
    }
    Some((0..count).filter_map(|place| document.form(&path.at(place))).collect())
}
