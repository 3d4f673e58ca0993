//! What a rule compares with: numbers, names, addresses, ranges, sets.

use std::net::IpAddr;

use serde_json::Value;

use super::{ChainName, Firewall};

/// One thing out of a set.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Item {
    Number(u64),
    Numbers(u64, u64),
    Text(String),
    Network(IpAddr, u8),
    Networks(IpAddr, IpAddr),
    /// Something else: nothing can be said of it.
    Other,
}

/// What stands there, one by one; named sets are looked up.
pub(super) fn items(firewall: &Firewall, of: &ChainName, value: &Value) -> Vec<Item> {
    match value {
        Value::String(text) if text.starts_with('@') => {
            let name = (of.0.clone(), of.1.clone(), text[1..].to_owned());
            firewall.sets.get(&name).map_or_else(
                || vec![Item::Other],
                |elements| elements.iter().flat_map(|element| items(firewall, of, element)).collect(),
            )
        }
        Value::Array(all) => all.iter().flat_map(|one| items(firewall, of, one)).collect(),
        Value::Object(object) => match object.iter().next() {
            Some((kind, body)) => compound(firewall, of, (kind, body)),
            None => vec![Item::Other],
        },
        _ => vec![plain(value)],
    }
}

fn compound(firewall: &Firewall, of: &ChainName, (kind, body): (&str, &Value)) -> Vec<Item> {
    let both = || body.as_array().and_then(|pair| Some((plain(pair.first()?), plain(pair.get(1)?))));
    match kind {
        "set" | "|" => items(firewall, of, body),
        "elem" => body.get("val").map_or_else(Vec::new, |value| items(firewall, of, value)),
        "range" => vec![match both() {
            Some((Item::Number(from), Item::Number(to))) => Item::Numbers(from, to),
            Some((Item::Network(from, _), Item::Network(to, _))) => Item::Networks(from, to),
            _ => Item::Other,
        }],
        "prefix" => {
            let address = body.get("addr").map(plain);
            let length = body.get("len").and_then(Value::as_u64).and_then(|length| u8::try_from(length).ok());
            match (address, length) {
                (Some(Item::Network(address, most)), Some(length)) if length <= most => {
                    vec![Item::Network(address, length)]
                }
                _ => vec![Item::Other],
            }
        }
        _ => vec![Item::Other],
    }
}

fn plain(value: &Value) -> Item {
    match value {
        Value::Number(number) => number.as_u64().map_or(Item::Other, Item::Number),
        Value::String(text) => match text.parse::<IpAddr>() {
            Ok(address) => Item::Network(address, if address.is_ipv4() { 32 } else { 128 }),
            Err(_) => Item::Text(text.clone()),
        },
        _ => Item::Other,
    }
}

/// Whether an address is in a network.
pub(super) fn is_in(address: IpAddr, network: IpAddr, length: u8) -> bool {
    let same = |own: u128, other: u128, width: u8| {
        let rest = u32::from(width - length.min(width));
        length == 0 || own.checked_shr(rest) == other.checked_shr(rest)
    };
    match (address, network) {
        (IpAddr::V4(own), IpAddr::V4(other)) => same(u32::from(own).into(), u32::from(other).into(), 32),
        (IpAddr::V6(own), IpAddr::V6(other)) => same(own.into(), other.into(), 128),
        _ => false,
    }
}
