use std::fs::{self, OpenOptions};
use std::io::{Read, Write};
use std::os::fd::OwnedFd;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt, PermissionsExt};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use rustix::process::{Pid, PidfdFlags, Signal, pidfd_open, pidfd_send_signal};
use thiserror::Error;

use waverant_relay::Secret;

use crate::secrets::new_database_password;

/// How long the server may take until it answers.
const START_TIMEOUT: Duration = Duration::from_secs(60);

/// How long it may take to stop before it is killed.
const STOP_TIMEOUT: Duration = Duration::from_secs(4);

/// The same for the server of an earlier run, which may have much to write.
const LEFTOVER_TIMEOUT: Duration = Duration::from_secs(20);

/// Pause before a server that ended by itself is started again.
const RESTART_PAUSE: Duration = Duration::from_secs(1);

/// A server that ends within this time after its start has failed to start.
const SOON: Duration = Duration::from_secs(10);

/// Failures in a row at the first start after which it is given up.
const START_TRIES: u32 = 2;

/// Longest path of a Unix socket that is sure to fit.
const MAX_SOCKET_PATH: usize = 100;

/// Settings for a server with a handful of connections and small tables.
const TUNING: &[&str] = &[
    "--performance-schema=OFF",
    "--innodb-buffer-pool-size=12M",
    "--innodb-log-file-size=16M",
    "--innodb-log-buffer-size=2M",
    "--key-buffer-size=1M",
    "--aria-pagecache-buffer-size=1M",
    "--tmp-table-size=1M",
    "--max-heap-table-size=1M",
    "--table-open-cache=64",
    "--table-definition-cache=128",
    "--thread-cache-size=2",
    "--query-cache-type=0",
    "--query-cache-size=0",
    "--max-connections=24",
    "--skip-name-resolve",
    "--skip-log-bin",
    "--character-set-server=utf8mb4",
];

/// Why the private server does not run.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum PrivateServerError {
    /// The program is not installed.
    #[error(
        "`{program}` cannot be started: {source}; install Debian's packages mariadb-server-core and mariadb-client-core, or set database.url"
    )]
    Missing {
        /// The program.
        program: &'static str,
        /// What the system said.
        source: std::io::Error,
    },
    /// A file or folder could not be made.
    #[error("{}: {source}", path.display())]
    Io {
        /// The file or folder.
        path: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// The data folder could not be set up.
    #[error("the data folder could not be set up: {reason}; see {}", log.display())]
    SetUp {
        /// The last line of the log.
        reason: String,
        /// Where the whole is written.
        log: PathBuf,
    },
    /// The server ends again and again, or did not answer in time.
    #[error("the database server does not come up; see {}", log.display())]
    NoAnswer {
        /// Where the reason is written.
        log: PathBuf,
    },
    /// A server of an earlier run does not stop.
    #[error("the database server of an earlier run (process {0}) does not stop; stop it by hand")]
    Leftover(u32),
}

/// A MariaDB server of our own, in a folder of our own, with a password of its own. It listens on a
/// Unix socket in that folder and nowhere else: on a port of loopback, anybody on this machine
/// could take its connections. It ends with this process, even if this process is killed.
#[derive(Debug)]
pub struct PrivateServer {
    keeper: Option<thread::JoinHandle<()>>,
    shared: Arc<Shared>,
    socket: PathBuf,
    password: Secret,
}

/// What the server's owner and its keeper share.
#[derive(Debug, Default)]
struct Shared {
    stopping: AtomicBool,
    pid: AtomicU32,
    /// The process itself, while it runs: its number may be another's afterwards.
    process: Mutex<Option<OwnedFd>>,
    /// Times in a row that the server ended soon after its start.
    failures: AtomicU32,
}

impl Shared {
    fn signal(&self, signal: Signal) {
        if let Some(process) = &*self.process.lock().unwrap_or_else(PoisonError::into_inner) {
            let _ = pidfd_send_signal(process, signal);
        }
    }

    fn set_process(&self, process: Option<OwnedFd>) {
        *self.process.lock().unwrap_or_else(PoisonError::into_inner) = process;
    }

    /// Waits, but not beyond the call to stop; true if it came.
    fn pause(&self, length: Duration) -> bool {
        let end = Instant::now() + length;
        while Instant::now() < end && !self.stopping.load(Ordering::Relaxed) {
            thread::sleep(Duration::from_millis(20));
        }
        self.stopping.load(Ordering::Relaxed)
    }
}

impl PrivateServer {
    /// Starts the server in `folder`; sets the folder up at the first start. Blocks until the
    /// server answers, which takes 1 to 3 seconds.
    ///
    /// # Errors
    /// [`PrivateServerError`] that says what to do.
    pub fn start(folder: &Path) -> Result<Self, PrivateServerError> {
        make_private_folder(folder)?;
        make_private_folder(&temporary_folder(folder))?;
        let log = folder.join("mariadbd.log");
        stop_leftover(folder)?;
        if !folder.join("data/mysql").is_dir() {
            set_up(folder)?;
        }
        let password = keep_password(folder)?;
        write_private(&folder.join("init.sql"), &init_sql(&password))?;
        let socket = socket_path(folder)?;
        let shared = Arc::new(Shared::default());
        let launch = Launch { folder: folder.to_owned(), socket: socket.clone(), shared: shared.clone() };
        let first = launch.spawn()?;
        let keeper = thread::Builder::new().name("database-keeper".into()).spawn(move || launch.keep(first));
        let keeper = keeper.map_err(|source| PrivateServerError::Io { path: folder.to_owned(), source })?;
        let server = Self { keeper: Some(keeper), shared, socket, password };
        if server.wait_until_it_answers() { Ok(server) } else { Err(PrivateServerError::NoAnswer { log }) }
    }

    /// The address of the database `name` on this server; it holds the password.
    pub fn url(&self, name: &str) -> String {
        url_of(&self.socket, &self.password, name)
    }

    /// The address of the database `name` on the server that another process runs in `folder`; none if there is none.
    pub fn running(folder: &Path, name: &str) -> Option<String> {
        let socket = socket_path(folder).ok().filter(|socket| greets(socket))?;
        let password = fs::read_to_string(folder.join("password")).ok()?;
        Some(url_of(&socket, &Secret::new(password.trim()), name))
    }

    /// The server's process number.
    pub fn pid(&self) -> u32 {
        self.shared.pid.load(Ordering::Relaxed)
    }

    /// Stops the server in order and waits for it.
    pub fn stop(mut self) {
        self.end();
    }

    fn end(&mut self) {
        self.shared.stopping.store(true, Ordering::Relaxed);
        self.shared.signal(Signal::TERM);
        // One that was stopped by hand does not hear it otherwise.
        self.shared.signal(Signal::CONT);
        let deadline = Instant::now() + STOP_TIMEOUT;
        let Some(keeper) = self.keeper.take() else { return };
        while !keeper.is_finished() && Instant::now() < deadline {
            thread::sleep(Duration::from_millis(20));
        }
        if !keeper.is_finished() {
            tracing::warn!(pid = self.pid(), "the private database does not stop; killing it");
            self.shared.signal(Signal::KILL);
        }
        let _ = keeper.join();
    }

    /// It listens before it has run the init file, and greets only after that.
    fn wait_until_it_answers(&self) -> bool {
        let deadline = Instant::now() + START_TIMEOUT;
        while Instant::now() < deadline {
            if greets(&self.socket) {
                return true;
            }
            let keeps_failing = self.shared.failures.load(Ordering::Relaxed) >= START_TRIES;
            if keeps_failing || self.keeper.as_ref().is_none_or(thread::JoinHandle::is_finished) {
                return false;
            }
            thread::sleep(Duration::from_millis(20));
        }
        false
    }
}

impl Drop for PrivateServer {
    fn drop(&mut self) {
        if self.keeper.is_some() {
            self.end();
        }
    }
}

/// What is needed to start the server, and to start it again.
struct Launch {
    folder: PathBuf,
    socket: PathBuf,
    shared: Arc<Shared>,
}

impl Launch {
    /// Starts the server under a tool that asks the kernel to end it when this process ends.
    fn spawn(&self) -> Result<Spawner, PrivateServerError> {
        let (sender, receiver) = std::sync::mpsc::channel();
        let mut command = Command::new("setpriv");
        command.args(["--pdeathsig", "TERM", "mariadbd", "--no-defaults"]).args(TUNING).arg("--skip-networking");
        command.args(user_option()).arg(option("socket", &self.socket));
        command.arg(option("datadir", &self.folder.join("data")));
        command.arg(option("pid-file", &self.folder.join("mariadbd.pid")));
        command.arg(option("log-error", &self.folder.join("mariadbd.log")));
        command.arg(option("init-file", &self.folder.join("init.sql")));
        command.env("TMPDIR", temporary_folder(&self.folder));
        // It would tell a supervisor of ours that it is ready.
        command.env_remove("NOTIFY_SOCKET");
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        // A terminal's interrupt goes to the whole process group: the database must outlast us.
        std::os::unix::process::CommandExt::process_group(&mut command, 0);
        // The kernel sends the death signal when the thread that started the child ends, so the
        // thread that waits for it must be the one that starts it.
        let shared = self.shared.clone();
        let waiter = thread::Builder::new().name("database-waiter".into()).spawn(move || {
            let mut child: Child = match command.spawn() {
                Ok(child) => child,
                Err(error) => return drop(sender.send(Err(error))),
            };
            shared.pid.store(child.id(), Ordering::Relaxed);
            // It is not waited for yet, so the number is its own.
            let number = i32::try_from(child.id()).ok().and_then(Pid::from_raw);
            shared.set_process(number.and_then(|number| pidfd_open(number, PidfdFlags::empty()).ok()));
            let _ = sender.send(Ok(()));
            let _ = child.wait();
            shared.set_process(None);
        });
        let missing = |source| PrivateServerError::Missing { program: "mariadbd", source };
        let waiter = waiter.map_err(missing)?;
        match receiver.recv() {
            Ok(Ok(())) => Ok(Spawner(waiter)),
            Ok(Err(source)) => Err(missing(source)),
            Err(_) => Err(missing(std::io::Error::other("the thread that starts it ended"))),
        }
    }

    /// Waits for the server to end, and starts it again unless it was told to stop.
    fn keep(self, first: Spawner) {
        let mut running = Some(first);
        loop {
            let began = Instant::now();
            if let Some(waiter) = running {
                let _ = waiter.0.join();
            }
            if self.shared.stopping.load(Ordering::Relaxed) {
                return;
            }
            let before = self.shared.failures.load(Ordering::Relaxed);
            let failures = if began.elapsed() < SOON { before + 1 } else { 0 };
            self.shared.failures.store(failures, Ordering::Relaxed);
            tracing::error!(failures, "the private database ended by itself; starting it again");
            if self.shared.pause(RESTART_PAUSE * (1 << failures.min(5))) {
                return;
            }
            running = match self.spawn() {
                Ok(running) => Some(running),
                Err(error) => {
                    tracing::error!(%error, "the private database cannot be started again; trying on");
                    None
                }
            };
        }
    }
}

/// The thread that started a server and waits for it.
struct Spawner(thread::JoinHandle<()>);

/// True if a server at `socket` begins the conversation, as the protocol wants.
fn greets(socket: &Path) -> bool {
    let Ok(mut stream) = UnixStream::connect(socket) else { return false };
    let _ = stream.set_read_timeout(Some(Duration::from_secs(1)));
    matches!(stream.read(&mut [0]), Ok(1))
}

fn option(name: &str, path: &Path) -> String {
    format!("--{name}={}", path.display())
}

/// The server refuses to run as root unless it is told to; nobody else may name a user.
fn user_option() -> Option<&'static str> {
    rustix::process::getuid().is_root().then_some("--user=root")
}

/// A server that starts clears temporary tables away, and would clear those of another one that
/// shares its temporary folder.
fn temporary_folder(folder: &Path) -> PathBuf {
    folder.join("tmp")
}

fn url_of(socket: &Path, password: &Secret, name: &str) -> String {
    let socket: String = socket.as_os_str().as_encoded_bytes().iter().map(percent_encoded).collect();
    format!("mysql://waverant:{}@localhost/{name}?socket={socket}", password.reveal())
}

/// One byte of a path as it stands in an address.
fn percent_encoded(byte: &u8) -> String {
    match byte {
        b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'.' | b'-' | b'_' => char::from(*byte).to_string(),
        _ => format!("%{byte:02X}"),
    }
}

/// The socket lies in the folder where its path is short enough for the system, and else in a
/// folder that is as private.
fn socket_path(folder: &Path) -> Result<PathBuf, PrivateServerError> {
    let inside = folder.join("mariadbd.sock");
    if inside.as_os_str().len() <= MAX_SOCKET_PATH {
        return Ok(inside);
    }
    let mut hash = 0xcbf2_9ce4_8422_2325_u64;
    for byte in inside.as_os_str().as_encoded_bytes() {
        hash = (hash ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01b3);
    }
    let other = std::env::temp_dir().join(format!("waverant-{hash:016x}"));
    make_private_folder(&other)?;
    let ours = fs::metadata(&other).is_ok_and(|found| {
        found.uid() == rustix::process::getuid().as_raw() && found.permissions().mode() & 0o077 == 0
    });
    if !ours {
        let source = std::io::Error::other("it belongs to somebody else; remove it");
        return Err(PrivateServerError::Io { path: other, source });
    }
    Ok(other.join("mariadbd.sock"))
}

fn make_private_folder(folder: &Path) -> Result<(), PrivateServerError> {
    let made = fs::DirBuilder::new().recursive(true).mode(0o700).create(folder);
    made.map_err(|source| PrivateServerError::Io { path: folder.to_owned(), source })
}

fn write_private(path: &Path, text: &str) -> Result<(), PrivateServerError> {
    let failed = |source| PrivateServerError::Io { path: path.to_owned(), source };
    let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path).map_err(failed)?;
    file.write_all(text.as_bytes()).map_err(failed)
}

/// Sets the data folder up beside its place, so that a broken set-up is never taken for data.
fn set_up(folder: &Path) -> Result<(), PrivateServerError> {
    let (fresh, data, log) = (folder.join("data.new"), folder.join("data"), folder.join("set-up.log"));
    let _ = fs::remove_dir_all(&fresh);
    let io = |path: &Path| {
        let path = path.to_owned();
        move |source| PrivateServerError::Io { path, source }
    };
    let output = fs::File::create(&log).map_err(io(&log))?;
    let errors = output.try_clone().map_err(io(&log))?;
    let status = Command::new("mariadb-install-db")
        .args(["--no-defaults", "--auth-root-authentication-method=socket", "--skip-test-db", "--skip-name-resolve"])
        // A machine whose own name leads nowhere, as a fresh one's may: nothing here is reached by name.
        .arg("--force")
        .args(["--innodb-log-file-size=16M", "--innodb-buffer-pool-size=16M"])
        .args(user_option())
        .arg(option("datadir", &fresh))
        .env("TMPDIR", temporary_folder(folder))
        .env_remove("NOTIFY_SOCKET")
        .stdin(Stdio::null())
        .stdout(output)
        .stderr(errors)
        .status()
        .map_err(|source| PrivateServerError::Missing { program: "mariadb-install-db", source })?;
    if !status.success() {
        let text = fs::read_to_string(&log).unwrap_or_default();
        let told = text.lines().rfind(|line| line.contains("ERROR"));
        let told = told.or_else(|| text.lines().find(|line| !line.trim().is_empty()));
        let reason = told.unwrap_or("no reason given").to_owned();
        return Err(PrivateServerError::SetUp { reason, log });
    }
    fs::rename(&fresh, &data).map_err(io(&data))
}

fn keep_password(folder: &Path) -> Result<Secret, PrivateServerError> {
    let path = folder.join("password");
    if let Ok(kept) = fs::read_to_string(&path)
        && !kept.trim().is_empty()
    {
        return Ok(Secret::new(kept.trim()));
    }
    let password = new_database_password();
    write_private(&path, password.reveal())?;
    Ok(password)
}

/// Run by the server before it takes connections. The password has no character to escape.
fn init_sql(password: &Secret) -> String {
    let password = password.reveal();
    format!(
        "CREATE DATABASE IF NOT EXISTS waverant CHARACTER SET utf8mb4;\n\
         DROP USER IF EXISTS 'waverant'@'127.0.0.1';\n\
         CREATE USER IF NOT EXISTS 'waverant'@'localhost' IDENTIFIED BY '{password}';\n\
         ALTER USER 'waverant'@'localhost' IDENTIFIED BY '{password}';\n\
         GRANT ALL ON `waverant%`.* TO 'waverant'@'localhost';\n"
    )
}

/// After a kill the server of the earlier run may still be writing its last pages.
fn stop_leftover(folder: &Path) -> Result<(), PrivateServerError> {
    let Ok(text) = fs::read_to_string(folder.join("mariadbd.pid")) else { return Ok(()) };
    let Ok(pid) = text.trim().parse::<u32>() else { return Ok(()) };
    // Taken hold of before it is looked at: what is signalled is what was seen.
    let number = i32::try_from(pid).ok().and_then(Pid::from_raw);
    let Some(process) = number.and_then(|number| pidfd_open(number, PidfdFlags::empty()).ok()) else { return Ok(()) };
    if !runs_in(pid, folder) {
        return Ok(());
    }
    tracing::info!(pid, "stopping the database server of an earlier run");
    let _ = pidfd_send_signal(&process, Signal::TERM);
    let _ = pidfd_send_signal(&process, Signal::CONT);
    let deadline = Instant::now() + LEFTOVER_TIMEOUT;
    while runs_in(pid, folder) {
        if Instant::now() > deadline {
            return Err(PrivateServerError::Leftover(pid));
        }
        thread::sleep(Duration::from_millis(50));
    }
    Ok(())
}

/// True if process `pid` is a database server in `folder`, and not a stranger with its number.
fn runs_in(pid: u32, folder: &Path) -> bool {
    let line = fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
    let wanted = option("datadir", &folder.join("data"));
    line.split(|byte| *byte == 0).any(|argument| argument == wanted.as_bytes())
}
