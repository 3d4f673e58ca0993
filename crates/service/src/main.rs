//! `waverantd`: the service's program.

mod allocator;

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{CommandFactory, Parser, Subcommand};
use tokio::signal::unix::{SignalKind, signal};
use waverant_codec::serve;
use waverant_manual::{write_manual, write_settings_page};
use waverant_service::{
    HELPER, Service, Settings, StartError, answer_houses, ask_health, backup, check_machine, check_outside,
    leave_no_core_file, let_in, make_files_private, openapi_document, rekey, restore, start_logging, start_plain_log,
};

/// Every setting with its default and what it means.
const SETTINGS: &str = include_str!("../../../waverant.toml");

/// Takes encoder streams, records them, and sends each to several platforms.
#[derive(Parser, Debug)]
#[command(name = "waverantd", version)]
struct Arguments {
    /// Settings file.
    #[arg(long, env = "WAVERANT_SETTINGS", default_value = "/etc/waverant/waverant.toml")]
    settings: PathBuf,
    #[command(subcommand)]
    command: Option<What>,
}

#[derive(Subcommand, Debug)]
enum What {
    /// Run the service (what happens without a command).
    Run,
    /// Check the settings and the machine, and say what would go wrong.
    Check {
        /// Look whether the house can be reached from outside instead: addresses, name, packet filter, doors; root sees the
        /// rules of the filter.
        #[arg(long)]
        outside: bool,
    },
    /// Ask the service that runs with these settings whether it is well: for containers and other watchers.
    Healthy,
    /// Try the doors of houses from outside, for those that ask with the right secret; run it on another machine. It needs
    /// neither settings nor a database, and calls nobody but who asks.
    Answer {
        /// Where to listen.
        #[arg(long, default_value = "0.0.0.0:7899")]
        listen: SocketAddr,
        /// The secret that it shares with the houses; a file that is not there is made.
        #[arg(long)]
        secret_file: PathBuf,
    },
    /// Make a one-time link for somebody of the crew who locked himself out; the service may run meanwhile.
    LetIn {
        /// The user name.
        name: String,
        /// Take the second factor away, too, once the link is used.
        #[arg(long)]
        drop_second_factor: bool,
    },
    /// Make another root key (secrets.key) and seal all secrets anew; the service must be stopped.
    Rekey,
    /// Write records, keys, settings, slates and posters into one file; the service may run meanwhile. Recordings are files
    /// of their own and are not in it.
    Backup {
        /// The file to write; it must not be there yet.
        file: PathBuf,
    },
    /// Set up a house from a backup, in an empty state folder and an empty database.
    Restore {
        /// The backup.
        file: PathBuf,
    },
    /// Print the OpenAPI document of the HTTP API.
    Openapi,
    /// Decode and encode for the service that began this, and do nothing else.
    #[command(hide = true, name = HELPER)]
    Helper,
    /// Write man pages and completions into a folder that is laid out like /usr/share.
    #[command(hide = true)]
    Manual {
        /// The folder.
        folder: PathBuf,
    },
}

fn main() -> ExitCode {
    allocator::set_up();
    let arguments = Arguments::parse();
    match &arguments.command {
        Some(What::Openapi) => return print_openapi(),
        Some(What::Manual { folder }) => return manual(folder),
        Some(What::Helper) => return help(),
        Some(What::Answer { listen, secret_file }) => return answer(*listen, secret_file),
        _ => {}
    }
    let settings = match Settings::load(&arguments.settings, std::env::vars()) {
        Ok(settings) => settings,
        Err(error) => return fail(&error.to_string()),
    };
    match arguments.command {
        Some(What::Check { outside: false }) => check(&settings),
        Some(What::Check { outside: true }) => look_outside(&settings),
        Some(What::Healthy) => ask_whether_well(&settings),
        Some(What::LetIn { name, drop_second_factor }) => by_hand(async {
            let made = let_in(&settings, &name, drop_second_factor).await?;
            Ok(format!("Open this within an hour; it opens once:\n{}", made.link.reveal()))
        }),
        Some(What::Rekey) => by_hand(async {
            let done = rekey(&settings).await?;
            Ok(format!(
                "{} secrets are sealed under another root key. Links for viewers have other addresses now. Keep a copy of \
                 secrets.key, and the one from before with backups from before.",
                done.secrets
            ))
        }),
        Some(What::Backup { file }) => by_hand(async {
            let done = backup(&settings, &arguments.settings, &file).await?;
            Ok(format!(
                "{} rows and the keys of the house are in {} ({} bytes). Whoever reads it can open the house.",
                done.rows,
                file.display(),
                done.bytes
            ))
        }),
        Some(What::Restore { file }) => by_hand(async {
            let done = restore(&settings, &file).await?;
            Ok(format!(
                "{} rows of {} are back. The settings of then are in restored-settings.toml in the state folder; recordings are \
                 found again once their files are in the recordings folder.",
                done.rows, done.made_at
            ))
        }),
        _ => run(settings),
    }
}

/// Errors go to stderr under the program's name; the exit code 2 says "could not run".
fn fail(message: &str) -> ExitCode {
    eprintln!("waverantd: {message}");
    ExitCode::from(2)
}

/// Nobody reads what it says: the service sees that it ended.
fn help() -> ExitCode {
    if serve().is_ok() { ExitCode::SUCCESS } else { ExitCode::from(2) }
}

#[expect(clippy::print_stdout, reason = "the document is the program's output")]
fn print_openapi() -> ExitCode {
    println!("{}", openapi_document());
    ExitCode::SUCCESS
}

fn manual(folder: &Path) -> ExitCode {
    let written = write_manual(&Arguments::command(), "8", folder)
        .and_then(|()| write_settings_page(SETTINGS, env!("CARGO_PKG_VERSION"), folder));
    match written {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => fail(&format!("{}: {error}", folder.display())),
    }
}

/// Does something on the machine's console, and says what came of it.
#[expect(clippy::print_stdout, reason = "what was done is the program's output")]
fn by_hand(work: impl Future<Output = Result<String, StartError>>) -> ExitCode {
    make_files_private();
    let runtime = match tokio::runtime::Builder::new_current_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => return fail(&format!("no runtime: {error}")),
    };
    match runtime.block_on(work) {
        Ok(told) => {
            println!("{told}");
            ExitCode::SUCCESS
        }
        Err(error) => fail(&error.to_string()),
    }
}

/// Exit code 0: it is well; 1: it is not.
#[expect(clippy::print_stdout, reason = "what it says is the program's output")]
fn ask_whether_well(settings: &Settings) -> ExitCode {
    match ask_health(settings) {
        Ok(told) => {
            println!("{told}");
            ExitCode::SUCCESS
        }
        Err(told) => {
            eprintln!("waverantd: {told}");
            ExitCode::from(1)
        }
    }
}

/// Until it is told to stop.
fn answer(listen: SocketAddr, secret_file: &Path) -> ExitCode {
    start_plain_log();
    let runtime = match tokio::runtime::Builder::new_current_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => return fail(&format!("no runtime: {error}")),
    };
    runtime.block_on(async {
        tokio::select! {
            answered = answer_houses(listen, secret_file) => answered.map_or_else(|error| fail(&error), |()| ExitCode::SUCCESS),
            () = wait_for_stop() => ExitCode::SUCCESS,
        }
    })
}

/// Exit code 0: all is well; 1: somebody is kept out.
#[expect(clippy::print_stdout, reason = "what is found is the program's output")]
fn look_outside(settings: &Settings) -> ExitCode {
    let runtime = match tokio::runtime::Builder::new_current_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => return fail(&format!("no runtime: {error}")),
    };
    let (told, is_good) = runtime.block_on(check_outside(settings));
    print!("{told}");
    if is_good { ExitCode::SUCCESS } else { ExitCode::from(1) }
}

/// Exit code 0: all is well; 1: something would go wrong.
#[expect(clippy::print_stdout, reason = "the findings are the program's output")]
fn check(settings: &Settings) -> ExitCode {
    let findings = check_machine(settings);
    for finding in &findings {
        println!("{finding}");
    }
    if findings.iter().all(|finding| finding.is_good) { ExitCode::SUCCESS } else { ExitCode::from(1) }
}

fn run(settings: Settings) -> ExitCode {
    make_files_private();
    leave_no_core_file();
    let log = start_logging(&settings);
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => return fail(&format!("no runtime: {error}")),
    };
    runtime.block_on(async {
        let service = match Service::start(settings, log).await {
            Ok(service) => service,
            Err(error) => return fail(&error.to_string()),
        };
        service.announce();
        wait_for_stop().await;
        service.stop().await;
        ExitCode::SUCCESS
    })
}

async fn wait_for_stop() {
    let (Ok(mut terminate), Ok(mut interrupt)) = (signal(SignalKind::terminate()), signal(SignalKind::interrupt()))
    else {
        return std::future::pending().await;
    };
    tokio::select! {
        _ = terminate.recv() => {}
        _ = interrupt.recv() => {}
    }
}
