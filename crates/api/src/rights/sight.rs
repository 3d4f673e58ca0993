use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use waverant_relay::Grants;

use super::Caller;
use crate::ApiError;

/// The channels of which a caller may be told: what lists are kept to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Sight(Option<Vec<u64>>);

impl Sight {
    /// Of everything.
    pub(crate) fn whole() -> Self {
        Self(None)
    }

    /// True if it is of everything, the house as a whole included.
    pub(crate) fn is_whole(&self) -> bool {
        self.0.is_none()
    }

    /// True if what is of this channel may be told; of no channel, only where everything may.
    pub(crate) fn has(&self, channel: Option<u64>) -> bool {
        self.0.as_ref().is_none_or(|channels| channel.is_some_and(|id| channels.contains(&id)))
    }

    /// The channels to look for; none for all.
    pub(crate) fn channels(&self) -> Option<Vec<u64>> {
        self.0.clone()
    }
}

impl From<&Grants> for Sight {
    fn from(grants: &Grants) -> Self {
        Self(grants.seen_channels())
    }
}

impl<S: Send + Sync> FromRequestParts<S> for Sight {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        Ok(Self::from(&Caller::from_request_parts(parts, state).await?.grants))
    }
}
