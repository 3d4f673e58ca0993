use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use axum::body::Body;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::response::Response;
use bytes::Bytes;
use http_body::{Body as HttpBody, Frame, SizeHint};
use waverant_relay::{Grants, Where};

use super::Right;
use crate::{ApiError, ApiState};

/// How often it is looked at again.
pub(crate) const LOOK_INTERVAL: Duration = Duration::from_secs(4);

/// The leave by which a call was let through: what it opened stays open for as long as that holds.
#[derive(Clone, Debug)]
pub(crate) struct Leave {
    token: String,
    right: Right,
    place: Where,
}

impl Leave {
    pub(super) fn new(token: String, right: Right, place: Where) -> Self {
        Self { token, right, place }
    }

    /// What the caller may do now; none while that cannot be looked up, and the caller goes on.
    ///
    /// # Errors
    /// [`Ended`] if it may not go on: the token was withdrawn or has ended, its person is removed, or their role does
    /// not allow it any more.
    pub(crate) async fn look_again(&self, state: &ApiState) -> Result<Option<Grants>, Ended> {
        let holder = match state.seen_tokens.holder_of(state.house.store(), &self.token).await {
            Ok(None) => return Err(Ended),
            Ok(Some(holder)) => holder,
            Err(_) => return Ok(None),
        };
        let grants = holder.user.grants.within(&holder.scope);
        let goes_on = match self.right {
            Right::House(deed) | Right::Channel(deed) | Right::Session(deed) | Right::Anywhere(deed) => {
                grants.may(deed, self.place)
            }
            Right::Anyone | Right::SignedIn | Right::Account => true,
        };
        if goes_on { Ok(Some(grants)) } else { Err(Ended) }
    }

    /// Waits until the caller may not go on.
    pub(crate) async fn ended(self, state: ApiState) {
        loop {
            tokio::time::sleep(LOOK_INTERVAL).await;
            if self.look_again(&state).await.is_err() {
                return;
            }
        }
    }

    /// An answer that is cut off where the caller may not go on.
    pub(crate) fn keep(self, state: ApiState, response: Response) -> Response {
        response.map(|body| Body::new(KeptBody { body, ended: Box::pin(self.ended(state)) }))
    }
}

/// The caller may not go on.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Ended;

impl<S: Send + Sync> FromRequestParts<S> for Leave {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, ApiError> {
        parts.extensions.get::<Self>().cloned().ok_or(ApiError::NotSignedIn)
    }
}

struct KeptBody {
    body: Body,
    ended: Pin<Box<dyn Future<Output = ()> + Send>>,
}

impl HttpBody for KeptBody {
    type Data = Bytes;
    type Error = axum::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, axum::Error>>> {
        // A body that ended too early is an error to whoever reads it: a part is not taken for the whole.
        if self.ended.as_mut().poll(context).is_ready() {
            return Poll::Ready(Some(Err(axum::Error::new("the caller may not go on"))));
        }
        Pin::new(&mut self.body).poll_frame(context)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}
