use std::path::PathBuf;

use clap::Args;
use serde_json::{Value, json};

use super::{account, text};
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
    pub(super) fn body(&self) -> Result<Value, Failure> {
        let mut body = json!({});
        if let Some(latency) = self.srt_latency {
            body["latency_ms"] = json!(latency);
        }
        if let Some(file) = &self.passphrase_file {
            body["passphrase"] = json!(account::secret("Passphrase", "--passphrase-file", Some(file))?);
        }
        if self.no_passphrase {
            body["passphrase"] = json!("");
        }
        Ok(body)
    }
}

/// Latency of the terms in an answer, and whether there is a passphrase.
pub(super) fn told(terms: &Value) -> String {
    let secret = if terms["has_passphrase"] == true { ", passphrase" } else { "" };
    format!("{} ms{secret}", text(terms, "latency_ms"))
}
