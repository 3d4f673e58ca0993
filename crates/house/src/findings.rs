//! What is wrong with the house itself, apart from its shows; and what of a show is not to be told.

use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use time::OffsetDateTime;
use time::macros::datetime;
use waverant_library::LOW_TIME;
use waverant_relay::{
    Actor, CertificateLeft, Finding, FindingChange, FindingCode, HouseFacts, Occurrence, WhenSilent, judge_house,
};

use crate::host::{HostFigures, HostMeter};
use crate::{House, HouseError};

/// How often the house is judged.
const INTERVAL: Duration = Duration::from_secs(1);

/// No clock is right that shows an earlier time: this version was made then.
const MADE: OffsetDateTime = datetime!(2026-11-01 0:00 UTC);

/// A database that does not answer within this time is away.
const PATIENCE: Duration = Duration::from_secs(3);

impl House {
    /// What is wrong with the house itself: the worst first.
    pub fn findings(&self) -> Vec<Finding> {
        self.condition.checkup.lock().standing()
    }

    /// Says from when to when the certificate is good; None if there is none.
    pub fn note_certificate(&self, good: Option<Range<OffsetDateTime>>) {
        *self.condition.certificate.lock() = good;
    }

    /// Says why the authority gives no new certificate; None while all is well with that.
    pub fn note_renewal(&self, fault: Option<String>) {
        *self.condition.renewal_fault.lock() = fault;
    }

    /// What was wrong with the house since the service was started, each with its end; none while it stands.
    pub fn all_findings(&self) -> Vec<(Finding, Option<Instant>)> {
        let checkup = self.condition.checkup.lock();
        let past = checkup.past().0.map(|past| (past.finding.clone(), Some(past.until)));
        past.chain(checkup.standing().into_iter().map(|finding| (finding, None))).collect()
    }

    /// Says whether findings of a code are known on the show that is on air, and not to be told for the rest of it.
    ///
    /// # Errors
    /// [`HouseError`] if there is no such code, or no show.
    pub fn mute_findings(&self, channel: &str, word: &str, is_muted: bool, by: &Actor) -> Result<(), HouseError> {
        let code = FindingCode::from_word(word);
        let code = code.ok_or_else(|| HouseError::NotFound { kind: "finding", name: word.to_owned() })?;
        let show = self.running(channel)?;
        show.mute(code, is_muted);
        let done = if is_muted { "muted" } else { "listens again to" };
        show.note_event(format!("{by} {done} findings of `{word}`"));
        Ok(())
    }

    /// Judges the house until the service stops.
    pub(crate) async fn judge_itself(self: Arc<Self>, database_pid: Option<u32>) {
        let mut host = HostMeter::new(database_pid);
        let mut ticks = tokio::time::interval(INTERVAL);
        ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                _ = ticks.tick() => {}
                () = self.stopping().cancelled() => return,
            }
            let answer = tokio::time::timeout(PATIENCE, self.store.is_reachable());
            let is_database_away = tokio::select! {
                answer = answer => !answer.unwrap_or(false),
                () = self.stopping().cancelled() => return,
            };
            self.condition.database_answers.store(!is_database_away, Ordering::Relaxed);
            // It is read from files that the kernel makes up: never slow, and still no work for the runtime.
            let looked = tokio::task::spawn_blocking(move || {
                let seen = host.look(Instant::now());
                (host, seen)
            });
            // A fault of ours in the look must not end the judging: another meter goes on.
            let (meter, seen) = looked.await.unwrap_or_else(|_| (HostMeter::new(database_pid), None));
            host = meter;
            *self.condition.host.write() = seen;
            let away = || "the database does not answer".to_owned();
            let fault = self.ledger.fault().map(|fault| format!("the database takes no records: {fault}"));
            let database_fault = if is_database_away { Some(away()) } else { fault };
            let facts = HouseFacts { database_fault, ..self.facts() };
            for change in self.condition.checkup.lock().update(Instant::now(), judge_house(&facts)) {
                log(&change);
                self.ledger.tell_others(Occurrence::of_house_finding(&change, OffsetDateTime::now_utc()));
            }
        }
    }

    /// Why a system is left alone that is asked before somebody is let in, and whether nobody is let in meanwhile: of
    /// several one that keeps out.
    fn silent_system(&self) -> Option<(String, bool)> {
        let directory = self.directory();
        let silent = directory.house_systems().filter_map(|system| {
            let condition = self.asking.condition(system.id);
            let (_, why) = condition.silence.filter(|_| condition.is_resting && system.rules.is_on)?;
            let of =
                directory.channel(system.id).map_or_else(|| "the house".to_owned(), |rules| rules.name.to_string());
            let keeps_out = system.rules.when_silent == WhenSilent::Closed;
            Some((format!("the system that is asked for {of} does not answer: {why}"), keeps_out))
        });
        silent.max_by_key(|(_, keeps_out)| *keeps_out)
    }

    fn facts(&self) -> HouseFacts {
        let at = OffsetDateTime::now_utc();
        let share = self.uplink().map(|load| (load.legs_bps + load.viewers_bps) / load.carries_bps.max(1) as f64);
        let host = self.host();
        let available = |host: &HostFigures| host.available_bytes as f64 / host.memory_bytes.max(1) as f64;
        HouseFacts {
            uplink_share: share,
            processor_share: host.as_ref().map(|host| host.processor_share),
            available_memory: host.as_ref().map(available),
            is_disk_full: self.library().outlook().is_some_and(|outlook| outlook.is_full()),
            disk_left: self.recording_time_left().filter(|left| *left < LOW_TIME),
            checkup_part: Some(self.checkup_budget())
                .filter(|budget| budget.share() > 0.0)
                .map(|budget| budget.part())
                .filter(|part| *part < 1.0),
            database_fault: None,
            silent_system: self.silent_system(),
            failing_target: self.couriers.failing(at),
            certificate: self.condition.certificate.lock().as_ref().map(|good| CertificateLeft {
                left_s: (good.end - at).whole_seconds(),
                life_s: (good.end - good.start).whole_seconds(),
            }),
            renewal_fault: self.condition.renewal_fault.lock().clone(),
            clock_put: self.condition.clocks.lock().look(at, Instant::now()),
            is_clock_behind: at < MADE,
        }
    }
}

fn log(change: &FindingChange) {
    match change {
        FindingChange::Raised(finding) => {
            tracing::warn!(code = finding.key.code.word(), cause = finding.cause, "a finding of the house");
        }
        FindingChange::Cleared(past) => {
            tracing::info!(code = past.finding.key.code.word(), "a finding of the house is over");
        }
    }
}
