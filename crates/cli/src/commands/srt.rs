use std::path::PathBuf;

use clap::Args;
use waverant_model::{ChangeSrt, Hidden, Srt};

use super::ask::secret;
use crate::error::Failure;

/// What both ends of an SRT connection are to keep.
#[derive(Args, Debug)]
#[command(next_help_heading = "SRT")]
pub(super) struct SrtTerms {
    /// How long what is lost is waited for, in milliseconds; about four round trips.
    #[arg(long, value_name = "MILLISECONDS")]
    srt_latency: Option<u16>,
    /// A file with the passphrase that both ends must have; `-` reads standard input.
    #[arg(long, value_name = "FILE", conflicts_with = "no_passphrase")]
    passphrase_file: Option<PathBuf>,
    /// No passphrase any more.
    #[arg(long)]
    no_passphrase: bool,
}

impl SrtTerms {
    pub(super) fn change(&self) -> Result<ChangeSrt, Failure> {
        let passphrase = match &self.passphrase_file {
            Some(file) => Some(secret("Passphrase", "--passphrase-file", Some(file))?),
            None => self.no_passphrase.then(String::new),
        };
        Ok(ChangeSrt { latency_ms: self.srt_latency, passphrase: passphrase.map(Hidden::from) })
    }
}

/// Latency of the terms in an answer, and whether there is a passphrase.
pub(super) fn told(terms: &Srt) -> String {
    let secret = if terms.has_passphrase { ", passphrase" } else { "" };
    format!("{} ms{secret}", terms.latency_ms)
}
