use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::time::timeout;

use waverant_net::{Wire, WriteQueue};

/// How long a peer that is sent away may take to read why.
const FAREWELL: Duration = Duration::from_secs(2);

/// Sends what is still to be said, such as a refusal.
pub(super) async fn say_last_words(wire: &mut Wire, queue: &mut WriteQueue) {
    let _ = timeout(FAREWELL, queue.write_all(wire)).await;
}

/// Closes, and hears the peer out for a moment: closing with unread input would reset the
/// connection, and the peer would lose our last words.
pub(super) async fn linger(mut wire: Wire) {
    let mut rest = [0; 4096];
    let _ = timeout(FAREWELL, async {
        let _ = wire.shutdown().await;
        while matches!(wire.read(&mut rest).await, Ok(count) if count > 0) {}
    })
    .await;
}
