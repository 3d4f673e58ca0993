//! `waverant`: the command for people and scripts. It talks only to the service's HTTP API.

mod account;
mod board;
mod client;
mod commands;
mod download;
mod error;
mod output;
mod watch;

use std::process::ExitCode;

use clap::Parser;

use commands::Arguments;
use error::Failure;

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    match commands::run(arguments, &mut std::io::stdout().lock()) {
        Ok(()) => ExitCode::SUCCESS,
        // Whoever reads our output may stop reading when it has enough.
        Err(Failure::Output(error)) if error.kind() == std::io::ErrorKind::BrokenPipe => ExitCode::SUCCESS,
        Err(failure) => {
            eprintln!("waverant: {}", output::clean_line(&failure.to_string()));
            if let Some(step) = failure.next_step() {
                eprintln!("          {}", output::clean_line(&step));
            }
            ExitCode::from(failure.exit_code())
        }
    }
}
