//! Depots: object storage that takes are copied to.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::Hidden;

/// A depot to be made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AddDepot {
    /// Its name here: small letters, digits and hyphens.
    pub name: String,
    /// Where it answers: `https://host`, or `http://host:port` in a network that you trust.
    pub endpoint: String,
    /// The region that requests are signed for.
    #[serde(default = "usual_region")]
    pub region: String,
    /// The bucket.
    pub bucket: String,
    /// What the keys of all objects begin with.
    #[serde(default)]
    pub prefix: String,
    /// Who signs requests.
    pub access_key: String,
    /// What requests are signed with; it is not shown again.
    pub secret_key: Hidden,
    /// The address under which anybody fetches what lies below the prefix, as in `https://show.wexcombe.example`;
    /// needed for shows that are published there.
    #[serde(default)]
    pub public_address: Option<String>,
}

fn usual_region() -> String {
    "us-east-1".to_owned()
}

/// What is to change of a depot; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ChangeDepot {
    /// The address under which anybody fetches what lies below the prefix; empty for none.
    pub public_address: Option<String>,
}

/// A depot without its secret.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Depot {
    /// Its name here.
    pub name: String,
    /// Where it answers.
    pub endpoint: String,
    /// The region that requests are signed for.
    pub region: String,
    /// The bucket.
    pub bucket: String,
    /// What the keys of all objects begin with.
    pub prefix: String,
    /// Who signs requests.
    pub access_key: String,
    /// The address under which anybody fetches what lies below the prefix.
    pub public_address: Option<String>,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
}

/// What a try of a depot came to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DepotTry {
    /// True if an object could be written and removed.
    pub is_good: bool,
    /// Why not.
    pub reason: Option<String>,
}
