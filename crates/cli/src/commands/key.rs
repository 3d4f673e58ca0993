use clap::{Subcommand, ValueEnum};
use serde_json::json;

use super::{rows, text};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, ago};

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
        #[arg(long)]
        expires_at: Option<String>,
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
                let answer = client.get(&format!("/channels/{}/keys", piece(&channel)))?;
                let empty = format!("No keys yet. Make one: waverant key add {channel} LABEL");
                Ok(report.rows(&answer, rows(&answer), &columns(), &empty)?)
            }
            Self::Add { channel, label, right, rank, expires_at, allow_from } => {
                let (right, device) = match right {
                    Right::Publish => ("publish", "encoder"),
                    Right::View => ("view", "player"),
                };
                let mut body = json!({"label": label, "right": right, "rank": rank, "expires_at": expires_at});
                body["allowed_from"] = json!(allow_from);
                let answer = client.call("POST", &format!("/channels/{}/keys", piece(&channel)), Some(body))?;
                if report.json {
                    return Ok(report.value(&answer)?);
                }
                let fields = &answer["encoder"];
                writeln!(report.out, "Paste these into the {device}'s two fields. The key is not shown again.\n")?;
                writeln!(report.out, "  server  {}", text(fields, "server"))?;
                if fields["secure_server"].is_string() {
                    writeln!(report.out, "     TLS  {}", text(fields, "secure_server"))?;
                }
                writeln!(report.out, "  key     {}", text(fields, "key"))?;
                writeln!(report.out, "\nWhere there is one field only:\n")?;
                writeln!(report.out, "  {}", text(fields, "whole"))?;
                writeln!(report.out, "\nWhere user name and password are asked for:\n")?;
                writeln!(report.out, "  server  {}", text(fields, "guarded_server"))?;
                writeln!(report.out, "  user    {}", text(fields, "user"))?;
                writeln!(report.out, "  password is the key; the stream may have any name")?;
                let srt = &fields["srt"];
                writeln!(report.out, "\nOver SRT, as caller:\n")?;
                writeln!(report.out, "  address    {}", text(srt, "address"))?;
                writeln!(report.out, "  stream id  {}", text(srt, "stream_id"))?;
                writeln!(report.out, "  latency    {} ms or more", text(srt, "latency_ms"))?;
                if srt["has_passphrase"] == true {
                    writeln!(report.out, "  passphrase that of the channel")?;
                }
                Ok(writeln!(report.out, "  one field  {}", text(srt, "whole"))?)
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
        Column::number("rank", |row| text(row, "rank")),
        Column::text("label", |row| text(row, "label")),
        Column::text("opens for", |row| match row["right"].as_str() {
            Some("view") => "watching".to_owned(),
            _ => "publishing".to_owned(),
        }),
        Column::text("from", |row| match rows(&row["allowed_from"]) {
            [] => "anywhere".to_owned(),
            ranges => ranges.iter().filter_map(|range| range.as_str()).collect::<Vec<_>>().join(", "),
        }),
        Column::text("begins with", |row| text(row, "prefix")),
        Column::text("made", |row| ago(&text(row, "created_at"))),
        Column::text("expires", |row| match row["expires_at"].as_str() {
            Some(end) => ago(end),
            None => "never".to_owned(),
        }),
    ]
}
