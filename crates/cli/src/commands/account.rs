use std::path::{Path, PathBuf};

use clap::Args;
use serde::Serialize;
use waverant_model::{Administrator, ChannelRole, Hidden, Me};

use super::ask::{ask, code, secret};
use super::person::Role;
use super::word;
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
    /// Read a code of the second factor from this file instead of asking for it; `-` is standard input, behind the password
    /// if that is there too.
    #[arg(long)]
    second_factor_file: Option<PathBuf>,
    /// Days after which the token ends; it does not end by itself if left out.
    #[arg(long, value_name = "DAYS")]
    token_days: Option<u32>,
    /// The most that commands of this sign-in may do, within what you may.
    #[arg(long, default_value = "engineer")]
    role: Role,
    /// Let them do it on this channel only; can be given several times.
    #[arg(long = "channel", value_name = "NAME")]
    channels: Vec<String>,
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

#[derive(Args, Debug)]
pub(super) struct ChangePassword {
    /// Read the present password from the first line of this file and the new one from its second; `-` is standard input.
    #[arg(long)]
    passwords_file: Option<PathBuf>,
}

impl ChangePassword {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        let (present, wanted) = match self.passwords_file {
            Some(file) => {
                let text = secret("Passwords", "--passwords-file", Some(&file))?;
                let lines =
                    text.split_once('\n').map(|(one, other)| (one.trim_end_matches('\r').to_owned(), other.to_owned()));
                lines.ok_or_else(|| Failure::Usage("--passwords-file: two lines were expected".to_owned()))?
            }
            None => {
                let option = "--passwords-file";
                let (present, wanted) =
                    (secret("Present password", option, None)?, secret("New password", option, None)?);
                if secret("New password again", option, None)? != wanted {
                    return Err(Failure::Usage("the new passwords differ; nothing was done".to_owned()));
                }
                (present, wanted)
            }
        };
        let form = waverant_model::ChangePassword { present: present.into(), wanted: wanted.into() };
        client.call::<()>("PUT", "/me/password", &form)?;
        Ok(report.done(&(), "The password is changed; all other sign-ins are ended.")?)
    }
}

impl SignIn {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let url = tidy(&self.url);
        let name = self.name.map_or_else(|| ask("User name"), Ok)?;
        let mut password = password(self.password_file.as_deref())?;
        let is_standard_input = |file: &Option<PathBuf>| file.as_deref() == Some(Path::new("-"));
        let second_factor = match &self.second_factor_file {
            Some(_) if is_standard_input(&self.second_factor_file) && is_standard_input(&self.password_file) => {
                let lines = password.split_once('\n').map(|(one, other)| (one.trim_end().to_owned(), other.to_owned()));
                let (first, second) = lines.ok_or_else(|| Failure::Usage("two lines were expected".to_owned()))?;
                password = first;
                Some(Hidden::from(second))
            }
            Some(file) => Some(code(Some(file))?),
            None => None,
        };
        let mut form = waverant_model::SignIn {
            name,
            password: password.into(),
            second_factor,
            passkey: None,
            token_label: Some(label()),
            token_days: self.token_days,
            token_role: Some(self.role.meant()),
            token_channels: (!self.channels.is_empty()).then_some(self.channels),
            token_addresses: Vec::new(),
        };
        let client = Client::anonymous(url.clone());
        let me = match client.call("POST", "/sign-in", &form) {
            Err(Failure::Refused(problem)) if problem.code == "second_factor_needed" => {
                form.second_factor = Some(code(None)?);
                client.call("POST", "/sign-in", &form)?
            }
            answer => answer?,
        };
        keep(url, me, report)
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
fn keep(url: String, me: Me, report: &mut Report<'_>) -> Result<(), Failure> {
    let may = if me.lacks_second_factor {
        "The rules of the house ask for a second factor first: waverant second-factor set-up".to_owned()
    } else {
        may(&me)
    };
    let told = format!("Signed in to {url} as {}. {may}", me.name);
    let Me { name, role, channels, token, .. } = me;
    let account_file = Account { url: url.clone(), token: token.unwrap_or_default() }.save()?;
    Ok(report.done(&SignedIn { account_file, name, url, role, channels }, &told)?)
}

/// What a sign-in tells to programs.
#[derive(Serialize)]
struct SignedIn {
    account_file: PathBuf,
    name: String,
    url: String,
    role: Option<waverant_model::Role>,
    channels: Vec<ChannelRole>,
}

/// What commands may do from now on.
fn may(me: &Me) -> String {
    use waverant_model::Role::{Administrator, Engineer, Observer, Operator};
    let own = me.channels.iter().map(|own| format!("`{}` ({})", own.channel, word(own.role)));
    let own = own.collect::<Vec<_>>().join(", ");
    match me.role {
        Some(Observer) if own.is_empty() => "This command line may look.".to_owned(),
        Some(Observer) => format!("This command line may look, and do more on {own}."),
        Some(Operator) => "This command line may run shows.".to_owned(),
        Some(Engineer) => {
            "This command line may run shows and set up; to let people in, sign in with --role administrator."
                .to_owned()
        }
        Some(Administrator) => "This command line may do everything.".to_owned(),
        None if own.is_empty() => "This command line may do nothing.".to_owned(),
        None => format!("This command line may work on {own}."),
    }
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

fn password(file: Option<&Path>) -> Result<String, Failure> {
    secret("Password", "--password-file", file)
}
