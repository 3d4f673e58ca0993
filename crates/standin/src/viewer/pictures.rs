use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use bytes::Bytes;
use futures_util::StreamExt;
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_tungstenite::client_async;
use tokio_tungstenite::tungstenite::Message;

use crate::Mark;
use crate::take::read_marks;

/// What a viewer got that takes a picture at a time.
#[derive(Clone, Debug, Default)]
pub struct PicturesReport {
    /// Pictures and sound, by track.
    pub received: Vec<Mark>,
    /// The first picture was there so long after the viewer came.
    pub first_picture_after_ms: u64,
    /// What was told of the tracks, each time.
    pub told: Vec<String>,
    /// What was said at the end.
    pub goodbye: Option<String>,
}

/// Watches `path` of the viewing listener at `address` for at most `length`.
///
/// # Errors
/// If it is refused, or what comes cannot be read.
pub async fn watch_pictures(
    address: std::net::SocketAddr,
    path: &str,
    length: Duration,
) -> anyhow::Result<PicturesReport> {
    let began = Instant::now();
    let stream = TcpStream::connect(address).await?;
    let (mut socket, _) = client_async(format!("ws://{address}{path}"), stream).await.context("WebSocket")?;
    let mut report = PicturesReport::default();
    let mut files: Vec<BTreeMap<u8, Vec<u8>>> = Vec::new();
    while let Some(left) = length.checked_sub(began.elapsed()) {
        let Ok(Some(message)) = timeout(left, socket.next()).await else { break };
        match message? {
            Message::Text(text) => {
                report.told.push(text.as_str().to_owned());
                files.push(BTreeMap::new());
            }
            Message::Binary(bytes) => {
                ensure!(bytes.len() > 2, "a message of {} bytes", bytes.len());
                let (what, track) = (bytes[0], bytes[1]);
                if what == 2 && track == 0 && report.first_picture_after_ms == 0 {
                    report.first_picture_after_ms = u64::try_from(began.elapsed().as_millis().max(1))?;
                }
                let file = files.last_mut().context("bytes before the tracks were told")?.entry(track).or_default();
                ensure!((what == 1) == file.is_empty(), "message {what} where a file of {} bytes is", file.len());
                file.extend_from_slice(&bytes[2..]);
            }
            Message::Close(frame) => {
                report.goodbye = frame.map(|frame| frame.reason.as_str().to_owned());
                break;
            }
            _ => {}
        }
    }
    for file in files.into_iter().flat_map(BTreeMap::into_values) {
        report.received.extend(read_marks(Bytes::from(file))?.0);
    }
    Ok(report)
}
