//! A picture at a time over a WebSocket: the lowest delay that a browser can have.
//!
//! Text messages tell, as JSON, the tracks that follow. A binary message is a byte that says what it is (1 a header,
//! 2 a piece, or more of it), the number of its track, and CMAF bytes. Nothing that a viewer sends is looked at.

use std::sync::Arc;
use std::time::Duration;

use axum::Extension;
use axum::extract::ws::{CloseFrame, Message, WebSocket, WebSocketUpgrade, close_code};
use axum::extract::{Query, State};
use axum::response::Response;
use bytes::Bytes;
use futures_util::SinkExt;
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use tokio::time::{Instant, sleep_until, timeout};
use waverant_house::ViewerSeat;
use waverant_media::{Track, TrackId, TrackKind};
use waverant_net::Place;
use waverant_relay::{Cursor, PictureMessage, PictureMux, PicturePress, Read, Way};
use waverant_show::{FeedReader, Show, on_grid};

use crate::access::Access;
use crate::{ALLOWANCE, Fault, LOOK_INTERVAL, ViewingState};

/// Packets taken at once: few, since a slow viewer holds those that it was not sent yet.
const MAX_ENTRIES: usize = 8;

/// The largest message that a viewer may send; none is needed.
const MAX_FROM_VIEWER: usize = 1024;

/// A piece that is larger goes in several messages: what waits for a viewer in the socket's own buffer is one of them,
/// and not a keyframe.
const MAX_MESSAGE: usize = 32 * 1024;

/// What the socket's own buffers hold, at most.
const MAX_WAITING: usize = 3 * MAX_MESSAGE;
const MAX_READ: usize = 1024;

/// What comes within this time goes together: a write for each picture and each frame of sound is what costs, and
/// players have more in hand than that.
const REST: Duration = Duration::from_millis(30);

/// So long a viewer may need for what was taken for it at once: no longer than the show's ring holds it anyway.
const WRITE_PATIENCE: Duration = Duration::from_secs(20);

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
        let may_go_on =
            || access.may_go_on(&house, Way::Pictures) && !lost.is_cancelled() && !house.stopping().is_cancelled();
        viewer.serve(socket, may_go_on).await;
    }))
}

/// The same with bounds on what a viewer sends, and on what waits for it.
pub fn within_limits(socket: WebSocketUpgrade) -> WebSocketUpgrade {
    let socket = socket.max_message_size(MAX_FROM_VIEWER).max_frame_size(MAX_FROM_VIEWER).read_buffer_size(MAX_READ);
    socket.write_buffer_size(MAX_MESSAGE).max_write_buffer_size(MAX_WAITING)
}

/// One viewer that takes a picture at a time.
#[derive(Debug)]
pub struct PictureViewer {
    reader: FeedReader,
    mux: PictureMux,
    /// Makes pieces for all who take this show.
    press: Arc<Mutex<PicturePress>>,
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
            press: show.press(),
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
        let _ = timeout(WRITE_PATIENCE, socket.send(Message::Close(Some(goodbye)))).await;
    }

    async fn run(&mut self, socket: &mut WebSocket, may_go_on: impl Fn() -> bool) -> Over {
        let mut told = Vec::new();
        let mut look_at = Instant::now() + LOOK_INTERVAL;
        loop {
            let taken = self.reader.take();
            {
                let mut press = self.press.lock();
                self.reader.entries().iter().for_each(|entry| self.mux.push(entry, &mut press, &mut told));
            }
            // Only who takes what is sent gets more: the socket's buffer and the show's ring are all there is.
            let sending = timeout(WRITE_PATIENCE, send_together(socket, told.drain(..)));
            let Ok(Ok(())) = sending.await else { return Over::Viewer };
            if taken.is_end() {
                return Over::Show;
            }
            if self.reader.has_news() || matches!(taken.read, Read::Jumped { .. }) {
                continue;
            }
            let rested = on_grid(Instant::now().into_std(), REST);
            tokio::select! {
                () = self.reader.news() => sleep_until(rested.into()).await,
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

/// Sends all of it with as few writes as there can be.
async fn send_together(socket: &mut WebSocket, told: impl Iterator<Item = PictureMessage>) -> Result<(), axum::Error> {
    for message in told.flat_map(|told| messages(&told)) {
        socket.feed(message).await?;
    }
    socket.flush().await
}

/// What is told, as messages.
fn messages(told: &PictureMessage) -> Vec<Message> {
    match told {
        PictureMessage::Tracks(tracks, sent) => {
            let tracks = tracks.iter().map(|track| told_track(track, sent)).collect();
            vec![Message::Text(serde_json::to_string(&Told { tracks }).unwrap_or_default().into())]
        }
        PictureMessage::Header(track, header) => {
            of_track(HEADER, *track, std::slice::from_ref(header)).into_iter().map(Message::Binary).collect()
        }
        PictureMessage::Piece(shared) => {
            let wire = shared.on_the_wire(|shared| of_track(PIECE, shared.track, &shared.piece.segments));
            wire.iter().cloned().map(Message::Binary).collect()
        }
    }
}

/// Bytes of a track, in messages of a size.
fn of_track(what: u8, track: TrackId, parts: &[Bytes]) -> Vec<Bytes> {
    let mut left: usize = parts.iter().map(Bytes::len).sum();
    let begin = |left: usize| {
        let mut bytes = Vec::with_capacity(2 + left.min(MAX_MESSAGE));
        bytes.extend([what, track.0]);
        bytes
    };
    let (mut messages, mut bytes) = (Vec::with_capacity(left.div_ceil(MAX_MESSAGE)), begin(left));
    for part in parts {
        let mut part = &part[..];
        while !part.is_empty() {
            let (now, later) = part.split_at(part.len().min(MAX_MESSAGE + 2 - bytes.len()));
            bytes.extend_from_slice(now);
            (part, left) = (later, left - now.len());
            if bytes.len() == MAX_MESSAGE + 2 {
                messages.push(std::mem::replace(&mut bytes, begin(left)).into());
            }
        }
    }
    if bytes.len() > 2 {
        messages.push(bytes.into());
    }
    messages
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

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::small(&[10, 20], 1)]
    #[case::exact(&[100, MAX_MESSAGE - 100], 1)]
    #[case::one_more(&[100, MAX_MESSAGE - 99], 2)]
    #[case::keyframe(&[100, 300_000], 10)]
    #[case::many_parts(&[1000; 100], 4)]
    #[case::empty(&[], 0)]
    fn a_large_piece_goes_in_several_messages(#[case] sizes: &[usize], #[case] expected: usize) {
        let parts: Vec<Bytes> = (0..).zip(sizes).map(|(at, size)| vec![at; *size].into()).collect();
        let messages = of_track(PIECE, TrackId(7), &parts);
        assert_eq!(messages.len(), expected);
        let mut joined = Vec::new();
        for bytes in messages {
            assert!(bytes.len() <= MAX_MESSAGE + 2 && bytes[..2] == [PIECE, 7]);
            joined.extend_from_slice(&bytes[2..]);
        }
        assert_eq!(joined, parts.concat());
    }
}
