//! The house as one file.

mod secrets;
mod told;

use std::io::{Read, Write, stdout};
use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use waverant_model::{ApplySetup, ReviewSetup, SetupApplied, SetupFile, SetupReview, SetupSecret};

use super::ask::Proof;
use crate::account::write_private;
use crate::client::Client;
use crate::error::Failure;
use crate::output::Report;

#[derive(Subcommand, Debug)]
pub(super) enum Setup {
    /// Write the house as a file: channels, keys by their labels, destinations, rules, depots, links, targets, people.
    Export {
        /// The file to write; what is printed otherwise.
        #[arg(long, short)]
        output: Option<PathBuf>,
        /// Write the secrets of destinations and the like into this folder, a file each. For administrators, with their
        /// password, and it is written down who asked. Stream keys are known to nobody and are not among them.
        #[arg(long, value_name = "FOLDER")]
        secrets: Option<PathBuf>,
        #[command(flatten)]
        proof: Proof,
    },
    /// Show what a file would change, and change nothing.
    Review {
        #[command(flatten)]
        source: Source,
    },
    /// Make the house as a file says, in one go and in mid-show too: only what it changes is touched.
    Apply {
        #[command(flatten)]
        source: Source,
        /// The mark of a review: do nothing if anything else is to change than it showed.
        #[arg(long, value_name = "MARK")]
        reviewed: Option<String>,
    },
}

/// A file, and what belongs to it.
#[derive(Args, Debug)]
pub(super) struct Source {
    /// The file; `-` is standard input.
    file: PathBuf,
    /// The folder with what `{ file = "…" }` refers to; `{ env = "…" }` refers to this command's environment.
    #[arg(long, value_name = "FOLDER")]
    secrets: Option<PathBuf>,
    /// Remove what the house has of a kind that the file lists, and the file does not list.
    #[arg(long)]
    remove_unlisted: bool,
}

impl Source {
    fn text(&self) -> Result<String, Failure> {
        let read = if self.file == Path::new("-") {
            let mut text = String::new();
            std::io::stdin().read_to_string(&mut text).map(|_| text)
        } else {
            std::fs::read_to_string(&self.file)
        };
        read.map_err(|source| Failure::File { path: self.file.clone(), source })
    }

    fn form(&self) -> Result<ReviewSetup, Failure> {
        let text = self.text()?;
        let secrets = secrets::found(&text, self.secrets.as_deref())?;
        Ok(ReviewSetup { text, secrets, removes_unlisted: self.remove_unlisted })
    }

    /// What the file would change; a failure if it has faults.
    fn review(&self, client: &Client, form: &ReviewSetup, report: &mut Report<'_>) -> Result<SetupReview, Failure> {
        let review: SetupReview = client.call("POST", "/setup/review", form)?;
        if review.faults.is_empty() {
            return Ok(review);
        }
        if report.json {
            report.value(&review)?;
        } else {
            told::faults(&review, &self.file, report)?;
        }
        Err(Failure::Job(format!("{} faults; nothing is changed", review.faults.len())))
    }
}

impl Setup {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::Export { output, secrets, proof } => export(&client, output, secrets, &proof, report),
            Self::Review { source } => {
                let form = source.form()?;
                let review = source.review(&client, &form, report)?;
                if report.json { Ok(report.value(&review)?) } else { Ok(told::review(&review, report)?) }
            }
            Self::Apply { source, reviewed } => {
                let form = source.form()?;
                source.review(&client, &form, report)?;
                let ReviewSetup { text, secrets, removes_unlisted } = form;
                let form = ApplySetup { text, secrets, removes_unlisted, reviewed };
                let applied: SetupApplied = client.call("POST", "/setup/apply", &form)?;
                if report.json { Ok(report.value(&applied)?) } else { Ok(told::applied(&applied, report)?) }
            }
        }
    }
}

fn export(
    client: &Client,
    output: Option<PathBuf>,
    folder: Option<PathBuf>,
    proof: &Proof,
    report: &mut Report<'_>,
) -> Result<(), Failure> {
    let file: SetupFile = client.get("/setup")?;
    let mut said = Vec::new();
    if let Some(folder) = &folder {
        let told: Vec<SetupSecret> = client.call("POST", "/setup/secrets", &proof.asked(client)?)?;
        let count = secrets::keep(&told, &file.text, folder)?;
        said.push(format!("{count} secrets are in {}, which its owner alone may read.", folder.display()));
    }
    let Some(path) = output else {
        // What goes on elsewhere is told beside the file.
        said.iter().for_each(|line| eprintln!("{line}"));
        // TOML has no character that a terminal would obey, and tabs are to stay.
        let told = if report.json { report.value(&file) } else { stdout().write_all(file.text.as_bytes()) };
        return Ok(told?);
    };
    write_private(&path, &file.text).map_err(|source| Failure::File { path: path.clone(), source })?;
    said.insert(0, format!("The set-up is in {}.", path.display()));
    Ok(report.done(&file, &said.join("\n"))?)
}
