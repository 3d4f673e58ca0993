//! Lines for the system's journal, with level and fields, by its native protocol
//! (<https://systemd.io/JOURNAL_NATIVE_PROTOCOL/>).

use std::env;
use std::io;
use std::os::unix::net::UnixDatagram;
use std::sync::atomic::{AtomicU64, Ordering};

use rustix::fs::fstat;
use waverant_api::{LogLevel, LogLine};

const SOCKET: &str = "/run/systemd/journal/socket";

/// A field is cut behind so many bytes as they are written: a line is one datagram, and sockets take about 200 KiB.
const LONGEST: usize = 8 * 1024;

/// A line has no more fields than this.
const MOST_FIELDS: usize = 16;

/// Writes to the journal. It never waits for it: a journal that does not keep up loses lines, and that is told.
#[derive(Debug)]
pub(super) struct Journal {
    socket: UnixDatagram,
    lost: AtomicU64,
}

impl Journal {
    /// If what we write to stderr goes to the journal anyhow, as systemd says in the environment.
    pub(super) fn connect() -> Option<Self> {
        let stderr = fstat(io::stderr()).ok()?;
        let told = env::var("JOURNAL_STREAM").ok()?;
        (told == format!("{}:{}", stderr.st_dev, stderr.st_ino)).then_some(())?;
        Self::to(SOCKET).ok()
    }

    fn to(path: &str) -> io::Result<Self> {
        let socket = UnixDatagram::unbound()?;
        socket.connect(path)?;
        socket.set_nonblocking(true)?;
        Ok(Self { socket, lost: AtomicU64::new(0) })
    }

    pub(super) fn write(&self, line: &LogLine) {
        let lost = self.lost.swap(0, Ordering::Relaxed);
        let is_told = lost == 0 || self.socket.send(&entry_of_lost(lost)).is_ok();
        let is_written = self.socket.send(&entry(line)).is_ok();
        let lost = if is_told { 0 } else { lost } + u64::from(!is_written);
        self.lost.fetch_add(lost, Ordering::Relaxed);
    }
}

/// Of syslog, as the journal has them.
fn priority(level: LogLevel) -> &'static str {
    match level {
        LogLevel::Error => "3",
        LogLevel::Warn => "4",
        LogLevel::Info => "6",
        LogLevel::Debug | LogLevel::Trace => "7",
    }
}

fn entry(line: &LogLine) -> Vec<u8> {
    let mut entry = Vec::with_capacity(512);
    let mut message = line.text.clone();
    for (name, value) in &line.fields {
        let quote = if value.is_empty() || value.contains(' ') { "\"" } else { "" };
        message.push_str(&format!(" {name}={quote}{value}{quote}"));
    }
    add(&mut entry, "MESSAGE", &message);
    add(&mut entry, "PRIORITY", priority(line.level));
    add(&mut entry, "SYSLOG_IDENTIFIER", "waverantd");
    add(&mut entry, "WAVERANT_PART", &line.target);
    for (name, value) in line.fields.iter().take(MOST_FIELDS) {
        let is_plain = |letter: &char| letter.is_ascii_alphanumeric() || *letter == '_';
        let name: String = name.chars().filter(is_plain).take(32).collect::<String>().to_ascii_uppercase();
        add(&mut entry, &format!("WAVERANT_{name}"), value);
    }
    entry
}

fn entry_of_lost(lost: u64) -> Vec<u8> {
    let mut entry = Vec::new();
    add(&mut entry, "MESSAGE", &format!("the journal did not keep up; lines are missing lost={lost}"));
    add(&mut entry, "PRIORITY", priority(LogLevel::Warn));
    add(&mut entry, "SYSLOG_IDENTIFIER", "waverantd");
    entry
}

/// What strangers wrote is in some values: nothing in one is taken for another field, or by a terminal for more than text.
fn add(entry: &mut Vec<u8>, name: &str, value: &str) {
    entry.extend_from_slice(name.as_bytes());
    entry.push(b'=');
    let most = entry.len() + LONGEST;
    for letter in value.chars() {
        if entry.len() >= most {
            break;
        }
        match letter {
            '\t' => entry.push(b' '),
            _ if letter.is_control() => entry.extend(letter.escape_default().map(|letter| letter as u8)),
            _ => entry.extend_from_slice(letter.encode_utf8(&mut [0; 4]).as_bytes()),
        }
    }
    entry.push(b'\n');
}

#[cfg(test)]
mod tests {
    use std::os::unix::net::UnixDatagram;

    use time::OffsetDateTime;
    use waverant_api::{LogLevel, LogLine};

    use super::{Journal, LONGEST, MOST_FIELDS};

    fn journal() -> (tempfile::TempDir, UnixDatagram, Journal) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("socket");
        let reader = UnixDatagram::bind(&path).unwrap();
        let journal = Journal::to(path.to_str().unwrap()).unwrap();
        (folder, reader, journal)
    }

    fn line(text: &str, fields: &[(&str, &str)]) -> LogLine {
        LogLine {
            number: 0,
            at: OffsetDateTime::UNIX_EPOCH,
            level: LogLevel::Warn,
            target: "waverant_show::leg".to_owned(),
            text: text.to_owned(),
            fields: fields.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect(),
        }
    }

    fn next(reader: &UnixDatagram) -> String {
        let mut bytes = vec![0; 1 << 20];
        let length = reader.recv(&mut bytes).unwrap();
        String::from_utf8(bytes[..length].to_vec()).unwrap()
    }

    #[test]
    fn a_line_has_its_level_and_fields_and_none_is_forged() {
        let (_folder, reader, journal) = journal();
        journal.write(&line("the leg is lost", &[("session", "7"), ("encoder", "van 2\nPRIORITY=0\u{1b}[2J")]));
        assert_eq!(
            next(&reader),
            "MESSAGE=the leg is lost session=7 encoder=\"van 2\\nPRIORITY=0\\u{1b}[2J\"\nPRIORITY=4\n\
             SYSLOG_IDENTIFIER=waverantd\nWAVERANT_PART=waverant_show::leg\n\
             WAVERANT_SESSION=7\nWAVERANT_ENCODER=van 2\\nPRIORITY=0\\u{1b}[2J\n"
        );
    }

    #[test]
    fn the_longest_line_is_taken_cut() {
        let (_folder, reader, journal) = journal();
        let long = "\u{1b}é".repeat(100_000);
        let fields = vec![("encoder", long.as_str()); 2 * MOST_FIELDS];
        journal.write(&line("the leg is lost", &fields));
        let entry = next(&reader);
        assert!(entry.starts_with("MESSAGE=the leg is lost encoder="));
        assert!(entry.len() < (MOST_FIELDS + 2) * (LONGEST + 64), "{}", entry.len());
    }

    #[test]
    fn a_journal_that_does_not_read_loses_lines_and_holds_nobody() {
        let (_folder, reader, journal) = journal();
        reader.set_nonblocking(true).unwrap();
        (0..5_000).for_each(|_| journal.write(&line("a boat passes", &[])));
        let mut written = 0;
        while reader.recv(&mut [0; 4096]).is_ok() {
            written += 1;
        }
        assert!(written < 5_000, "the queue of a socket is bounded");
        journal.write(&line("the last boat", &[]));
        assert!(next(&reader).contains(&format!("lines are missing lost={}\n", 5_000 - written)));
        assert!(next(&reader).contains("MESSAGE=the last boat\n"));
    }
}
