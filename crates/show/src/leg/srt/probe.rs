use std::net::SocketAddr;
use std::time::Instant;

use waverant_srt::SrtAddress;
use waverant_store::Destination;
use waverant_udp::Link;

use super::dial;
use crate::leg::probe::ProbeReport;

/// Goes as far as the listener's first answer, which needs no stream id; with `publishes` until it
/// lets us in.
pub(crate) async fn walk(
    destination: &Destination,
    address: &SrtAddress,
    publishes: bool,
    report: &mut ProbeReport,
) -> Option<()> {
    let addresses = report.resolve(address.host(), address.port()).await?;
    let began = Instant::now();
    let peer = report.note("handshake", began, greet(&addresses).await, SocketAddr::to_string)?;
    if publishes {
        let began = Instant::now();
        let let_in = call(destination, peer).await;
        report.note("publish", began, let_in, String::clone)?;
    }
    Some(())
}

/// The first address that answers as an SRT listener.
async fn greet(addresses: &[SocketAddr]) -> Result<SocketAddr, String> {
    let mut failure = "the name has no address".to_owned();
    for peer in addresses.iter().take(dial::MAX_ADDRESSES) {
        match Link::greet(*peer).await {
            Ok(()) => return Ok(*peer),
            Err(error) => failure = format!("{peer}: {error}"),
        }
    }
    Err(failure)
}

async fn call(destination: &Destination, peer: SocketAddr) -> Result<String, String> {
    let config = dial::config(destination)?;
    let is_encrypted = config.passphrase.is_some();
    let link = Link::call(peer, config, dial::stream_id(destination)).await.map_err(|error| error.to_string())?;
    let latency = link.statistics().send_latency.as_millis();
    link.close();
    let encryption = if is_encrypted { "encrypted" } else { "not encrypted" };
    Ok(format!("the stream id is taken; latency {latency} ms, {encryption}"))
}
