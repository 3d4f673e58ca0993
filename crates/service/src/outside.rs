//! Whether the house can be reached from outside, told on the machine's console; and the helper on another machine.

use std::fmt::Write as _;
use std::io::{self, Write as _};
use std::net::SocketAddr;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use tokio::net::TcpListener;
use waverant_api::OutsideDesk;
use waverant_calls::SigningSecret;
use waverant_model::{AddressScope, DoorOutside, DoorVerdict, NameVerdict, Outside, Transport, TryOutcome};
use waverant_outside::Door;
use waverant_relay::Secret;
use waverant_store::{Keychain, PrivateServer, ReachedDoor, Store, other_schema};

use crate::addresses::Addresses;
use crate::settings::Settings;
use crate::state_lock::StateLock;

/// The doors of a house that runs.
pub(crate) fn open_doors(addresses: &Addresses) -> Vec<Door> {
    let door = |name, transport, address| Door { name, transport, address };
    let tcp = |name, address: Option<SocketAddr>| address.map(|address| door(name, Transport::Tcp, address));
    let all = [
        tcp("rtmp", Some(addresses.rtmp)),
        tcp("rtmps", addresses.rtmps),
        Some(door("srt", Transport::Udp, addresses.srt)),
        tcp("viewing", Some(addresses.viewing)),
        tcp("viewing_https", addresses.viewing_https),
        tcp("http", Some(addresses.http)),
        tcp("https", addresses.https),
        tcp("redirect", addresses.redirect),
    ];
    all.into_iter().flatten().collect()
}

/// The doors that the settings want.
fn wanted_doors(settings: &Settings) -> Vec<Door> {
    let over_tls = settings.tls.is_some();
    open_doors(&Addresses {
        rtmp: settings.rtmp,
        rtmps: over_tls.then_some(settings.rtmps),
        srt: settings.srt,
        http: settings.http,
        https: over_tls.then_some(settings.https),
        redirect: settings.redirect.filter(|_| over_tls),
        viewing: settings.viewing,
        viewing_https: over_tls.then_some(settings.viewing_https),
        pid: 0,
        database_pid: None,
    })
}

/// Looks at everything, with the helper if there is one and the service runs. The text for the console, and whether all is
/// as it should be.
pub async fn check_outside(settings: &Settings) -> (String, bool) {
    let doors = wanted_doors(settings);
    let runs = StateLock::is_held(&settings.state_folder);
    let desk = OutsideDesk::new(&settings.host, doors, settings.answerer.clone().filter(|_| runs));
    let reached = if runs { reached_doors(settings).await.unwrap_or_default() } else { Vec::new() };
    let outside = desk.look(reached, true).await;
    (told(&outside, runs), is_good(&outside))
}

/// Who was at the doors of the service that runs, if its records can be read. Tables of another version are left as they
/// are: looking brings nothing up to date.
async fn reached_doors(settings: &Settings) -> Option<Vec<ReachedDoor>> {
    let private = || PrivateServer::running(&settings.state_folder.join("database"), "waverant");
    let url = settings.database_url.clone().or_else(private)?;
    if !settings.state_folder.join("secrets.key").exists() || other_schema(&url).await.ok()?.is_some() {
        return None;
    }
    let store = Store::open(&url, Keychain::open(&settings.state_folder).ok()?).await.ok()?;
    store.reached_doors().await.ok()
}

fn is_good(outside: &Outside) -> bool {
    let name = outside.name.as_ref().map(|name| name.verdict);
    let leads_here = matches!(name, None | Some(NameVerdict::Ours | NameVerdict::Behind));
    let is_asked = outside.answerer.as_ref().is_none_or(|answerer| answerer.fault.is_none());
    leads_here && is_asked && outside.doors.iter().all(|door| door.verdict != DoorVerdict::Shut)
}

fn told(outside: &Outside, runs: bool) -> String {
    let mut text = String::new();
    // Writing to a text does not fail.
    let _ = writeln!(text, "this machine");
    for own in outside.addresses.iter().filter(|own| own.scope != AddressScope::Loopback) {
        let _ = writeln!(text, "  {:<40} {:<10} {}", own.address, own.interface, scope_word(own.scope));
    }
    match &outside.name {
        Some(name) => {
            let _ = writeln!(text, "\npublic name\n  {} {}\n  {}", name.name, name.addresses.join(" "), name.told);
        }
        None => text.push_str("\npublic name\n  there is none: set house.host\n"),
    }
    let _ = writeln!(text, "\npacket filter\n  {}", outside.filter.told);
    if let Some(answerer) = &outside.answerer {
        let said = match (&answerer.fault, answerer.seen_as.as_slice()) {
            (Some(fault), _) => fault.clone(),
            (None, seen) => format!("it saw us come from {}", seen.join(" and ")),
        };
        let _ = writeln!(text, "\nhelper out there\n  {} {said}", answerer.address);
    } else if !runs {
        text.push_str("\nhelper out there\n  not asked: the service does not run, so nobody would answer\n");
    } else {
        text.push_str(
            "\nhelper out there\n  there is none: run `waverantd answer` on another machine, and set [outside]\n",
        );
    }
    text.push_str("\ndoors\n");
    for door in &outside.doors {
        tell_door(&mut text, door);
    }
    for remedy in &outside.remedies {
        let _ = writeln!(text, "\nto open what is shut, with {}, as root", remedy.filter);
        for command in &remedy.commands {
            let _ = writeln!(text, "  {command}");
        }
        if let Some(note) = &remedy.note {
            let _ = writeln!(text, "  {note}");
        }
    }
    text
}

fn tell_door(text: &mut String, door: &DoorOutside) {
    let place = format!("{} {}", door.transport.word(), door.port);
    let _ = writeln!(text, "  {:<14} {place:<10} {}\n      {}", door.name, verdict_word(door.verdict), door.told);
    for one in &door.tries {
        let outcome = outcome_word(one.outcome);
        let _ = writeln!(text, "      called at {}: {outcome} after {} ms", one.address, one.after_ms);
    }
    if let Some(reached) = &door.reached {
        let _ = writeln!(text, "      last from out there: {} at {}", reached.address, moment(reached.at));
    }
}

fn moment(at: time::OffsetDateTime) -> String {
    let form = time::macros::format_description!("[year]-[month]-[day] [hour]:[minute]:[second] UTC");
    at.format(&form).unwrap_or_default()
}

fn verdict_word(verdict: DoorVerdict) -> &'static str {
    match verdict {
        DoorVerdict::Reached => "reached",
        DoorVerdict::Open => "open",
        DoorVerdict::Shut => "SHUT",
        DoorVerdict::Inside => "inside",
        DoorVerdict::Unclear => "unclear",
    }
}

fn outcome_word(outcome: TryOutcome) -> &'static str {
    match outcome {
        TryOutcome::Answered => "answered",
        TryOutcome::Refused => "turned down",
        TryOutcome::Silent => "no answer",
        TryOutcome::Unreachable => "no way there",
    }
}

fn scope_word(scope: AddressScope) -> &'static str {
    match scope {
        AddressScope::Public => "public",
        AddressScope::Private => "private: from your own net",
        AddressScope::Shared => "the provider's own net: a router of the provider has the public one",
        AddressScope::Link => "from the next cable only",
        AddressScope::Loopback => "from this machine",
    }
}

/// Answers houses that have the secret in this file; one is made where there is no file yet.
///
/// # Errors
/// If nothing can be listened to, or the file cannot be used.
pub async fn answer_houses(listen: SocketAddr, secret_file: &Path) -> Result<(), String> {
    let secret = secret_of(secret_file).map_err(|error| format!("{}: {error}", secret_file.display()))?;
    let listener = TcpListener::bind(listen).await.map_err(|error| format!("{listen}: {error}"))?;
    let bound = listener.local_addr().map_err(|error| error.to_string())?;
    let text = format!(
        "answering at {bound}\nIn the settings of the house, with the address of this machine and a copy of {}:\n  [outside]\n  \
         answerer = \"http://ADDRESS:{}\"\n  secret_file = \"FILE\"\n",
        secret_file.display(),
        bound.port()
    );
    // Whoever began this may read no further.
    let _ = io::stdout().write_all(text.as_bytes());
    waverant_outside::answer(listener, secret).await;
    Ok(())
}

fn secret_of(file: &Path) -> Result<SigningSecret, String> {
    let made = SigningSecret::make();
    let mut options = std::fs::OpenOptions::new();
    match options.write(true).create_new(true).mode(0o600).open(file) {
        Ok(mut new) => writeln!(new, "{}", made.reveal()).map_err(|error| error.to_string())?,
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
        Err(error) => return Err(error.to_string()),
    }
    let text = std::fs::read_to_string(file).map_err(|error| error.to_string())?;
    SigningSecret::read(&Secret::new(text.trim())).map_err(|error| error.to_string())
}
