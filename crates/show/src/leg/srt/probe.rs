use std::net::SocketAddr;

use thiserror::Error;
use waverant_relay::LegDestination;
use waverant_srt::{PassphraseError, SrtAddress};
use waverant_udp::{Link, LinkError};

use super::dial;
use crate::clock;
use crate::leg::probe_report::{ProbeReport, ProbeStepName};

/// Goes as far as the listener's first answer, which needs no stream id; with `publishes` until it
/// lets us in.
pub(crate) async fn walk(
    destination: &LegDestination,
    address: &SrtAddress,
    publishes: bool,
    report: &mut ProbeReport,
) -> Option<()> {
    let addresses = report.resolve(address.host(), address.port()).await?;
    let began = clock::now();
    let peer = report.note(ProbeStepName::Handshake, began, greet(&addresses).await, SocketAddr::to_string)?;
    if publishes {
        let began = clock::now();
        let let_in = call(destination, peer).await;
        report.note(ProbeStepName::Publish, began, let_in, String::clone)?;
    }
    Some(())
}

/// Why a try over SRT fails.
#[derive(Debug, Error)]
enum ProbeFailure {
    #[error("the name has no address")]
    NoAddress,
    #[error("{0}: {1}")]
    NoGreeting(SocketAddr, LinkError),
    #[error("passphrase: {0}")]
    Passphrase(#[from] PassphraseError),
    #[error(transparent)]
    Call(#[from] LinkError),
}

/// The first address that answers as an SRT listener.
async fn greet(addresses: &[SocketAddr]) -> Result<SocketAddr, ProbeFailure> {
    let mut failure = ProbeFailure::NoAddress;
    for peer in addresses.iter().take(dial::MAX_ADDRESSES) {
        match Link::greet(*peer).await {
            Ok(()) => return Ok(*peer),
            Err(error) => failure = ProbeFailure::NoGreeting(*peer, error),
        }
    }
    Err(failure)
}

async fn call(destination: &LegDestination, peer: SocketAddr) -> Result<String, ProbeFailure> {
    let config = dial::config(destination)?;
    let is_encrypted = config.passphrase.is_some();
    let link = Link::call(peer, config, dial::stream_id(destination)).await?;
    let latency = link.statistics().send_latency.as_millis();
    link.close();
    let encryption = if is_encrypted { "encrypted" } else { "not encrypted" };
    Ok(format!("the stream id is taken; latency {latency} ms, {encryption}"))
}
