use std::time::{Duration, Instant};

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::time::{sleep_until, timeout};
use waverant_relay::{Mask, printable};
use waverant_rtmp::{ClientConnection, ClientEvent, ClientPurpose, Greeting, RtmpAddress};
use waverant_store::Destination;

use super::dial;
use crate::leg::probe::ProbeReport;
use waverant_net::{Wire, WriteQueue, connect};

/// How long a platform is heard out at the end.
const FAREWELL: Duration = Duration::from_secs(2);

/// Goes step by step to a platform, up to its taking the key with `publishes`.
pub(crate) async fn walk(
    destination: &Destination,
    address: &RtmpAddress,
    publishes: bool,
    report: &mut ProbeReport,
) -> Option<()> {
    let addresses = report.resolve(address.host(), address.port()).await?;
    let began = Instant::now();
    let connected = connect(&addresses).await;
    let (stream, _) = report.note("connect", began, connected, |(_, used)| used.to_string())?;
    let began = Instant::now();
    let secured = dial::secure(stream, destination, address).await;
    let wire = if address.is_secure() {
        report.note("tls", began, secured, |wire| wire.tls_facts().unwrap_or_default())?
    } else {
        secured.ok()?
    };
    let purpose = if publishes { ClientPurpose::Publish } else { ClientPurpose::Ask };
    let client = dial::client(destination, address, Greeting::Plain, purpose);
    let mask = Mask::new([destination.key.reveal()]);
    let mut talk = Talk { wire, client, queue: WriteQueue::default(), input: vec![0; 4096], mask };
    let began = Instant::now();
    let greeted = talk.until(|talk| (!talk.client.is_greeting()).then_some(Ok(()))).await;
    report.note("handshake", began, greeted, |()| "done".to_owned())?;
    let began = Instant::now();
    let let_in = talk.until(|talk| talk.answer(ClientConnection::is_let_in)).await;
    report.note("application", began, let_in, |()| format!("`{}` lets us in", address.app()))?;
    if publishes {
        let began = Instant::now();
        let taken = talk.until(|talk| talk.answer(ClientConnection::is_publishing)).await;
        report.note("publish", began, taken, |()| "the key is taken".to_owned());
    }
    talk.close().await;
    Some(())
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
    async fn until(&mut self, mut done: impl FnMut(&mut Self) -> Option<Result<(), String>>) -> Result<(), String> {
        loop {
            if let Some(outcome) = done(self) {
                return outcome;
            }
            self.flush().await?;
            let deadline = self.client.poll_timeout().unwrap_or_else(|| Instant::now() + FAREWELL);
            tokio::select! {
                read = self.wire.read(&mut self.input) => {
                    let count = read.map_err(|error| format!("the connection broke: {error}"))?;
                    if count == 0 {
                        return Err("the platform closed the connection without an answer".to_owned());
                    }
                    let input = self.input.get(..count).unwrap_or_default();
                    let understood = self.client.handle_input(Instant::now(), input);
                    understood.map_err(|error| self.mask.apply(&error.to_string()))?;
                }
                () = sleep_until(deadline.into()) => {
                    self.client.handle_timeout(Instant::now()).map_err(|error| error.to_string())?;
                }
            }
        }
    }

    /// What the platform answered so far, if that settles whether `is_reached` comes true.
    fn answer(&mut self, is_reached: fn(&ClientConnection) -> bool) -> Option<Result<(), String>> {
        while let Some(event) = self.client.poll_event() {
            match event {
                ClientEvent::Refused { code, description } => {
                    let said = self.mask.apply(&format!("{code}: {description}"));
                    return Some(Err(format!("the platform said {}", printable(&said, 300))));
                }
                ClientEvent::Redirected { .. } => {
                    return Some(Err("the platform sends us to another address; a show follows it there".to_owned()));
                }
                _ => {}
            }
        }
        is_reached(&self.client).then_some(Ok(()))
    }

    async fn flush(&mut self) -> Result<(), String> {
        while let Some(piece) = self.client.poll_transmit() {
            self.queue.push(piece);
        }
        let limit = self.client.poll_timeout().unwrap_or_else(|| Instant::now() + FAREWELL);
        let written = tokio::time::timeout_at(limit.into(), self.queue.write_all(&mut self.wire)).await;
        match written {
            Ok(written) => written.map_err(|error| format!("the connection broke: {error}")),
            Err(_) => Err("the platform takes nothing".to_owned()),
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
