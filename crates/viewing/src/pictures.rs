//! A picture at a time over a WebSocket: the lowest delay that a browser can have.
//!
//! Text messages tell, as JSON, the tracks that follow. A binary message is a byte that says what it is (1 a header,
//! 2 a piece), the number of its track, and CMAF bytes. Nothing that a viewer sends is looked at.

use std::sync::Arc;

use axum::Extension;
use axum::extract::ws::{CloseFrame, Message, WebSocket, WebSocketUpgrade, close_code};
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bytes::Bytes;
use serde::{Deserialize, Serialize};
use tokio::time::{Instant, sleep_until};
use waverant_media::{Track, TrackId, TrackKind};
use waverant_net::Place;
use waverant_relay::{Cursor, PictureMessage, PictureMux, Read};
use waverant_show::{FeedReader, Viewer};

use crate::open::{is_still_open, open_channel};
use crate::{ALLOWANCE, Fault, LOOK_INTERVAL, ViewingState};

/// Packets taken at once.
const MAX_ENTRIES: usize = 64;

/// The largest message that a viewer may send; none is needed.
const MAX_FROM_VIEWER: usize = 1024;

/// What waits for a viewer in the socket's own buffer, at most: a large keyframe.
const MAX_WAITING: usize = 4 * 1024 * 1024;

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
    Path(channel): Path<String>,
    Query(chosen): Query<Chosen>,
    place: Option<Extension<Arc<Place>>>,
    socket: WebSocketUpgrade,
) -> Result<Response, Fault> {
    let rules = open_channel(&state.house, &channel)?;
    let show = state.house.show(rules.id).filter(|show| !show.live().has_ended()).ok_or(Fault::OffAir)?;
    let sound = chosen.sound.unwrap_or(1).saturating_sub(1);
    let socket = socket.max_message_size(MAX_FROM_VIEWER).max_frame_size(MAX_FROM_VIEWER);
    let socket = socket.max_write_buffer_size(MAX_WAITING);
    let watching = Watching {
        reader: FeedReader::new(show.live().clone(), Cursor::new(ALLOWANCE), MAX_ENTRIES),
        mux: PictureMux::new(sound),
        _viewer: show.count_viewer(),
        channel: rules.id,
        state,
        _place: place.map(|Extension(place)| place),
    };
    Ok(socket.on_upgrade(|socket| serve(watching, socket)))
}

/// One viewer, as it is served.
struct Watching {
    state: ViewingState,
    channel: u64,
    reader: FeedReader,
    mux: PictureMux,
    /// Counts the viewer while it watches.
    _viewer: Viewer,
    /// The connection is still one at the door, though it is ours now.
    _place: Option<Arc<Place>>,
}

/// Why it goes on no longer.
enum Over {
    /// The show is over.
    Show,
    /// The channel is not open any more, or the service stops.
    Closed,
    /// The viewer has gone, or takes nothing.
    Viewer,
}

async fn serve(mut watching: Watching, mut socket: WebSocket) {
    let reason = match watching.run(&mut socket).await {
        Over::Show => "the show is over",
        Over::Closed => "the channel is not open any more",
        Over::Viewer => return,
    };
    let goodbye = CloseFrame { code: close_code::NORMAL, reason: reason.into() };
    let _ = tokio::time::timeout(WRITE_PATIENCE, socket.send(Message::Close(Some(goodbye)))).await;
}

impl Watching {
    async fn run(&mut self, socket: &mut WebSocket) -> Over {
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
                if !is_still_open(&self.state.house, self.channel) || self.state.house.stopping().is_cancelled() {
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
