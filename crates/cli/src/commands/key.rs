use clap::Subcommand;
use serde_json::json;

use super::{rows, text};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, ago};

#[derive(Subcommand, Debug)]
pub(super) enum Key {
    /// List a channel's stream keys, without the keys themselves.
    List {
        /// The channel.
        channel: String,
    },
    /// Make a stream key; it is shown this once.
    Add {
        /// The channel.
        channel: String,
        /// For whom: a person or a device.
        label: String,
        /// When it stops being valid, as in 2026-05-17T18:00:00Z.
        #[arg(long)]
        expires_at: Option<String>,
    },
    /// Remove a stream key; a publisher who uses it is ended.
    Remove {
        /// The channel.
        channel: String,
        /// The key's number.
        key: u64,
    },
}

impl Key {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List { channel } => {
                let answer = client.get(&format!("/channels/{}/keys", piece(&channel)))?;
                let empty = format!("No keys yet. Make one: waverant key add {channel} LABEL");
                Ok(report.rows(&answer, rows(&answer), &columns(), &empty)?)
            }
            Self::Add { channel, label, expires_at } => {
                let body = json!({"label": label, "expires_at": expires_at});
                let answer = client.call("POST", &format!("/channels/{}/keys", piece(&channel)), Some(body))?;
                if report.json {
                    return Ok(report.value(&answer)?);
                }
                let fields = &answer["encoder"];
                writeln!(report.out, "Paste these into the encoder's two fields. The key is not shown again.\n")?;
                writeln!(report.out, "  server  {}", text(fields, "server"))?;
                Ok(writeln!(report.out, "  key     {}", text(fields, "key"))?)
            }
            Self::Remove { channel, key } => {
                let answer = client.call("DELETE", &format!("/channels/{}/keys/{key}", piece(&channel)), None)?;
                Ok(report.done(&answer, &format!("Key {key} of `{channel}` removed."))?)
            }
        }
    }
}

fn columns() -> Vec<Column> {
    vec![
        Column::number("key", |row| text(row, "id")),
        Column::text("label", |row| text(row, "label")),
        Column::text("begins with", |row| text(row, "prefix")),
        Column::text("made", |row| ago(&text(row, "created_at"))),
        Column::text("expires", |row| match row["expires_at"].as_str() {
            Some(end) => ago(end),
            None => "never".to_owned(),
        }),
    ]
}
