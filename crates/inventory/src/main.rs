//! Writes what of others is in a package: the texts of their licences, and a list that programs read (CycloneDX). It
//! fails if there is something under a licence that we did not accept.

mod cargo;
mod component;
mod console;
mod licences;
mod listing;

use std::fs;
use std::path::PathBuf;
use std::process::ExitCode;

use anyhow::{Context, Result, bail};
use clap::Parser;

/// Writes `licences.txt` and `sbom.cdx.json`.
#[derive(Parser, Debug)]
struct Arguments {
    /// The folder to write them into.
    folder: PathBuf,
    /// The checkout.
    #[arg(long, default_value = ".")]
    checkout: PathBuf,
    /// What the package is for, as in `x86_64-unknown-linux-gnu`.
    #[arg(long)]
    target: String,
}

fn main() -> ExitCode {
    match run(&Arguments::parse()) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("waverant-inventory: {error:#}");
            ExitCode::from(2)
        }
    }
}

fn run(arguments: &Arguments) -> Result<()> {
    let crates = cargo::read(&arguments.checkout, &arguments.target)?;
    let mut components = crates.others;
    components.extend(console::read(&arguments.checkout.join("console"))?);
    components.sort();
    components.dedup();
    let refused = licences::refused(&components);
    if !refused.is_empty() {
        bail!("these are under licences that we did not accept:\n{}", refused.join("\n"));
    }
    fs::create_dir_all(&arguments.folder)?;
    let write = |name: &str, text: String| {
        let path = arguments.folder.join(name);
        fs::write(&path, text).with_context(|| format!("{} cannot be written", path.display()))
    };
    write("licences.txt", licences::told(&components)?)?;
    write("sbom.cdx.json", listing::told(&crates.version, &components)?)
}
