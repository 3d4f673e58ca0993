//! The addresses that are shown with stream keys.

use axum::http::{HeaderMap, header};
use waverant_model::{EncoderFields, KeyRight, SrtFields, ViewingAddresses};
use waverant_relay::Secret;
use waverant_sources::GUARDED_APP;

use crate::ApiState;

/// The path part of the encoder's address.
pub(crate) const APP: &str = "in";

/// The path part of a player's address.
const PLAYER_APP: &str = "out";

/// What is told of a passphrase.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum ToldPassphrase {
    /// None is to be set.
    None,
    /// It is the channel's, and is not shown.
    OfChannel,
    /// This one is to be set.
    This(Secret),
}

/// What goes into the fields of an encoder or player for a key; `name` is what stands for its user.
pub(crate) fn encoder_fields(
    state: &ApiState,
    headers: &HeaderMap,
    right: KeyRight,
    (name, key): (&str, &Secret),
    srt: (u16, ToldPassphrase),
) -> EncoderFields {
    let app = if right == KeyRight::Publish { APP } else { PLAYER_APP };
    let (server, secure_server) = (address(state, headers, app), secure_address(state, headers, app));
    let key = key.reveal();
    EncoderFields {
        whole: format!("{server}/{key}"),
        secure_whole: secure_server.as_ref().map(|server| format!("{server}/{key}")),
        guarded_server: address(state, headers, GUARDED_APP),
        user: name.to_owned(),
        srt: srt_fields(state, headers, srt, right, key),
        secure_server,
        server,
        key: key.to_owned(),
    }
}

/// The address for the encoder's server field.
pub(crate) fn address(state: &ApiState, headers: &HeaderMap, app: &str) -> String {
    let host = shown_host(state, headers);
    match state.ports.rtmp {
        1935 => format!("rtmp://{host}/{app}"),
        port => format!("rtmp://{host}:{port}/{app}"),
    }
}

/// The address for encoders that speak TLS, if that is offered.
fn secure_address(state: &ApiState, headers: &HeaderMap, app: &str) -> Option<String> {
    let host = shown_host(state, headers);
    state.ports.rtmps.map(|port| format!("rtmps://{host}:{port}/{app}"))
}

/// What goes into the fields for SRT.
fn srt_fields(
    state: &ApiState,
    headers: &HeaderMap,
    (latency_ms, passphrase): (u16, ToldPassphrase),
    right: KeyRight,
    key: &str,
) -> SrtFields {
    let address = format!("srt://{}:{}", shown_host(state, headers), state.ports.srt);
    let mode = if right == KeyRight::Publish { "publish" } else { "request" };
    SrtFields {
        whole: format!("{address}?streamid={key}"),
        stream_id: key.to_owned(),
        long_stream_id: format!("#!::r={key},m={mode}"),
        latency_ms,
        has_passphrase: passphrase != ToldPassphrase::None,
        passphrase: match passphrase {
            ToldPassphrase::This(passphrase) => Some(passphrase.reveal().to_owned()),
            ToldPassphrase::None | ToldPassphrase::OfChannel => None,
        },
        address,
    }
}

/// Where a channel is watched.
pub(crate) fn viewing_addresses(state: &ApiState, headers: &HeaderMap, channel: &str) -> ViewingAddresses {
    addresses_under(state, headers, &format!("watch/{channel}"))
}

/// Where it is watched by who has a link.
pub(crate) fn link_addresses(state: &ApiState, headers: &HeaderMap, token: &str) -> ViewingAddresses {
    addresses_under(state, headers, &format!("link/{token}"))
}

fn addresses_under(state: &ApiState, headers: &HeaderMap, path: &str) -> ViewingAddresses {
    let site = match state.house.viewing_site() {
        Some(site) => site.to_string(),
        None => viewing_site(state, headers),
    };
    let page = format!("{site}/{path}");
    ViewingAddresses {
        embed: format!("{page}/embed"),
        still: format!("{page}/still.jpg"),
        hls: format!("{page}/live/index.m3u8"),
        dash: format!("{page}/live/index.mpd"),
        transport_stream: format!("{page}/stream.ts"),
        flv: format!("{page}/stream.flv"),
        pictures: format!("{}/pictures", page.replacen("http", "ws", 1)),
        published: None,
        page,
    }
}

/// Where viewers are by our own ports.
fn viewing_site(state: &ApiState, headers: &HeaderMap) -> String {
    // With a certificate, what is told is what browsers trust.
    let (secure, port) = match state.ports.viewing_https {
        Some(port) => ("s", port),
        None => ("", state.ports.viewing),
    };
    format!("http{secure}://{}:{port}", shown_host(state, headers))
}

fn shown_host<'a>(state: &'a ApiState, headers: &'a HeaderMap) -> &'a str {
    let asked = headers.get(header::HOST).and_then(|host| host.to_str().ok()).map(host_without_port);
    if state.host.is_empty() { asked.filter(|host| is_host(host)).unwrap_or("127.0.0.1") } else { &state.host }
}

/// A name or an address, and nothing that would make another address of what is shown.
fn is_host(host: &str) -> bool {
    let inside = host.strip_prefix('[').and_then(|host| host.strip_suffix(']'));
    if let Some(address) = inside {
        return address.parse::<std::net::Ipv6Addr>().is_ok();
    }
    let is_label = |label: &str| {
        (1..=63).contains(&label.len()) && label.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
    };
    host.len() <= 253 && host.split('.').all(is_label)
}

fn host_without_port(host: &str) -> &str {
    match host.rfind(']') {
        Some(end) => &host[..=end],
        None => host.split(':').next().unwrap_or(host),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::name("relay.wexcombe.test:7800", true)]
    #[case::address("192.0.2.7", true)]
    #[case::six("[2001:db8::7]:7800", true)]
    #[case::path("relay.test/x", false)]
    #[case::user("a@b", false)]
    #[case::query("a?b", false)]
    #[case::empty("", false)]
    #[case::not_six("[zz]", false)]
    fn hosts_are_names_or_addresses(#[case] host: &str, #[case] expected: bool) {
        assert_eq!(is_host(host_without_port(host)), expected);
    }
}
