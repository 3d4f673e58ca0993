//! Making a connection to a listener.

use waverant_net::resolve;
use waverant_relay::LegDestination;
use waverant_srt::{CallError, Config, Passphrase, PassphraseError, SrtAddress};
use waverant_udp::{Link, LinkError};

use crate::leg::CarryEnd;

/// Addresses of a host that are called, one after the other: a listener that takes one caller must
/// not be called twice.
pub(super) const MAX_ADDRESSES: usize = 3;

/// Calls a destination.
///
/// # Errors
/// Why that led to no connection, as an end of it.
pub(super) async fn dial(destination: &LegDestination, address: &SrtAddress) -> Result<Link, CarryEnd> {
    let name = &destination.name;
    let lost = |error: String| CarryEnd::Lost(format!("{name}: {error}"));
    let addresses = resolve(address.host(), address.port()).await.map_err(|error| lost(error.to_string()))?;
    let config = config(destination).map_err(|error| CarryEnd::Refused(format!("{name}: passphrase: {error}")))?;
    let mut end = lost("the name has no address".to_owned());
    for peer in addresses.into_iter().take(MAX_ADDRESSES) {
        match Link::call(peer, config.clone(), stream_id(destination)).await {
            Ok(link) => return Ok(link),
            Err(LinkError::Call(CallError::Refused(reason))) if !reason.is_passing() => {
                return Err(CarryEnd::Refused(format!("{name} refuses: {reason}")));
            }
            Err(error) => end = lost(format!("no connection to {peer}: {error}")),
        }
    }
    Err(end)
}

/// How a connection to a destination behaves.
///
/// # Errors
/// [`PassphraseError`] if the destination's passphrase cannot be used.
pub(super) fn config(destination: &LegDestination) -> Result<Config, PassphraseError> {
    let latency = destination.srt_latency;
    let passphrase = destination.passphrase.as_ref().map(|secret| Passphrase::new(secret.reveal())).transpose()?;
    // A listener has nothing to send us.
    Ok(Config { send_latency: latency, receive_latency: latency, passphrase, takes_data: false, ..Config::default() })
}

/// The key is the stream id; some listeners ask for none.
pub(super) fn stream_id(destination: &LegDestination) -> Option<String> {
    let key = destination.key.reveal();
    (!key.is_empty()).then(|| key.to_owned())
}
