use std::path::PathBuf;

use clap::Subcommand;
use serde_json::json;

use super::{account, rows, text};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, ago};

#[derive(Subcommand, Debug)]
pub(super) enum Destination {
    /// List destinations, without their keys.
    List,
    /// Add a destination. Its key is asked for, or read from a file.
    Add {
        /// A name of your own.
        name: String,
        /// Where it is, as in rtmp://live.example.org/in
        address: String,
        /// Read the key from this file instead of asking; `-` is standard input.
        #[arg(long)]
        key_file: Option<PathBuf>,
    },
    /// Change a destination's address or key; legs that use it redial.
    Change {
        /// The destination.
        destination: String,
        /// Where it is.
        #[arg(long)]
        address: Option<String>,
        /// Read a new key from this file; `-` is standard input.
        #[arg(long)]
        key_file: Option<PathBuf>,
    },
    /// Remove a destination, from all channels too.
    Remove {
        /// The destination.
        destination: String,
    },
}

impl Destination {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List => {
                let answer = client.get("/destinations")?;
                let empty = "No destinations yet. Add one: waverant destination add NAME ADDRESS";
                Ok(report.rows(&answer, rows(&answer), &columns(), empty)?)
            }
            Self::Add { name, address, key_file } => {
                let key = account::secret("Key", "--key-file", key_file.as_deref())?;
                let body = json!({"name": name, "address": address, "key": key});
                let answer = client.call("POST", "/destinations", Some(body))?;
                let next = format!("Destination `{name}` added. Send to it: waverant channel send CHANNEL {name} on");
                Ok(report.done(&answer, &next)?)
            }
            Self::Change { destination, address, key_file } => {
                let key = key_file.map(|file| account::secret("Key", "--key-file", Some(&file))).transpose()?;
                let body = json!({"address": address, "key": key});
                let answer = client.call("PATCH", &format!("/destinations/{}", piece(&destination)), Some(body))?;
                Ok(report.done(&answer, &format!("Destination `{destination}` changed."))?)
            }
            Self::Remove { destination } => {
                let answer = client.call("DELETE", &format!("/destinations/{}", piece(&destination)), None)?;
                Ok(report.done(&answer, &format!("Destination `{destination}` removed."))?)
            }
        }
    }
}

fn columns() -> Vec<Column> {
    vec![
        Column::text("name", |row| text(row, "name")),
        Column::text("address", |row| text(row, "address")),
        Column::text("made", |row| ago(&text(row, "created_at"))),
    ]
}
