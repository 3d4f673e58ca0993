//! What becomes of a packet that goes through chains of rules.

use serde_json::Value;

use super::matching::{Fit, fits, lookup};
use super::{Chain, ChainName, Firewall, Newcomer};

/// How deep chains may call each other (the kernel's own limit).
const DEEPEST: usize = 16;

/// Rules that are looked at for one packet: chains that call others twice each would cost far more.
const MOST_STEPS: usize = 200_000;

/// Whether newcomers are let in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Admission {
    /// They are.
    Open,
    /// They are not; the table and chain that keeps them out.
    Closed(String),
    /// It depends on what is not known of them.
    Unclear(String),
}

impl Admission {
    /// Both have a say.
    pub(super) fn and(self, other: Self) -> Self {
        match (self, other) {
            (closed @ Self::Closed(_), _) | (_, closed @ Self::Closed(_)) => closed,
            (unclear @ Self::Unclear(_), _) | (_, unclear @ Self::Unclear(_)) => unclear,
            _ => Self::Open,
        }
    }
}

/// What may become of a packet in a chain.
#[derive(Clone, Copy, Debug, Default)]
struct Fate {
    may_pass: bool,
    may_drop: bool,
    /// It may come to the next rule, or to the end.
    goes_on: bool,
    /// It may leave the chain without a verdict.
    returns: bool,
}

pub(super) struct Judge<'a> {
    firewall: &'a Firewall,
    newcomer: &'a Newcomer<'a>,
    /// What it depends on.
    reason: Option<String>,
    /// Callers of some addresses are let in.
    has_exceptions: bool,
    steps: usize,
}

impl<'a> Judge<'a> {
    pub(super) fn new(firewall: &'a Firewall, newcomer: &'a Newcomer<'a>) -> Self {
        Self { firewall, newcomer, reason: None, has_exceptions: false, steps: 0 }
    }

    pub(super) fn entrance(mut self, name: &ChainName, chain: &Chain) -> Admission {
        let mut fate = self.walk(name, chain, 0);
        if fate.goes_on || fate.returns {
            (fate.may_pass, fate.may_drop) = (fate.may_pass || !chain.drops, fate.may_drop || chain.drops);
        }
        let (family, table, name) = name;
        match (fate.may_pass, fate.may_drop) {
            (_, false) => Admission::Open,
            (false, true) if self.has_exceptions => {
                Admission::Closed(format!("{family} {table} {name}, other than for addresses that it names"))
            }
            (false, true) => Admission::Closed(format!("{family} {table} {name}")),
            (true, true) => {
                let reason = self.reason.unwrap_or_else(|| "a rule that is not understood here".to_owned());
                Admission::Unclear(format!("it depends on {reason} ({family} {table} {name})"))
            }
        }
    }

    fn walk(&mut self, name: &ChainName, chain: &Chain, depth: usize) -> Fate {
        let mut fate = Fate { goes_on: true, ..Fate::default() };
        for rule in &chain.rules {
            self.steps += 1;
            if depth > DEEPEST || self.steps > MOST_STEPS {
                self.depends_on("chains that call each other too deep");
                return Fate { may_pass: true, may_drop: true, goes_on: true, returns: true };
            }
            let (is_sure, one) = self.rule(name, rule, depth);
            fate.may_pass |= one.may_pass;
            fate.may_drop |= one.may_drop;
            fate.returns |= one.returns;
            if is_sure && !one.goes_on {
                fate.goes_on = false;
                return fate;
            }
        }
        fate
    }

    /// What one rule does, and whether it surely does it.
    fn rule(&mut self, chain: &ChainName, rule: &[Value], depth: usize) -> (bool, Fate) {
        let on = Fate { goes_on: true, ..Fate::default() };
        let (mut is_sure, mut is_seldom) = (true, false);
        for statement in rule {
            let Some((kind, body)) = statement.as_object().and_then(|object| object.iter().next()) else { continue };
            match fits(self.firewall, chain, self.newcomer, (kind, body)) {
                Some(Fit::No) => return (true, on),
                Some(Fit::Seldom) => is_seldom = true,
                Some(Fit::Depends(reason)) => {
                    self.depends_on(&reason);
                    is_sure = false;
                }
                Some(Fit::Yes) => {}
                None => {
                    if let Some((certain, fate)) = self.verdict(chain, (kind, body), depth) {
                        if is_seldom {
                            self.has_exceptions |= fate.may_pass;
                            return (true, on);
                        }
                        return (is_sure && certain, fate);
                    }
                }
            }
        }
        (true, on)
    }

    fn verdict(&mut self, chain: &ChainName, (kind, body): (&str, &Value), depth: usize) -> Option<(bool, Fate)> {
        let on = Fate { goes_on: true, ..Fate::default() };
        Some(match kind {
            "accept" => (true, Fate { may_pass: true, ..Fate::default() }),
            "drop" | "reject" => (true, Fate { may_drop: true, ..Fate::default() }),
            "queue" => {
                self.depends_on("a program that decides on packets");
                (true, Fate { may_pass: true, may_drop: true, ..Fate::default() })
            }
            "continue" => (true, on),
            "return" => (true, Fate { returns: true, ..Fate::default() }),
            "jump" | "goto" => (true, self.call(chain, body, (kind == "goto", depth))),
            "vmap" => return Some(self.map(chain, body, depth)),
            _ => return None,
        })
    }

    /// What a chain does that is called; one that is gone to comes back to where this one was called from.
    fn call(&mut self, chain: &ChainName, body: &Value, (is_goto, depth): (bool, usize)) -> Fate {
        let target = body.get("target").and_then(Value::as_str).unwrap_or_default().to_owned();
        let name = (chain.0.clone(), chain.1.clone(), target);
        let firewall = self.firewall;
        let Some(called) = firewall.chains.get(&name) else { return Fate { goes_on: true, ..Fate::default() } };
        let fate = self.walk(&name, called, depth + 1);
        let comes_back = fate.goes_on || fate.returns;
        Fate { goes_on: comes_back && !is_goto, returns: comes_back && is_goto, ..fate }
    }

    fn map(&mut self, chain: &ChainName, body: &Value, depth: usize) -> (bool, Fate) {
        let mut all = Fate::default();
        let (matched, is_sure) = lookup(self.firewall, chain, self.newcomer, body);
        if !is_sure {
            self.depends_on("the caller's address");
        }
        let mut is_certain = is_sure;
        for verdict in &matched {
            let Some((kind, body)) = verdict.as_object().and_then(|object| object.iter().next()) else { continue };
            let (certain, fate) = self
                .verdict(chain, (kind, body), depth + 1)
                .unwrap_or((true, Fate { goes_on: true, ..Fate::default() }));
            is_certain &= certain;
            all = Fate {
                may_pass: all.may_pass || fate.may_pass,
                may_drop: all.may_drop || fate.may_drop,
                goes_on: all.goes_on || fate.goes_on,
                returns: all.returns || fate.returns,
            };
        }
        if matched.is_empty() { (true, Fate { goes_on: true, ..Fate::default() }) } else { (is_certain, all) }
    }

    fn depends_on(&mut self, reason: &str) {
        self.reason.get_or_insert_with(|| reason.to_owned());
    }
}
