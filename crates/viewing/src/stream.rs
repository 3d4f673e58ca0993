//! Continuous streams, for desktop players and compositing programs: MPEG-TS with all sounds, or FLV with one. Who comes
//! before the show waits for it, and stays for the next.

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
use waverant_container::TS_NULL_PACKET;
use waverant_house::{Tuner, ViewerSeat, Wish};
use waverant_relay::{AudioChoice, AudioPick, Entry, FlvOutput, RtmpSink, SinkError, SinkRules, TsSink, Way};
use waverant_rtmp::StreamRates;

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
    /// Which shows; one after the other if left out.
    shows: Option<Shows>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Shows {
    /// The one that is on, or the next one, and then the end.
    One,
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

    fn flv(audio: AudioChoice) -> Self {
        let mut sink = RtmpSink::new();
        sink.set_rules(SinkRules { audio, ..SinkRules::default() });
        sink.begin_connection(StreamRates::default());
        Self::Flv(Box::new(sink), FlvOutput::default())
    }

    fn media_type(&self) -> &'static str {
        match self {
            Self::Ts(..) => "video/mp2t",
            Self::Flv(..) => "video/x-flv",
        }
    }

    /// Another show follows.
    fn begin_session(&mut self, rates: StreamRates) {
        match self {
            Self::Ts(sink, _) => sink.begin_session(),
            Self::Flv(sink, _) => sink.begin_session(rates),
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

    /// What tells a player that the line is there while nothing is sent; FLV has no such thing.
    fn sign_of_life(&self) -> Option<Bytes> {
        matches!(self, Self::Ts(..)).then_some(Bytes::from_static(&TS_NULL_PACKET))
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
    tuner: Tuner,
    muxer: Muxer,
    /// Counts the player while it watches.
    seat: ViewerSeat,
}

pub(crate) async fn transport_stream(
    state: State<ViewingState>,
    access: Extension<Arc<Access>>,
    chosen: Query<Chosen>,
) -> Result<Response, Fault> {
    stream(state.0, access.0, &chosen.0, Muxer::transport_stream)
}

pub(crate) async fn flv(
    state: State<ViewingState>,
    access: Extension<Arc<Access>>,
    chosen: Query<Chosen>,
) -> Result<Response, Fault> {
    stream(state.0, access.0, &chosen.0, Muxer::flv)
}

fn stream(
    state: ViewingState,
    access: Arc<Access>,
    chosen: &Chosen,
    muxer: impl FnOnce(AudioChoice) -> Muxer,
) -> Result<Response, Fault> {
    let audio = match chosen.sound.as_deref() {
        Some(sound) => {
            let pick: AudioPick = sound.parse().map_err(|error| Fault::Wrong(format!("sound: {error}")))?;
            AudioChoice { pick: Some(pick), ..AudioChoice::default() }
        }
        None => AudioChoice::default(),
    };
    if access.take().is_some() {
        return Err(Fault::OffAir);
    }
    let is_one_show = chosen.shows == Some(Shows::One);
    let wish = Wish { is_one_show, sees_rehearsals: access.sees_rehearsals() };
    let seat = access.seat_viewer(&state.house, Way::Stream)?;
    let watching = Watching {
        tuner: Tuner::new(state.house.clone(), access.rules.id, wish, (ALLOWANCE, MAX_ENTRIES)),
        muxer: muxer(audio),
        seat,
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
        self.access.may_go_on(house, self.seat.way)
            && !self.seat.lost.is_cancelled()
            && !house.stopping().is_cancelled()
    }

    async fn next(&mut self) -> Option<Bytes> {
        loop {
            if !self.may_go_on() {
                return None;
            }
            let taken = self.tuner.take();
            if taken.is_new {
                self.muxer.begin_session(self.tuner.rates());
            } else if taken.has_jumped {
                self.muxer.skip_to_keyframe();
            }
            for entry in self.tuner.entries() {
                if let Err(error) = self.muxer.push(entry) {
                    let session = self.tuner.session();
                    tracing::info!(session, %error, "a player of a continuous stream cannot be served");
                    return None;
                }
            }
            let out = self.muxer.take();
            if !out.is_empty() {
                return Some(out);
            }
            if taken.is_over {
                return None;
            }
            // Looked at now and then, also while nothing comes.
            if timeout(LOOK_INTERVAL, self.tuner.news()).await.is_err()
                && let Some(sign) = self.muxer.sign_of_life()
            {
                return Some(sign);
            }
        }
    }
}
