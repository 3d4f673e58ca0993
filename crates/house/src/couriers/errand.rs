//! One call about one event.

use std::time::{Duration, Instant};

use time::OffsetDateTime;
use tokio::time::sleep;
use waverant_relay::{Announcement, CallTarget};
use waverant_store::{Delivery, DeliveryState, DeliveryTry, StoreError};

use super::line::TargetLine;
use super::request::{MOST_HOPS, Request, Sent, answer_of};
use super::{CourierDesk, RETRY_PAUSE};

/// How long a stop lets a call go on.
const GRACE: Duration = Duration::from_secs(2);

/// A status by which a target says that it is told nothing any more. Source: RFC 9110, 15.5.11
const GONE: u16 = 410;

/// What a try came to.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Tried {
    pub(super) seen: DeliveryTry,
    /// How long the other side wants to be left alone.
    pub(super) wish: Option<Duration>,
    /// True if it is of no use to try again.
    pub(super) is_final: bool,
}

impl Tried {
    /// Nothing came back.
    pub(super) fn in_vain(at: OffsetDateTime, took: Duration, fault: String) -> Self {
        let seen = DeliveryTry { at, took, status: None, answer: String::new(), fault: Some(fault) };
        Self { seen, wish: None, is_final: false }
    }
}

impl CourierDesk {
    /// Makes the first call that waits in a lane, if it is due; true if it was taken.
    pub(super) async fn call_next(
        &self,
        line: &TargetLine,
        target: &CallTarget,
        lane: u64,
    ) -> Result<bool, StoreError> {
        let next = self.store.next_deliveries(target.id, Some(lane), 1).await?.pop();
        let Some(delivery) = next.filter(|next| next.next_at <= OffsetDateTime::now_utc()) else { return Ok(false) };
        let tried = tokio::select! {
            tried = self.call(target, &delivery) => tried,
            () = self.out_of_time() => return Ok(false),
        };
        self.settle(line, target, &[delivery], &tried).await
    }

    /// A stop waits a moment for what is on its way.
    pub(super) async fn out_of_time(&self) {
        self.stopping.cancelled().await;
        sleep(GRACE).await;
    }

    async fn call(&self, target: &CallTarget, delivery: &Delivery) -> Tried {
        let sent = Sent::new(&target.rules.form, &delivery.event, Some(delivery.id));
        self.make_call(target, &delivery.event_id, sent).await.1
    }

    /// Tells a target of an event once, whatever waits for it. Returns the call with what came of it.
    pub(super) async fn make_call(
        &self,
        target: &CallTarget,
        event_id: &str,
        sent: Result<Sent, String>,
    ) -> (Option<Request>, Tried) {
        let (at, begun) = (OffsetDateTime::now_utc(), Instant::now());
        let request = match sent.and_then(|sent| Request::new(target, event_id, sent, at)) {
            Ok(request) => request,
            Err(fault) => return (None, Tried::in_vain(at, Duration::ZERO, fault)),
        };
        let reply = self.client.post_on(&request.address, request.call(), MOST_HOPS).await;
        let tried = match reply {
            Ok(reply) => {
                let fault = (!(200..300).contains(&reply.status)).then(|| format!("it answered {}", reply.status));
                let (answer, status) = (answer_of(&reply), Some(reply.status));
                let seen = DeliveryTry { at, took: reply.took, status, answer, fault };
                Tried { seen, wish: reply.retry_after, is_final: reply.status == GONE }
            }
            Err(fault) => Tried::in_vain(at, begun.elapsed(), fault.to_string()),
        };
        (Some(request), tried)
    }

    /// Tells a target of an event once, at once; it is written nowhere.
    pub(crate) async fn try_target(
        &self,
        target: &CallTarget,
        announced: &Announcement,
    ) -> (Option<Request>, DeliveryTry) {
        let event = announced.event().to_string();
        if target.mailboxes().is_some() {
            return (None, self.try_mail(target, announced).await);
        }
        let (request, tried) =
            self.make_call(target, &announced.event_id, Sent::new(&target.rules.form, &event, None)).await;
        (request, tried.seen)
    }

    /// Writes down what became of a try, and what follows. True if it was taken, or will never be: then the next may come.
    pub(super) async fn settle(
        &self,
        line: &TargetLine,
        target: &CallTarget,
        deliveries: &[Delivery],
        tried: &Tried,
    ) -> Result<bool, StoreError> {
        let Some(first) = deliveries.first() else { return Ok(false) };
        let at = OffsetDateTime::now_utc();
        let fault = tried.seen.fault.as_deref();
        let age = (at - first.happened_at).try_into().unwrap_or(Duration::ZERO);
        let pause = self.rules.pause(first.tries + 1, age, tried.wish, chance(first.id, first.tries));
        let (state, next_at) = match (fault, pause) {
            (None, _) => (DeliveryState::Delivered, at),
            (Some(_), Some(pause)) if !tried.is_final => (DeliveryState::Waiting, at + pause),
            (Some(_), _) => (DeliveryState::GivenUp, at),
        };
        let name = &target.name;
        match fault {
            None if line.took(at) => tracing::info!(target_name = name, "a target takes calls again"),
            None => {}
            Some(fault) if line.failed(at, fault) => {
                tracing::warn!(target_name = name, fault, "a target takes no call")
            }
            Some(_) => {}
        }
        let had_failed = fault.is_none() && first.tries > 0;
        // Of several only the first is known to be too old.
        let is_too_old = state == DeliveryState::GivenUp && !tried.is_final;
        let meant = if is_too_old { 1 } else { deliveries.len() };
        let ids: Vec<u64> = deliveries.iter().take(meant).map(|delivery| delivery.id).collect();
        // What was taken is not told again because the database is away for a while.
        while let Err(error) = self.store.note_delivery_try(&ids, state, next_at, &tried.seen).await {
            if !error.is_unavailable() || self.stopping.is_cancelled() {
                return Err(error);
            }
            sleep(RETRY_PAUSE).await;
        }
        if state == DeliveryState::GivenUp {
            tracing::error!(target_name = name, event = first.event_id, fault, "a call is given up");
        }
        if had_failed {
            // It is back: nothing else waits out its pause.
            self.store.hurry_deliveries(target.id, at).await?;
        }
        Ok(state != DeliveryState::Waiting)
    }
}

/// What spreads tries that failed together: the same for the same try, so that it can be led back.
#[expect(clippy::cast_precision_loss, reason = "a number below a thousand")]
fn chance(id: u64, tries: u32) -> f64 {
    (id.wrapping_mul(2_654_435_761).wrapping_add(u64::from(tries) * 40_503) % 1000) as f64 / 1000.0
}
