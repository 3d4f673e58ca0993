//! Where a key may stand among what encoders and players send.

use super::{Attempt, KeyRight, own_key_fault, split_key};

/// Keys that are tried of one attempt.
const MAX_KEYS: usize = 8;

/// The last part of the address that publishers and players are given.
pub(super) fn expected_path(right: KeyRight) -> &'static str {
    match right {
        KeyRight::Publish => "in",
        KeyRight::View => "out",
    }
}

/// Everything that has the form of a key, the likeliest place first: marked as the key in a
/// query, the stream name, another query field, the path, the whole address. Encoders with one
/// address field, and those that cut addresses their own way, put it into any of these. Behind them
/// comes what may be a key that somebody chose, if there are such.
pub(super) fn presented_keys<'a>(attempt: &Attempt<'a>, has_own: bool) -> Vec<&'a str> {
    let address = attempt.tc_url.split_once("://").map_or(attempt.tc_url, |(_, rest)| rest);
    let address = address.split_once('/').map_or("", |(_, path)| path);
    let first = [attempt.name, attempt.app, address];
    let places = first.iter().chain(attempt.others).copied();
    let marked = places.clone().flat_map(fields).filter(|(name, _)| *name == "key");
    let unmarked = places.flat_map(|place| path_ends(place).chain(fields(place).map(|(_, value)| value)));
    let texts: Vec<&str> = marked.map(|(_, value)| value).chain(unmarked).map(str::trim).collect();
    let mut keys: Vec<&str> = Vec::new();
    let mut take = |may_be_key: &dyn Fn(&str) -> bool| {
        for text in &texts {
            if may_be_key(text) && !keys.contains(text) && keys.len() < MAX_KEYS {
                keys.push(text);
            }
        }
    };
    take(&|text| split_key(text).is_some());
    if has_own {
        take(&|text| own_key_fault(text).is_ok());
    }
    keys
}

/// The last piece of the path before the query.
fn path_ends(text: &str) -> impl Iterator<Item = &str> {
    text.split('?').next().into_iter().flat_map(|path| path.trim_matches('/').rsplit('/').next())
}

/// Names and values of a query; a value alone has no name.
fn fields(text: &str) -> impl Iterator<Item = (&str, &str)> {
    let query = text.split_once('?').map_or("", |(_, query)| query);
    query.split(['&', ';', '?']).map(|field| field.split_once('=').unwrap_or(("", field)))
}
