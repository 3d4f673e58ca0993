//! Continuous streams, for desktop players and compositing programs: MPEG-TS with all sounds, or FLV with one.

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
use waverant_relay::{AudioChoice, AudioPick, Cursor, Entry, FlvOutput, RtmpSink, SinkError, SinkRules, TsSink, Way};
use waverant_rtmp::StreamRates;
use waverant_show::{FeedReader, Show};

use crate::access::Access;
use crate::{ALLOWANCE, Fault, LOOK_INTERVAL, ViewingState};

/// Packets taken at once: few, since what a slow player was not sent yet is kept for it alone.
const MAX_ENTRIES: usize = 8;

/// What a player chooses.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct Chosen {
    /// The one sound it wants, such as `number:2`, `language:de` or `name:commentary`; if left out all of them, or the
    /// first where there is room for one.
    sound: Option<String>,
}

/// What makes a stream of packets.
enum Muxer {
    Ts(Box<TsSink>, Vec<u8>),
    Flv(Box<RtmpSink>, FlvOutput),
}

impl Muxer {
    fn transport_stream(audio: AudioChoice) -> Self {
        Self::Ts(Box::new(TsSink::new(SinkRules { audio, ..SinkRules::default() })), Vec::new())
    }

    fn flv(audio: AudioChoice, rates: StreamRates) -> Self {
        let mut sink = RtmpSink::new();
        sink.set_rules(SinkRules { audio, ..SinkRules::default() });
        sink.begin_connection(rates);
        Self::Flv(Box::new(sink), FlvOutput::default())
    }

    fn media_type(&self) -> &'static str {
        match self {
            Self::Ts(..) => "video/mp2t",
            Self::Flv(..) => "video/x-flv",
        }
    }

    fn skip_to_keyframe(&mut self) {
        match self {
            Self::Ts(sink, _) => sink.skip_to_keyframe(),
            Self::Flv(sink, _) => sink.skip_to_keyframe(),
        }
    }

    fn push(&mut self, entry: &Entry) -> Result<(), SinkError> {
        match self {
            Self::Ts(sink, out) => sink.send(entry, out).map(|_| ()),
            Self::Flv(sink, out) => sink.send(out, entry).map(|_| ()),
        }
    }

    /// What is to be sent.
    fn take(&mut self) -> Bytes {
        match self {
            Self::Ts(_, out) => std::mem::take(out).into(),
            Self::Flv(_, out) => out.take(),
        }
    }
}

/// One player, as it is served.
struct Watching {
    state: ViewingState,
    access: Arc<Access>,
    session: u64,
    reader: FeedReader,
    muxer: Muxer,
    /// Counts the player while it watches.
    seat: ViewerSeat,
}

pub(crate) async fn transport_stream(
    state: State<ViewingState>,
    access: Extension<Arc<Access>>,
    chosen: Query<Chosen>,
) -> Result<Response, Fault> {
    stream(state.0, access.0, &chosen.0, |audio, _| Muxer::transport_stream(audio))
}

pub(crate) async fn flv(
    state: State<ViewingState>,
    access: Extension<Arc<Access>>,
    chosen: Query<Chosen>,
) -> Result<Response, Fault> {
    stream(state.0, access.0, &chosen.0, |audio, show| Muxer::flv(audio, show.context().rates.rates()))
}

fn stream(
    state: ViewingState,
    access: Arc<Access>,
    chosen: &Chosen,
    muxer: impl FnOnce(AudioChoice, &Show) -> Muxer,
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
        muxer: muxer(audio, &show),
        seat: access.seat_viewer(&state.house, Way::TransportStream)?,
        session: show.id(),
        access,
        state,
    };
    let fixed = [(header::CONTENT_TYPE, watching.muxer.media_type()), (header::CACHE_CONTROL, "no-store")];
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
                self.muxer.skip_to_keyframe();
            }
            for entry in self.reader.entries() {
                if let Err(error) = self.muxer.push(entry) {
                    tracing::info!(session = self.session, %error, "a player of a continuous stream cannot be served");
                    return None;
                }
            }
            let out = self.muxer.take();
            if !out.is_empty() {
                return Some(out);
            }
            if taken.is_end() {
                return None;
            }
            // Looked at now and then, also while nothing comes.
            let _ = timeout(LOOK_INTERVAL, self.reader.news()).await;
        }
    }
}
