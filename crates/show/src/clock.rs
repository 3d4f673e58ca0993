use std::time::Instant;

/// The time now, by the runtime's clock: tests may make it stand still.
pub(crate) fn now() -> Instant {
    tokio::time::Instant::now().into_std()
}
