//! A continuous MPEG transport stream, for desktop players and compositing programs.

use std::convert::Infallible;
use std::sync::Arc;

use axum::Extension;
use axum::body::Body;
use axum::extract::{Query, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use bytes::Bytes;
use futures_util::stream::{self, Stream};
use serde::Deserialize;
use tokio::time::timeout;
use waverant_house::ViewerSeat;
use waverant_relay::{AudioChoice, AudioPick, Cursor, SinkRules, TsSink, Way};
use waverant_show::FeedReader;

use crate::access::Access;
use crate::{ALLOWANCE, Fault, LOOK_INTERVAL, ViewingState};

/// Packets taken at once: few, since what a slow player was not sent yet is kept for it alone.
const MAX_ENTRIES: usize = 8;

/// What a player chooses.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct Chosen {
    /// The one sound it wants, such as `number:2`, `language:de` or `name:commentary`; all if left out.
    sound: Option<String>,
}

/// One player, as it is served.
struct Watching {
    state: ViewingState,
    access: Arc<Access>,
    session: u64,
    reader: FeedReader,
    sink: TsSink,
    /// Counts the player while it watches.
    seat: ViewerSeat,
}

pub(crate) async fn stream(
    State(state): State<ViewingState>,
    Extension(access): Extension<Arc<Access>>,
    Query(chosen): Query<Chosen>,
) -> Result<Response, Fault> {
    let audio = match chosen.sound.as_deref() {
        Some(sound) => {
            let pick: AudioPick = sound.parse().map_err(|error| Fault::Wrong(format!("sound: {error}")))?;
            AudioChoice { pick: Some(pick), ..AudioChoice::default() }
        }
        None => AudioChoice::default(),
    };
    let show = access.show_on_air(&state.house).ok_or(Fault::OffAir)?;
    let watching = Watching {
        reader: FeedReader::new(show.live().clone(), Cursor::new(ALLOWANCE), MAX_ENTRIES),
        sink: TsSink::new(SinkRules { audio, ..SinkRules::default() }),
        seat: access.seat_viewer(&state.house, Way::TransportStream)?,
        session: show.id(),
        access,
        state,
    };
    let fixed = [(header::CONTENT_TYPE, "video/mp2t"), (header::CACHE_CONTROL, "no-store")];
    Ok((fixed, Body::from_stream(packets(watching))).into_response())
}

/// What is sent, as it comes. Nothing is taken from the show before the player has taken what came before: one
/// that is slow goes on at a keyframe, and costs no memory.
fn packets(watching: Watching) -> impl Stream<Item = Result<Bytes, Infallible>> {
    stream::unfold(watching, |mut watching| async move {
        let bytes = watching.next().await?;
        Some((Ok(bytes), watching))
    })
}

impl Watching {
    fn may_go_on(&self) -> bool {
        let house = &self.state.house;
        self.access.may_go_on(house) && !self.seat.lost.is_cancelled() && !house.stopping().is_cancelled()
    }

    async fn next(&mut self) -> Option<Bytes> {
        loop {
            if !self.may_go_on() {
                return None;
            }
            let taken = self.reader.take();
            if taken.has_jumped() {
                self.sink.skip_to_keyframe();
            }
            let mut out = Vec::new();
            for entry in self.reader.entries() {
                if let Err(error) = self.sink.send(entry, &mut out) {
                    tracing::info!(session = self.session, %error, "a player of a transport stream cannot be served");
                    return None;
                }
            }
            if !out.is_empty() {
                return Some(out.into());
            }
            if taken.is_end() {
                return None;
            }
            // Looked at now and then, also while nothing comes.
            let _ = timeout(LOOK_INTERVAL, self.reader.news()).await;
        }
    }
}
