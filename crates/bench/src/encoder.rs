//! An encoder that publishes stamped pictures.

use std::net::SocketAddr;
use std::time::{Duration, Instant};

use anyhow::{anyhow, ensure};
use bytes::Bytes;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use waverant_container::{TagCodec, TagForm, TsWriter, config_header, frame_header};
use waverant_media::testing::{AVC_RECORD, h264, tracks};
use waverant_media::{MediaTime, Packet, TrackId, TrackKind};
use waverant_rtmp::{
    ClientConfig, ClientConnection, ClientPurpose, ClientTarget, MediaOutput, RtmpAddress, StreamMetadataBuilder,
    StreamRates, Timestamp,
};
use waverant_srt::{Config, Passphrase};
use waverant_udp::Link;

use crate::source::Source;

/// How often an SRT line is looked after.
const STEP: Duration = Duration::from_millis(5);

/// Publishes until it is dropped or sent away.
pub(crate) async fn publish(server: String, key: String, mut source: Source) -> anyhow::Result<()> {
    let address: RtmpAddress = server.parse()?;
    let mut stream = TcpStream::connect((address.host(), address.port())).await?;
    stream.set_nodelay(true)?;
    let purpose = ClientPurpose::Publish;
    let target = ClientTarget { purpose, app: address.app().to_owned(), tc_url: server, stream_name: key };
    let mut client = ClientConnection::new(ClientConfig::default(), target, Instant::now());
    let mut buffer = vec![0; 4096];
    flush(&mut client, &mut stream).await?;
    while !client.is_publishing() {
        let count = stream.read(&mut buffer).await?;
        ensure!(count > 0, "the service closed the connection");
        client.handle_input(Instant::now(), &buffer[..count])?;
        flush(&mut client, &mut stream).await?;
    }
    let metadata = StreamMetadataBuilder::new(&Default::default(), StreamRates::default(), "bench");
    client.send_data(Timestamp(0), &metadata.encode_for_server())?;
    let (kind, codec, form) = (TrackKind::Video, TagCodec::Avc, TagForm::First);
    client.send_video(Timestamp(0), &config_header(kind, codec, form), &Bytes::from_static(AVC_RECORD))?;
    loop {
        let (millis, keyframe, picture) = source.next().await;
        client.send_video(Timestamp(millis), &frame_header(kind, codec, form, keyframe, 0), &picture)?;
        flush(&mut client, &mut stream).await?;
    }
}

/// Publishes the same pictures over SRT until it is dropped or sent away.
pub(crate) async fn publish_over_srt(
    server: SocketAddr,
    key: String,
    passphrase: &str,
    mut source: Source,
) -> anyhow::Result<()> {
    let config = Config { passphrase: Some(Passphrase::new(passphrase)?), ..Config::default() };
    let mut link = Link::call(server, config, Some(key)).await?;
    let (mut writer, mut pending) = (TsWriter::new(), Vec::new());
    writer.set_tracks(&tracks([(TrackId::VIDEO, h264())]));
    loop {
        let (millis, random_access, payload) = tokio::select! {
            picture = source.next() => picture,
            ended = link.run_until(Instant::now() + STEP, |_| {}) => {
                ended.map_err(|reason| anyhow!("{reason}"))?;
                continue;
            }
        };
        let time = MediaTime::from_millis(millis.into());
        let (track, kind) = (TrackId::VIDEO, TrackKind::Video);
        writer.write(&Packet { track, kind, dts: time, pts: time, random_access, payload }, &mut pending);
        let mut rest = Bytes::from(std::mem::take(&mut pending));
        while !rest.is_empty() {
            link.send(&rest.split_to(rest.len().min(link.payload_size())))?;
        }
    }
}

async fn flush(client: &mut ClientConnection, stream: &mut TcpStream) -> std::io::Result<()> {
    while let Some(piece) = client.poll_transmit() {
        stream.write_all(&piece).await?;
    }
    Ok(())
}
