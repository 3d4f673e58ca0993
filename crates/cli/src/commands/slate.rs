use std::path::PathBuf;

use clap::Subcommand;
use serde_json::Value;

use super::{number, text};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, duration};

#[derive(Subcommand, Debug)]
pub(super) enum Slate {
    /// Upload a clip (MP4) that stands in for a lost encoder, and use it.
    Upload {
        /// The channel.
        channel: String,
        /// The file.
        file: PathBuf,
    },
    /// Show the uploaded clip.
    Show {
        /// The channel.
        channel: String,
    },
    /// Remove the uploaded clip; the built-in picture is used again.
    Remove {
        /// The channel.
        channel: String,
    },
}

impl Slate {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        let path = |channel: &str| format!("/channels/{}/slate", piece(channel));
        match self {
            Self::Upload { channel, file } => {
                let bytes = std::fs::read(&file).map_err(|source| Failure::File { path: file, source })?;
                let answer = client.upload(&path(&channel), "video/mp4", &bytes)?;
                let length = duration(number(&answer, "length_ms"));
                let told =
                    format!("`{channel}` has its slate: {}, {}, {length}.", text(&answer, "stream"), size(&answer));
                Ok(report.done(&answer, &told)?)
            }
            Self::Show { channel } => {
                let answer = client.get(&path(&channel))?;
                let columns = [
                    Column::text("stream", |row| text(row, "stream")),
                    Column::text("size", size),
                    Column::number("length", |row| duration(number(row, "length_ms"))),
                ];
                Ok(report.rows(&answer, std::slice::from_ref(&answer), &columns, "")?)
            }
            Self::Remove { channel } => {
                let answer = client.call("DELETE", &path(&channel), None)?;
                Ok(report.done(&answer, &format!("The slate of `{channel}` is removed."))?)
            }
        }
    }
}

fn size(row: &Value) -> String {
    format!("{}x{}", text(row, "width"), text(row, "height"))
}
