use tracing_subscriber::EnvFilter;

use crate::settings::{LogFormat, Settings};

/// Starts writing log lines to stderr, as the settings say. A second call does nothing.
pub fn start_logging(settings: &Settings) {
    let filter = EnvFilter::try_new(&settings.log_level).unwrap_or_else(|_| EnvFilter::new("info"));
    let lines = tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr);
    let _ = match settings.log_format {
        LogFormat::Json => lines.json().try_init(),
        LogFormat::Text => lines.with_ansi(std::io::IsTerminal::is_terminal(&std::io::stderr())).try_init(),
    };
}
