use std::thread::sleep;
use std::time::Duration;

use clap::{Args, Subcommand};
use waverant_model::{LogLine, LogLines, LogSetting};

use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Report, moment};

/// How often new lines are asked for.
const ASK_EVERY: Duration = Duration::from_secs(1);

#[derive(Args, Debug)]
#[command(args_conflicts_with_subcommands = true)]
pub(super) struct Log {
    #[command(subcommand)]
    what: Option<What>,
    #[command(flatten)]
    read: Read,
}

#[derive(Subcommand, Debug)]
enum What {
    /// Say which lines there are from now on, until the next start.
    Level {
        /// error, warn, info, debug, trace, or a filter such as "info,waverant_show=debug".
        level: String,
    },
}

#[derive(Args, Debug)]
struct Read {
    /// At most so many lines, the newest.
    #[arg(long, default_value_t = 50)]
    lines: u32,
    /// Only lines at least as bad: error, warn, info, debug, trace.
    #[arg(long)]
    level: Option<String>,
    /// Only lines of this channel.
    #[arg(long)]
    channel: Option<String>,
    /// Only lines of this session.
    #[arg(long)]
    session: Option<u64>,
    /// Only lines with this in them.
    #[arg(long)]
    text: Option<String>,
    /// Go on with new lines until interrupted.
    #[arg(long, short)]
    follow: bool,
}

impl Log {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        if let Some(What::Level { level }) = self.what {
            let set: LogSetting = client.call("PUT", "/log/level", &LogSetting { level })?;
            let told = format!("The log has `{}` from now on, until the next start.", set.level);
            return Ok(report.done(&set, &told)?);
        }
        let mut after = 0;
        loop {
            let lines: LogLines = client.get(&self.read.path(after))?;
            for line in &lines.items {
                if report.json {
                    report.value(line)?;
                } else {
                    writeln!(report.out, "{}", text(line))?;
                }
            }
            if !self.read.follow {
                return Ok(());
            }
            report.out.flush()?;
            after = lines.last;
            sleep(ASK_EVERY);
        }
    }
}

impl Read {
    fn path(&self, after: u64) -> String {
        let limit = if after == 0 { self.lines } else { 1000 };
        let mut path = format!("/log?after={after}&limit={limit}");
        let filters = [("level", &self.level), ("channel", &self.channel), ("text", &self.text)];
        for (name, value) in filters {
            if let Some(value) = value {
                path.push_str(&format!("&{name}={}", piece(value)));
            }
        }
        if let Some(session) = self.session {
            path.push_str(&format!("&session={session}"));
        }
        path
    }
}

fn text(line: &LogLine) -> String {
    let channel = line.channel.as_deref().filter(|_| !line.fields.contains_key("channel"));
    let channel = channel.map(|channel| format!(" channel={channel}")).unwrap_or_default();
    let fields: String = line.fields.iter().map(|(name, value)| format!(" {name}={value}")).collect();
    format!("{} {:<5} {}{channel}{fields}", moment(line.at), line.level, line.text)
}
