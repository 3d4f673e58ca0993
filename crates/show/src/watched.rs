use std::time::Duration;

use tokio::task::JoinSet;
use tokio::time::sleep;

/// Pause before a part of a show that failed is begun anew; what made it fail may still be there.
const PAUSE: Duration = Duration::from_secs(1);

/// Runs a part of a show to its end. One that panics is told of, and begun anew: the rest of the show must
/// not do without it, and nobody would notice.
///
/// # Cancel safety
/// Dropping it ends the part.
pub(crate) async fn watched<F>(mut begin: impl FnMut() -> F, mut tell: impl FnMut())
where
    F: Future<Output = ()> + Send + 'static,
{
    loop {
        let mut part = JoinSet::new();
        part.spawn(begin());
        match part.join_next().await {
            Some(Err(error)) if error.is_panic() => {
                tracing::error!(%error, "a part of a show failed by a fault of ours; it is begun anew");
                tell();
                sleep(PAUSE).await;
            }
            _ => return,
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;
    use std::sync::atomic::{AtomicU32, Ordering};

    use super::*;

    #[tokio::test(start_paused = true)]
    async fn a_part_that_panics_is_told_of_and_begun_anew() {
        let (begun, told) = (Arc::new(AtomicU32::new(0)), AtomicU32::new(0));
        let counter = begun.clone();
        let part = move || {
            let number = counter.fetch_add(1, Ordering::Relaxed);
            async move { assert!(number >= 2, "a fault of ours") }
        };
        watched(part, || {
            told.fetch_add(1, Ordering::Relaxed);
        })
        .await;
        assert_eq!((begun.load(Ordering::Relaxed), told.load(Ordering::Relaxed)), (3, 2));
    }

    #[tokio::test(start_paused = true)]
    async fn it_ends_with_who_waits_for_it() {
        let alive = Arc::new(());
        let held = alive.clone();
        let task = tokio::spawn(watched(
            move || {
                let held = held.clone();
                async move {
                    let _held = held;
                    std::future::pending().await
                }
            },
            || {},
        ));
        sleep(Duration::from_secs(1)).await;
        task.abort();
        let _ = task.await;
        sleep(Duration::from_secs(1)).await;
        assert_eq!(Arc::strong_count(&alive), 1);
    }
}
