//! What this machine's own packet filter lets in: the rules of nftables, read and never changed.
//!
//! Source: libnftables-json(5); nft(8)

mod matching;
mod value;
mod verdict;

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use serde_json::Value;
use thiserror::Error;

pub(crate) use verdict::Admission;
use verdict::Judge;

/// Rules that are read at most: what is above is not looked at, and said.
const MOST_RULES: usize = 50_000;

/// The text is no list of rules.
#[derive(Debug, Error)]
#[error("the rules cannot be read: {0}")]
pub struct NoRules(String);

/// What the first packet of somebody out there is like.
#[derive(Clone, Debug)]
pub struct Newcomer<'a> {
    /// TCP; else UDP.
    pub is_tcp: bool,
    /// The port it is for.
    pub port: u16,
    /// Over IPv6.
    pub is_v6: bool,
    /// The names of the interfaces by which it may come.
    pub interfaces: &'a BTreeSet<String>,
    /// The addresses it may be for.
    pub addresses: &'a [IpAddr],
}

/// The rules of a machine.
#[derive(Clone, Debug, Default)]
pub struct Firewall {
    /// By family, table and name.
    chains: BTreeMap<ChainName, Chain>,
    /// Elements of named sets and maps.
    sets: BTreeMap<ChainName, Vec<Value>>,
    tables: BTreeSet<String>,
    has_more: bool,
}

/// Family, table and name, of a chain or a set.
pub(crate) type ChainName = (String, String, String);

#[derive(Clone, Debug, Default)]
pub(crate) struct Chain {
    /// It sees packets for this machine, and may drop them.
    is_entrance: bool,
    drops: bool,
    rules: Vec<Vec<Value>>,
}

impl Firewall {
    /// Reads what `nft --json list ruleset` prints.
    ///
    /// # Errors
    /// [`NoRules`] if it is something else.
    pub fn parse(text: &str) -> Result<Self, NoRules> {
        let whole: Value = serde_json::from_str(text).map_err(|error| NoRules(error.to_string()))?;
        let all = whole.get("nftables").and_then(Value::as_array);
        let all = all.ok_or_else(|| NoRules("there is no list `nftables`".to_owned()))?;
        let mut found = Self { has_more: all.len() > MOST_RULES, ..Self::default() };
        for object in all.iter().take(MOST_RULES) {
            found.take(object);
        }
        Ok(found)
    }

    fn take(&mut self, object: &Value) {
        let Some((kind, body)) = object.as_object().and_then(|object| object.iter().next()) else { return };
        let text = |key: &str| body.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
        let named = |key: &str| (text("family"), text("table"), text(key));
        match kind.as_str() {
            "table" => {
                self.tables.insert(text("name"));
            }
            "chain" => {
                let sees = matches!(text("hook").as_str(), "input" | "prerouting");
                let chain = self.chains.entry(named("name")).or_default();
                chain.is_entrance = sees && text("type") == "filter";
                chain.drops = text("policy") == "drop";
            }
            "rule" => {
                let rule = body.get("expr").and_then(Value::as_array).cloned().unwrap_or_default();
                self.chains.entry(named("chain")).or_default().rules.push(rule);
            }
            "set" | "map" => {
                let elements = body.get("elem").and_then(Value::as_array).cloned().unwrap_or_default();
                self.sets.insert(named("name"), elements);
            }
            _ => {}
        }
    }

    /// Whether a newcomer is let in.
    pub fn admits(&self, newcomer: &Newcomer<'_>) -> Admission {
        let sees = |family: &str| match family {
            "inet" => true,
            "ip" => !newcomer.is_v6,
            "ip6" => newcomer.is_v6,
            _ => false,
        };
        let entrances = self.chains.iter().filter(|((family, ..), chain)| chain.is_entrance && sees(family));
        let mut admission = Admission::Open;
        for (name, chain) in entrances {
            // Each must let it pass.
            admission = admission.and(Judge::new(self, newcomer).entrance(name, chain));
        }
        if self.has_more {
            admission.and(Admission::Unclear("there are more rules than are read".to_owned()))
        } else {
            admission
        }
    }

    /// The chain that a rule can be added to: family, table and name of one that sees all and drops what is left.
    pub fn gate(&self) -> Option<&ChainName> {
        let is_gate = |(_, chain): &(&ChainName, &Chain)| chain.is_entrance;
        let drops = |(_, chain): &(&ChainName, &Chain)| chain.drops;
        let gates = || self.chains.iter().filter(is_gate);
        gates().find(drops).or_else(|| gates().next()).map(|(name, _)| name)
    }

    /// Whether a table has this name.
    pub fn has_table(&self, name: &str) -> bool {
        self.tables.contains(name)
    }

    /// Whether a chain has this name.
    pub fn has_chain(&self, name: &str) -> bool {
        self.chains.keys().any(|(.., known)| known == name)
    }

    /// Whether there are rules that could keep anybody out.
    pub fn is_there(&self) -> bool {
        self.chains.values().any(|chain| chain.is_entrance)
    }
}

#[cfg(test)]
mod tests;
