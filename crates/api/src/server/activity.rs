use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use axum::body::Body;
use bytes::Bytes;
use http_body::{Body as HttpBody, Frame, SizeHint};
use tokio::sync::watch;

/// What a connection is busy with: how many requests are not answered to the end.
#[derive(Clone, Debug)]
pub(super) struct Activity(Arc<watch::Sender<usize>>);

/// A request that is being answered, until all of its answer is taken or given up.
#[derive(Debug)]
pub(super) struct Busy(Arc<watch::Sender<usize>>);

impl Activity {
    pub(super) fn new() -> Self {
        Self(Arc::new(watch::Sender::new(0)))
    }

    pub(super) fn begin(&self) -> Busy {
        self.0.send_modify(|count| *count += 1);
        Busy(self.0.clone())
    }

    /// Waits until nothing was asked for so long, and nothing is being answered.
    pub(super) async fn idle_for(&self, patience: Duration) {
        let mut changes = self.0.subscribe();
        loop {
            let is_busy = *changes.borrow_and_update() > 0;
            let changed = changes.changed();
            if is_busy {
                let _ = changed.await;
            } else if tokio::time::timeout(patience, changed).await.is_err() {
                return;
            }
        }
    }
}

impl Drop for Busy {
    fn drop(&mut self) {
        self.0.send_modify(|count| *count -= 1);
    }
}

/// An answer that keeps its connection busy for as long as it is taken.
#[derive(Debug)]
pub(super) struct BusyBody {
    body: Body,
    _busy: Busy,
}

impl BusyBody {
    pub(super) fn new(body: Body, busy: Busy) -> Self {
        Self { body, _busy: busy }
    }
}

impl HttpBody for BusyBody {
    type Data = Bytes;
    type Error = axum::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, axum::Error>>> {
        Pin::new(&mut self.body).poll_frame(context)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

#[cfg(test)]
mod tests {
    use tokio::time::{Instant, advance, timeout};

    use super::*;

    #[tokio::test(start_paused = true)]
    async fn a_connection_is_idle_when_nothing_is_asked_or_answered() {
        let (activity, begin) = (Activity::new(), Instant::now());
        let busy = activity.begin();
        let idle = activity.idle_for(Duration::from_secs(30));
        tokio::pin!(idle);
        assert!(timeout(Duration::from_secs(3600), idle.as_mut()).await.is_err(), "an answer may take for ever");
        drop(busy);
        assert!(timeout(Duration::from_secs(20), idle.as_mut()).await.is_err());
        drop(activity.begin());
        assert!(timeout(Duration::from_secs(29), idle.as_mut()).await.is_err());
        advance(Duration::from_secs(1)).await;
        idle.await;
        assert!(begin.elapsed() < Duration::from_secs(3655));
    }
}
