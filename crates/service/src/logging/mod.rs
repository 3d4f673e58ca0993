//! The log: lines to stderr or the journal, and the newest in memory for who looks from afar.

mod journal;

use std::fmt::{Debug, Write};
use std::io::IsTerminal;
use std::sync::Arc;

use time::OffsetDateTime;
use tracing::field::{Field, Visit};
use tracing::{Event, Level, Subscriber};
use tracing_subscriber::filter::EnvFilter;
use tracing_subscriber::layer::{Context, Layer, SubscriberExt};
use tracing_subscriber::util::SubscriberInitExt;
use tracing_subscriber::{fmt, reload};
use waverant_api::{LogDesk, LogLevel, LogLine, LogRing};

use crate::settings::{LogFormat, Settings};
use journal::Journal;

/// Starts writing log lines, as the settings say, and keeps the newest for who looks from afar. Text for people goes to
/// stderr, or into the journal with its fields if stderr leads there. A second call writes nothing.
pub fn start_logging(settings: &Settings) -> LogDesk {
    let (format, level) = (settings.log.0, &settings.log.1);
    let filter = EnvFilter::try_new(level).unwrap_or_else(|_| EnvFilter::new("info"));
    let (filter, handle) = reload::Layer::new(filter);
    let ring = Arc::new(LogRing::default());
    let journal = (format == LogFormat::Text).then(Journal::connect).flatten();
    let has_journal = journal.is_some();
    let kept = tracing_subscriber::registry().with(filter).with(KeptLines { ring: ring.clone(), journal });
    let lines = fmt::layer().with_writer(std::io::stderr);
    let _ = match format {
        LogFormat::Json => kept.with(lines.json()).try_init(),
        LogFormat::Text if has_journal => kept.try_init(),
        LogFormat::Text => kept.with(lines.with_ansi(std::io::stderr().is_terminal())).try_init(),
    };
    LogDesk::new(ring, level.clone(), move |level| {
        let filter = EnvFilter::try_new(level).map_err(|error| format!("`{level}` is no level or filter: {error}"))?;
        handle.reload(filter).map_err(|error| error.to_string())
    })
}

/// Log lines to standard error, for what is no service.
pub fn start_plain_log() {
    let lines = fmt::layer().with_writer(std::io::stderr).with_ansi(std::io::stderr().is_terminal());
    let _ = tracing_subscriber::registry().with(EnvFilter::new("info")).with(lines).try_init();
}

/// Puts lines into the ring, and into the journal if there is one.
struct KeptLines {
    ring: Arc<LogRing>,
    journal: Option<Journal>,
}

impl<S: Subscriber> Layer<S> for KeptLines {
    fn on_event(&self, event: &Event<'_>, _: Context<'_, S>) {
        let line = line_of(event);
        if let Some(journal) = &self.journal {
            journal.write(&line);
        }
        self.ring.push(line);
    }
}

fn line_of(event: &Event<'_>) -> LogLine {
    let mut line = LogLine {
        number: 0,
        at: OffsetDateTime::now_utc(),
        level: level(*event.metadata().level()),
        target: event.metadata().target().to_owned(),
        text: String::new(),
        fields: Vec::new(),
    };
    event.record(&mut Fields(&mut line));
    line
}

fn level(level: Level) -> LogLevel {
    match level {
        Level::ERROR => LogLevel::Error,
        Level::WARN => LogLevel::Warn,
        Level::INFO => LogLevel::Info,
        Level::DEBUG => LogLevel::Debug,
        Level::TRACE => LogLevel::Trace,
    }
}

struct Fields<'a>(&'a mut LogLine);

impl Visit for Fields<'_> {
    fn record_str(&mut self, field: &Field, value: &str) {
        match field.name() {
            "message" => self.0.text.push_str(value),
            name => self.0.fields.push((name.to_owned(), value.to_owned())),
        }
    }

    fn record_debug(&mut self, field: &Field, value: &dyn Debug) {
        let mut text = String::new();
        // Writing to a text does not fail.
        let _ = write!(text, "{value:?}");
        self.record_str(field, &text);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_kept_with_their_fields() {
        let ring = Arc::new(LogRing::default());
        let subscriber = tracing_subscriber::registry().with(KeptLines { ring: ring.clone(), journal: None });
        tracing::subscriber::with_default(subscriber, || {
            tracing::warn!(session = 7, destination = "plovio", peer = %"192.0.2.7", "the leg is lost");
        });
        let lines = ring.newest(0, 10, |_| true);
        let line = &lines[0];
        assert_eq!((line.level, line.text.as_str()), (LogLevel::Warn, "the leg is lost"));
        let fields = ["session", "destination", "peer"].map(|name| line.field(name));
        assert_eq!(fields, [Some("7"), Some("plovio"), Some("192.0.2.7")]);
        assert_eq!(line.target, "waverant_service::logging::tests");
    }
}
