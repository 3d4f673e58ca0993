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
        /// Where it is, as in rtmp://live.example.org/in, or rtmps:// for TLS
        address: String,
        /// The certificate (PEM) of the platform's own authority, if it has one.
        #[arg(long)]
        authority_file: Option<PathBuf>,
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
        /// The certificate (PEM) of the platform's own authority.
        #[arg(long, conflicts_with = "no_authority")]
        authority_file: Option<PathBuf>,
        /// Trust the authorities of the service's machine again.
        #[arg(long)]
        no_authority: bool,
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
            Self::Add { name, address, authority_file, key_file } => {
                let authority = read_authority(authority_file)?;
                let key = account::secret("Key", "--key-file", key_file.as_deref())?;
                let body = json!({"name": name, "address": address, "authority": authority, "key": key});
                let answer = client.call("POST", "/destinations", Some(body))?;
                let next = format!("Destination `{name}` added. Send to it: waverant channel send CHANNEL {name} on");
                Ok(report.done(&answer, &next)?)
            }
            Self::Change { destination, address, authority_file, no_authority, key_file } => {
                let authority = if no_authority { Some(String::new()) } else { read_authority(authority_file)? };
                let key = key_file.map(|file| account::secret("Key", "--key-file", Some(&file))).transpose()?;
                let body = json!({"address": address, "authority": authority, "key": key});
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

fn read_authority(file: Option<PathBuf>) -> Result<Option<String>, Failure> {
    let Some(file) = file else { return Ok(None) };
    std::fs::read_to_string(&file).map(Some).map_err(|source| Failure::File { path: file, source })
}

fn columns() -> Vec<Column> {
    vec![
        Column::text("name", |row| text(row, "name")),
        Column::text("address", |row| text(row, "address")),
        Column::text("authority", |row| match row["authority"].is_string() {
            true => "its own".to_owned(),
            false => "of the machine".to_owned(),
        }),
        Column::text("made", |row| ago(&text(row, "created_at"))),
    ]
}
