//! Whether a newcomer's first packet fits what a rule asks for.

use std::net::IpAddr;

use serde_json::Value;
use waverant_net::{Reach, reach_of};

use super::value::{Item, is_in, items};
use super::{ChainName, Firewall, Newcomer};

/// Whether a packet fits.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Fit {
    Yes,
    No,
    /// For callers of a few addresses only, and nobody knows who calls.
    Seldom,
    /// It depends on this.
    Depends(String),
}

/// Statements that neither ask nor decide.
const IDLE: [&str; 12] = [
    "counter",
    "log",
    "comment",
    "notrack",
    "mangle",
    "set",
    "meter",
    "quota_reset",
    "flow",
    "ct helper",
    "ct timeout",
    "ct expectation",
];

/// Whether a packet fits a statement; none for one that decides.
pub(super) fn fits(
    firewall: &Firewall,
    of: &ChainName,
    newcomer: &Newcomer<'_>,
    (kind, body): (&str, &Value),
) -> Option<Fit> {
    let is_turned = || body.get("inv").and_then(Value::as_bool).unwrap_or(false);
    Some(match kind {
        "match" => matches(firewall, of, newcomer, body),
        // A newcomer keeps within limits, or nobody would come in.
        "limit" | "ct count" | "quota" if is_turned() => Fit::No,
        "limit" | "ct count" | "quota" => Fit::Yes,
        "xt" => Fit::Depends("a rule of the older tool".to_owned()),
        _ if IDLE.contains(&kind) => Fit::Yes,
        _ => return None,
    })
}

fn matches(firewall: &Firewall, of: &ChainName, newcomer: &Newcomer<'_>, body: &Value) -> Fit {
    let (Some(left), Some(right)) = (body.get("left"), body.get("right")) else {
        return Fit::Depends("a rule that is not understood here".to_owned());
    };
    let op = body.get("op").and_then(Value::as_str).unwrap_or("==");
    let fit = asked(newcomer, left, &items(firewall, of, right), op);
    if op != "!=" {
        return fit;
    }
    match fit {
        Fit::Yes => Fit::No,
        // What is no such packet at all has no such field.
        Fit::No if is_of_other_kind(newcomer, left) => Fit::No,
        Fit::No | Fit::Seldom => Fit::Yes,
        depends @ Fit::Depends(_) => depends,
    }
}

/// The verdicts of a map that fit, and whether they surely do.
pub(super) fn lookup<'a>(
    firewall: &'a Firewall,
    of: &ChainName,
    newcomer: &Newcomer<'_>,
    body: &'a Value,
) -> (Vec<&'a Value>, bool) {
    let Some((key, data)) = body.get("key").zip(body.get("data")) else { return (Vec::new(), true) };
    let elements = match data {
        Value::String(name) => {
            firewall.sets.get(&(of.0.clone(), of.1.clone(), name.trim_start_matches('@').to_owned()))
        }
        data => data.get("set").and_then(Value::as_array),
    };
    let (mut found, mut is_sure) = (Vec::new(), true);
    for element in elements.into_iter().flatten() {
        let Some((value, verdict)) = element.as_array().and_then(|pair| Some((pair.first()?, pair.get(1)?))) else {
            continue;
        };
        match asked(newcomer, key, &items(firewall, of, value), "==") {
            Fit::Yes if is_sure => return (vec![verdict], found.is_empty()),
            Fit::No | Fit::Seldom => {}
            Fit::Yes | Fit::Depends(_) => {
                found.push(verdict);
                is_sure = false;
            }
        }
    }
    (found, is_sure)
}

fn is_of_other_kind(newcomer: &Newcomer<'_>, left: &Value) -> bool {
    let protocol = left.pointer("/payload/protocol").and_then(Value::as_str);
    protocol.is_some_and(|protocol| !is_of(newcomer, protocol))
}

/// Whether a packet has a head of this protocol.
fn is_of(newcomer: &Newcomer<'_>, protocol: &str) -> bool {
    match protocol {
        "tcp" => newcomer.is_tcp,
        "udp" => !newcomer.is_tcp,
        "th" | "ether" => true,
        "ip" => !newcomer.is_v6,
        "ip6" => newcomer.is_v6,
        _ => false,
    }
}

fn asked(newcomer: &Newcomer<'_>, left: &Value, right: &[Item], op: &str) -> Fit {
    let field = |pointer: &str| left.pointer(pointer).and_then(Value::as_str).unwrap_or_default();
    if left.get("payload").is_some() {
        return payload(newcomer, (field("/payload/protocol"), field("/payload/field")), right, op);
    }
    if left.get("meta").is_some() {
        return meta(newcomer, field("/meta/key"), right);
    }
    match (left.get("ct").is_some(), field("/ct/key")) {
        (true, "state") => yes_or_no(right.iter().any(|item| match item {
            Item::Text(state) => state == "new",
            // Bits: 8 is a new one.
            Item::Number(bits) => bits & 8 != 0,
            _ => false,
        })),
        (true, "direction") => {
            yes_or_no(right.iter().any(|item| matches!(item, Item::Number(0)) || is_text(item, "original")))
        }
        // It was not sent elsewhere on its way in.
        (true, "status") => Fit::No,
        _ => Fit::Depends("a rule that is not understood here".to_owned()),
    }
}

fn payload(newcomer: &Newcomer<'_>, (protocol, field): (&str, &str), right: &[Item], op: &str) -> Fit {
    if !is_of(newcomer, protocol) {
        return Fit::No;
    }
    let transport = if newcomer.is_tcp { (6, "tcp") } else { (17, "udp") };
    match field {
        "dport" => number(newcomer.port.into(), right, op),
        "protocol" | "nexthdr" => yes_or_no(right.iter().any(|item| is_one(item, transport))),
        "saddr" if protocol != "ether" => from_somewhere(right),
        "daddr" if protocol != "ether" => to_us(newcomer, right),
        "flags" => Fit::Yes,
        "sport" => Fit::Depends("the caller's port".to_owned()),
        _ => Fit::Depends(format!("{protocol} {field}")),
    }
}

fn meta(newcomer: &Newcomer<'_>, key: &str, right: &[Item]) -> Fit {
    let transport = if newcomer.is_tcp { (6, "tcp") } else { (17, "udp") };
    match key {
        "l4proto" => yes_or_no(right.iter().any(|item| is_one(item, transport))),
        "nfproto" => {
            let family = if newcomer.is_v6 { (10, "ipv6") } else { (2, "ipv4") };
            yes_or_no(right.iter().any(|item| is_one(item, family)))
        }
        "protocol" => {
            let family = if newcomer.is_v6 { (0x86dd, "ip6") } else { (0x0800, "ip") };
            yes_or_no(right.iter().any(|item| is_one(item, family)))
        }
        "iif" | "iifname" => {
            let is_meant = |name: &&String| right.iter().any(|item| names(item, name));
            match newcomer.interfaces.iter().filter(is_meant).count() {
                0 => Fit::No,
                all if all == newcomer.interfaces.len() => Fit::Yes,
                _ => Fit::Depends("the interface that the caller comes by".to_owned()),
            }
        }
        "pkttype" => yes_or_no(right.iter().any(|item| is_one(item, (0, "host")) || is_text(item, "unicast"))),
        _ => Fit::Depends(format!("meta {key}")),
    }
}

fn number(own: u64, right: &[Item], op: &str) -> Fit {
    let fits = |item: &Item| match (item, op) {
        (Item::Number(other), "<") => own < *other,
        (Item::Number(other), "<=") => own <= *other,
        (Item::Number(other), ">") => own > *other,
        (Item::Number(other), ">=") => own >= *other,
        (Item::Number(other), _) => own == *other,
        (Item::Numbers(from, to), _) => (*from..=*to).contains(&own),
        _ => false,
    };
    if right.iter().any(fits) {
        Fit::Yes
    } else if right.contains(&Item::Other) {
        Fit::Depends("a set that is not understood here".to_owned())
    } else {
        Fit::No
    }
}

/// Callers from out there have public addresses, of which one may be among these.
fn from_somewhere(right: &[Item]) -> Fit {
    let is_everywhere = |item: &Item| matches!(item, Item::Network(_, 0));
    let is_at_home = |item: &Item| match item {
        Item::Network(address, _) | Item::Networks(address, _) => reach_of(*address) != Reach::Public,
        _ => false,
    };
    if right.iter().any(is_everywhere) {
        Fit::Yes
    } else if right.iter().all(is_at_home) {
        Fit::No
    } else if right.contains(&Item::Other) {
        Fit::Depends("the caller's address".to_owned())
    } else {
        Fit::Seldom
    }
}

fn to_us(newcomer: &Newcomer<'_>, right: &[Item]) -> Fit {
    let is_meant = |own: &&IpAddr| {
        right.iter().any(|item| match item {
            Item::Network(network, length) => is_in(**own, *network, *length),
            Item::Networks(from, to) => (*from..=*to).contains(*own),
            _ => false,
        })
    };
    let own = || newcomer.addresses.iter().filter(|address| address.is_ipv6() == newcomer.is_v6);
    match own().filter(is_meant).count() {
        0 => Fit::No,
        some if some == own().count() => Fit::Yes,
        _ => Fit::Depends("which of our addresses is called".to_owned()),
    }
}

fn names(item: &Item, interface: &str) -> bool {
    match item {
        Item::Text(name) => name.strip_suffix('*').map_or(name == interface, |begin| interface.starts_with(begin)),
        _ => false,
    }
}

fn is_text(item: &Item, text: &str) -> bool {
    matches!(item, Item::Text(found) if found == text)
}

fn is_one(item: &Item, (number, text): (u64, &str)) -> bool {
    matches!(item, Item::Number(found) if *found == number) || is_text(item, text)
}

fn yes_or_no(is_so: bool) -> Fit {
    if is_so { Fit::Yes } else { Fit::No }
}
