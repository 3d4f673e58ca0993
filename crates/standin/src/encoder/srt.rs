use std::net::SocketAddr;
use std::time::{Duration, Instant};

use anyhow::Context;
use bytes::Bytes;
use waverant_container::TsWriter;
use waverant_media::{MediaTime, Packet, TrackKind};
use waverant_srt::{CallError, CloseReason, Config, KeyLength, Passphrase};
use waverant_udp::{Link, LinkError};

use super::matroska::LiveMatroska;
use super::{EncoderEnd, EncoderFault, EncoderOptions, EncoderReport};
use crate::{Clip, Mark, MarkKind};

/// What begins an address of SRT.
const SCHEME: &str = "srt://";

/// How long the end of a show may take to get through.
const FLUSH_TIMEOUT: Duration = Duration::from_secs(5);

/// What the stream is wrapped in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum SrtContainer {
    /// MPEG-TS.
    #[default]
    TransportStream,
    /// Matroska.
    Matroska,
}

/// What the encoder is to do over SRT.
#[derive(Clone, Debug, Default)]
pub struct SrtOptions {
    /// The stream id instead of the key alone.
    pub stream_id: Option<String>,
    /// The passphrase.
    pub passphrase: Option<String>,
    /// The length of the encryption key.
    pub key_length: KeyLength,
    /// How long the other end is to wait for what is lost.
    pub latency: Option<Duration>,
    /// What the stream is wrapped in.
    pub container: SrtContainer,
}

enum Wrapper {
    TransportStream(Box<TsWriter>),
    Matroska(LiveMatroska),
}

impl Wrapper {
    fn begin(container: SrtContainer, clip: &Clip, out: &mut Vec<u8>) -> anyhow::Result<Self> {
        Ok(match container {
            SrtContainer::TransportStream => {
                let mut writer = TsWriter::new();
                writer.set_tracks(&clip.tracks);
                Self::TransportStream(Box::new(writer))
            }
            SrtContainer::Matroska => Self::Matroska(LiveMatroska::begin(&clip.tracks, out)?),
        })
    }

    fn write(&mut self, packet: &Packet, out: &mut Vec<u8>) {
        match self {
            Self::TransportStream(writer) => writer.write(packet, out),
            Self::Matroska(writer) => writer.write(packet, out),
        }
    }

    fn finish(&mut self, out: &mut Vec<u8>) {
        if let Self::Matroska(writer) = self {
            writer.finish(out);
        }
    }
}

pub(super) fn is_srt(server: &str) -> bool {
    server.starts_with(SCHEME)
}

/// Publishes a clip over SRT.
pub(super) async fn publish(clip: &Clip, options: &EncoderOptions) -> anyhow::Result<EncoderReport> {
    let mut report = EncoderReport {
        end: EncoderEnd::Finished,
        sent: Vec::new(),
        was_asked_to_reconnect: false,
        paces: Vec::new(),
        next_packet: options.first_packet,
        was_closed: false,
    };
    let began = Instant::now();
    let address = options.server.trim_start_matches(SCHEME).split(['?', '/']).next().unwrap_or_default();
    let peer: SocketAddr = tokio::net::lookup_host(address).await.context("server")?.next().context("server")?;
    let stream_id = options.srt.stream_id.clone().unwrap_or_else(|| options.key.clone());
    let mut link = match Link::call(peer, config(&options.srt)?, Some(stream_id)).await {
        Ok(link) => link,
        Err(LinkError::Call(CallError::Refused(reason))) => {
            let after_ms = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
            report.end =
                EncoderEnd::Refused { code: reason.code().to_string(), description: reason.to_string(), after_ms };
            report.was_closed = true;
            return Ok(report);
        }
        Err(error) => return Err(error.into()),
    };
    let mut pending = Vec::new();
    let mut wrapper = Wrapper::begin(options.srt.container, clip, &mut pending)?;
    let end = send_all(&mut link, clip, options, &mut report, (&mut wrapper, &mut pending)).await;
    if end == EncoderEnd::Finished {
        wrapper.finish(&mut pending);
        send(&mut link, &mut pending);
        flush(&mut link).await;
        link.close();
    }
    report.end = end;
    Ok(report)
}

pub(crate) fn config(options: &SrtOptions) -> anyhow::Result<Config> {
    let passphrase = options.passphrase.as_deref().map(Passphrase::new).transpose()?;
    let mut config = Config { passphrase, key_length: options.key_length, ..Config::default() };
    if let Some(latency) = options.latency {
        (config.send_latency, config.receive_latency) = (latency, latency);
    }
    Ok(config)
}

async fn send_all(
    link: &mut Link,
    clip: &Clip,
    options: &EncoderOptions,
    report: &mut EncoderReport,
    (wrapper, pending): (&mut Wrapper, &mut Vec<u8>),
) -> EncoderEnd {
    note_headers(clip, report);
    let first = clip.packet(options.first_packet).dts;
    let began = Instant::now();
    loop {
        let packet = clip.packet(report.next_packet);
        let due = (packet.dts - first).to_duration();
        match options.fault {
            Some(EncoderFault::BreakAfter(time)) if due >= time => return EncoderEnd::Faulted,
            Some(EncoderFault::StallAfter(time)) if due >= time => {
                let end = began + options.length;
                let _ = link.run_until(end, |_| {}).await;
                return EncoderEnd::Faulted;
            }
            _ if due >= options.length => return EncoderEnd::Finished,
            _ => {}
        }
        if let Err(reason) = link.run_until(began + due / options.speed, |_| {}).await {
            return ended(reason, began);
        }
        let dts = packet.dts - first;
        let pts = dts + MediaTime::from_millis(packet.composition_ms);
        let random_access = packet.keyframe;
        let payload = packet.payload.clone();
        let wrapped = Packet { track: packet.track, kind: packet.kind, dts, pts, random_access, payload };
        wrapper.write(&wrapped, pending);
        send(link, pending);
        let kind = match packet.kind {
            TrackKind::Video if packet.keyframe => MarkKind::Keyframe,
            TrackKind::Video => MarkKind::Picture,
            TrackKind::Audio => MarkKind::Sound,
        };
        let millis = u32::try_from(dts.millis() & 0xffff_ffff).unwrap_or_default();
        let mark = Mark::new(kind, packet.track.place(), millis, &packet.payload);
        report.sent.push(mark.with_composition(packet.composition_ms));
        report.next_packet += 1;
    }
}

fn send(link: &mut Link, pending: &mut Vec<u8>) {
    let mut rest = Bytes::from(std::mem::take(pending));
    let size = link.payload_size();
    while !rest.is_empty() {
        // A full buffer loses what does not fit, as an encoder would.
        let _ = link.send(&rest.split_to(rest.len().min(size)));
    }
}

/// Lets what was sent get through before the goodbye.
async fn flush(link: &mut Link) {
    let end = Instant::now() + FLUSH_TIMEOUT;
    let latency = link.statistics().send_latency;
    while !link.is_flushed() && Instant::now() < end {
        if link.run_until(Instant::now() + Duration::from_millis(20), |_| {}).await.is_err() {
            return;
        }
    }
    // What came waits for its time there; a goodbye would overtake it.
    let _ = link.run_until(Instant::now() + latency + Duration::from_millis(100), |_| {}).await;
}

fn ended(reason: CloseReason, began: Instant) -> EncoderEnd {
    match reason {
        CloseReason::Shutdown => {
            let after_ms = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
            EncoderEnd::Refused { code: "shutdown".to_owned(), description: reason.to_string(), after_ms }
        }
        _ => EncoderEnd::Closed,
    }
}

fn note_headers(clip: &Clip, report: &mut EncoderReport) {
    for track in clip.tracks.iter() {
        let Some(raw) = track.codec.decoder_config() else { continue };
        let kind = match track.codec.kind() {
            TrackKind::Video => MarkKind::VideoHeader,
            TrackKind::Audio => MarkKind::AudioHeader,
        };
        report.sent.push(Mark::new(kind, track.id.place(), 0, raw));
    }
}
