use std::io::IsTerminal;
use std::path::{Path, PathBuf};

use clap::Args;
use serde::Serialize;
use waverant_model::{Administrator, Hidden, Me};

use crate::account::{Account, tidy};
use crate::client::Client;
use crate::error::Failure;
use crate::output::Report;

#[derive(Args, Debug)]
pub(super) struct SignIn {
    /// Address of the service, as in http://127.0.0.1:7800
    url: String,
    /// User name; asked for if left out.
    #[arg(long)]
    name: Option<String>,
    /// Read the password from this file instead of asking; `-` is standard input.
    #[arg(long)]
    password_file: Option<PathBuf>,
    /// Days after which the token ends; it does not end by itself if left out.
    #[arg(long, value_name = "DAYS")]
    token_days: Option<u32>,
}

#[derive(Args, Debug)]
pub(super) struct FirstRun {
    /// Address of the service, as in http://127.0.0.1:7800
    url: String,
    /// The one-time code that the service printed; asked for if left out.
    #[arg(long)]
    code: Option<String>,
    /// User name; asked for if left out.
    #[arg(long)]
    name: Option<String>,
    /// Read the password from this file instead of asking; `-` is standard input.
    #[arg(long)]
    password_file: Option<PathBuf>,
}

impl SignIn {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let url = tidy(&self.url);
        let name = self.name.map_or_else(|| ask("User name"), Ok)?;
        let password = password(self.password_file.as_deref())?;
        let (password, token_label) = (Hidden::from(password), Some(label()));
        let form = waverant_model::SignIn { name, password, token_label, token_days: self.token_days };
        keep(url.clone(), Client::anonymous(url).call("POST", "/sign-in", &form)?, report)
    }
}

impl FirstRun {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let url = tidy(&self.url);
        let code = self.code.map_or_else(|| ask("One-time code"), Ok)?;
        let name = self.name.map_or_else(|| ask("User name"), Ok)?;
        let password = password(self.password_file.as_deref())?;
        let (code, password) = (Hidden::from(code), Hidden::from(password));
        let form = Administrator { code, name, password, token_label: Some(label()) };
        keep(url.clone(), Client::anonymous(url).call("POST", "/first-run", &form)?, report)
    }
}

/// The token goes into the account file and is not printed.
fn keep(url: String, Me { name, token }: Me, report: &mut Report<'_>) -> Result<(), Failure> {
    let account_file = Account { url: url.clone(), token: token.unwrap_or_default() }.save()?;
    let told = format!("Signed in to {url} as {name}.");
    Ok(report.done(&SignedIn { account_file, name, url }, &told)?)
}

/// What a sign-in tells to programs.
#[derive(Serialize)]
struct SignedIn {
    account_file: PathBuf,
    name: String,
    url: String,
}

pub(super) fn sign_out(report: &mut Report<'_>) -> Result<(), Failure> {
    Client::signed_in()?.order::<()>("POST", "/sign-out")?;
    Account::forget();
    Ok(report.done(&(), "Signed out.")?)
}

/// Tells later which machine a token belongs to.
fn label() -> String {
    let host = std::fs::read_to_string("/etc/hostname").unwrap_or_default();
    format!("waverant on {}", if host.trim().is_empty() { "this machine" } else { host.trim() })
}

fn ask(what: &str) -> Result<String, Failure> {
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

fn password(file: Option<&Path>) -> Result<String, Failure> {
    secret("Password", "--password-file", file)
}
