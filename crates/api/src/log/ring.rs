use std::collections::VecDeque;

use parking_lot::Mutex;
use time::OffsetDateTime;

/// Lines that are kept, and what all of them may take; the oldest go.
const MAX_LINES: usize = 4000;
const MAX_BYTES: usize = 1024 * 1024;

/// What is longer is cut.
const MAX_TEXT: usize = 2048;
const MAX_VALUE: usize = 512;
const MAX_FIELDS: usize = 16;

/// How bad a line is: the smaller, the worse.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum LogLevel {
    /// Our own fault.
    Error,
    /// Somebody else's.
    Warn,
    /// Something that people want to know.
    Info,
    /// For who looks for a fault.
    Debug,
    /// Everything.
    Trace,
}

/// A line of the log.
#[derive(Clone, Debug)]
pub struct LogLine {
    /// Counted from 1 since the start.
    pub number: u64,
    /// When.
    pub at: OffsetDateTime,
    /// How bad.
    pub level: LogLevel,
    /// The part of the service.
    pub target: String,
    /// What.
    pub text: String,
    /// More about it, by name.
    pub fields: Vec<(String, String)>,
}

/// The newest lines of the log, for who looks from afar.
#[derive(Debug, Default)]
pub struct LogRing(Mutex<Lines>);

#[derive(Debug, Default)]
struct Lines {
    /// The oldest first.
    lines: VecDeque<LogLine>,
    bytes: usize,
    count: u64,
}

impl LogLine {
    fn bytes(&self) -> usize {
        let fields: usize = self.fields.iter().map(|(name, value)| name.len() + value.len()).sum();
        self.target.len() + self.text.len() + fields + size_of::<Self>()
    }

    /// The value of a field.
    pub fn field(&self, name: &str) -> Option<&str> {
        self.fields.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }
}

impl LogRing {
    /// Takes the next line; its number is given here.
    pub fn push(&self, mut line: LogLine) {
        cut(&mut line.text, MAX_TEXT);
        line.fields.truncate(MAX_FIELDS);
        line.fields.iter_mut().for_each(|(_, value)| cut(value, MAX_VALUE));
        let kept = &mut *self.0.lock();
        kept.count += 1;
        line.number = kept.count;
        kept.bytes += line.bytes();
        kept.lines.push_back(line);
        while kept.lines.len() > MAX_LINES || kept.bytes > MAX_BYTES {
            let Some(oldest) = kept.lines.pop_front() else { break };
            kept.bytes -= oldest.bytes();
        }
    }

    /// The newest `limit` lines behind number `after` that are wanted, in order.
    pub fn newest(&self, after: u64, limit: usize, is_wanted: impl Fn(&LogLine) -> bool) -> Vec<LogLine> {
        let kept = self.0.lock();
        let behind = kept.lines.iter().rev().take_while(|line| line.number > after);
        let mut found: Vec<LogLine> = behind.filter(|line| is_wanted(line)).take(limit).cloned().collect();
        found.reverse();
        found
    }

    /// The number of the newest line.
    pub fn last(&self) -> u64 {
        self.0.lock().count
    }
}

fn cut(text: &mut String, most: usize) {
    if text.len() > most {
        let end = (0..=most).rev().find(|end| text.is_char_boundary(*end)).unwrap_or(0);
        text.truncate(end);
        text.push('…');
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(text: &str) -> LogLine {
        LogLine {
            number: 0,
            at: OffsetDateTime::UNIX_EPOCH,
            level: LogLevel::Info,
            target: "waverant_show".to_owned(),
            text: text.to_owned(),
            fields: vec![("session".to_owned(), "7".to_owned())],
        }
    }

    #[test]
    fn the_newest_lines_are_had_in_order() {
        let ring = LogRing::default();
        (0..10).for_each(|number| ring.push(line(&format!("line {number}"))));
        let found = ring.newest(3, 4, |line| line.text != "line 8");
        let told: Vec<_> = found.iter().map(|line| (line.number, line.text.as_str())).collect();
        assert_eq!(told, [(6, "line 5"), (7, "line 6"), (8, "line 7"), (10, "line 9")]);
        assert_eq!((found[0].field("session"), ring.last()), (Some("7"), 10));
        assert!(ring.newest(10, 4, |_| true).is_empty());
    }

    #[test]
    fn what_is_kept_is_bounded() {
        let ring = LogRing::default();
        (0..MAX_LINES + 50).for_each(|_| ring.push(line("short")));
        assert_eq!(ring.newest(0, usize::MAX, |_| true).len(), MAX_LINES);
        let long = LogLine { fields: vec![("reason".to_owned(), "ö".repeat(5000)); 100], ..line(&"ö".repeat(5000)) };
        (0..500).for_each(|_| ring.push(long.clone()));
        let kept = ring.newest(0, usize::MAX, |_| true);
        assert!(kept.iter().map(LogLine::bytes).sum::<usize>() <= MAX_BYTES);
        assert!(kept.len() > 50 && kept[0].text.len() <= MAX_TEXT + 3 && kept[0].fields.len() == MAX_FIELDS);
    }
}
