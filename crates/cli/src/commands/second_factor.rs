use std::io::IsTerminal;
use std::path::{Path, PathBuf};

use clap::Subcommand;
use waverant_model::{AuthenticatorCode, AuthenticatorKey, RecoveryCodes};

use super::ask::{Proof, secret};
use crate::client::Client;
use crate::error::Failure;
use crate::output::{Report, moment};

#[derive(Subcommand, Debug)]
pub(super) enum SecondFactor {
    /// Say whether you have one.
    Show,
    /// Make a key for an authenticator; it counts once a code of it was given.
    SetUp(Proof),
    /// Give the first code of a new key, and get recovery codes; all your other sign-ins end.
    Confirm {
        /// Read the code from this file instead of asking; `-` is standard input.
        #[arg(long)]
        code_file: Option<PathBuf>,
    },
    /// Make other recovery codes; those there were are worthless then.
    RecoveryCodes(Proof),
    /// Take the authenticator away; passkeys are taken away in the console.
    Remove(Proof),
}

impl SecondFactor {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        const PLACE: &str = "/me/second-factor";
        let client = Client::signed_in()?;
        match self {
            Self::Show => {
                let found: waverant_model::SecondFactor = client.get(PLACE)?;
                Ok(report.done(&found, &told_factors(&found))?)
            }
            Self::SetUp(proof) => {
                let key: AuthenticatorKey = client.call("POST", PLACE, &proof.asked(&client)?)?;
                let told =
                    format!("Type this key into an authenticator (six digits, 30 s):\n{}\n{}", key.key, key.address);
                report.done(&key, &told)?;
                if std::io::stdin().is_terminal() {
                    return confirm(&client, None, report);
                }
                Ok(())
            }
            Self::Confirm { code_file } => confirm(&client, code_file.as_deref(), report),
            Self::RecoveryCodes(proof) => {
                let codes = client.call("POST", &format!("{PLACE}/recovery-codes"), &proof.asked(&client)?)?;
                told(&codes, report)
            }
            Self::Remove(proof) => {
                client.call::<()>("POST", &format!("{PLACE}/removal"), &proof.asked(&client)?)?;
                Ok(report.done(&(), "A password alone signs you in from now on.")?)
            }
        }
    }
}

fn told_factors(found: &waverant_model::SecondFactor) -> String {
    let authenticator = found.since.map(|since| format!("An authenticator since {}.", moment(since)));
    let passkeys = found.passkeys.iter().map(|passkey| {
        format!("The passkey {} at {} since {}.", passkey.label, passkey.host, moment(passkey.created_at))
    });
    let mut lines: Vec<String> = authenticator.into_iter().chain(passkeys).collect();
    match lines.is_empty() {
        true if found.is_required => lines.push("None, and the rules of the house ask for one.".to_owned()),
        true => lines.push("None.".to_owned()),
        false => lines.push(format!("{} recovery codes are left.", found.recovery_codes_left)),
    }
    lines.join("\n")
}

fn confirm(client: &Client, file: Option<&Path>, report: &mut Report<'_>) -> Result<(), Failure> {
    let code = secret("First code of the authenticator", "--code-file", file)?.into();
    let codes = client.call("POST", "/me/second-factor/confirm", &AuthenticatorCode { code })?;
    told(&codes, report)
}

fn told(codes: &RecoveryCodes, report: &mut Report<'_>) -> Result<(), Failure> {
    let list = codes.codes.join("\n");
    let told = format!("Keep these where the authenticator is not; each signs you in once in its place:\n{list}");
    Ok(report.done(codes, &told)?)
}
