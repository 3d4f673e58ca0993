//! Whether the house can be reached from outside.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// What is known of how the house is reached from outside.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Outside {
    /// The addresses of this machine.
    pub addresses: Vec<OwnAddress>,
    /// The public name, `host` of the settings; none if there is none.
    pub name: Option<PublicName>,
    /// The packet filter of this machine.
    pub filter: PacketFilter,
    /// Each door.
    pub doors: Vec<DoorOutside>,
    /// The helper out there, if one is set.
    pub answerer: Option<AnswererTold>,
    /// What would open what is shut, by packet filter; empty if nothing has to be done here.
    pub remedies: Vec<FilterRemedy>,
}

/// An address of this machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OwnAddress {
    /// The address.
    pub address: String,
    /// The interface that has it.
    pub interface: String,
    /// From where it can be reached.
    pub scope: AddressScope,
}

/// From where an address can be reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum AddressScope {
    /// From everywhere.
    Public,
    /// From the house's own net (RFC 1918, RFC 4193).
    Private,
    /// From the provider's net: a router of the provider has the public one (RFC 6598).
    Shared,
    /// From the next cable only, or from nowhere (RFC 3927, RFC 4291).
    Link,
    /// From this machine.
    Loopback,
}

/// What name resolution says of the public name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PublicName {
    /// The name.
    pub name: String,
    /// Its addresses.
    pub addresses: Vec<String>,
    /// Whether these lead here.
    pub verdict: NameVerdict,
    /// The same in words, and what to do.
    pub told: String,
}

/// Whether a name leads here.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum NameVerdict {
    /// All of its addresses are this machine's, or what the helper out there saw us come from.
    Ours,
    /// Some are.
    Partly,
    /// None is, and this machine has a public address.
    Elsewhere,
    /// None is, but this machine is behind a router that may have it.
    Behind,
    /// It leads to addresses that nobody out there can reach.
    Private,
    /// It has no address.
    Unresolved,
}

/// The packet filter of this machine.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PacketFilter {
    /// Whether its rules were read.
    pub state: FilterState,
    /// The same in words.
    pub told: String,
}

/// Whether rules were read.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FilterState {
    /// They were.
    Read,
    /// There are none.
    None,
    /// They may not be read, or the tool is not there.
    #[default]
    Unknown,
}

/// A door, seen from outside.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DoorOutside {
    /// Its name in the settings: `rtmp`, `rtmps`, `srt`, `http`, `https`, `redirect`, `viewing`, `viewing_https`.
    pub name: String,
    /// TCP or UDP.
    pub transport: Transport,
    /// Its port.
    pub port: u16,
    /// Where it listens.
    pub listens: String,
    /// What follows from all that is known.
    pub verdict: DoorVerdict,
    /// The same in words, and what to do.
    pub told: String,
    /// Who from out there was last there, if anybody was.
    pub reached: Option<DoorReached>,
    /// What the helper out there found, for each of our addresses that it saw.
    pub tries: Vec<DoorTry>,
}

/// How packets go.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Transport {
    /// TCP.
    Tcp,
    /// UDP.
    Udp,
}

impl Transport {
    /// As packet filters write it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Tcp => "tcp",
            Self::Udp => "udp",
        }
    }
}

/// Whether a door can be reached from outside.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DoorVerdict {
    /// It was, lately or just now.
    Reached,
    /// Nothing here keeps anybody out; nobody came yet.
    Open,
    /// It listens for this machine only, or is shut out by the packet filter, or the helper out there came to nothing.
    Shut,
    /// It listens for this machine only, as it was told to.
    Inside,
    /// That is not known.
    Unclear,
}

/// Who was at a door.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DoorReached {
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// The caller's address.
    pub address: String,
}

/// What the helper out there found at a door.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DoorTry {
    /// The address that it saw us come from, and called.
    pub address: String,
    /// What came of it.
    pub outcome: TryOutcome,
    /// After how long.
    pub after_ms: u64,
}

/// What came of calling a door.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TryOutcome {
    /// Somebody answered.
    Answered,
    /// The call was turned down at once: nobody listens there, or a filter says no.
    Refused,
    /// Nobody answered: a filter drops it, or it leads nowhere.
    Silent,
    /// There is no way there.
    Unreachable,
}

/// What came of asking the helper out there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AnswererTold {
    /// Its address.
    pub address: String,
    /// The addresses that it saw us come from; empty if it was not asked.
    pub seen_as: Vec<String>,
    /// Why it did not answer.
    pub fault: Option<String>,
}

/// Commands for one packet filter.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FilterRemedy {
    /// Which.
    pub filter: String,
    /// The commands, to be run as root.
    pub commands: Vec<String>,
    /// What else is to be known.
    pub note: Option<String>,
}
