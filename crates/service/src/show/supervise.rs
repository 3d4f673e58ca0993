use std::sync::Arc;
use std::time::{Duration, Instant};

use time::OffsetDateTime;
use tokio::task::JoinHandle;
use tokio::time::timeout;
use waverant_relay::SessionState;
use waverant_store::SessionEnd;

use super::Show;
use crate::house::{Entry, House};

/// How long legs and recorder may take to finish after the end of a session.
const FINISH_TIMEOUT: Duration = Duration::from_secs(10);

/// Accompanies a session from its begin to its record in the ledger.
pub(super) async fn run(show: Arc<Show>, house: Arc<House>) {
    let recorder = show.channel.records.then(|| {
        tokio::spawn(crate::recorder::run(show.clone(), house.ledger.clone(), house.recordings_folder.clone()))
    });
    wait_for_the_end(&show, &house).await;
    show.hub.lock().end();
    show.over.cancel();
    show.tell_news();
    // The next encoder may begin a new session while this one is wound up.
    house.forget(&show);
    // The handles are kept while the legs finish: a leg without orders would end before it has
    // sent the last packets.
    let legs = std::mem::take(&mut *show.legs.lock());
    for leg in legs.into_values() {
        finish(leg.task).await;
        drop(leg.orders);
    }
    if let Some(recorder) = recorder {
        finish(recorder).await;
    }
    let loss_count = show.life.lock().loss_count();
    let reason = show.end_reason.lock().clone();
    let reason = reason.unwrap_or_else(|| "the publisher was lost and did not return in time".to_owned());
    tracing::info!(session = show.id, channel = %show.channel.name, reason, "over");
    let ended_at = OffsetDateTime::now_utc();
    house.ledger.write(Entry::SessionEnded(SessionEnd { id: show.id, ended_at, reason, loss_count }));
}

async fn wait_for_the_end(show: &Arc<Show>, house: &Arc<House>) {
    loop {
        let (state, deadline) = {
            let mut life = show.life.lock();
            life.handle_timeout(Instant::now());
            (life.state(), life.poll_timeout())
        };
        if state == SessionState::Over {
            return;
        }
        tokio::select! {
            () = show.life_changed.notified() => {}
            () = sleep_until(deadline) => {}
            () = house.stopping.cancelled() => show.end("the server is stopping"),
        }
    }
}

async fn sleep_until(deadline: Option<Instant>) {
    match deadline {
        Some(deadline) => tokio::time::sleep_until(deadline.into()).await,
        None => std::future::pending().await,
    }
}

async fn finish(mut task: JoinHandle<()>) {
    if timeout(FINISH_TIMEOUT, &mut task).await.is_err() {
        tracing::warn!("a part of the session did not finish in time and was stopped");
        task.abort();
    }
}
