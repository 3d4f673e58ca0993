use std::ops::Range;

use serde::de::DeserializeOwned;
use toml::Spanned;
use toml::de::{DeTable, DeValue, ValueDeserializer};

use crate::path::{Path, Step};

/// The longest text that is read.
pub const MAX_TEXT: usize = 4 * 1024 * 1024;

/// So many faults are told at once.
const MAX_FAULTS: usize = 100;

/// A place in a text.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    /// Counted from 1.
    pub line: usize,
    /// In characters, counted from 1.
    pub column: usize,
}

/// Something that cannot be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// Where in the text.
    pub place: Place,
    /// Of what; empty for the text itself.
    pub at: Path,
    /// What was found, and what was expected.
    pub text: String,
}

/// A text that is TOML, with the places of what stands in it.
#[derive(Debug)]
pub struct Document<'t> {
    text: &'t str,
    root: Spanned<DeValue<'t>>,
    /// Where each line begins.
    lines: Vec<usize>,
    faults: Vec<Fault>,
}

impl<'t> Document<'t> {
    /// Reads a text.
    ///
    /// # Errors
    /// What of it is no TOML.
    pub fn read(text: &'t str) -> Result<Self, Vec<Fault>> {
        let lines = [0].into_iter().chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect();
        let empty = Spanned::new(0..0, DeValue::Table(DeTable::new()));
        let mut document = Self { text, root: empty, lines, faults: Vec::new() };
        if text.len() > MAX_TEXT {
            let told = format!("the text has {} bytes; {MAX_TEXT} are read at most", text.len());
            document.note(0, Path::default(), told);
            return Err(document.faults);
        }
        let (table, errors) = DeTable::parse_recoverable(text);
        for error in errors {
            document.note(error.span().map_or(0, |span| span.start), Path::default(), error.message().to_owned());
        }
        if !document.faults.is_empty() {
            return Err(document.take_faults());
        }
        let span = table.span();
        document.root = Spanned::new(span, DeValue::Table(table.into_inner()));
        Ok(document)
    }

    /// What could not be, in the order of the text.
    pub fn take_faults(&mut self) -> Vec<Fault> {
        let mut faults = std::mem::take(&mut self.faults);
        faults.sort_by_key(|fault| fault.place);
        faults.dedup();
        faults
    }

    /// Notes that something at a path cannot be.
    pub fn fault(&mut self, at: Path, text: impl Into<String>) {
        let start = self.start_of(&at);
        self.note(start, at, text.into());
    }

    fn note(&mut self, start: usize, at: Path, text: String) {
        if self.faults.len() < MAX_FAULTS {
            self.faults.push(Fault { place: self.place(start), at, text });
        }
    }

    /// Where a value stands; where what it belongs to begins, if it is not there.
    pub fn place_of(&self, path: &Path) -> Place {
        self.place(self.start_of(path))
    }

    fn start_of(&self, path: &Path) -> usize {
        let (mut node, mut start) = (&self.root, 0);
        for step in &path.0 {
            let next = match (node.get_ref(), step) {
                (DeValue::Table(table), Step::Name(name)) => {
                    table.get_key_value(name.as_str()).map(|(key, value)| (key.span().start, value))
                }
                (DeValue::Array(items), Step::At(at)) => items.get(*at).map(|value| (value.span().start, value)),
                _ => None,
            };
            let Some((begin, value)) = next else { break };
            (node, start) = (value, begin);
        }
        start
    }

    fn place(&self, at: usize) -> Place {
        let line = self.lines.partition_point(|begin| *begin <= at).max(1);
        let before = self.text.get(self.lines[line - 1]..at).unwrap_or_default();
        Place { line, column: before.chars().count() + 1 }
    }

    /// The names in a table; none if it is not there, and a fault if it is no table.
    pub fn names(&mut self, path: &Path) -> Option<Vec<String>> {
        let found = match self.value(path)?.get_ref() {
            DeValue::Table(table) => Some(table.keys().map(|name| name.get_ref().to_string()).collect()),
            _ => None,
        };
        if found.is_none() {
            self.fault(path.clone(), "a table was expected here, as in [channels.finish-line]");
        }
        found
    }

    /// The number of items in a list; none if it is not there, and a fault if it is no list.
    pub fn count(&mut self, path: &Path) -> Option<usize> {
        let found = match self.value(path)?.get_ref() {
            DeValue::Array(items) => Some(items.len()),
            _ => None,
        };
        if found.is_none() {
            self.fault(path.clone(), format!("a list was expected here, as in [[{path}]]"));
        }
        found
    }

    fn value(&self, path: &Path) -> Option<&Spanned<DeValue<'t>>> {
        path.0.iter().try_fold(&self.root, |node, step| match (node.get_ref(), step) {
            (DeValue::Table(table), Step::Name(name)) => table.get(name.as_str()),
            (DeValue::Array(items), Step::At(at)) => items.get(*at),
            _ => None,
        })
    }

    /// What stands at a path. What of it cannot be is noted, and left out of what is returned, as far as it goes without.
    pub fn form<T: DeserializeOwned>(&mut self, path: &Path) -> Option<T> {
        let mut node = self.value(path)?.clone();
        let mut removed = Vec::new();
        loop {
            let error = match T::deserialize(ValueDeserializer::from(node.clone())) {
                Ok(form) => return Some(form),
                Err(error) => error,
            };
            let missing = error.message().strip_prefix("missing field `").and_then(|rest| rest.strip_suffix('`'));
            if missing.is_some_and(|missing| removed.iter().any(|name| name == missing)) {
                return None;
            }
            let span = error.span().unwrap_or_else(|| node.span());
            let mut at = path.clone();
            let is_removed = remove(&mut node, &span, &mut at);
            self.note(span.start, at.clone(), plain(error.message()));
            if let Some(Step::Name(name)) = at.0.pop() {
                removed.push(name);
            }
            if !is_removed || self.faults.len() >= MAX_FAULTS {
                return None;
            }
        }
    }
}

/// What is wrong, without the words of programmers.
fn plain(message: &str) -> String {
    let (found, expected) = message.rsplit_once(", expected ").unwrap_or((message, ""));
    match expected {
        "u8" | "u16" | "u32" | "u64" | "i8" | "i64" => {
            let found = found.replace("invalid type: ", "").replace("invalid value: ", "");
            format!("{found} stands where a whole number was expected, that is not too large and not below zero")
        }
        _ => message.to_owned(),
    }
}

/// True if `span` is within a value. What is written below headers of its own is not within the span of what it
/// belongs to.
fn holds(node: &Spanned<DeValue<'_>>, span: &Range<usize>) -> bool {
    is_within(&node.span(), span)
        || match node.get_ref() {
            DeValue::Table(table) => {
                table.iter().any(|(key, value)| is_within(&key.span(), span) || holds(value, span))
            }
            DeValue::Array(items) => items.iter().any(|item| holds(item, span)),
            _ => false,
        }
}

fn is_within(whole: &Range<usize>, span: &Range<usize>) -> bool {
    whole.start <= span.start && span.end <= whole.end && !whole.is_empty()
}

/// Takes the innermost thing out of a value that `span` is about; `at` becomes its path.
fn remove(node: &mut Spanned<DeValue<'_>>, span: &Range<usize>, at: &mut Path) -> bool {
    match node.get_mut() {
        DeValue::Table(table) => {
            let own = |(key, value): &(&Spanned<_>, &Spanned<_>)| is_within(&key.span(), span) || holds(value, span);
            let Some(name) = table.iter().find(own).map(|(key, _)| key.clone()) else { return false };
            at.0.push(Step::Name(name.get_ref().to_string()));
            let is_inside = table.get_mut(&name).is_some_and(|value| remove(value, span, at));
            is_inside || table.remove(&name).is_some()
        }
        DeValue::Array(items) => {
            let Some((place, item)) = items.iter_mut().enumerate().find(|(_, item)| holds(item, span)) else {
                return false;
            };
            at.0.push(Step::At(place));
            // An item is not taken out alone: those behind it would be told with other numbers.
            remove(item, span, at)
        }
        _ => false,
    }
}
