//! A picture at a time over a WebSocket: the lowest delay that a browser can have.
//!
//! Text messages tell, as JSON, the tracks that follow. A binary message is a byte that says what it is (1 a header,
//! 2 a piece), the number of its track, and CMAF bytes. Nothing that a viewer sends is looked at.

use std::sync::Arc;

use axum::Extension;
use axum::extract::ws::{CloseFrame, Message, WebSocket, WebSocketUpgrade, close_code};
use axum::extract::{Query, State};
use axum::response::Response;
use bytes::Bytes;
use serde::{Deserialize, Serialize};
use tokio::time::{Instant, sleep_until};
use waverant_house::ViewerSeat;
use waverant_media::{Track, TrackId, TrackKind};
use waverant_net::Place;
use waverant_relay::{Cursor, PictureMessage, PictureMux, Read, Way};
use waverant_show::{FeedReader, Show};

use crate::access::Access;
use crate::{ALLOWANCE, Fault, LOOK_INTERVAL, ViewingState};

/// Packets taken at once.
const MAX_ENTRIES: usize = 64;

/// The largest message that a viewer may send; none is needed.
const MAX_FROM_VIEWER: usize = 1024;

/// What waits for a viewer in the socket's own buffer, at most: one message, of the largest keyframe that settings
/// allow.
const MAX_WAITING: usize = 72 * 1024 * 1024;

/// So long a viewer may take nothing before it is let go.
const WRITE_PATIENCE: std::time::Duration = std::time::Duration::from_secs(20);

const HEADER: u8 = 1;
const PIECE: u8 = 2;

/// What a viewer chooses.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct Chosen {
    /// Which sound, counted from 1; the first if left out.
    sound: Option<u8>,
}

/// A text message.
#[derive(Debug, Serialize)]
struct Told<'a> {
    tracks: Vec<ToldTrack<'a>>,
}

#[derive(Debug, Serialize)]
struct ToldTrack<'a> {
    number: u8,
    kind: &'static str,
    codec: String,
    language: Option<&'a str>,
    name: Option<&'a str>,
    /// Whether it follows; of sounds only the chosen one does.
    is_sent: bool,
}

pub(crate) async fn upgrade(
    State(state): State<ViewingState>,
    Extension(access): Extension<Arc<Access>>,
    Query(chosen): Query<Chosen>,
    place: Option<Extension<Arc<Place>>>,
    socket: WebSocketUpgrade,
) -> Result<Response, Fault> {
    let show = access.show_on_air(&state.house).ok_or(Fault::OffAir)?;
    let seat = access.seat_viewer(&state.house, Way::Pictures)?;
    let lost = seat.lost.clone();
    let viewer = PictureViewer { _seat: Some(seat), ..PictureViewer::of_the_house(&show, chosen.sound) };
    let house = state.house;
    Ok(within_limits(socket).on_upgrade(move |socket| async move {
        // The connection is still one at the door, though it is ours now.
        let _place = place;
        let may_go_on = || access.may_go_on(&house) && !lost.is_cancelled() && !house.stopping().is_cancelled();
        viewer.serve(socket, may_go_on).await;
    }))
}

/// The same with bounds on what a viewer sends, and on what waits for it.
pub fn within_limits(socket: WebSocketUpgrade) -> WebSocketUpgrade {
    let socket = socket.max_message_size(MAX_FROM_VIEWER).max_frame_size(MAX_FROM_VIEWER);
    socket.max_write_buffer_size(MAX_WAITING)
}

/// One viewer that takes a picture at a time.
#[derive(Debug)]
pub struct PictureViewer {
    reader: FeedReader,
    mux: PictureMux,
    /// Counts the viewer while it watches.
    _seat: Option<ViewerSeat>,
}

/// Why it goes on no longer.
enum Over {
    /// The show is over.
    Show,
    /// The channel is not open any more, the link has ended, or the service stops.
    Closed,
    /// The viewer has gone, or takes nothing.
    Viewer,
}

impl PictureViewer {
    /// One of the house itself, who is not counted. It wants the sound at `place`, counted from 1; the first if it
    /// does not say.
    pub fn of_the_house(show: &Arc<Show>, place: Option<u8>) -> Self {
        Self {
            reader: FeedReader::new(show.live().clone(), Cursor::new(ALLOWANCE), MAX_ENTRIES),
            mux: PictureMux::new(place.unwrap_or(1).saturating_sub(1)),
            _seat: None,
        }
    }

    /// Sends the show until it is over, the viewer goes, or `may_go_on` says no, which is asked once a second.
    ///
    /// # Cancel safety
    /// Dropping it closes the connection without a word.
    pub async fn serve(mut self, mut socket: WebSocket, may_go_on: impl Fn() -> bool) {
        let reason = match self.run(&mut socket, may_go_on).await {
            Over::Show => "the show is over",
            Over::Closed => "this is not to be watched any more",
            Over::Viewer => return,
        };
        let goodbye = CloseFrame { code: close_code::NORMAL, reason: reason.into() };
        let _ = tokio::time::timeout(WRITE_PATIENCE, socket.send(Message::Close(Some(goodbye)))).await;
    }

    async fn run(&mut self, socket: &mut WebSocket, may_go_on: impl Fn() -> bool) -> Over {
        let mut messages = Vec::new();
        let mut look_at = Instant::now() + LOOK_INTERVAL;
        loop {
            let taken = self.reader.take();
            for entry in self.reader.entries() {
                self.mux.push(entry, &mut messages);
            }
            let has_some = !messages.is_empty();
            for message in messages.drain(..) {
                // Only who takes what is sent gets more: the socket's buffer and the show's ring are all there is.
                let Ok(Ok(())) = tokio::time::timeout(WRITE_PATIENCE, socket.send(as_message(&message))).await else {
                    return Over::Viewer;
                };
            }
            if taken.is_end() {
                return Over::Show;
            }
            if has_some || matches!(taken.read, Read::Jumped { .. }) {
                continue;
            }
            tokio::select! {
                () = self.reader.news() => {}
                () = sleep_until(look_at) => {}
                from_viewer = socket.recv() => match from_viewer {
                    Some(Ok(Message::Close(_)) | Err(_)) | None => return Over::Viewer,
                    Some(Ok(_)) => {}
                },
            }
            if look_at <= Instant::now() {
                look_at = Instant::now() + LOOK_INTERVAL;
                if !may_go_on() {
                    return Over::Closed;
                }
            }
        }
    }
}

fn as_message(message: &PictureMessage) -> Message {
    let of_track = |what: u8, track: TrackId, parts: &[Bytes]| {
        let mut bytes = Vec::with_capacity(2 + parts.iter().map(Bytes::len).sum::<usize>());
        bytes.extend([what, track.0]);
        parts.iter().for_each(|part| bytes.extend_from_slice(part));
        Message::Binary(bytes.into())
    };
    match message {
        PictureMessage::Tracks(tracks, sent) => {
            let tracks = tracks.iter().map(|track| told_track(track, sent)).collect();
            Message::Text(serde_json::to_string(&Told { tracks }).unwrap_or_default().into())
        }
        PictureMessage::Header(track, header) => of_track(HEADER, *track, std::slice::from_ref(header)),
        PictureMessage::Piece(track, piece) => of_track(PIECE, *track, &piece.segments),
    }
}

fn told_track<'a>(track: &'a Track, sent: &[TrackId]) -> ToldTrack<'a> {
    ToldTrack {
        number: track.id.0,
        kind: if track.id.kind() == TrackKind::Video { "video" } else { "audio" },
        codec: track.codec.codec_string(),
        language: track.language.as_deref(),
        name: track.name.as_deref(),
        is_sent: sent.contains(&track.id),
    }
}
