use std::io;

use clap::{Subcommand, ValueEnum};
use time::OffsetDateTime;
use waverant_model::{AddKey, EncoderFields, KeyRight, NewKey, StreamKey};

use super::time_of;
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, moment};

/// What a key opens a channel for.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(super) enum Right {
    /// Publishing on the channel.
    Publish,
    /// Watching it over RTMP.
    View,
}

#[derive(Subcommand, Debug)]
pub(super) enum Key {
    /// List a channel's keys, without the keys themselves.
    List {
        /// The channel.
        channel: String,
    },
    /// Make a key for publishing, or for watching; it is shown this once.
    Add {
        /// The channel.
        channel: String,
        /// For whom: a person or a device.
        label: String,
        /// What it opens the channel for.
        #[arg(long, value_enum, default_value_t = Right::Publish)]
        right: Right,
        /// 0 is the highest; an encoder with a key of lower rank, up to 9, waits as a backup.
        #[arg(long, default_value_t = 0)]
        rank: u8,
        /// When it stops being valid, as in 2026-05-17T18:00:00Z.
        #[arg(long, value_parser = time_of)]
        expires_at: Option<OffsetDateTime>,
        /// An address or network that it may be used from, as in 192.0.2.0/24; may be given up to eight times.
        #[arg(long, value_name = "ADDRESS")]
        allow_from: Vec<String>,
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
                let keys: Vec<StreamKey> = client.get(&format!("/channels/{}/keys", piece(&channel)))?;
                let empty = format!("No keys yet. Make one: waverant key add {channel} LABEL");
                Ok(report.rows(&keys, &keys, &columns(), &empty)?)
            }
            Self::Add { channel, label, right, rank, expires_at, allow_from } => {
                let (right, device) = match right {
                    Right::Publish => (KeyRight::Publish, "encoder"),
                    Right::View => (KeyRight::View, "player"),
                };
                let form = AddKey { label, right, rank, expires_at, allowed_from: allow_from };
                let made: NewKey = client.call("POST", &format!("/channels/{}/keys", piece(&channel)), &form)?;
                if report.json {
                    return Ok(report.value(&made)?);
                }
                Ok(show_fields(&made.encoder, device, report)?)
            }
            Self::Remove { channel, key } => {
                client.order::<()>("DELETE", &format!("/channels/{}/keys/{key}", piece(&channel)))?;
                Ok(report.done(&(), &format!("Key {key} of `{channel}` removed."))?)
            }
        }
    }
}

fn show_fields(fields: &EncoderFields, device: &str, report: &mut Report<'_>) -> io::Result<()> {
    let EncoderFields { server, secure_server, key, guarded_server, user, whole, srt } = fields;
    writeln!(report.out, "Paste these into the {device}'s two fields. The key is not shown again.\n")?;
    writeln!(report.out, "  server  {server}")?;
    if let Some(server) = secure_server {
        writeln!(report.out, "     TLS  {server}")?;
    }
    writeln!(report.out, "  key     {key}")?;
    writeln!(report.out, "\nWhere there is one field only:\n")?;
    writeln!(report.out, "  {whole}")?;
    writeln!(report.out, "\nWhere user name and password are asked for:\n")?;
    writeln!(report.out, "  server  {guarded_server}")?;
    writeln!(report.out, "  user    {user}")?;
    writeln!(report.out, "  password is the key; the stream may have any name")?;
    writeln!(report.out, "\nOver SRT, as caller:\n")?;
    writeln!(report.out, "  address    {}", srt.address)?;
    writeln!(report.out, "  stream id  {}", srt.stream_id)?;
    writeln!(report.out, "  latency    {} ms or more", srt.latency_ms)?;
    if srt.has_passphrase {
        writeln!(report.out, "  passphrase that of the channel")?;
    }
    writeln!(report.out, "  one field  {}", srt.whole)
}

fn columns() -> [Column<StreamKey>; 8] {
    [
        Column::number("key", |row| row.id.to_string()),
        Column::number("rank", |row| row.rank.to_string()),
        Column::text("label", |row| row.label.clone()),
        Column::text("opens for", |row| match row.right {
            KeyRight::View => "watching".to_owned(),
            KeyRight::Publish => "publishing".to_owned(),
        }),
        Column::text("from", |row| match row.allowed_from.as_slice() {
            [] => "anywhere".to_owned(),
            ranges => ranges.join(", "),
        }),
        Column::text("begins with", |row| row.prefix.clone()),
        Column::text("made", |row| moment(row.created_at)),
        Column::text("expires", |row| row.expires_at.map_or_else(|| "never".to_owned(), moment)),
    ]
}
