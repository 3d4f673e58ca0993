use std::sync::Arc;
use std::time::{Duration, Instant};

use time::OffsetDateTime;
use tokio::task::JoinHandle;
use tokio::time::{MissedTickBehavior, interval, timeout};
use waverant_relay::{OnBreach, SessionState, StreamFacts};
use waverant_store::{SessionEnd, TakeRecord, TakeState};

use super::{Show, watched};
use crate::house::{Entry, House, LegOrder};
use crate::recorder::{self, RecorderSetup};

/// How long legs and recorder may take to finish after the last packet.
const FINISH_TIMEOUT: Duration = Duration::from_secs(10);

/// How often the stream is compared with the limits sheets.
const LIMITS_INTERVAL: Duration = Duration::from_secs(1);

/// Accompanies a session from its begin to its record in the ledger.
pub(super) async fn run(show: Arc<Show>, house: Arc<House>) {
    let recorder = (!show.is_rehearsal()).then(|| tokio::spawn(record(show.clone(), house.clone())));
    wait_for_the_end(&show, &house).await;
    show.evict_all();
    show.over.cancel();
    show.feed.end();
    if show.longest_delay().is_zero() {
        // The next encoder may begin a new session while this one is wound up.
        house.forget(&show);
    }
    let patience = FINISH_TIMEOUT + show.longest_delay();
    // The handles stay while the legs finish: a delayed leg can still be switched off, and a leg
    // without orders would end before it has sent the last packets.
    let tasks: Vec<JoinHandle<()>> = show.legs.lock().values_mut().filter_map(|leg| leg.task.take()).collect();
    for task in tasks {
        finish(task, patience).await;
    }
    if let Some(recorder) = recorder {
        finish(recorder, FINISH_TIMEOUT).await;
        show.leave_open_takes(&house);
    }
    house.forget(&show);
    let loss_count = show.stage.lock().attendance.life().loss_count();
    let reason = show.end_reason.lock().clone();
    let reason = reason.unwrap_or_else(|| "the publisher was lost and did not return in time".to_owned());
    tracing::info!(session = show.id, channel = %show.channel.name, reason, "over");
    let ended_at = OffsetDateTime::now_utc();
    let report = serde_json::to_string(&show.report()).unwrap_or_default();
    house.ledger.write(Entry::SessionEnded(SessionEnd { id: show.id, ended_at, reason, loss_count, report }));
    // Legs hold the session and the session their handles.
    show.legs.lock().clear();
}

/// Records the session; a recorder that fails leaves its take to be mended, and another goes on.
async fn record(show: Arc<Show>, house: Arc<House>) {
    let (setup_show, setup_house) = (show.clone(), house.clone());
    let begin = move || recorder::run(recorder_setup(&setup_show, &setup_house));
    watched(begin, || {
        show.note_event("the recorder failed by a fault of ours; another take is begun".to_owned());
        show.leave_open_takes(&house);
    })
    .await;
}

fn recorder_setup(show: &Arc<Show>, house: &Arc<House>) -> RecorderSetup {
    let (rules, numbers, notes, events) = (show.clone(), house.library.clone(), show.clone(), show.clone());
    let session = show.id;
    let ledger = house.ledger.clone();
    RecorderSetup {
        session_id: show.id,
        channel: show.channel.name.clone(),
        feed: show.feed.clone(),
        over: show.over.clone(),
        desk: show.recorder.clone(),
        rules: Box::new(move || rules.rules().recording),
        disk: house.recordings.clone(),
        clock: OffsetDateTime::now_utc,
        next_number: Box::new(move || numbers.numbers.next(session)),
        note: Box::new(move |take, is_kept| {
            notes.note_take(take);
            if is_kept {
                ledger.write(Entry::Take(take.clone()));
            }
        }),
        tell: Box::new(move |text| events.events.note(text)),
    }
}

async fn wait_for_the_end(show: &Arc<Show>, house: &Arc<House>) {
    let mut ticks = interval(LIMITS_INTERVAL);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        let (state, deadline) = {
            let attendance = &mut show.stage.lock().attendance;
            attendance.handle_timeout(Instant::now());
            (attendance.life().state(), attendance.poll_timeout())
        };
        if state == SessionState::Over {
            return;
        }
        tokio::select! {
            () = show.life_changed.notified() => {}
            () = sleep_until(deadline) => {}
            _ = ticks.tick() => show.compare_with_limits(),
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

async fn finish(mut task: JoinHandle<()>, patience: Duration) {
    if timeout(patience, &mut task).await.is_err() {
        tracing::warn!("a part of the session did not finish in time and was stopped");
        task.abort();
    }
}

impl Show {
    /// Shows the newest length and size of a take to whoever looks.
    fn note_take(&self, take: &TakeRecord) {
        let mut takes = self.takes.lock();
        match takes.iter_mut().find(|shown| shown.number == take.number) {
            Some(shown) => shown.clone_from(take),
            None => takes.push(take.clone()),
        }
    }

    /// A recorder that did not finish in time leaves its take to be mended.
    fn leave_open_takes(&self, house: &House) {
        for take in self.takes.lock().iter_mut().filter(|take| take.state == TakeState::Writing) {
            take.state = TakeState::CutOff;
            house.ledger.write(Entry::Take(take.clone()));
        }
    }

    /// Compares the stream with what each destination accepts, and holds legs back that are not to
    /// be sent what their destination does not accept.
    fn compare_with_limits(&self) {
        let source = self.source_snapshot();
        let now = Instant::now();
        for leg in self.legs.lock().values() {
            let (limits, sink, is_secure) = {
                let order = leg.orders.borrow();
                (order.limits.clone(), order.sink.clone(), order.is_secure())
            };
            let meant = sink.meant(&source.tracks);
            let facts = StreamFacts {
                is_secure,
                tracks: (!meant.is_empty()).then_some(&meant),
                bitrate_bps: source.video_bps + source.audio_bps,
                frame_rate: source.frame_rate,
                keyframe_spacing: source.keyframe_spacing,
            };
            let standing = leg.status.note_breaches(now, limits.check(&facts));
            let held_back = standing.filter(|_| limits.on_breach == OnBreach::DoNotSend);
            leg.orders.send_if_modified(|order: &mut LegOrder| {
                let changed = order.held_back != held_back;
                order.held_back = held_back;
                changed
            });
        }
    }
}
