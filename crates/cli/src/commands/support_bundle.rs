use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use clap::Args;
use flate2::read::GzDecoder;
use serde::Serialize;

use crate::client::Client;
use crate::error::Failure;
use crate::output::{Column, Report, size};

#[derive(Args, Debug)]
pub(super) struct SupportBundle {
    /// The file to write; it must not be there yet.
    #[arg(long, short, default_value = "waverant-support.tar.gz")]
    output: PathBuf,
}

/// A file of the archive.
#[derive(Serialize)]
struct Part {
    name: String,
    bytes: u64,
}

impl SupportBundle {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        let path = &self.output;
        let failed = |source| Failure::File { path: path.clone(), source };
        // Before it is asked for: it is work to make one.
        let file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(failed)?;
        let fetched = fetch(&client, file, path);
        if fetched.is_err() {
            let _ = fs::remove_file(path);
        }
        fetched?;
        let parts = File::open(path).and_then(|file| contents(&file)).map_err(failed)?;
        if !report.json {
            writeln!(report.out, "Written to {}, which you can read before you give it away:", path.display())?;
        }
        let columns = [Column::text("file", |row: &Part| row.name.clone()), Column::number("", |row| size(row.bytes))];
        Ok(report.rows(&serde_json::json!({ "file": path, "parts": parts }), &parts, &columns, "")?)
    }
}

fn fetch(client: &Client, mut file: File, path: &Path) -> Result<(), Failure> {
    let mut response = client.fetch("/support-bundle", None)?;
    let copied = io::copy(&mut response.body_mut().as_reader(), &mut file);
    copied.and_then(|_| file.flush()).map_err(|source| Failure::File { path: path.to_owned(), source })
}

/// What is in an archive, as it tells itself.
fn contents(archive: &File) -> io::Result<Vec<Part>> {
    let mut archive = tar::Archive::new(GzDecoder::new(archive));
    let parts = archive.entries()?.map(|entry| {
        let entry = entry?;
        Ok(Part { name: entry.path()?.display().to_string(), bytes: entry.size() })
    });
    parts.collect()
}
