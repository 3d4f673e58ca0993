use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use waverant_model::{
    AddDestination, ChangeDestination, Destination as Kept, DestinationTry, Hidden, RevealedDestination, SheetForm,
    TryDestination, TryStep,
};

use super::ask::{Proof, secret};
use super::limits::{self, Limits};
use super::srt::{self, SrtTerms};
use super::{dash, word};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, moment};

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
    /// Print the key of a destination; for administrators, and it is written down who asked.
    Reveal {
        /// The destination.
        destination: String,
        #[command(flatten)]
        proof: Proof,
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
    /// The only track of pictures that it gets, counted from 1; 0 for all that it takes.
    #[arg(long, value_name = "NUMBER")]
    video_track: Option<u8>,
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
    /// How and what a new destination is sent; the rest is still to be said.
    fn form(self) -> Result<AddDestination, Failure> {
        Ok(AddDestination {
            name: String::new(),
            address: String::new(),
            authority: None,
            key: Hidden::default(),
            batch_ms: self.batch,
            limits: self.limits.applied_to(&SheetForm::default())?.unwrap_or_default(),
            audio: self.audio,
            audio_otherwise: self.audio_otherwise.map(AudioOtherwise::choice).unwrap_or_default(),
            video_track: self.video_track,
            srt: self.srt.change()?,
        })
    }
}

impl AudioOtherwise {
    fn choice(self) -> waverant_model::AudioOtherwise {
        match self {
            Self::First => waverant_model::AudioOtherwise::First,
            Self::None => waverant_model::AudioOtherwise::None,
        }
    }
}

impl Destination {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List => {
                let destinations: Vec<Kept> = client.get("/destinations")?;
                let empty = "No destinations yet. Add one: waverant destination add NAME ADDRESS";
                Ok(report.rows(&destinations, &destinations, &columns(), empty)?)
            }
            Self::Add { name, address, authority_file, key_file, sending } => {
                let authority = read_authority(authority_file)?;
                let what = if is_srt(&address) { "Stream id (may be empty)" } else { "Key" };
                let key = Hidden::from(secret(what, "--key-file", key_file.as_deref())?);
                let form = AddDestination { name, address, authority, key, ..sending.form()? };
                let made: Kept = client.call("POST", "/destinations", &form)?;
                let next =
                    format!("Destination `{0}` added. Send to it: waverant channel send CHANNEL {0} on", made.name);
                Ok(report.done(&made, &next)?)
            }
            Self::Change { destination, address, authority_file, no_authority, key_file, sending } => {
                let authority = if no_authority { Some(String::new()) } else { read_authority(authority_file)? };
                let key = key_file.map(|file| secret("Key", "--key-file", Some(&file))).transpose()?;
                let all: Vec<Kept> = client.get("/destinations")?;
                let present = all.into_iter().find(|row| row.name == destination).map(|row| row.limits);
                let form = ChangeDestination {
                    address,
                    authority,
                    key: key.map(Hidden::from),
                    batch_ms: sending.batch,
                    limits: sending.limits.applied_to(&present.unwrap_or_default())?,
                    audio: sending.audio,
                    audio_otherwise: sending.audio_otherwise.map(AudioOtherwise::choice),
                    video_track: sending.video_track,
                    srt: sending.srt.change()?,
                };
                let changed: Kept = client.call("PATCH", &format!("/destinations/{}", piece(&destination)), &form)?;
                Ok(report.done(&changed, &format!("Destination `{destination}` changed."))?)
            }
            Self::Try { destination, publish } => {
                let path = format!("/destinations/{}/try", piece(&destination));
                let tried: DestinationTry = client.call("POST", &path, &TryDestination { publishes: publish })?;
                report.rows(&tried, &tried.steps, &step_columns(), "")?;
                if !report.json {
                    for breach in &tried.breaches {
                        writeln!(report.out, "limits sheet: {breach}")?;
                    }
                }
                if tried.is_good { Ok(()) } else { Err(Failure::Tried(destination)) }
            }
            Self::Reveal { destination, proof } => {
                let path = format!("/destinations/{}/reveal", piece(&destination));
                let told: RevealedDestination = client.call("POST", &path, &proof.asked(&client)?)?;
                Ok(report.done(&told, &told.key)?)
            }
            Self::Remove { destination } => {
                client.order::<()>("DELETE", &format!("/destinations/{}", piece(&destination)))?;
                Ok(report.done(&(), &format!("Destination `{destination}` removed."))?)
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

fn columns() -> [Column<Kept>; 8] {
    [
        Column::text("name", |row| row.name.clone()),
        Column::text("address", |row| row.address.clone()),
        Column::text("trusts", |row| match (&row.srt, &row.authority) {
            (Some(_), _) => "-".to_owned(),
            (None, Some(_)) => "its own authority".to_owned(),
            (None, None) => "the machine's".to_owned(),
        }),
        Column::text("SRT", |row| row.srt.as_ref().map_or_else(|| "-".to_owned(), srt::told)),
        Column::number("batch", |row| format!("{} ms", row.batch_ms)),
        Column::text("sound", |row| dash(row.audio.as_deref())),
        Column::text("limits", |row| limits::told(&row.limits)),
        Column::text("made", |row| moment(row.created_at)),
    ]
}

fn step_columns() -> [Column<TryStep>; 4] {
    [
        Column::text("step", |row| word(row.step)),
        Column::text("", |row| if row.is_good { "well" } else { "FAILED" }.to_owned()),
        Column::number("took", |row| format!("{} ms", row.took_ms)),
        Column::text("outcome", |row| row.outcome.clone()),
    ]
}
