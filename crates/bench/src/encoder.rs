//! An encoder that publishes stamped pictures.

use std::time::Instant;

use anyhow::ensure;
use bytes::Bytes;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use waverant_container::{TagCodec, TagForm, config_header, frame_header};
use waverant_media::TrackKind;
use waverant_media::testing::AVC_RECORD;
use waverant_rtmp::{
    ClientConfig, ClientConnection, ClientPurpose, ClientTarget, MediaOutput, RtmpAddress, StreamMetadataBuilder,
    StreamRates, Timestamp,
};

use crate::source::Source;

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

async fn flush(client: &mut ClientConnection, stream: &mut TcpStream) -> std::io::Result<()> {
    while let Some(piece) = client.poll_transmit() {
        stream.write_all(&piece).await?;
    }
    Ok(())
}
