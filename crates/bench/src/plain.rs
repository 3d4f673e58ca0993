//! The floor: a program that reads length-prefixed pictures and writes them to all sinks, with a
//! channel and a task per connection.

use std::collections::VecDeque;
use std::io::IoSlice;
use std::path::Path;
use std::pin::Pin;
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use anyhow::Context;
use bytes::{Buf, Bytes, BytesMut};
use tokio::io::{AsyncBufReadExt, AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};
use tokio::process::Command;
use tokio::sync::mpsc;
use tokio::time::sleep;

use crate::Figures;
use crate::latency::Latencies;
use crate::process::{anonymous_mib, cpu_seconds, resident_mib, waits};
use crate::source::{Source, age};
use crate::tls::Tls;

const WARM_UP: Duration = Duration::from_secs(2);

/// The measured program: prints its two ports, takes one source and any number of sinks.
#[expect(clippy::print_stdout, reason = "the ports are the program's output")]
pub(crate) async fn copy(tls: Option<Tls>, batch: Duration) -> anyhow::Result<()> {
    let acceptor = tls.as_ref().map(Tls::acceptor);
    let (sources, sinks) = (TcpListener::bind("127.0.0.1:0").await?, TcpListener::bind("127.0.0.1:0").await?);
    println!("{} {}", sources.local_addr()?, sinks.local_addr()?);
    let (register, mut registered) = mpsc::unbounded_channel();
    tokio::spawn(async move {
        while let Ok((stream, _)) = sinks.accept().await {
            let _ = stream.set_nodelay(true);
            let acceptor = acceptor.clone();
            let (sender, mut receiver) = mpsc::channel::<Bytes>(64);
            if register.send(sender).is_err() {
                return;
            }
            tokio::spawn(async move {
                let mut stream: Pin<Box<dyn AsyncWrite + Send>> = match acceptor {
                    None => Box::pin(stream),
                    Some(acceptor) => match acceptor.accept(stream).await {
                        Ok(stream) => Box::pin(stream),
                        Err(_) => return,
                    },
                };
                let mut pictures = Vec::new();
                while receiver.recv_many(&mut pictures, 64).await > 0 {
                    if write_all(&mut stream, &mut pictures).await.is_err() {
                        return;
                    }
                    // What comes meanwhile goes together.
                    if !batch.is_zero() {
                        sleep(batch).await;
                    }
                }
            });
        }
    });
    let (mut source, _) = sources.accept().await?;
    let mut outputs = Vec::new();
    loop {
        let length = source.read_u32().await? as usize;
        let mut picture = BytesMut::with_capacity(4 + length);
        picture.extend_from_slice(&u32::try_from(length)?.to_be_bytes());
        picture.resize(4 + length, 0);
        source.read_exact(&mut picture[4..]).await?;
        let picture = picture.freeze();
        while let Ok(output) = registered.try_recv() {
            outputs.push(output);
        }
        for output in &outputs {
            let _ = output.try_send(picture.clone());
        }
    }
}

/// Writes pictures with as few calls as the connection takes.
async fn write_all(stream: &mut Pin<Box<dyn AsyncWrite + Send>>, pictures: &mut Vec<Bytes>) -> std::io::Result<()> {
    let mut rest: VecDeque<Bytes> = pictures.drain(..).collect();
    while !rest.is_empty() {
        let slices: Vec<IoSlice<'_>> = rest.iter().map(|picture| IoSlice::new(picture)).collect();
        let mut written = stream.write_vectored(&slices).await?;
        while let Some(first) = rest.front_mut() {
            let step = written.min(first.len());
            first.advance(step);
            written -= step;
            if !first.is_empty() {
                break;
            }
            rest.pop_front();
        }
    }
    stream.flush().await
}

pub(crate) async fn measure(
    own: &Path,
    count: usize,
    length: Duration,
    batch: Duration,
    tls: Option<&Tls>,
) -> anyhow::Result<Figures> {
    let mut child = Command::new(own)
        .args(["--plain-copy", "--batch", &batch.as_millis().to_string()])
        .args(tls.map(|tls| tls.folder()).into_iter().flat_map(|folder| ["--tls-folder".as_ref(), folder.as_os_str()]))
        .stdout(Stdio::piped())
        .kill_on_drop(true)
        .spawn()
        .context("plain copy")?;
    let mut line = String::new();
    BufReader::new(child.stdout.take().context("no output")?).read_line(&mut line).await?;
    let (sources, sinks) = line.trim().split_once(' ').context("no addresses")?;
    let pid = child.id().context("the plain copy ended")?;
    let mut source = Source::new();
    let (counting, bytes) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
    let mut tasks = Vec::new();
    for _ in 0..count {
        let stream = TcpStream::connect(sinks).await?;
        let (began, counting, bytes) = (source.began(), counting.clone(), bytes.clone());
        tasks.push(match tls {
            None => tokio::spawn(read_sink(stream, began, counting, bytes)),
            Some(tls) => tokio::spawn(read_sink(tls.connect(stream).await?, began, counting, bytes)),
        });
    }
    let mut out = TcpStream::connect(sources).await?;
    out.set_nodelay(true)?;
    let sender = tokio::spawn(async move {
        loop {
            let (_, _, picture) = source.next().await;
            let length = u32::try_from(picture.len()).unwrap_or(0);
            if out.write_u32(length).await.is_err() || out.write_all(&picture).await.is_err() {
                return;
            }
        }
    });
    sleep(WARM_UP).await;
    let (before, waits_before) = (cpu_seconds(pid)?, waits(pid));
    counting.store(true, Ordering::Relaxed);
    sleep(length).await;
    counting.store(false, Ordering::Relaxed);
    let cpu = cpu_seconds(pid)? - before;
    let (resident_mib, anonymous_mib, waits) = (resident_mib(pid), anonymous_mib(pid), waits(pid) - waits_before);
    sender.abort();
    child.kill().await?;
    let mut latencies = Latencies::default();
    for task in tasks {
        latencies.extend(task.await?);
    }
    let delivered_gb = bytes.load(Ordering::Relaxed) as f64 / 1e9;
    Ok(Figures {
        cpu_seconds_per_gb: cpu / delivered_gb,
        cores: cpu / length.as_secs_f64(),
        delivered_gb,
        latencies,
        resident_mib,
        anonymous_mib,
        waits_per_second: waits / length.as_secs_f64(),
        lost_frames: 0,
    })
}

async fn read_sink(
    mut stream: impl AsyncRead + Unpin,
    began: Instant,
    counting: Arc<AtomicBool>,
    bytes: Arc<AtomicU64>,
) -> Latencies {
    let mut latencies = Latencies::default();
    let mut picture = Vec::new();
    while let Ok(length) = stream.read_u32().await {
        picture.resize(length as usize, 0);
        if stream.read_exact(&mut picture).await.is_err() {
            break;
        }
        if counting.load(Ordering::Relaxed) {
            bytes.fetch_add(u64::from(length), Ordering::Relaxed);
            latencies.extend(age(&picture, began).map(one).unwrap_or_default());
        }
    }
    latencies
}

fn one(latency: f64) -> Latencies {
    let mut latencies = Latencies::default();
    latencies.push(latency);
    latencies
}
