//! What is sent while nobody publishes.

use std::sync::Arc;
use std::time::{Duration, Instant};

use waverant_codec::CodecPool;
use waverant_media::{TrackKind, Tracks};
use waverant_relay::{OnAir, Origin, Slate, SlateChoice, SlateSource};

use crate::clock;
use crate::slates::{Likeness, Makers, Prepared};

use super::Show;

/// While the show's rate is not known it is asked for this often.
const RATE_INTERVAL: Duration = Duration::from_millis(500);

/// Packets of the slate that are due within this time go together.
const TICK: Duration = Duration::from_millis(20);

/// What a slate is to be like.
struct Wanted {
    choice: SlateChoice,
    /// Counts uploads.
    upload: u64,
    tracks: Arc<Tracks>,
    /// None while the rate of the show is not known.
    frame_rate: Option<f64>,
}

/// A slate that was made; none where none fits.
struct Ready {
    wanted: Wanted,
    slate: Option<Prepared>,
}

impl Wanted {
    /// A rate that was known once stays, whatever is measured later.
    fn is_same(&self, other: &Self) -> bool {
        let is_same_rate = self.frame_rate.is_some() || other.frame_rate.is_none();
        is_same_rate
            && self.choice == other.choice
            && self.upload == other.upload
            && Arc::ptr_eq(&self.tracks, &other.tracks)
    }
}

/// Puts the slate on when it is due, until the session is over.
pub(super) async fn run(show: Arc<Show>, shelf: Arc<dyn SlateSource>, codec: CodecPool) {
    let makers = Makers { shelf, codec };
    let mut ready: Option<Ready> = None;
    loop {
        let mut changed = std::pin::pin!(show.stage.changed.notified());
        changed.as_mut().enable();
        let (tracks, due) = {
            let mut stage = show.stage.lock();
            (stage.tracks.clone(), stage.program().slate_due())
        };
        let (choice, upload, frame_rate) = (show.rules().slate, makers.shelf.version(), show.frame_rate());
        let wanted = Wanted { choice, upload, tracks, frame_rate };
        if !wanted.tracks.is_empty() && ready.as_ref().is_none_or(|ready| !ready.wanted.is_same(&wanted)) {
            let (slate, findings) = prepare(&show, &makers, &wanted).await;
            // Without one that fits nothing is due, until the show or its rules are others.
            show.stage.lock().set_slate(slate.is_some(), findings);
            ready = Some(Ready { wanted, slate });
            continue;
        }
        let is_rate_known = ready.as_ref().is_none_or(|ready| ready.wanted.frame_rate.is_some());
        let playable = ready.as_ref().and_then(|ready| Some((&ready.wanted, ready.slate.as_ref()?)));
        tokio::select! {
            () = show.live().over().cancelled() => return,
            () = changed => {}
            () = tokio::time::sleep(RATE_INTERVAL), if !is_rate_known => {}
            () = sleep_until(due), if playable.is_some() => {
                if let Some((wanted, slate)) = playable {
                    play(&show, makers.shelf.as_ref(), wanted, &slate.slate).await;
                }
            }
        }
    }
}

/// Plays the slate while it is on air, and until another one is wanted.
async fn play(show: &Show, shelf: &dyn SlateSource, wanted: &Wanted, slate: &Slate) {
    let Some(start) = show.stage.lock().program().begin_slate(clock::now()) else { return };
    tracing::info!(session = show.id(), channel = %show.channel.name, "the slate is on");
    show.context.events.note("the slate is shown".to_owned());
    let mut number = 0;
    loop {
        let until = {
            let mut stage = show.stage.lock();
            // The platforms' clock stood still while the loss went unnoticed; the slate fills that.
            let time = stage.program().time_at(clock::now());
            loop {
                let Some(mut packet) = slate.packet(number) else { return };
                packet.dts = packet.dts + start;
                packet.pts = packet.pts + start;
                if packet.dts > time {
                    break (packet.dts - time).to_duration();
                }
                if !stage.program().offer_slate(&packet) {
                    return;
                }
                show.live().push(packet, slate.tracks().clone(), Origin::Slate);
                number += 1;
            }
        };
        show.live().tell_news();
        tokio::select! {
            () = show.live().over().cancelled() => return,
            () = tokio::time::sleep(until.max(TICK)) => {}
        }
        if show.rules().slate != wanted.choice || shelf.version() != wanted.upload {
            return show.stage.lock().program().end_slate(clock::now());
        }
    }
}

/// The slate that fits the show, or none; and what does not fit, in words.
async fn prepare(show: &Show, makers: &Makers, wanted: &Wanted) -> (Option<Prepared>, Vec<String>) {
    let mut findings = Vec::new();
    if wanted.choice == SlateChoice::None || show.channel.hold.is_zero() {
        return (None, findings);
    }
    if wanted.choice == SlateChoice::Uploaded {
        match makers.uploaded(show.channel.id, Some(wanted.tracks.clone())).await {
            Ok(slate) => return (Some(slate), findings),
            Err(error) => findings.push(format!("the uploaded slate does not fit the show: {error}")),
        }
    }
    match makers.holding_picture(&wanted.tracks, wanted.frame_rate).await {
        Ok(slate) => (Some(slate), findings),
        Err(error) => {
            findings.push(format!("there is no built-in slate for this show: {error}"));
            (None, findings)
        }
    }
}

async fn sleep_until(due: Option<Instant>) {
    match due {
        Some(due) => tokio::time::sleep_until(due.into()).await,
        None => std::future::pending().await,
    }
}

impl Show {
    /// True while the slate stands in.
    pub fn is_slate_on(&self) -> bool {
        self.stage.lock().program().on_air() == OnAir::Slate
    }

    /// What it is like, for what stands in between it and the next.
    pub fn likeness(&self) -> Likeness {
        let tracks = self.stage.lock().tracks.clone();
        Likeness { tracks, frame_rate: self.frame_rate() }
    }

    /// Pictures per second as the stream tells, as they were announced, else by the times of the pictures.
    fn frame_rate(&self) -> Option<f64> {
        let (told, shown) = {
            let stage = self.stage.lock();
            let told = stage.tracks.first(TrackKind::Video).and_then(|video| video.codec.frame_rate());
            (told, stage.shown.clone())
        };
        told.or_else(|| shown.frame_rate()).filter(|rate| (1.0..=240.0).contains(rate))
    }
}
