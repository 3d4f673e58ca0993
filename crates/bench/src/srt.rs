//! SRT beside a plain copy of the same datagrams with the same batching, and the reading of
//! transport streams: what each costs on one core.

use std::hint::black_box;
use std::net::SocketAddr;
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use anyhow::{Context, anyhow};
use bytes::Bytes;
use tokio::runtime::Builder;
use tokio::time::{sleep_until, timeout_at};
use tokio_util::sync::CancellationToken;
use waverant_container::{TsReader, TsWriter};
use waverant_media::testing::h264;
use waverant_media::{MediaTime, Packet, Track, TrackId, TrackKind, Tracks};
use waverant_srt::{CloseReason, Config, Connection, Message, Passphrase, RejectReason, Request, Statistics};
use waverant_udp::{DatagramSocket, Decision, Doorkeeper, Inbox, Link, Onward, SrtSocket, Turned, Welcome};

use crate::process::thread_cpu_seconds;

/// Streams at once, and what each carries: 8 times 20 Mbit/s.
const STREAMS: usize = 8;
const BYTES_PER_SECOND: usize = 2_500_000;

/// Seven packets of a transport stream.
const MESSAGE: usize = 1316;

/// Header and message.
const DATAGRAM: usize = MESSAGE + 16;

/// What is sent at once, as an encoder does that sends a picture.
const STEP: Duration = Duration::from_millis(10);

/// How often a plain receiver reads: as often as ours.
const READ_INTERVAL: Duration = Duration::from_millis(2);

/// Each kind is measured so often.
const ROUNDS: usize = 5;

const PASSPHRASE: &str = "wexcombe reach";

/// Bytes of a transport stream that are read in a round.
const TS_LENGTH: usize = 64 << 20;

/// What one end cost.
#[derive(Clone, Copy, Debug)]
struct Cost {
    cpu_seconds: f64,
    gigabytes: f64,
}

impl Cost {
    fn per_gb(self) -> f64 {
        self.cpu_seconds / self.gigabytes
    }
}

/// The lower cost of each end.
fn cheaper((send, receive): (Cost, Cost), (other_send, other_receive): (Cost, Cost)) -> (Cost, Cost) {
    let less = |one: Cost, other: Cost| if one.per_gb() <= other.per_gb() { one } else { other };
    (less(send, other_send), less(receive, other_receive))
}

/// Prints CPU seconds per GB of both ends, plain, over SRT, and over SRT with AES-128.
#[expect(clippy::print_stdout, reason = "the table is the program's output")]
pub(crate) fn measure(length: Duration) -> anyhow::Result<()> {
    let seconds = length.as_secs();
    println!(
        "{STREAMS} streams of 20 Mbit/s over loopback; CPU seconds per GB, the least of {ROUNDS} rounds of {seconds} s"
    );
    println!("{:>12}  {:>8}  {:>6}  {:>8}  {:>6}", "", "send", "ratio", "receive", "ratio");
    // In turn, so that what else the machine does hits all alike.
    let mut least = [None; 3];
    for _ in 0..ROUNDS {
        let costs = [plain(length)?, srt(length, None)?, srt(length, Some(PASSPHRASE))?];
        least = std::array::from_fn(|at| Some(least[at].map_or(costs[at], |least| cheaper(least, costs[at]))));
    }
    let [Some((plain_send, plain_receive)), Some(clear), Some(encrypted)] = least else { return Ok(()) };
    let row = |name: &str, send: Cost, receive: Cost| {
        let (send_ratio, receive_ratio) =
            (send.per_gb() / plain_send.per_gb(), receive.per_gb() / plain_receive.per_gb());
        let (send, receive) = (send.per_gb(), receive.per_gb());
        println!("{name:>12}  {send:>8.2}  {send_ratio:>6.2}  {receive:>8.2}  {receive_ratio:>6.2}");
    };
    row("plain UDP", plain_send, plain_receive);
    row("SRT", clear.0, clear.1);
    row("SRT AES-128", encrypted.0, encrypted.1);
    println!("transport stream read at {:.2} GB/s on one core", read_transport_stream());
    Ok(())
}

fn config(passphrase: Option<&str>) -> anyhow::Result<Config> {
    Ok(Config { passphrase: passphrase.map(Passphrase::new).transpose()?, ..Config::default() })
}

/// Messages of one step of one stream.
fn messages_per_step() -> usize {
    BYTES_PER_SECOND * usize::try_from(STEP.as_millis()).unwrap_or(10) / 1000 / MESSAGE
}

fn srt(length: Duration, passphrase: Option<&str>) -> anyhow::Result<(Cost, Cost)> {
    let config = config(passphrase)?;
    let stop = CancellationToken::new();
    let (address_sender, address) = mpsc::channel();
    let receiver = thread::spawn({
        let (stop, config) = (stop.clone(), config.clone());
        move || receive_over_srt(&config, stop, &address_sender)
    });
    let address = address.recv().context("the receiver did not start")?;
    let sent = run_alone(send_over_srt(address, config, length));
    stop.cancel();
    let received = receiver.join().map_err(|_| anyhow!("the receiver failed"))??;
    Ok((sent?, received))
}

fn run_alone<T>(work: impl Future<Output = anyhow::Result<T>>) -> anyhow::Result<T> {
    Builder::new_current_thread().enable_all().build()?.block_on(work)
}

async fn send_over_srt(address: SocketAddr, config: Config, length: Duration) -> anyhow::Result<Cost> {
    let mut links = Vec::new();
    for _ in 0..STREAMS {
        links.push(Link::call(address, config.clone(), None).await?);
    }
    let (began, before) = (Instant::now(), thread_cpu_seconds()?);
    let tasks: Vec<_> = links.into_iter().map(|link| tokio::spawn(send_on(link, began, length))).collect();
    let mut sent = 0;
    for task in tasks {
        sent += task.await??;
    }
    Ok(Cost { cpu_seconds: thread_cpu_seconds()? - before, gigabytes: sent as f64 / 1e9 })
}

/// Returns the bytes that were sent.
async fn send_on(mut link: Link, began: Instant, length: Duration) -> anyhow::Result<usize> {
    let message = Bytes::from(vec![7; MESSAGE]);
    let (mut sent, mut at) = (0, began);
    while at < began + length {
        at += STEP;
        for _ in 0..messages_per_step() {
            link.send(&message)?;
            sent += MESSAGE;
        }
        link.run_until(at, |_| {}).await.map_err(|reason| anyhow!("{reason}"))?;
    }
    link.close();
    Ok(sent)
}

fn receive_over_srt(
    config: &Config,
    stop: CancellationToken,
    address: &mpsc::Sender<SocketAddr>,
) -> anyhow::Result<Cost> {
    let counted = std::sync::Arc::new(std::sync::atomic::AtomicUsize::new(0));
    run_alone(async {
        let socket = DatagramSocket::bind(SocketAddr::from(([127, 0, 0, 1], 0)))?;
        address.send(socket.local_address()?)?;
        let before = thread_cpu_seconds()?;
        let counter = Counter { config: config.clone(), bytes: counted.clone() };
        SrtSocket::new(socket, config, counter)?.run(stop).await;
        let bytes = counted.load(std::sync::atomic::Ordering::Relaxed);
        Ok(Cost { cpu_seconds: thread_cpu_seconds()? - before, gigabytes: bytes as f64 / 1e9 })
    })
}

/// Lets everybody in and counts what they send.
struct Counter {
    config: Config,
    bytes: std::sync::Arc<std::sync::atomic::AtomicUsize>,
}

impl Doorkeeper for Counter {
    type Guest = ();
    type Pass = ();

    fn judge(&mut self, _: &Request) -> Decision<()> {
        Decision::Now(Ok(Welcome { config: self.config.clone(), pass: () }))
    }

    fn admit(&mut self, _: &Request, (): ()) -> Result<(), RejectReason> {
        Ok(())
    }

    fn refused(&mut self, _: &Request, (): (), _: RejectReason) {}

    fn turned_away(&mut self, _: Turned) {}

    fn message(&mut self, (): &mut (), message: Message<'_>) {
        self.bytes.fetch_add(message.payload.len(), std::sync::atomic::Ordering::Relaxed);
    }

    fn serve(&mut self, (): &mut (), _: &mut Connection, _: Instant) -> Onward {
        Onward::GoesOn
    }

    fn figures(&mut self, (): &mut (), _: &Statistics) {}

    fn closed(&mut self, (): (), _: CloseReason) {}
}

/// The floor: the same datagrams with the same calls, and nothing else.
fn plain(length: Duration) -> anyhow::Result<(Cost, Cost)> {
    let (address_sender, address) = mpsc::channel();
    let receiver = thread::spawn(move || receive_plainly(length, &address_sender));
    let address = address.recv().context("the receiver did not start")?;
    let sent = run_alone(send_plainly(address, length));
    Ok((sent?, receiver.join().map_err(|_| anyhow!("the receiver failed"))??))
}

async fn send_plainly(address: SocketAddr, length: Duration) -> anyhow::Result<Cost> {
    let any = SocketAddr::from(([127, 0, 0, 1], 0));
    let sockets = (0..STREAMS).map(|_| DatagramSocket::bind(any)).collect::<Result<Vec<_>, _>>()?;
    let source = vec![7; MESSAGE];
    let (began, before) = (Instant::now(), thread_cpu_seconds()?);
    let (mut sent, mut at) = (0, began);
    let mut buffer = Vec::new();
    while at < began + length {
        at += STEP;
        for socket in &sockets {
            buffer.clear();
            for _ in 0..messages_per_step() {
                buffer.extend_from_slice(&[0; DATAGRAM - MESSAGE]);
                buffer.extend_from_slice(&source);
            }
            for batch in buffer.chunks(DATAGRAM * 45) {
                socket.send(address, batch, DATAGRAM)?;
            }
            sent += messages_per_step() * MESSAGE;
        }
        sleep_until(at.into()).await;
    }
    Ok(Cost { cpu_seconds: thread_cpu_seconds()? - before, gigabytes: sent as f64 / 1e9 })
}

fn receive_plainly(length: Duration, address: &mpsc::Sender<SocketAddr>) -> anyhow::Result<Cost> {
    run_alone(async {
        let socket = DatagramSocket::bind(SocketAddr::from(([127, 0, 0, 1], 0)))?;
        address.send(socket.local_address()?)?;
        let (end, before) = (Instant::now() + length + STEP * 20, thread_cpu_seconds()?);
        let (mut bytes, mut inbox) = (0, Inbox::default());
        while Instant::now() < end {
            let _ = timeout_at(end.into(), socket.readable()).await;
            loop {
                socket.read(&mut inbox)?;
                let datagrams = inbox.received().flat_map(|received| received.datagrams());
                bytes += datagrams.map(|datagram| black_box(datagram).len() * MESSAGE / DATAGRAM).sum::<usize>();
                if !inbox.is_full() {
                    break;
                }
            }
            sleep_until((Instant::now() + READ_INTERVAL).into()).await;
        }
        Ok(Cost { cpu_seconds: thread_cpu_seconds()? - before, gigabytes: bytes as f64 / 1e9 })
    })
}

/// GB/s of the fastest of five rounds.
fn read_transport_stream() -> f64 {
    let mut tracks = Tracks::new();
    tracks.set(Track::new(TrackId::VIDEO, h264()));
    let mut writer = TsWriter::new();
    writer.set_tracks(&tracks);
    let mut raw = Vec::with_capacity(TS_LENGTH + (1 << 20));
    // 6 Mbit/s in pictures of 25 KB.
    let mut picture = vec![0, 0, 0x61, 0xa4, 0x65, 0x88];
    picture.extend((0..24_994_u32).map(|place| u8::try_from(place.wrapping_mul(0x9e37_79b9) >> 24).unwrap_or(1) | 1));
    let picture = Bytes::from(picture);
    for number in 0.. {
        if raw.len() >= TS_LENGTH {
            break;
        }
        let dts = MediaTime::from_millis(number * 33);
        let payload = picture.clone();
        let packet = Packet {
            track: TrackId::VIDEO,
            kind: TrackKind::Video,
            dts,
            pts: dts,
            random_access: number % 60 == 0,
            payload,
        };
        writer.write(&packet, &mut raw);
    }
    let round = || {
        let (mut reader, mut events) = (TsReader::new(), Vec::new());
        let began = Instant::now();
        for piece in raw.chunks(MESSAGE) {
            reader.push(piece, &mut events);
            black_box(&events);
            events.clear();
        }
        raw.len() as f64 / 1e9 / began.elapsed().as_secs_f64()
    };
    (0..5).map(|_| round()).fold(0.0, f64::max)
}
