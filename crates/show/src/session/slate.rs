//! What is sent while nobody publishes.

use std::sync::Arc;
use std::time::{Duration, Instant};

use tokio::task::spawn_blocking;
use waverant_media::{TrackKind, Tracks};
use waverant_relay::{OnAir, Origin, Slate};
use waverant_store::SlateChoice;

use super::Show;
use crate::house::SlateShelf;

/// Frame rate of the built-in picture where nobody knows that of the show.
const USUAL_FRAME_RATE: f64 = 30.0;

/// The built-in picture stands still: more than this would only cost.
const MOST_FRAME_RATE: f64 = 60.0;

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
    slate: Option<Slate>,
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
pub(super) async fn run(show: Arc<Show>, shelf: Arc<SlateShelf>) {
    let mut ready: Option<Ready> = None;
    loop {
        let mut changed = std::pin::pin!(show.stage_changed.notified());
        changed.as_mut().enable();
        let (tracks, due) = {
            let mut stage = show.stage.lock();
            (stage.tracks.clone(), stage.program().slate_due())
        };
        let (choice, upload, frame_rate) = (show.rules().slate, shelf.version(), show.frame_rate());
        let wanted = Wanted { choice, upload, tracks, frame_rate };
        if !wanted.tracks.is_empty() && ready.as_ref().is_none_or(|ready| !ready.wanted.is_same(&wanted)) {
            let slate = prepare(&show, &shelf, &wanted).await;
            // Without one that fits nothing is due, until the show or its rules are others.
            show.set_slate(slate.is_some());
            ready = Some(Ready { wanted, slate });
            continue;
        }
        let is_rate_known = ready.as_ref().is_none_or(|ready| ready.wanted.frame_rate.is_some());
        let playable = ready.as_ref().and_then(|ready| Some((&ready.wanted, ready.slate.as_ref()?)));
        tokio::select! {
            () = show.over.cancelled() => return,
            () = changed => {}
            () = tokio::time::sleep(RATE_INTERVAL), if !is_rate_known => {}
            () = sleep_until(due), if playable.is_some() => {
                if let Some((wanted, slate)) = playable {
                    play(&show, &shelf, wanted, slate).await;
                }
            }
        }
    }
}

/// Plays the slate while it is on air, and until another one is wanted.
async fn play(show: &Arc<Show>, shelf: &SlateShelf, wanted: &Wanted, slate: &Slate) {
    let Some(start) = show.stage.lock().program().begin_slate(Instant::now()) else { return };
    tracing::info!(session = show.id, "the slate is on");
    show.events.note("the slate is shown".to_owned());
    let mut number = 0;
    loop {
        let until = {
            let mut stage = show.stage.lock();
            // The platforms' clock stood still while the loss went unnoticed; the slate fills that.
            let time = stage.program().time_at(Instant::now());
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
                show.feed.push(packet, slate.tracks().clone(), Origin::Slate);
                number += 1;
            }
        };
        show.feed.tell_news();
        tokio::select! {
            () = show.over.cancelled() => return,
            () = tokio::time::sleep(until.max(TICK)) => {}
        }
        if show.rules().slate != wanted.choice || shelf.version() != wanted.upload {
            return show.stage.lock().program().end_slate(Instant::now());
        }
    }
}

/// The slate that fits the show, or none; what does not fit is a finding.
async fn prepare(show: &Arc<Show>, shelf: &Arc<SlateShelf>, wanted: &Wanted) -> Option<Slate> {
    if wanted.choice == SlateChoice::None || show.channel.hold.is_zero() {
        show.set_slate_findings(Vec::new());
        return None;
    }
    let (choice, tracks) = (wanted.choice, wanted.tracks.clone());
    let (shelf, channel) = (shelf.clone(), show.channel.id);
    let frame_rate = wanted.frame_rate.unwrap_or(USUAL_FRAME_RATE).min(MOST_FRAME_RATE);
    let prepared = spawn_blocking(move || {
        let mut findings = Vec::new();
        if choice == SlateChoice::Uploaded {
            match shelf.uploaded(channel).and_then(|slate| slate.fitted(&tracks).map_err(|error| error.to_string())) {
                Ok(slate) => return (Some(slate), findings),
                Err(error) => findings.push(format!("the uploaded slate does not fit the show: {error}")),
            }
        }
        match built_in(&tracks, frame_rate) {
            Ok(slate) => (Some(slate), findings),
            Err(error) => {
                findings.push(format!("there is no built-in slate for this show: {error}"));
                (None, findings)
            }
        }
    });
    let (slate, findings) = prepared.await.unwrap_or_default();
    show.set_slate_findings(findings);
    slate
}

fn built_in(tracks: &Tracks, frame_rate: f64) -> Result<Slate, String> {
    let video = tracks.first(TrackKind::Video).ok_or("it has no pictures")?;
    let (width, height) = video.codec.picture_size().ok_or("the size of its pictures is not known")?;
    let clip = waverant_picture::holding_picture(width, height, frame_rate).map_err(|error| error.to_string())?;
    let slate = Slate::new(clip.tracks, clip.packets, clip.length).map_err(|error| error.to_string())?;
    slate.fitted(tracks).map_err(|error| error.to_string())
}

async fn sleep_until(due: Option<Instant>) {
    match due {
        Some(due) => tokio::time::sleep_until(due.into()).await,
        None => std::future::pending().await,
    }
}

impl Show {
    /// Whether there is a slate that can go on.
    fn set_slate(&self, has_slate: bool) {
        let takeover = self.rules().takeover;
        self.stage.lock().set_slate(takeover, has_slate);
    }

    /// True while the slate stands in.
    pub(crate) fn is_slate_on(&self) -> bool {
        self.stage.lock().program().on_air() == OnAir::Slate
    }

    /// Pictures per second as announced, else by the times of the pictures.
    fn frame_rate(&self) -> Option<f64> {
        let announced = self.rates().frame_rate;
        let told = self.stage.lock().tracks.first(TrackKind::Video).and_then(|video| video.codec.frame_rate());
        let shown = self.shown.lock().clone();
        let rate = told.or(announced).or_else(|| shown.meters.lock().pictures.rate());
        rate.filter(|rate| (1.0..=240.0).contains(rate))
    }
}
