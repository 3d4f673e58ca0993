use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use serde_json::{Value, json};

use super::limits::{self, Limits};
use super::srt::{self, SrtTerms};
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
        /// Where it is, as in rtmp://live.example.org/in, rtmps:// for TLS, or srt://live.example.org:9000
        address: String,
        /// The certificate (PEM) of the platform's own authority, if it has one.
        #[arg(long)]
        authority_file: Option<PathBuf>,
        /// Read the key from this file instead of asking; `-` is standard input. Over SRT it is the
        /// stream id, and may be empty.
        #[arg(long)]
        key_file: Option<PathBuf>,
        #[command(flatten)]
        sending: SendingOptions,
    },
    /// Change a destination; legs redial only if address, key or authority change.
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
        #[command(flatten)]
        sending: SendingOptions,
    },
    /// Try a destination step by step, without going live.
    Try {
        /// The destination.
        destination: String,
        /// Also show it the key and ask it to take a stream. It may tell the world that a show begins.
        #[arg(long)]
        publish: bool,
    },
    /// Remove a destination, from all channels too.
    Remove {
        /// The destination.
        destination: String,
    },
}

/// How and what is sent.
#[derive(Args, Debug)]
pub(super) struct SendingOptions {
    /// How long packets are collected before they are sent, in milliseconds; 0 for a preview.
    #[arg(long, value_name = "MILLISECONDS")]
    batch: Option<u16>,
    /// The track of sound that it gets: number:2, language:de, name:commentary; empty for all that it takes.
    #[arg(long, value_name = "TRACK")]
    audio: Option<String>,
    /// What it gets when there is no such track.
    #[arg(long, value_name = "WHAT")]
    audio_otherwise: Option<AudioOtherwise>,
    #[command(flatten)]
    srt: SrtTerms,
    #[command(flatten)]
    limits: Limits,
}

/// What a destination gets when the wanted track of sound is not there.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum AudioOtherwise {
    /// The first track.
    First,
    /// No sound.
    None,
}

impl SendingOptions {
    /// Adds what was given to a call that changes a destination with this limits sheet.
    fn add_to(&self, body: &mut Value, present: &Value) -> Result<(), Failure> {
        let otherwise = self.audio_otherwise.map(|otherwise| match otherwise {
            AudioOtherwise::First => "first",
            AudioOtherwise::None => "none",
        });
        let given = [
            ("batch_ms", self.batch.map(Value::from)),
            ("audio", self.audio.clone().map(Value::from)),
            ("audio_otherwise", otherwise.map(Value::from)),
            ("limits", self.limits.applied_to(present)?),
            ("srt", Some(self.srt.body()?)),
        ];
        for (field, value) in given {
            if let Some(value) = value {
                body[field] = value;
            }
        }
        Ok(())
    }
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
            Self::Add { name, address, authority_file, key_file, sending } => {
                let authority = read_authority(authority_file)?;
                let what = if is_srt(&address) { "Stream id (may be empty)" } else { "Key" };
                let key = account::secret(what, "--key-file", key_file.as_deref())?;
                let mut body = json!({"name": name, "address": address, "authority": authority, "key": key});
                sending.add_to(&mut body, &Value::Null)?;
                let answer = client.call("POST", "/destinations", Some(body))?;
                let next = format!("Destination `{name}` added. Send to it: waverant channel send CHANNEL {name} on");
                Ok(report.done(&answer, &next)?)
            }
            Self::Change { destination, address, authority_file, no_authority, key_file, sending } => {
                let authority = if no_authority { Some(String::new()) } else { read_authority(authority_file)? };
                let key = key_file.map(|file| account::secret("Key", "--key-file", Some(&file))).transpose()?;
                let mut body = json!({"address": address, "authority": authority, "key": key});
                let all = client.get("/destinations")?;
                let present = rows(&all).iter().find(|row| row["name"] == destination.as_str());
                sending.add_to(&mut body, present.map_or(&Value::Null, |row| &row["limits"]))?;
                let answer = client.call("PATCH", &format!("/destinations/{}", piece(&destination)), Some(body))?;
                Ok(report.done(&answer, &format!("Destination `{destination}` changed."))?)
            }
            Self::Try { destination, publish } => {
                let body = json!({ "publishes": publish });
                let answer = client.call("POST", &format!("/destinations/{}/try", piece(&destination)), Some(body))?;
                report.rows(&answer, rows(&answer["steps"]), &step_columns(), "")?;
                if !report.json {
                    for breach in rows(&answer["breaches"]) {
                        writeln!(report.out, "limits sheet: {}", breach.as_str().unwrap_or_default())?;
                    }
                }
                if answer["is_good"] == true { Ok(()) } else { Err(Failure::Tried(destination)) }
            }
            Self::Remove { destination } => {
                let answer = client.call("DELETE", &format!("/destinations/{}", piece(&destination)), None)?;
                Ok(report.done(&answer, &format!("Destination `{destination}` removed."))?)
            }
        }
    }
}

fn is_srt(address: &str) -> bool {
    address.trim().to_ascii_lowercase().starts_with("srt://")
}

fn read_authority(file: Option<PathBuf>) -> Result<Option<String>, Failure> {
    let Some(file) = file else { return Ok(None) };
    std::fs::read_to_string(&file).map(Some).map_err(|source| Failure::File { path: file, source })
}

fn columns() -> Vec<Column> {
    vec![
        Column::text("name", |row| text(row, "name")),
        Column::text("address", |row| text(row, "address")),
        Column::text("trusts", |row| match (row["srt"].is_object(), row["authority"].is_string()) {
            (true, _) => "-".to_owned(),
            (_, true) => "its own authority".to_owned(),
            (_, false) => "the machine's".to_owned(),
        }),
        Column::text("SRT", |row| match row["srt"].is_object() {
            true => srt::told(&row["srt"]),
            false => "-".to_owned(),
        }),
        Column::number("batch", |row| format!("{} ms", text(row, "batch_ms"))),
        Column::text("sound", |row| text(row, "audio")),
        Column::text("limits", |row| limits::told(&row["limits"])),
        Column::text("made", |row| ago(&text(row, "created_at"))),
    ]
}

fn step_columns() -> Vec<Column> {
    vec![
        Column::text("step", |row| text(row, "step")),
        Column::text("", |row| if row["is_good"] == true { "well" } else { "FAILED" }.to_owned()),
        Column::number("took", |row| format!("{} ms", text(row, "took_ms"))),
        Column::text("outcome", |row| text(row, "outcome")),
    ]
}
