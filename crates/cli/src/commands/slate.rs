use std::path::PathBuf;

use clap::Subcommand;
use waverant_model::UploadedSlate;

use super::number;
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
                let answer: UploadedSlate = client.upload(&path(&channel), "video/mp4", &bytes)?;
                let length = duration(answer.length_ms);
                let told = format!("`{channel}` has its slate: {}, {}, {length}.", answer.stream, size(&answer));
                Ok(report.done(&answer, &told)?)
            }
            Self::Show { channel } => {
                let answer: UploadedSlate = client.get(&path(&channel))?;
                let columns = [
                    Column::text("stream", |row: &UploadedSlate| row.stream.clone()),
                    Column::text("size", size),
                    Column::number("length", |row| duration(row.length_ms)),
                ];
                Ok(report.rows(&answer, std::slice::from_ref(&answer), &columns, "")?)
            }
            Self::Remove { channel } => {
                client.order::<()>("DELETE", &path(&channel))?;
                Ok(report.done(&(), &format!("The slate of `{channel}` is removed."))?)
            }
        }
    }
}

fn size(slate: &UploadedSlate) -> String {
    format!("{}x{}", number(slate.width), number(slate.height))
}
