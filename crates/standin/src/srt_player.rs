use std::net::SocketAddr;
use std::time::{Duration, Instant};

use waverant_srt::Message;
use waverant_udp::Link;

use crate::Mark;
use crate::encoder::{SrtOptions, srt_config};
use crate::ts_marks::TsMarks;

/// Watches a stream over SRT for `length`, or until it ends, and remembers every payload.
///
/// # Errors
/// If the house does not let the player in.
pub async fn watch_over_srt(
    house: SocketAddr,
    stream_id: &str,
    options: &SrtOptions,
    length: Duration,
) -> anyhow::Result<Vec<Mark>> {
    let mut link = Link::call(house, srt_config(options)?, Some(stream_id.to_owned())).await?;
    let (mut reader, mut marks) = (TsMarks::default(), Vec::new());
    // The house may end the show first.
    let take = |message: Message<'_>| reader.push(message.payload, &mut marks);
    if link.run_until(Instant::now() + length, take).await.is_ok() {
        link.close();
    }
    reader.finish(&mut marks);
    anyhow::ensure!(reader.fault().is_none(), "the stream is faulty: {:?}", reader.fault());
    Ok(marks)
}
