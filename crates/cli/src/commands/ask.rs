//! What is asked of whoever runs a command: on a terminal, or from files.

use std::io::IsTerminal;
use std::path::{Path, PathBuf};

use clap::Args;
use waverant_model::{Hidden, PresentPassword, SecondFactor};

use crate::client::Client;
use crate::error::Failure;

pub(super) fn ask(what: &str) -> Result<String, Failure> {
    if !std::io::stdin().is_terminal() {
        return Err(Failure::Usage(format!("{what} is missing, and there is no terminal to ask for it")));
    }
    eprint!("{what}: ");
    let mut line = String::new();
    std::io::stdin().read_line(&mut line)?;
    Ok(line.trim().to_owned())
}

/// A secret from a file, from standard input, or typed without being shown.
pub(super) fn secret(what: &str, option: &str, file: Option<&Path>) -> Result<String, Failure> {
    let text = match file {
        Some(path) if path == Path::new("-") => std::io::read_to_string(std::io::stdin())?,
        Some(path) => {
            std::fs::read_to_string(path).map_err(|source| Failure::File { path: path.to_owned(), source })?
        }
        None if std::io::stdin().is_terminal() => rpassword::prompt_password(format!("{what}: "))?,
        None => {
            let advice = format!("{what} is missing, and there is no terminal to ask for it; use {option}");
            return Err(Failure::Usage(advice));
        }
    };
    Ok(text.trim_end_matches(['\r', '\n']).to_owned())
}

/// A code of the second factor, from a file or typed.
pub(super) fn code(file: Option<&Path>) -> Result<Hidden, Failure> {
    secret("Code of the second factor, or a recovery code", "--second-factor-file", file).map(Hidden::from)
}

/// What proves that it is you.
#[derive(Args, Debug)]
pub(super) struct Proof {
    /// Read your password from this file instead of asking; `-` is standard input.
    #[arg(long)]
    password_file: Option<PathBuf>,
    /// Read a code of your second factor from this file instead of asking; `-` is standard input.
    #[arg(long)]
    second_factor_file: Option<PathBuf>,
}

impl Proof {
    /// Your password, and a code if you have a second factor.
    pub(super) fn asked(&self, client: &Client) -> Result<PresentPassword, Failure> {
        let found: SecondFactor = client.get("/me/second-factor")?;
        let password = secret("Password", "--password-file", self.password_file.as_deref())?.into();
        let code = || code(self.second_factor_file.as_deref());
        let has_one = found.since.is_some() || !found.passkeys.is_empty();
        Ok(PresentPassword { password, second_factor: has_one.then(code).transpose()?, passkey: None })
    }
}
