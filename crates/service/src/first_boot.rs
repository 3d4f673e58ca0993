//! A house that has nothing yet is set up from the files that the settings name, so that an image or a cloud's user-data
//! brings one up without a shell.

use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::Arc;

use serde::Serialize;
use time::format_description::well_known::Rfc3339;
use waverant_house::{House, SetupApplied, SetupRequest};
use waverant_relay::Actor;
use waverant_setup::kept_secrets;

use crate::settings::FirstRunFiles;
use crate::start::{MADE_FILE, StartError};

/// What was made, for who set the machine up: it is shown once, and where nobody looks on it is written into a file.
#[derive(Serialize)]
struct Made<'a> {
    keys: Vec<MadeKey<'a>>,
    invitations: Vec<MadeInvitation<'a>>,
    secrets: Vec<MadeSecret<'a>>,
}

#[derive(Serialize)]
struct MadeKey<'a> {
    channel: &'a str,
    label: &'a str,
    key: &'a str,
}

/// The console takes the code at `/invitation#CODE`.
#[derive(Serialize)]
struct MadeInvitation<'a> {
    name: &'a str,
    code: &'a str,
    ends_at: String,
}

#[derive(Serialize)]
struct MadeSecret<'a> {
    name: &'a str,
    secret: &'a str,
}

/// Applies the set-up file of the settings, if there is one and the house has neither channels nor destinations. All of
/// it, or nothing; with a fault the service does not start.
pub(crate) async fn set_up(house: &Arc<House>, files: &FirstRunFiles, state: &Path) -> Result<(), StartError> {
    let Some(path) = &files.setup else { return Ok(()) };
    let store = house.store();
    if !store.channels().await?.is_empty() || !store.destinations().await?.is_empty() {
        tracing::info!(file = %path.display(), "the house is set up already; the set-up file is not read");
        return Ok(());
    }
    let failed = |(path, source)| StartError::File { path, source };
    let text = fs::read_to_string(path).map_err(|source| failed((path.clone(), source)))?;
    let secrets = kept_secrets(&text, files.secrets.as_deref()).map_err(failed)?;
    tracing::info!(file = %path.display(), secrets = secrets.len(), "setting the house up from its file");
    let secrets: Vec<_> = secrets.into_iter().map(|(reference, value)| (reference.to_string(), value)).collect();
    let request =
        || SetupRequest { text: text.clone(), secrets: secrets.iter().cloned().collect(), removes_unlisted: false };
    let wrong = |message: String| StartError::Setup { path: path.clone(), message };
    let told = |error: waverant_house::HouseError| wrong(error.to_string());
    let plan = house.review_setup(request(), &Actor::House).await.map_err(told)?;
    if !plan.faults.is_empty() {
        let lines = plan.faults.iter().map(|fault| {
            format!("{}:{}:{}: {}: {}", path.display(), fault.place.line, fault.place.column, fault.at, fault.text)
        });
        return Err(wrong(lines.collect::<Vec<_>>().join("\n")));
    }
    let applied = house.apply_setup(request(), None, Actor::House).await.map_err(told)?;
    for remark in &applied.remarks {
        tracing::warn!(remark, "in the set-up file");
    }
    tracing::info!(changes = applied.changes.len(), keys = applied.keys.len(), "the house is set up from its file");
    let made = state.join(MADE_FILE);
    write_made(&made, &applied).map_err(|source| failed((made.clone(), source)))?;
    tracing::info!(file = %made.display(), "what was made is shown in this file alone: read it, and remove it");
    Ok(())
}

fn write_made(path: &Path, applied: &SetupApplied) -> io::Result<()> {
    let made = Made {
        keys: applied
            .keys
            .iter()
            .map(|made| MadeKey {
                channel: &made.channel.name,
                label: &made.key.terms.label,
                key: made.secret.reveal(),
            })
            .collect(),
        invitations: applied
            .invitations
            .iter()
            .map(|made| MadeInvitation {
                name: &made.name,
                code: made.code.reveal(),
                ends_at: made.ends_at.format(&Rfc3339).unwrap_or_default(),
            })
            .collect(),
        secrets: applied
            .secrets
            .iter()
            .map(|made| MadeSecret { name: &made.name, secret: made.secret.reveal() })
            .collect(),
    };
    let text = toml::to_string(&made).map_err(io::Error::other)?;
    let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)?;
    file.write_all(b"# Made when the house was set up; shown nowhere else. Read it, and remove it.\n")?;
    file.write_all(text.as_bytes())
}
