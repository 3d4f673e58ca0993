//! Viewers of a channel beside its legs: what they cost, beside the same bytes served as files, and what the legs
//! notice.

use std::net::SocketAddr;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use axum::Router;
use serde_json::json;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinSet;
use tokio::time::sleep;
use tower_http::services::ServeDir;

use crate::Figures;
use crate::process::cpu_seconds;
use crate::relay::{House, Plan};

/// Legs beside the viewers.
const LEGS: usize = 20;

/// How long a segment is, and how often a viewer of playlists looks.
const SEGMENT: Duration = Duration::from_secs(2);

/// A playlist, as a file.
const PLAYLIST_BYTES: usize = 3_000;

/// The buffer of a viewer.
const READ: usize = 64 * 1024;

/// What viewers got so far.
#[derive(Debug, Default)]
struct Got {
    bytes: AtomicU64,
    answers: AtomicU64,
    failures: AtomicU64,
}

/// Measures `by_playlist` viewers of HLS and `by_picture` viewers over WebSockets.
#[expect(clippy::print_stdout, reason = "the table is the program's output")]
pub(crate) async fn measure(
    waverantd: &Path,
    own: &Path,
    (by_playlist, by_picture, kbps): (usize, usize, usize),
    length: Duration,
) -> anyhow::Result<()> {
    let house = House::start(waverantd, 1, LEGS)?;
    house.call("PATCH", "/channels/bench0", &json!({"viewing": {"audience": "everybody"}}))?;
    let plan = Plan { channels: 1, sinks: LEGS, faulty: 0, batch: None, length, records: false, kbps };
    let alone = house.measure(&plan, None).await?;
    println!("one show of {kbps} kbit/s to {LEGS} legs, {} s each", length.as_secs());
    tell("no viewers", &alone, None);
    for (name, playlists, pictures) in [("HLS", by_playlist, 0), ("WebSocket", 0, by_picture)] {
        if playlists + pictures == 0 {
            continue;
        }
        let crowd = Crowd::start(own, house.viewing_address, (playlists, pictures))?;
        let beside = house.measure(&plan, None).await?;
        let (bytes_per_second, answers, failures) = crowd.stop(length);
        let cost = (beside.cores - alone.cores).max(0.0) / (bytes_per_second / 1e9);
        tell(&format!("{} {name}", playlists + pictures), &beside, Some((bytes_per_second, cost)));
        println!("             {answers} answers, {failures} failures");
    }
    let (bytes_per_second, cores) = files(own, by_playlist, kbps, length).await?;
    let cost = cores / (bytes_per_second / 1e9);
    println!("{by_playlist:>5} of files  {:>6.0} Mbit/s  {cost:>6.2} s/GB", bytes_per_second * 8e-6);
    Ok(())
}

#[expect(clippy::print_stdout, reason = "the table is the program's output")]
fn tell(name: &str, figures: &Figures, viewers: Option<(f64, f64)>) {
    print!(
        "{name:>14}  {:>5.2} cores  legs: p50 {:>5.1} ms, p99 {:>6.1} ms, {} lost  {:>6.1} MiB anonymous",
        figures.cores,
        figures.latencies.percentile(50.0),
        figures.latencies.percentile(99.0),
        figures.lost_frames,
        figures.anonymous_mib,
    );
    match viewers {
        Some((bytes, cost)) => println!("  viewers: {:>6.0} Mbit/s, {cost:>5.2} s/GB", bytes * 8e-6),
        None => println!(),
    }
}

/// Viewers in a process of their own, with less of the processor than the show has: on their own machines they would
/// take nothing of it.
struct Crowd {
    child: Child,
    samples: Arc<parking_lot::Mutex<Vec<Sample>>>,
}

/// When, and what was got until then: bytes, answers, failures.
type Sample = (Instant, [u64; 3]);

impl Crowd {
    fn start(own: &Path, address: SocketAddr, (playlists, pictures): (usize, usize)) -> anyhow::Result<Self> {
        let mut command = Command::new("nice");
        command.args(["-n", "10"]).arg(own).args(["--watch", &address.to_string()]);
        command.args(["--viewers", &playlists.to_string(), "--pictures", &pictures.to_string()]);
        let mut child = command.stdout(Stdio::piped()).spawn()?;
        let out = child.stdout.take().context("no output")?;
        let samples = Arc::new(parking_lot::Mutex::new(Vec::new()));
        let kept = samples.clone();
        std::thread::spawn(move || {
            for line in std::io::BufRead::lines(std::io::BufReader::new(out)).map_while(Result::ok) {
                let mut counts = line.split(' ').map(|count| count.parse().unwrap_or(0));
                let counts = std::array::from_fn(|_| counts.next().unwrap_or(0));
                kept.lock().push((Instant::now(), counts));
            }
        });
        Ok(Self { child, samples })
    }

    /// Bytes per second over the last `length` in which some came, and answers and failures in all.
    fn stop(mut self, length: Duration) -> (f64, u64, u64) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        let samples = self.samples.lock();
        let Some((_, [total, answers, failures])) = samples.last().copied() else { return (0.0, 0, 0) };
        // When the show ended, nothing more came.
        let Some((end, _)) = samples.iter().find(|(_, [bytes, ..])| *bytes == total).copied() else {
            return (0.0, answers, failures);
        };
        let start = samples.iter().find(|(at, _)| end.saturating_duration_since(*at) <= length).copied();
        let (begin, [before, ..]) = start.unwrap_or((end, [total, 0, 0]));
        ((total - before) as f64 / (end - begin).as_secs_f64().max(1e-3), answers, failures)
    }
}

/// Runs viewers until it is ended, and prints what they got.
#[expect(clippy::print_stdout, reason = "its counts are what it is asked for")]
pub(crate) async fn watch(address: SocketAddr, playlists: usize, pictures: usize) -> anyhow::Result<()> {
    let (got, mut viewers) = (Arc::new(Got::default()), JoinSet::new());
    for number in 0..playlists {
        viewers.spawn(follow(address, number, got.clone()));
    }
    for _ in 0..pictures {
        viewers.spawn(take_pictures(address, got.clone()));
    }
    loop {
        let [bytes, answers, failures] =
            [&got.bytes, &got.answers, &got.failures].map(|count| count.load(Ordering::Relaxed));
        println!("{bytes} {answers} {failures}");
        sleep(Duration::from_millis(250)).await;
    }
}

/// A viewer of playlists: every two seconds the playlists and what is new in them.
async fn follow(address: SocketAddr, number: usize, got: Arc<Got>) {
    // Not all at once, as people do not come all at once.
    sleep(SEGMENT * u32::try_from(number % 40).unwrap_or(0) / 40).await;
    let mut caller = Caller::new(address);
    let (mut folder, mut newest) = (String::new(), None);
    loop {
        if folder.is_empty() {
            match caller.get("/watch/bench0/live/index.m3u8", &got).await {
                Ok(Some(text)) => folder = media_folder(&text),
                _ => sleep(Duration::from_millis(300)).await,
            }
            continue;
        }
        let began = Instant::now();
        match caller.get(&format!("{folder}index.m3u8"), &got).await {
            Ok(Some(text)) => {
                let new = segments(&text).filter(|segment| newest.is_none_or(|newest| *segment > newest));
                let new: Vec<u64> = if newest.is_none() { new.last().into_iter().collect() } else { new.collect() };
                for segment in new {
                    newest = Some(segment);
                    if caller.get(&format!("{folder}{segment}.m4s"), &got).await.is_err() {
                        got.failures.fetch_add(1, Ordering::Relaxed);
                    }
                }
            }
            Ok(None) => folder.clear(),
            Err(_) => {
                got.failures.fetch_add(1, Ordering::Relaxed);
            }
        }
        sleep(SEGMENT.saturating_sub(began.elapsed())).await;
    }
}

/// The folder of the last playlist that a multivariant one names.
fn media_folder(text: &str) -> String {
    let last = text.lines().last().unwrap_or_default();
    format!("/watch/bench0/live/{}", last.strip_suffix("index.m3u8").unwrap_or_default())
}

fn segments(text: &str) -> impl Iterator<Item = u64> {
    text.lines().filter(|line| !line.starts_with('#')).filter_map(|line| line.strip_suffix(".m4s")?.parse().ok())
}

/// A viewer over a WebSocket: reads all that comes.
async fn take_pictures(address: SocketAddr, got: Arc<Got>) {
    loop {
        if let Ok(mut stream) = TcpStream::connect(address).await {
            let hello = format!(
                "GET /watch/bench0/pictures HTTP/1.1\r\nHost: {address}\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\
                 Sec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n"
            );
            let mut buffer = vec![0; READ];
            let mut status = [0; 12];
            let asked = stream.write_all(hello.as_bytes()).await.and(stream.read_exact(&mut status).await.map(|_| ()));
            // Before the show nothing is to be had, and the connection is kept for the next request.
            if asked.is_ok() && status.ends_with(b"101") {
                while let Ok(count @ 1..) = stream.read(&mut buffer).await {
                    got.bytes.fetch_add(count as u64, Ordering::Relaxed);
                }
            }
        }
        sleep(Duration::from_millis(300)).await;
    }
}

/// A connection that is used again.
struct Caller {
    address: SocketAddr,
    stream: Option<BufReader<TcpStream>>,
    buffer: Vec<u8>,
}

impl Caller {
    fn new(address: SocketAddr) -> Self {
        Self { address, stream: None, buffer: vec![0; READ] }
    }

    /// The text of an answer; none if it is no success.
    async fn get(&mut self, path: &str, got: &Got) -> anyhow::Result<Option<String>> {
        let answer = self.try_get(path, got).await;
        if answer.is_err() {
            self.stream = None;
        }
        answer
    }

    async fn try_get(&mut self, path: &str, got: &Got) -> anyhow::Result<Option<String>> {
        let mut stream = match self.stream.take() {
            Some(stream) => stream,
            None => BufReader::with_capacity(READ, TcpStream::connect(self.address).await?),
        };
        let request = format!("GET {path} HTTP/1.1\r\nHost: {}\r\n\r\n", self.address);
        stream.get_mut().write_all(request.as_bytes()).await?;
        let (mut line, mut length, mut is_good) = (String::new(), 0usize, false);
        loop {
            line.clear();
            ensure!(stream.read_line(&mut line).await? > 0, "the connection ended");
            let text = line.trim_end().to_ascii_lowercase();
            is_good |= text.starts_with("http/1.1 200");
            if let Some(value) = text.strip_prefix("content-length: ") {
                length = value.parse()?;
            }
            if text.is_empty() {
                break;
            }
        }
        let (mut text, mut left) = (Vec::new(), length);
        while left > 0 {
            let wanted = left.min(self.buffer.len());
            let count = stream.read(&mut self.buffer[..wanted]).await?;
            ensure!(count > 0, "the answer is cut short");
            if length < READ {
                text.extend_from_slice(&self.buffer[..count]);
            }
            left -= count;
        }
        got.bytes.fetch_add(length as u64, Ordering::Relaxed);
        got.answers.fetch_add(1, Ordering::Relaxed);
        self.stream = Some(stream);
        Ok(is_good.then(|| String::from_utf8_lossy(&text).into_owned()))
    }
}

/// The floor: as many viewers of files; bytes per second, and cores.
async fn files(own: &Path, count: usize, kbps: usize, length: Duration) -> anyhow::Result<(f64, f64)> {
    let folder = tempfile::tempdir()?;
    std::fs::write(folder.path().join("index.m3u8"), vec![b'#'; PLAYLIST_BYTES])?;
    std::fs::write(
        folder.path().join("segment.m4s"),
        vec![0x55; kbps * 1000 / 8 * usize::try_from(SEGMENT.as_secs())?],
    )?;
    let mut server = Server::start(own, folder.path())?;
    let (got, mut viewers) = (Arc::new(Got::default()), JoinSet::new());
    for number in 0..count {
        let (address, got) = (server.address, got.clone());
        viewers.spawn(async move {
            sleep(SEGMENT * u32::try_from(number % 40).unwrap_or(0) / 40).await;
            let mut caller = Caller::new(address);
            loop {
                let began = Instant::now();
                let _ = caller.get("/index.m3u8", &got).await;
                let _ = caller.get("/segment.m4s", &got).await;
                sleep(SEGMENT.saturating_sub(began.elapsed())).await;
            }
        });
    }
    sleep(SEGMENT * 2).await;
    let (before, bytes, began) = (cpu_seconds(server.child.id())?, got.bytes.load(Ordering::Relaxed), Instant::now());
    sleep(length).await;
    let seconds = began.elapsed().as_secs_f64();
    let rate = (got.bytes.load(Ordering::Relaxed) - bytes) as f64 / seconds;
    let cores = (cpu_seconds(server.child.id())? - before) / seconds;
    viewers.shutdown().await;
    server.stop();
    Ok((rate, cores))
}

struct Server {
    child: Child,
    address: SocketAddr,
}

impl Server {
    fn start(own: &Path, folder: &Path) -> anyhow::Result<Self> {
        let mut child = Command::new(own).arg("--files").arg("--folder").arg(folder).stdout(Stdio::piped()).spawn()?;
        let mut line = String::new();
        let out = child.stdout.take().context("no output")?;
        std::io::BufRead::read_line(&mut std::io::BufReader::new(out), &mut line)?;
        Ok(Self { address: line.trim().parse()?, child })
    }

    fn stop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.stop();
    }
}

/// Serves a folder's files, as the measured floor.
#[expect(clippy::print_stdout, reason = "its address is what it is asked for")]
pub(crate) async fn serve_files(folder: &Path) -> anyhow::Result<()> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    println!("{}", listener.local_addr()?);
    Ok(axum::serve(listener, Router::new().fallback_service(ServeDir::new(folder))).await?)
}
