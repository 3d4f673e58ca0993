//! The house as one file.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{Hidden, Invitation, NewKey};

/// The house as a set-up file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SetupFile {
    /// TOML, without secrets: docs/setup.md.
    pub text: String,
}

/// What stands for a reference of a set-up file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SetupSecret {
    /// As in `file:destinations/plovio/key` or `env:PLOVIO_KEY`.
    pub reference: String,
    /// The secret.
    pub value: Hidden,
}

/// A set-up file to be reviewed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ReviewSetup {
    /// The file: TOML.
    pub text: String,
    /// What stands for its references. A secret that is there already stays if it is not given.
    #[serde(default)]
    pub secrets: Vec<SetupSecret>,
    /// True to remove what the house has of a kind that the file lists, and the file does not list.
    #[serde(default)]
    pub removes_unlisted: bool,
}

/// A set-up file to be applied.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ApplySetup {
    /// The file: TOML.
    pub text: String,
    /// What stands for its references.
    #[serde(default)]
    pub secrets: Vec<SetupSecret>,
    /// True to remove what the house has of a kind that the file lists, and the file does not list.
    #[serde(default)]
    pub removes_unlisted: bool,
    /// The mark of a review: nothing is done if anything else is to change than it told.
    #[serde(default)]
    pub reviewed: Option<String>,
}

/// What becomes of a thing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SetupDeed {
    /// It is not there yet.
    Adds,
    /// It is other than the file says.
    Changes,
    /// It is not to be there any more.
    Removes,
}

/// One thing of a house.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SetupThing {
    /// What it is, in words.
    pub kind: String,
    /// The channel that it belongs to, if it belongs to one.
    pub channel: Option<String>,
    /// Its name.
    pub name: String,
}

/// A field that is to be another one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SetupField {
    /// Which, as the file calls it.
    pub field: String,
    /// What it is, as TOML writes it; none if it has its usual value. A secret is not told.
    pub before: Option<String>,
    /// What it is to be; none for its usual value.
    pub after: Option<String>,
}

/// Something that is to change.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SetupChange {
    /// What becomes of it.
    pub deed: SetupDeed,
    /// Of what.
    pub thing: SetupThing,
    /// Field by field.
    pub fields: Vec<SetupField>,
    /// The channels on air that it concerns.
    pub on_air: Vec<String>,
    /// The line of the file that says it; none for what it does not list.
    pub line: Option<u32>,
}

/// Something that cannot be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SetupFault {
    /// Counted from 1.
    pub line: u32,
    /// In characters, counted from 1.
    pub column: u32,
    /// Of what, as in `channels.weir.hold_ms`; empty for the text itself.
    pub at: String,
    /// What was found, and what was expected.
    pub text: String,
}

/// A secret that a file refers to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SetupWanted {
    /// As in `file:destinations/plovio/key`.
    pub reference: String,
    /// Of what it is.
    pub at: String,
    /// The line that refers to it.
    pub line: u32,
    /// False if it was not given; the one that is there stays then.
    pub is_given: bool,
}

/// What a set-up file would change.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SetupReview {
    /// What would change; nothing if the house is as the file says.
    pub changes: Vec<SetupChange>,
    /// What cannot be. While there is any, nothing is changed.
    pub faults: Vec<SetupFault>,
    /// The secrets that the file refers to.
    pub wanted: Vec<SetupWanted>,
    /// What is worth knowing.
    pub remarks: Vec<String>,
    /// What the house has of kinds that the file lists, and the file does not list. It stays.
    pub unlisted: Vec<SetupThing>,
    /// By which applying knows whether the same is to change.
    pub mark: String,
}

/// A signing secret that was made. It is shown this once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeSetupSecret {
    /// Of what.
    pub name: String,
    /// The secret.
    pub secret: String,
}

/// What was changed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SetupApplied {
    /// What is other than before.
    pub changes: Vec<SetupChange>,
    /// What is worth knowing.
    pub remarks: Vec<String>,
    /// Stream keys that were made or brought along, by channel. They are shown this once.
    pub keys: Vec<SetupKey>,
    /// The one-time codes of who was let in. They are shown this once.
    pub invitations: Vec<Invitation>,
    /// Signing secrets that were made.
    pub secrets: Vec<MadeSetupSecret>,
}

/// A stream key that was made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SetupKey {
    /// The channel that it opens.
    pub channel: String,
    /// The key.
    pub key: NewKey,
}
