use std::sync::Arc;
use std::time::Duration;

use time::OffsetDateTime;
use tokio::sync::{Notify, watch};
use tokio::time::{sleep, timeout};
use tokio_util::sync::CancellationToken;
use waverant_net::{CertificateFacts, ServerTls};

use crate::order::obtain;
use crate::schedule::{due, wait_after};
use crate::{Fault, Wanted};

/// How often the clock on the wall is looked at: it is put, and machines sleep.
const LOOK_EVERY: Duration = Duration::from_secs(30);

/// How long one try may take.
const TRY_TIMEOUT: Duration = Duration::from_secs(300);

/// How far it has come with the certificate.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Progress {
    /// True while one is being had.
    pub is_at_work: bool,
    /// When the last one came.
    pub renewed_at: Option<OffsetDateTime>,
    /// When the next try is, or a renewal is due.
    pub next_at: Option<OffsetDateTime>,
    /// Tries in a row that failed.
    pub failures: u32,
    /// When the last of them was, and why it failed.
    pub fault: Option<(OffsetDateTime, String)>,
}

/// Keeps the certificate good.
#[derive(Debug)]
pub struct Keeper {
    wanted: Wanted,
    tls: Arc<ServerTls>,
    progress: watch::Sender<Progress>,
    asked: Notify,
}

impl Keeper {
    /// Of the certificate that `tls` speaks with.
    pub fn new(wanted: Wanted, tls: Arc<ServerTls>) -> Arc<Self> {
        Arc::new(Self { wanted, tls, progress: watch::Sender::default(), asked: Notify::new() })
    }

    /// What is wanted.
    pub fn wanted(&self) -> &Wanted {
        &self.wanted
    }

    /// How far it has come, now and whenever that changes.
    pub fn progress(&self) -> watch::Receiver<Progress> {
        self.progress.subscribe()
    }

    /// Has a new certificate made now. False if that is being done.
    pub fn renew(&self) -> bool {
        // Two who ask at once find one at work.
        let is_first = self.progress.send_if_modified(|progress| !std::mem::replace(&mut progress.is_at_work, true));
        if is_first {
            self.asked.notify_one();
        }
        is_first
    }

    /// Keeps it until the service stops.
    pub async fn keep(self: Arc<Self>, stopping: CancellationToken) {
        let mut known = self.tls.facts().borrow().as_deref().cloned();
        loop {
            let now = OffsetDateTime::now_utc();
            let at = self.next_at(known.as_ref(), now);
            self.progress.send_if_modified(|progress| progress.next_at.replace(at) != Some(at));
            let left = Duration::try_from(at - now).unwrap_or_default();
            if !left.is_zero() {
                tokio::select! {
                    () = stopping.cancelled() => return,
                    () = self.asked.notified() => {}
                    () = sleep(left.min(LOOK_EVERY)) => continue,
                }
            }
            self.progress.send_modify(|progress| progress.is_at_work = true);
            // Who asked just before it began is served by this one.
            tokio::select! {
                biased;
                () = self.asked.notified() => {}
                () = std::future::ready(()) => {}
            }
            let tried = tokio::select! {
                () = stopping.cancelled() => return,
                tried = timeout(TRY_TIMEOUT, obtain(&self.wanted, self.tls.challenges())) => tried,
            };
            let in_time = || Err(Fault::new("the authority took longer than five minutes; it is asked again"));
            match tried.unwrap_or_else(|_| in_time()) {
                Ok(facts) => {
                    self.note_success(&facts);
                    known = Some(facts);
                }
                Err(fault) => self.note_fault(&fault),
            }
        }
    }

    fn next_at(&self, known: Option<&CertificateFacts>, now: OffsetDateTime) -> OffsetDateTime {
        let progress = self.progress.borrow();
        match &progress.fault {
            Some(_) => progress.next_at.unwrap_or(now),
            None => due(known, &self.wanted.names, now),
        }
    }

    fn note_success(&self, facts: &CertificateFacts) {
        tracing::info!(names = facts.names.join(" "), ends = %facts.ends, "the authority gave a new certificate");
        let renewed_at = Some(OffsetDateTime::now_utc());
        self.progress.send_replace(Progress { renewed_at, ..Progress::default() });
    }

    fn note_fault(&self, fault: &Fault) {
        let now = OffsetDateTime::now_utc();
        self.progress.send_modify(|progress| {
            progress.is_at_work = false;
            progress.failures = progress.failures.saturating_add(1);
            let wait = wait_after(progress.failures, fault.wait);
            progress.next_at = Some(now + wait);
            progress.fault = Some((now, fault.told.clone()));
            tracing::warn!(cause = fault.told, next_in = ?wait, "there is no new certificate");
        });
    }
}
