//! One file per noun.

mod account;
mod act;
mod address;
mod ask;
mod call_target;
mod capacity;
mod certificate;
mod channel;
mod delivery;
mod depot;
mod destination;
mod finding;
mod house_system;
mod key;
mod limits;
mod link;
mod live;
mod log;
mod page;
mod person;
mod recording;
mod second_factor;
mod session;
mod setup;
mod slate;
mod srt;
mod support_bundle;
mod take;
mod timeline;
mod token;
mod turned_away;
mod viewing;

use std::io::{IsTerminal, Write};
use std::path::PathBuf;
use std::time::Duration;

use clap::{CommandFactory, Parser, Subcommand};
use clap_complete::Shell;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use waverant_manual::write_manual;

use crate::error::Failure;
use crate::output::{Clean, Report, word};

/// Steers a Waverant service: channels, keys, destinations, what is on air, recordings.
///
/// Exit codes: 0 done; 1 the service said no; 2 the command could not run.
#[derive(Parser, Debug)]
#[command(name = "waverant", version)]
pub(crate) struct Arguments {
    /// Print answers as JSON.
    #[arg(long, global = true)]
    json: bool,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand, Debug)]
enum Command {
    /// Sign in to a service and keep a token for later commands.
    SignIn(account::SignIn),
    /// Make the token worthless and forget it.
    SignOut,
    /// Change your password; all your other tokens and consoles end.
    ChangePassword(account::ChangePassword),
    /// What besides your password signs you in.
    #[command(subcommand)]
    SecondFactor(second_factor::SecondFactor),
    /// Make the first administrator of a new service.
    FirstRun(account::FirstRun),
    /// What is on air.
    #[command(subcommand)]
    Live(live::Live),
    /// What is wrong or odd, why, and what to do.
    #[command(subcommand)]
    Finding(finding::Finding),
    /// What shows need of the machine, what is left of it, and what gives first.
    Capacity(capacity::Capacity),
    /// The newest lines of the service's log.
    Log(log::Log),
    /// Write one archive for who helps: settings and records without secrets, findings, figures, the end of the log.
    SupportBundle(support_bundle::SupportBundle),
    /// The certificate of console, viewers and RTMPS.
    #[command(subcommand)]
    Certificate(certificate::Certificate),
    /// Channels.
    #[command(subcommand)]
    Channel(channel::Channel),
    /// Stream keys.
    #[command(subcommand)]
    Key(key::Key),
    /// A system of your own that is asked before somebody is let in.
    #[command(subcommand)]
    HouseSystem(house_system::HouseSystem),
    /// Other systems and people that are told what happens.
    #[command(subcommand)]
    CallTarget(call_target::CallTarget),
    /// What they were told, and what waits.
    #[command(subcommand)]
    Delivery(delivery::Delivery),
    /// Destinations.
    #[command(subcommand)]
    Destination(destination::Destination),
    /// Watching: who may, and where.
    #[command(subcommand)]
    Viewing(viewing::Viewing),
    /// Links by which a channel can be watched without an account.
    #[command(subcommand)]
    Link(link::Link),
    /// What the pages of channels say.
    #[command(subcommand)]
    Page(page::Page),
    /// Clips that stand in for a lost encoder.
    #[command(subcommand)]
    Slate(slate::Slate),
    /// Sessions, past and present.
    #[command(subcommand)]
    Session(session::Session),
    /// Figures over time: of shows, and of the machine.
    #[command(subcommand)]
    Timeline(timeline::Timeline),
    /// What is being recorded; and whether what was recorded is whole.
    #[command(subcommand, visible_alias = "recordings")]
    Recording(recording::Recording),
    /// Recorded files.
    #[command(subcommand)]
    Take(take::Take),
    /// Object storage that takes are copied to.
    #[command(subcommand)]
    Depot(depot::Depot),
    /// The house as one file: told, compared with another, made to be as it says.
    #[command(subcommand)]
    Setup(setup::Setup),
    /// People: who may sign in, and what they may do.
    #[command(subcommand)]
    Person(person::Person),
    /// Who did what.
    #[command(subcommand)]
    Act(act::Act),
    /// Tokens: who may do in your name what you may.
    #[command(subcommand)]
    Token(token::Token),
    /// Publishers who were not let in.
    #[command(subcommand)]
    TurnedAway(turned_away::TurnedAway),
    /// Addresses that are held off, and those of the crew.
    #[command(subcommand)]
    Address(address::Address),
    /// Print completions for a shell.
    Completions {
        /// The shell.
        shell: Shell,
    },
    /// Write man pages and completions into a folder that is laid out like /usr/share.
    #[command(hide = true)]
    Manual {
        /// The folder.
        folder: PathBuf,
    },
}

pub(crate) fn run(arguments: Arguments, out: &mut dyn Write) -> Result<(), Failure> {
    let mut out = Clean::new(out, arguments.json);
    let mut report = Report { out: &mut out, json: arguments.json };
    match arguments.command {
        Command::SignIn(command) => command.run(&mut report),
        Command::SignOut => account::sign_out(&mut report),
        Command::ChangePassword(command) => command.run(&mut report),
        Command::SecondFactor(command) => command.run(&mut report),
        Command::FirstRun(command) => command.run(&mut report),
        Command::Live(command) => command.run(&mut report),
        Command::Finding(command) => command.run(&mut report),
        Command::Capacity(command) => command.run(&mut report),
        Command::SupportBundle(command) => command.run(&mut report),
        Command::Certificate(command) => command.run(&mut report),
        Command::Log(command) => command.run(&mut report),
        Command::Channel(command) => command.run(&mut report),
        Command::Key(command) => command.run(&mut report),
        Command::HouseSystem(command) => command.run(&mut report),
        Command::CallTarget(command) => command.run(&mut report),
        Command::Delivery(command) => command.run(&mut report),
        Command::Destination(command) => command.run(&mut report),
        Command::Viewing(command) => command.run(&mut report),
        Command::Link(command) => command.run(&mut report),
        Command::Page(command) => command.run(&mut report),
        Command::Slate(command) => command.run(&mut report),
        Command::Session(command) => command.run(&mut report),
        Command::Timeline(command) => command.run(&mut report),
        Command::Recording(command) => command.run(&mut report),
        Command::Take(command) => command.run(&mut report),
        Command::Depot(command) => command.run(&mut report),
        Command::Setup(command) => command.run(&mut report),
        Command::Person(command) => command.run(&mut report),
        Command::Act(command) => command.run(&mut report),
        Command::Token(command) => command.run(&mut report),
        Command::TurnedAway(command) => command.run(&mut report),
        Command::Address(command) => command.run(&mut report),
        Command::Completions { shell } => {
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut Arguments::command(), "waverant", &mut script);
            Ok(report.out.write_all(&script)?)
        }
        Command::Manual { folder } => write_manual(&Arguments::command(), "1", &folder)
            .map_err(|error| Failure::Usage(format!("{}: {error}", folder.display()))),
    }
}

/// Asks on the terminal whether to go on.
fn confirm(question: &str) -> Result<(), Failure> {
    if !std::io::stdin().is_terminal() {
        return Err(Failure::Usage("there is nobody to ask; say --yes".to_owned()));
    }
    let mut answer = String::new();
    write!(std::io::stderr(), "{question} [y/N] ")?;
    std::io::stdin().read_line(&mut answer)?;
    match answer.trim() {
        "y" | "Y" | "yes" => Ok(()),
        _ => Err(Failure::Usage("nothing was done".to_owned())),
    }
}

/// A text that may be missing or empty.
fn dash(text: Option<&str>) -> String {
    text.filter(|text| !text.is_empty()).unwrap_or("-").to_owned()
}

/// A number that may be missing.
fn number(value: Option<impl ToString>) -> String {
    value.map_or_else(|| "-".to_owned(), |value| value.to_string())
}

/// A time that an option gives in seconds, in milliseconds.
fn millis(option: &str, seconds: Option<f64>) -> Result<Option<u32>, Failure> {
    let Some(seconds) = seconds else { return Ok(None) };
    if !(0.0..=86_400.0).contains(&seconds) {
        return Err(Failure::Usage(format!("{option}: {seconds} is not between 0 and 86400 seconds")));
    }
    Ok(Some(Duration::from_secs_f64(seconds).as_millis().try_into().unwrap_or(u32::MAX)))
}

/// A time, as options give it.
fn time_of(text: &str) -> Result<OffsetDateTime, String> {
    OffsetDateTime::parse(text, &Rfc3339).map_err(|_| "a time was expected, as in 2026-05-17T18:00:00Z".to_owned())
}
