//! `waverantd check`: what would go wrong on this machine with these settings.

use std::fmt;
use std::fs;
use std::io;
use std::net::{SocketAddr, TcpListener, UdpSocket};
use std::path::Path;
use std::process::Command;

use crate::helpers::helpers;
use crate::machine;
use crate::settings::Settings;
use crate::state_lock::StateLock;
use waverant_codec::Hand;
use waverant_net::ServerTls;

/// Less free space than this deserves a warning: 30 minutes at 6 Mbit/s take 1.35 GB.
const LOW_SPACE_BYTES: u64 = 2_000_000_000;

/// One thing that was looked at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// Whether it is as it should be.
    pub is_good: bool,
    /// What was found, and what to do about it.
    pub text: String,
}

impl Finding {
    fn good(text: impl Into<String>) -> Self {
        Self { is_good: true, text: text.into() }
    }

    fn bad(text: impl Into<String>) -> Self {
        Self { is_good: false, text: text.into() }
    }
}

impl fmt::Display for Finding {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "{} {}", if self.is_good { "ok  " } else { "FAIL" }, self.text)
    }
}

/// Looks at ports, folders, disk space and the database program.
pub fn check_machine(settings: &Settings) -> Vec<Finding> {
    let runs = StateLock::is_held(&settings.state_folder);
    let check_port = |name: &str, address: SocketAddr| judge_port(name, address, TcpListener::bind(address), runs);
    let mut findings = vec![
        check_port("rtmp", settings.rtmp),
        judge_port("srt", settings.srt, UdpSocket::bind(settings.srt), runs),
        check_port("http", settings.http),
        check_port("viewing", settings.viewing),
        check_folder("state folder", &settings.state_folder),
        check_folder("recordings folder", &settings.recordings_folder),
        check_space(&settings.recordings_folder),
    ];
    if let Some(files) = &settings.tls {
        findings.push(check_port("rtmps", settings.rtmps));
        findings.push(check_port("https", settings.https));
        findings.push(check_port("viewing_https", settings.viewing_https));
        findings.extend(settings.redirect.map(|address| check_port("redirect", address)));
        findings.push(match (&settings.authority, ServerTls::open(files.clone())) {
            (_, Ok(_)) => Finding::good(format!("certificate {} can be used", files.certificate.display())),
            (Some(wanted), Err(_)) if !files.certificate.exists() => {
                Finding::good(format!("a certificate will be asked for at {}", wanted.directory.as_str()))
            }
            (_, Err(error)) => Finding::bad(error.to_string()),
        });
    }
    findings.push(check_descriptors(settings));
    findings.push(check_helper());
    match &settings.database_url {
        Some(url) => findings.push(check_database(url)),
        None => findings.extend(["mariadbd", "mariadb-install-db"].map(check_program)),
    }
    let files = &settings.first_run;
    for (name, file) in [("administrator", &files.administrator), ("set-up", &files.setup)] {
        findings.extend(file.as_ref().map(|file| match fs::read_to_string(file) {
            Ok(_) => Finding::good(format!("{name} file {} can be read", file.display())),
            Err(error) => Finding::bad(format!("{name} file {}: {error}", file.display())),
        }));
    }
    findings
}

/// What came of listening. The service that runs with these settings has its doors itself.
fn judge_port<T>(name: &str, address: SocketAddr, bound: io::Result<T>, runs: bool) -> Finding {
    match bound {
        Ok(_) => Finding::good(format!("listen.{name} {address} is free")),
        Err(error) if runs && error.kind() == io::ErrorKind::AddrInUse => Finding::good(format!(
            "listen.{name} {address} is taken: by the service, which runs, unless the settings were changed since it began"
        )),
        Err(error) => Finding::bad(bind_failure(name, address, &error)),
    }
}

/// What is said when an address cannot be listened on.
pub(crate) fn bind_failure(name: &str, address: SocketAddr, error: &io::Error) -> String {
    let advice = match error.kind() {
        io::ErrorKind::AddrInUse => "another program listens there; stop it, or choose another port",
        io::ErrorKind::PermissionDenied => "ports below 1024 need a right of their own; choose a higher one",
        io::ErrorKind::AddrNotAvailable => "this machine has no such address",
        _ => "choose another address",
    };
    format!("listen.{name} {address}: {error}; {advice}")
}

fn check_folder(name: &str, folder: &Path) -> Finding {
    match try_folder(folder) {
        Ok(()) => Finding::good(format!("{name} {} can be written", folder.display())),
        Err(error) => Finding::bad(folder_failure(name, folder, &error)),
    }
}

/// What is said when a folder cannot be written.
pub(crate) fn folder_failure(name: &str, folder: &Path, error: &io::Error) -> String {
    format!(
        "{name} {} cannot be written: {error}; make it, and give it to the user that runs waverantd",
        folder.display()
    )
}

/// Makes a folder where it is missing and writes a file into it.
pub(crate) fn try_folder(folder: &Path) -> io::Result<()> {
    fs::create_dir_all(folder)?;
    let probe = folder.join(format!(".waverant-probe-{}", std::process::id()));
    fs::write(&probe, b"probe")?;
    fs::remove_file(probe)
}

fn check_space(folder: &Path) -> Finding {
    match rustix::fs::statvfs(folder) {
        Ok(space) => {
            let free = space.f_bavail.saturating_mul(space.f_frsize);
            let text = format!("{} has {:.1} GB free", folder.display(), free as f64 / 1e9);
            if free < LOW_SPACE_BYTES {
                Finding::bad(format!("{text}; an hour of 6 Mbit/s takes 2.7 GB"))
            } else {
                Finding::good(text)
            }
        }
        Err(error) => Finding::bad(format!("{}: free space cannot be read: {error}", folder.display())),
    }
}

fn check_database(url: &str) -> Finding {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let examined = runtime
        .map_err(|error| error.to_string())
        .and_then(|runtime| runtime.block_on(waverant_store::examine_database(url)));
    match examined {
        Ok(found) => Finding::good(format!("database.url can be used: {found}")),
        Err(error) => Finding::bad(format!("database.url: {error}")),
    }
}

fn check_descriptors(settings: &Settings) -> Finding {
    let (there, doors) = (machine::raise_descriptors(), machine::wanted_descriptors(settings));
    let left = there.saturating_sub(doors);
    let text =
        format!("{there} open files are allowed; the doors may take {doors}, which leaves {left} for legs and takes");
    if left < machine::SHOW_DESCRIPTORS {
        Finding::bad(format!(
            "{text}; raise LimitNOFILE (ulimit -n), or lower rtmp_callers, http_connections and viewing_connections in [limits]"
        ))
    } else {
        Finding::good(text)
    }
}

/// Whether pictures can be drawn by a process that can do nothing else.
fn check_helper() -> Finding {
    match Hand::new(helpers()).holding_picture(64, 64, 1.0) {
        Ok(_) => Finding::good("pictures and sound are decoded in a process without files and network"),
        Err(error) => Finding::bad(format!(
            "pictures and sound cannot be decoded: {error}; a kernel with seccomp filters was expected (CONFIG_SECCOMP_FILTER)"
        )),
    }
}

fn check_program(program: &str) -> Finding {
    match Command::new(program).arg("--version").output() {
        Ok(_) => Finding::good(format!("{program} is installed")),
        Err(error) => Finding::bad(format!(
            "{program}: {error}; install Debian's mariadb-server-core and mariadb-client-core, or set database.url"
        )),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_port_in_use_is_found() {
        let holder = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = holder.local_addr().unwrap();
        let finding = judge_port("rtmp", address, TcpListener::bind(address), false);
        assert!(!finding.is_good && finding.text.contains("another program listens there"), "{finding}");
        let finding = judge_port("rtmp", address, TcpListener::bind(address), true);
        assert!(finding.is_good && finding.text.contains("by the service, which runs"), "{finding}");
        drop(holder);
        let finding = judge_port("rtmp", address, TcpListener::bind(address), true);
        assert!(finding.is_good && finding.text.ends_with("is free"), "{finding}");
    }

    #[test]
    fn a_folder_that_is_a_file_is_found() {
        let file = tempfile::NamedTempFile::new().unwrap();
        let finding = check_folder("recordings folder", file.path());
        assert!(!finding.is_good && finding.text.contains("cannot be written"), "{finding}");
    }
}
