use serde::{Deserialize, Serialize};

use super::LegState;

/// Where a leg stands, without its times: as it is kept, told and compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum LegPhase {
    /// A connection is being made.
    #[serde(rename = "dialing")]
    Dialing,
    /// The platform takes the stream.
    #[serde(rename = "carrying")]
    Carrying,
    /// The connection was lost or could not be made, and is tried again.
    #[serde(rename = "waiting to redial")]
    WaitingToRedial,
    /// The platform said no.
    #[serde(rename = "refused")]
    Refused,
    /// Switched off, held back, not yet to start, or the session is over.
    #[serde(rename = "off")]
    Off,
}

impl LegPhase {
    /// Its name in the records.
    pub fn name(self) -> &'static str {
        match self {
            Self::Dialing => "dialing",
            Self::Carrying => "carrying",
            Self::WaitingToRedial => "waiting to redial",
            Self::Refused => "refused",
            Self::Off => "off",
        }
    }

    /// The phase of this name; one that is not known is off.
    pub fn from_name(name: &str) -> Self {
        let all = [Self::Dialing, Self::Carrying, Self::WaitingToRedial, Self::Refused];
        all.into_iter().find(|phase| phase.name() == name).unwrap_or(Self::Off)
    }
}

impl From<LegState> for LegPhase {
    fn from(state: LegState) -> Self {
        match state {
            LegState::Dialing => Self::Dialing,
            LegState::Carrying => Self::Carrying,
            LegState::WaitingToRedial { .. } => Self::WaitingToRedial,
            LegState::Refused { .. } => Self::Refused,
            LegState::Off { .. } => Self::Off,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_lead_back() {
        let all = ["dialing", "carrying", "waiting to redial", "refused", "off"];
        assert!(all.iter().all(|name| LegPhase::from_name(name).name() == *name));
        assert_eq!(LegPhase::from_name("of a later version"), LegPhase::Off);
    }
}
