//! Fetching files: what was broken off goes on, and what came is compared with its digest.

use std::fs::{self, File, OpenOptions};
use std::io::{self, IsTerminal, Read, Write};
use std::path::{Path, PathBuf};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use sha2::{Digest, Sha256};
use ureq::http::HeaderMap;

use crate::client::Client;
use crate::error::Failure;

/// Fetches `address` into the file `target`, which must not be there yet. Returns its length.
///
/// What came is kept beside it until all is there, with the validator of what it is a part of.
pub(crate) fn download(client: &Client, address: &str, target: &Path) -> Result<u64, Failure> {
    if target.exists() {
        return Err(Failure::Usage(format!(
            "{} is there already; choose another name with --output",
            target.display()
        )));
    }
    let beside = |end: &str| PathBuf::from(format!("{}.{end}", target.display()));
    let (partial, tag_file) = (beside("partial"), beside("partial-tag"));
    let failed = |source| Failure::File { path: partial.clone(), source };
    let there = fs::metadata(&partial).map_or(0, |metadata| metadata.len());
    let tag = fs::read_to_string(&tag_file).ok().filter(|_| there > 0);
    let mut response = client.fetch(address, tag.as_ref().map(|tag| (there, tag.as_str())))?;
    let goes_on = response.status() == 206;
    let header = |headers: &HeaderMap, name: &str| headers.get(name)?.to_str().ok().map(str::to_owned);
    let digest = header(response.headers(), "repr-digest");
    let length: Option<u64> = header(response.headers(), "content-length").and_then(|length| length.parse().ok());
    match header(response.headers(), "etag") {
        Some(tag) => fs::write(&tag_file, tag).map_err(failed)?,
        None => drop(fs::remove_file(&tag_file)),
    }
    let before = if goes_on { there } else { 0 };
    let mut file = OpenOptions::new().create(true).append(goes_on).write(true).truncate(!goes_on).open(&partial);
    let mut file = file.as_mut().map_err(|error| failed(io::Error::new(error.kind(), error.to_string())))?;
    let bar = progress(length.map(|length| length + before));
    let copied = copy(&mut response.body_mut().as_reader(), &mut file, before, &bar);
    bar.finish_and_clear();
    let total = copied.map_err(failed)?;
    if let Some(digest) = digest
        && digest != digest_of(&partial).map_err(failed)?
    {
        let _ = fs::remove_file(&partial);
        let told = format!("{}: what came is not what was sent; fetch it again", target.display());
        return Err(Failure::Job(told));
    }
    let _ = fs::remove_file(&tag_file);
    fs::rename(&partial, target).map_err(failed)?;
    Ok(total)
}

/// As the header tells it.
///
/// Source: RFC 9530, 2
fn digest_of(path: &Path) -> io::Result<String> {
    let mut hash = Sha256::new();
    let mut file = File::open(path)?;
    let mut buffer = vec![0; 1024 * 1024];
    loop {
        match file.read(&mut buffer)? {
            0 => return Ok(format!("sha-256=:{}:", base64(&hash.finalize()))),
            count => hash.update(&buffer[..count]),
        }
    }
}

fn base64(bytes: &[u8]) -> String {
    use base64::Engine as _;
    base64::engine::general_purpose::STANDARD.encode(bytes)
}

/// Drawn on a terminal only.
fn progress(length: Option<u64>) -> ProgressBar {
    if !io::stderr().is_terminal() {
        return ProgressBar::with_draw_target(length, ProgressDrawTarget::hidden());
    }
    let bar = ProgressBar::new(length.unwrap_or(0));
    let style = ProgressStyle::with_template("{bar:32} {bytes}/{total_bytes}  {bytes_per_sec}  {eta} left");
    bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
    bar
}

fn copy(from: &mut impl Read, to: &mut impl Write, before: u64, bar: &ProgressBar) -> io::Result<u64> {
    let mut buffer = vec![0; 64 * 1024];
    let mut total = before;
    loop {
        let count = from.read(&mut buffer)?;
        if count == 0 {
            return Ok(total);
        }
        to.write_all(&buffer[..count])?;
        total += count as u64;
        bar.set_position(total);
    }
}
