//! What is kept, as the set-up file writes it. What has its usual value is left out, and secrets are told by reference.

mod channel;
mod house;

use serde::Serialize;
use toml::Table;
use waverant_relay::Secret;
use waverant_setup::{Reference, SecretText, file_name_of};

pub(super) use channel::{channel, key, link, sending};
pub(super) use house::{address, depot, destination, person, system, target};

/// What becomes of secrets when something is described.
#[derive(Debug, Default)]
pub(super) struct Secrets {
    /// Those that were met, with what stands for each; none are told of if this is none.
    met: Option<Vec<(Reference, Secret)>>,
}

impl Secrets {
    /// They are told by reference, and gathered.
    pub(super) fn gathered() -> Self {
        Self { met: Some(Vec::new()) }
    }

    pub(super) fn into_met(self) -> Vec<(Reference, Secret)> {
        self.met.unwrap_or_default()
    }

    /// What stands for a secret that is kept in the file of this path.
    fn keep(&mut self, path: &[&str], secret: &Secret) -> Option<SecretText> {
        let met = self.met.as_mut()?;
        let parts: Vec<String> = path.iter().map(|part| file_name_of(part)).collect();
        let wanted = parts.join("/");
        // Of several of one name each has a file of its own.
        let name = (1..).map(|number| if number == 1 { wanted.clone() } else { format!("{wanted}~{number}") });
        let free = name.map(Reference::File).find(|one| !met.iter().any(|(known, _)| known == one))?;
        met.push((free.clone(), secret.clone()));
        Some(SecretText::Kept(free))
    }
}

/// A form as a table; a number that TOML cannot have is the only thing that fails, and none has it.
fn table_of(form: &impl Serialize) -> Table {
    // By way of the text, since moments are not told from tables otherwise.
    let text = toml::to_string(form).map_err(|error| error.to_string());
    let table = text.and_then(|text| text.parse::<Table>().map_err(|error| error.to_string()));
    table.unwrap_or_else(|error| {
        tracing::error!(error, "a part of the set-up cannot be written");
        Table::new()
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_of_one_name_have_files_of_their_own() {
        let mut secrets = Secrets::gathered();
        let path = ["channels", "weir", "keys", "van/bus", "passphrase"];
        secrets.keep(&path, &Secret::new("one")).unwrap();
        let second = secrets.keep(&path, &Secret::new("two")).unwrap();
        assert_eq!(format!("{second:?}"), "Kept(file:channels/weir/keys/van%2Fbus/passphrase~2)");
        assert_eq!(secrets.into_met().len(), 2);
        assert!(Secrets::default().keep(&path, &Secret::new("one")).is_none());
    }
}
