//! Whether the service that runs with these settings is well: for what starts it anew if it is not.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;

use crate::settings::Settings;

/// Who watches it gives up soon after.
const WITHIN: Duration = Duration::from_secs(4);

/// The longest answer that is read.
const MOST_BYTES: u64 = 4096;

/// Asks the console of this machine.
///
/// # Errors
/// In words, if nobody answers there, or the service says that it is not well.
pub fn ask_health(settings: &Settings) -> Result<String, String> {
    let address = on_this_machine(settings.http);
    let config = ureq::Agent::config_builder().timeout_global(Some(WITHIN)).proxy(None).http_status_as_error(false);
    let agent: ureq::Agent = config.build().into();
    let asked = agent.get(format!("http://{address}/api/v1/health")).call();
    let mut answer = asked.map_err(|error| format!("nobody answers at {address}: {error}"))?;
    let text = answer.body_mut().with_config().limit(MOST_BYTES).read_to_string();
    let text = text.map_err(|error| format!("the answer of {address} cannot be read: {error}"))?;
    let told: serde_json::Value = serde_json::from_str(&text).unwrap_or_default();
    match told["is_good"].as_bool() {
        Some(true) => Ok(format!("well: version {}", told["version"].as_str().unwrap_or("?"))),
        Some(false) => Err("the service runs, but its database does not answer".to_owned()),
        None => Err(format!("{address} answers {}, which is not this service", answer.status().as_u16())),
    }
}

/// The address by which a listener is called from this machine.
fn on_this_machine(listens: SocketAddr) -> SocketAddr {
    let own = match listens.ip() {
        IpAddr::V4(address) if address.is_unspecified() => Ipv4Addr::LOCALHOST.into(),
        IpAddr::V6(address) if address.is_unspecified() => Ipv6Addr::LOCALHOST.into(),
        address => address,
    };
    SocketAddr::new(own, listens.port())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("0.0.0.0:7800", "127.0.0.1:7800")]
    #[case("[::]:7800", "[::1]:7800")]
    #[case("192.168.1.20:7800", "192.168.1.20:7800")]
    fn it_is_called_from_this_machine(#[case] listens: &str, #[case] called: &str) {
        assert_eq!(on_this_machine(listens.parse().unwrap()).to_string(), called);
    }
}
