//! The chunk layer beside memcpy: what parsing costs on one core, and what serialising does.

use std::hint::black_box;
use std::time::Instant;

use anyhow::ensure;
use bytes::{Bytes, BytesMut};
use waverant_rtmp::{
    ClientConfig, ClientConnection, ClientPurpose, ClientTarget, Limits, MediaOutput, ServerConfig, ServerConnection,
    ServerEvent, Timestamp,
};

/// Bytes of a message's payload.
const MESSAGE: usize = 64 * 1024;

/// Messages in one round: 64 MiB.
const MESSAGES: usize = 1024;

/// Bytes handed over at once, as the service reads them.
const READ: usize = 32 * 1024;

/// Rounds of which the best counts.
const ROUNDS: usize = 7;

/// Prints throughput in GB/s for input in chunks of 128, 4096 and 65536 bytes.
#[expect(clippy::print_stdout, reason = "the table is the program's output")]
pub(crate) fn measure() -> anyhow::Result<()> {
    let copy = best(|| copy_all(&vec![7u8; MESSAGE * MESSAGES]));
    println!("chunk layer, messages of 64 KiB, one core; GB/s, the best of {ROUNDS} rounds of 64 MiB");
    println!("{:>10}  {:>8}  {:>8}  {:>10}", "chunk size", "memcpy", "parse", "serialise");
    for chunk_size in [128, 4096, 65536] {
        let (input, serialise) = serialise(chunk_size)?;
        let mut fault = None;
        let parse = best(|| match parse(&input) {
            Ok(time) => time,
            Err(error) => {
                fault = Some(error);
                1.0
            }
        });
        if let Some(error) = fault {
            return Err(error);
        }
        println!("{chunk_size:>10}  {copy:>8.1}  {parse:>8.1}  {serialise:>10.1}");
    }
    Ok(())
}

/// GB/s of the fastest round.
fn best(mut round: impl FnMut() -> f64) -> f64 {
    let seconds = (0..ROUNDS).map(|_| round()).fold(f64::INFINITY, f64::min);
    (MESSAGE * MESSAGES) as f64 / 1e9 / seconds
}

/// The floor: the same bytes into a buffer per message.
fn copy_all(bytes: &[u8]) -> f64 {
    let began = Instant::now();
    for message in bytes.chunks(MESSAGE) {
        let mut buffer = BytesMut::with_capacity(MESSAGE);
        buffer.extend_from_slice(message);
        black_box(buffer.freeze());
    }
    began.elapsed().as_secs_f64()
}

/// A publishing client with its server, past their greetings.
fn pair(chunk_size: u32) -> anyhow::Result<(ClientConnection, ServerConnection)> {
    let now = Instant::now();
    let target = ClientTarget {
        purpose: ClientPurpose::Publish,
        app: "in".into(),
        tc_url: "rtmp://bench/in".into(),
        stream_name: "key".into(),
    };
    let mut client = ClientConnection::new(ClientConfig { chunk_size, ..ClientConfig::default() }, target, now);
    let config = ServerConfig { limits: Limits::default(), ..ServerConfig::default() };
    let mut server = ServerConnection::new(config, now);
    for _ in 0..10 {
        while let Some(piece) = client.poll_transmit() {
            server.handle_input(now, &piece)?;
        }
        while let Some(event) = server.poll_event() {
            if let ServerEvent::PublishRequested(request) = event {
                server.accept_publish(now, request.stream)?;
            }
        }
        while let Some(piece) = server.poll_transmit() {
            client.handle_input(now, &piece)?;
        }
    }
    ensure!(client.is_publishing(), "the greetings did not end");
    Ok((client, server))
}

/// Seconds that a server takes for `input`.
fn parse((chunk_size, input): &(u32, Vec<u8>)) -> anyhow::Result<f64> {
    let (_, mut server) = pair(*chunk_size)?;
    let now = Instant::now();
    let (mut messages, began) = (0, Instant::now());
    for piece in input.chunks(READ) {
        server.handle_input(now, piece)?;
        while let Some(event) = server.poll_event() {
            messages += usize::from(matches!(black_box(event), ServerEvent::Media { .. }));
        }
        while server.poll_transmit().is_some() {}
    }
    let seconds = began.elapsed().as_secs_f64();
    ensure!(messages == MESSAGES, "{messages} of {MESSAGES} messages arrived");
    Ok(seconds)
}

/// Messages in chunks, and the GB/s with which they were made.
fn serialise(chunk_size: u32) -> anyhow::Result<((u32, Vec<u8>), f64)> {
    let payload = Bytes::from(vec![7u8; MESSAGE - 5]);
    let mut out = Vec::new();
    let mut fastest = f64::INFINITY;
    for round in 0..ROUNDS {
        let (mut client, _) = pair(chunk_size)?;
        let began = Instant::now();
        for number in 0..u32::try_from(MESSAGES)? {
            client.send_video(Timestamp(number), &[0x27, 1, 0, 0, 0], &payload)?;
            while let Some(piece) = client.poll_transmit() {
                if round == 0 {
                    out.extend_from_slice(&piece);
                }
                black_box(piece);
            }
        }
        if round > 0 {
            fastest = fastest.min(began.elapsed().as_secs_f64());
        }
    }
    Ok(((chunk_size, out), (MESSAGE * MESSAGES) as f64 / 1e9 / fastest))
}
