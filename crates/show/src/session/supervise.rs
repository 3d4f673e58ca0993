use std::sync::Arc;
use std::time::{Duration, Instant};

use time::OffsetDateTime;
use tokio::task::JoinHandle;
use tokio::time::{MissedTickBehavior, interval, timeout};
use waverant_media::MediaTime;
use waverant_relay::{HubLimits, HubNeeds, RecordingMode, SessionState, ShowRecord};

use super::{Show, ShowEnd, Surroundings};
use crate::feed::DELAY_ALLOWANCE;
use crate::recorder::{self, RecorderSetup};
use crate::watched;
use crate::{clock, leg};

/// How long legs and recorder may take to finish after the last packet.
const FINISH_TIMEOUT: Duration = Duration::from_secs(10);

/// How often the show is judged.
const CHECKUP_INTERVAL: Duration = Duration::from_secs(1);

/// Accompanies a session from its begin to its record in the ledger.
pub(super) async fn run(show: Arc<Show>, surroundings: Surroundings) {
    let recorder = (!show.is_rehearsal).then(|| tokio::spawn(record(show.clone(), surroundings.clone())));
    wait_for_the_end(&show, &surroundings).await;
    show.evict_all();
    let feeds = show.context.feeds.clone();
    feeds.end();
    if feeds.longest_delay().is_zero() {
        // The next encoder may begin a new session while this one is wound up.
        surroundings.registry.forget(&show);
    }
    let patience = FINISH_TIMEOUT + feeds.longest_delay();
    // The handles stay while the legs finish: a delayed leg can still be switched off, and a leg
    // without orders would end before it has sent the last packets.
    let tasks: Vec<JoinHandle<()>> = show.legs.lock().values_mut().filter_map(|leg| leg.task.take()).collect();
    for task in tasks {
        finish(&show, task, patience).await;
    }
    if let Some(recorder) = recorder {
        finish(&show, recorder, FINISH_TIMEOUT).await;
        show.leave_open_takes();
    }
    surroundings.registry.forget(&show);
    let (loss_count, reason) = {
        let stage = show.stage.lock();
        (stage.attendance.life().loss_count(), stage.end_reason().map(str::to_owned))
    };
    let reason = reason.unwrap_or_else(|| "the publisher was lost and did not return in time".to_owned());
    tracing::info!(session = show.id(), channel = %show.channel.name, reason, "over");
    let (id, ended_at, report) = (show.id(), OffsetDateTime::now_utc(), show.report());
    let (started_at, timeline) = (show.started_at, show.timeline().clone());
    surroundings.registry.ended(ShowEnd { id, started_at, ended_at, reason, loss_count, report, timeline });
    show.legs.lock().clear();
}

/// Records the session; a recorder that fails leaves its take to be mended, and another goes on.
async fn record(show: Arc<Show>, surroundings: Surroundings) {
    let setup = recorder_setup(&show, &surroundings);
    let begin = move || recorder::run(setup.clone());
    watched(begin, || {
        show.note_event("the recorder failed by a fault of ours; another take is begun".to_owned());
        show.leave_open_takes();
    })
    .await;
}

fn recorder_setup(show: &Show, surroundings: &Surroundings) -> RecorderSetup {
    RecorderSetup {
        show: show.context.clone(),
        rules: show.rules.subscribe(),
        desk: show.recorder.clone(),
        takes: show.takes.clone(),
        disk: surroundings.disk.clone(),
        numbers: surroundings.take_numbers.clone(),
        clock: OffsetDateTime::now_utc,
    }
}

async fn wait_for_the_end(show: &Arc<Show>, surroundings: &Surroundings) {
    let mut ticks = interval(CHECKUP_INTERVAL);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        let (state, deadline) = {
            let attendance = &mut show.stage.lock().attendance;
            attendance.handle_timeout(clock::now());
            (attendance.life().state(), attendance.poll_timeout())
        };
        if state == SessionState::Over {
            return;
        }
        tokio::select! {
            () = show.stage.life_changed.notified() => {}
            () = sleep_until(deadline) => {}
            _ = ticks.tick() => {
                let source = show.source_snapshot();
                show.check_up(&source);
                show.note_figures(&source);
                show.fit_hub(source.keyframe_spacing());
            }
            () = surroundings.stopping.cancelled() => show.end("the server is stopping"),
        }
    }
}

async fn sleep_until(deadline: Option<Instant>) {
    match deadline {
        Some(deadline) => tokio::time::sleep_until(deadline.into()).await,
        None => std::future::pending().await,
    }
}

async fn finish(show: &Show, mut task: JoinHandle<()>, patience: Duration) {
    if timeout(patience, &mut task).await.is_err() {
        tracing::warn!(session = show.id(), channel = %show.channel.name, "a part of the session did not finish in time and was stopped");
        task.abort();
    }
}

impl Show {
    /// A recorder that did not finish in time leaves its take to be mended.
    fn leave_open_takes(&self) {
        for take in self.takes.cut_off() {
            self.context.ledger.write(ShowRecord::Take(take));
        }
    }

    /// Keeps as much of the show as its readers need: a disk may stand still, a recording by hand may begin before it
    /// was wanted, and legs may be slow.
    fn fit_hub(&self, keyframe_spacing: Option<MediaTime>) {
        let (rules, is_recorded) = (self.rules(), self.recorder.wanted().is_some());
        let mut behind = leg::ALLOWANCE;
        if is_recorded || rules.recording.mode == RecordingMode::Always {
            behind = behind.max(recorder::ALLOWANCE);
        }
        if !self.context.feeds.longest_delay().is_zero() {
            behind = behind.max(DELAY_ALLOWANCE);
        }
        let by_hand = rules.recording.mode == RecordingMode::ByHand && !is_recorded;
        let back = if by_hand { MediaTime::from_duration(rules.recording.pre_roll) } else { MediaTime::ZERO };
        let needs = HubNeeds { keyframe_spacing, behind, back };
        self.live().set_limits(needs.limits(HubLimits::default()));
    }
}
