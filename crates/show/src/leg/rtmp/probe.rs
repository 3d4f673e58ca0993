use std::io;
use std::time::Duration;

use thiserror::Error;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::time::{sleep_until, timeout};
use waverant_net::{Wire, WriteQueue, connect};
use waverant_relay::{LegDestination, Mask, printable};
use waverant_rtmp::{self as rtmp, ClientConnection, ClientEvent, ClientPurpose, Greeting, RtmpAddress};

use super::client;
use crate::clock;
use crate::leg::dialer::secure;
use crate::leg::probe_report::{ProbeReport, ProbeStepName};

/// How long a platform is heard out at the end.
const FAREWELL: Duration = Duration::from_secs(2);

/// Goes step by step to a platform, up to its taking the key with `publishes`.
pub(crate) async fn walk(
    destination: &LegDestination,
    address: &RtmpAddress,
    publishes: bool,
    report: &mut ProbeReport,
) -> Option<()> {
    let addresses = report.resolve(address.host(), address.port()).await?;
    let began = clock::now();
    let connected = connect(&addresses).await;
    let (stream, _) = report.note(ProbeStepName::Connect, began, connected, |(_, used)| used.to_string())?;
    let began = clock::now();
    let secured = secure(stream, destination, address).await;
    let wire = if address.is_secure() {
        report.note(ProbeStepName::Tls, began, secured, |wire| wire.tls_facts().unwrap_or_default())?
    } else {
        secured.ok()?
    };
    let purpose = if publishes { ClientPurpose::Publish } else { ClientPurpose::Ask };
    let client = client(destination, address, Greeting::Plain, purpose);
    let mask = Mask::new([destination.key.reveal()]);
    let mut talk = Talk { wire, client, queue: WriteQueue::default(), input: vec![0; 4096], mask };
    let began = clock::now();
    let greeted = talk.until(|talk| (!talk.client.is_greeting()).then_some(Ok(()))).await;
    report.note(ProbeStepName::Handshake, began, greeted, |()| "done".to_owned())?;
    let began = clock::now();
    let let_in = talk.until(|talk| talk.answer(ClientConnection::is_let_in)).await;
    report.note(ProbeStepName::Application, began, let_in, |()| format!("`{}` lets us in", address.app()))?;
    if publishes {
        let began = clock::now();
        let taken = talk.until(|talk| talk.answer(ClientConnection::is_publishing)).await;
        report.note(ProbeStepName::Publish, began, taken, |()| "the key is taken".to_owned());
    }
    talk.close().await;
    Some(())
}

/// Why a conversation with a platform fails.
#[derive(Debug, Error)]
enum TalkError {
    #[error("the connection broke: {0}")]
    Broke(#[from] io::Error),
    #[error("the platform closed the connection without an answer")]
    Closed,
    #[error("the platform takes nothing")]
    Stalled,
    #[error(transparent)]
    Protocol(#[from] rtmp::Error),
    /// Words that may hold the key, with a mask over it.
    #[error("{0}")]
    NotUnderstood(String),
    #[error("the platform said {0}")]
    Refused(String),
    #[error("the platform sends us to another address; a show follows it there")]
    Redirected,
}

/// A conversation with a platform.
struct Talk {
    wire: Wire,
    client: ClientConnection,
    queue: WriteQueue,
    input: Vec<u8>,
    mask: Mask,
}

impl Talk {
    /// Goes on until `done` says what came of it.
    async fn until(
        &mut self,
        mut done: impl FnMut(&mut Self) -> Option<Result<(), TalkError>>,
    ) -> Result<(), TalkError> {
        loop {
            if let Some(outcome) = done(self) {
                return outcome;
            }
            self.flush().await?;
            let deadline = self.client.poll_timeout().unwrap_or_else(|| clock::now() + FAREWELL);
            tokio::select! {
                read = self.wire.read(&mut self.input) => {
                    let count = read?;
                    if count == 0 {
                        return Err(TalkError::Closed);
                    }
                    let input = self.input.get(..count).unwrap_or_default();
                    let understood = self.client.handle_input(clock::now(), input);
                    understood.map_err(|error| TalkError::NotUnderstood(self.mask.apply(&error.to_string())))?;
                }
                () = sleep_until(deadline.into()) => {
                    self.client.handle_timeout(clock::now())?;
                }
            }
        }
    }

    /// What the platform answered so far, if that settles whether `is_reached` comes true.
    fn answer(&mut self, is_reached: fn(&ClientConnection) -> bool) -> Option<Result<(), TalkError>> {
        while let Some(event) = self.client.poll_event() {
            match event {
                ClientEvent::Refused { code, description } => {
                    let said = self.mask.apply(&format!("{code}: {description}"));
                    return Some(Err(TalkError::Refused(printable(&said, 300).into_owned())));
                }
                ClientEvent::Redirected { .. } => {
                    return Some(Err(TalkError::Redirected));
                }
                _ => {}
            }
        }
        is_reached(&self.client).then_some(Ok(()))
    }

    async fn flush(&mut self) -> Result<(), TalkError> {
        while let Some(piece) = self.client.poll_transmit() {
            self.queue.push(piece);
        }
        let limit = self.client.poll_timeout().unwrap_or_else(|| clock::now() + FAREWELL);
        let written = tokio::time::timeout_at(limit.into(), self.queue.write_all(&mut self.wire)).await;
        match written {
            Ok(written) => Ok(written?),
            Err(_) => Err(TalkError::Stalled),
        }
    }

    async fn close(mut self) {
        self.client.close();
        let _ = timeout(FAREWELL, async {
            let _ = self.flush().await;
            let _ = self.wire.shutdown().await;
            while matches!(self.wire.read(&mut self.input).await, Ok(count) if count > 0) {}
        })
        .await;
    }
}
