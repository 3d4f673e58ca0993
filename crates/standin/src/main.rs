//! `waverant-standin`: the outside world for demos and tests.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

use anyhow::Context;
use clap::{Args, Parser, Subcommand};
use tokio::signal::unix::{SignalKind, signal};
use waverant_standin::{
    Authority, Clip, Club, ClubAnswer, Encoder, EncoderFault, EncoderOptions, EncoderReport, Network, NetworkFaults,
    Platform, PlatformFault, PlatformOptions, PlatformReport, Player, PlayerOptions, PlayerReport, SrtContainer,
    SrtOptions, Validity, compare, read_take,
};

/// Plays an encoder or a platform, and compares what they saw.
#[derive(Parser, Debug)]
#[command(name = "waverant-standin", version)]
enum Arguments {
    /// Publish a clip over RTMP or SRT, again and again, with running timestamps.
    Encoder(EncoderArguments),
    /// Take streams over RTMP or SRT and remember every payload.
    Platform(PlatformArguments),
    /// Watch a stream over RTMP and remember every payload.
    Player(PlayerArguments),
    /// Be a club's system that is asked before somebody is let in.
    Club(ClubArguments),
    /// Carry datagrams to a house as a bad network does.
    Network(NetworkArguments),
    /// Compare what an encoder sent with what a platform or a take holds.
    #[command(subcommand)]
    Compare(CompareArguments),
}

#[derive(Args, Debug)]
struct EncoderArguments {
    /// The server field.
    #[arg(long)]
    server: String,
    /// The key field.
    #[arg(long, env = "STANDIN_KEY", hide_env_values = true)]
    key: String,
    /// The clip, fragmented MP4 with H.264 and AAC.
    #[arg(long, required_unless_present = "made")]
    clip: Option<PathBuf>,
    /// Instead of a clip: payloads made up in these codecs, as in `hevc,opus` or `h264,aac,aac,aac`.
    #[arg(long, value_delimiter = ',')]
    made: Vec<String>,
    /// Tracks of sound with language and name, as in `en=Mix,de=Kommentar`: the clip's sound in each.
    #[arg(long, value_delimiter = ',')]
    sounds: Vec<String>,
    /// A sound that is silent now and then: its number from 1, every how many seconds, for how many, as in `2:60:20`.
    #[arg(long, value_parser = pauses_of)]
    silent: Option<(u8, u32, u32)>,
    /// Over SRT: the passphrase.
    #[arg(long, env = "STANDIN_PASSPHRASE", hide_env_values = true)]
    passphrase: Option<String>,
    /// Over SRT: the stream id, instead of the key alone.
    #[arg(long)]
    stream_id: Option<String>,
    /// Over SRT: Matroska instead of MPEG-TS.
    #[arg(long)]
    matroska: bool,
    /// Over SRT: the latency to ask for.
    #[arg(long)]
    latency_ms: Option<u64>,
    /// Chunk size to announce.
    #[arg(long, default_value_t = 4096)]
    chunk_size: u32,
    /// The timestamp to begin with.
    #[arg(long, default_value_t = 0)]
    first_timestamp_ms: i64,
    /// For rtmps: the certificate of the authority that signed the server's.
    #[arg(long)]
    authority_file: Option<PathBuf>,
    /// How long to publish, in seconds.
    #[arg(long, default_value_t = 20.0)]
    seconds: f64,
    /// Break the line after so many seconds.
    #[arg(long)]
    break_after: Option<f64>,
    /// Fall silent after so many seconds.
    #[arg(long)]
    stall_after: Option<f64>,
    /// Begin anew when the server ends the stream or the line breaks.
    #[arg(long)]
    again: bool,
    /// Write what was sent into this file as JSON.
    #[arg(long)]
    report: Option<PathBuf>,
}

#[derive(Args, Debug)]
struct ClubArguments {
    /// Where to listen; port 0 takes a free one.
    #[arg(long, default_value = "127.0.0.1:0")]
    listen: SocketAddr,
    /// Turn away who has this label.
    #[arg(long)]
    not: Vec<String>,
    /// Write the address here when it listens.
    #[arg(long)]
    ready_file: Option<PathBuf>,
}

#[derive(Args, Debug)]
struct PlatformArguments {
    /// Where to listen; port 0 takes a free one.
    #[arg(long, default_value = "127.0.0.1:0")]
    listen: SocketAddr,
    /// The only key that is taken.
    #[arg(long, env = "STANDIN_KEY", hide_env_values = true)]
    key: String,
    /// Write the address here when it listens.
    #[arg(long)]
    ready_file: Option<PathBuf>,
    /// Write what was received into this file as JSON at the end.
    #[arg(long)]
    report: Option<PathBuf>,
    /// Know nothing of Enhanced RTMP.
    #[arg(long)]
    plain: bool,
    /// Take SRT instead, with the key as stream id.
    #[arg(long)]
    srt: bool,
    /// Over SRT: the passphrase.
    #[arg(long, env = "STANDIN_PASSPHRASE", hide_env_values = true, requires = "srt")]
    passphrase: Option<String>,
    /// Speak TLS only, as `localhost`; the certificate of the authority is written here.
    #[arg(long)]
    tls_authority: Option<PathBuf>,
    /// Refuse every publisher.
    #[arg(long)]
    refuse: bool,
    /// Reset the first connection after so many seconds.
    #[arg(long)]
    reset_once_after: Option<f64>,
    /// Read nothing after so many seconds.
    #[arg(long)]
    stall_after: Option<f64>,
    /// Read no more than so many bytes a second.
    #[arg(long)]
    read_slowly: Option<u32>,
}

#[derive(Args, Debug)]
struct PlayerArguments {
    /// The server field.
    #[arg(long)]
    server: String,
    /// The key field.
    #[arg(long, env = "STANDIN_KEY", hide_env_values = true)]
    key: String,
    /// How long to watch, in seconds.
    #[arg(long, default_value_t = 10.0)]
    seconds: f64,
    /// Write what was received into this file as JSON.
    #[arg(long)]
    report: Option<PathBuf>,
}

#[derive(Args, Debug)]
struct NetworkArguments {
    /// The house.
    #[arg(long)]
    target: SocketAddr,
    /// The share of datagrams that is lost, both ways: 0 to 1.
    #[arg(long, default_value_t = 0.0)]
    loss: f64,
    /// How often a burst of losses begins: 0 to 1.
    #[arg(long, default_value_t = 0.0)]
    burst: f64,
    /// Datagrams that a burst takes.
    #[arg(long, default_value_t = 20)]
    burst_length: u32,
    /// How long the way takes.
    #[arg(long, default_value_t = 0)]
    delay_ms: u64,
    /// Added to that, evenly spread.
    #[arg(long, default_value_t = 0)]
    jitter_ms: u64,
    /// The share of datagrams that is overtaken, by ten milliseconds.
    #[arg(long, default_value_t = 0.0)]
    reorder: f64,
    /// The share of datagrams that comes twice.
    #[arg(long, default_value_t = 0.0)]
    duplicate: f64,
    /// Bytes per second that go through.
    #[arg(long)]
    bandwidth: Option<u64>,
    /// Makes it do the same again.
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Write the address here when it listens.
    #[arg(long)]
    ready_file: Option<PathBuf>,
}

#[derive(Subcommand, Debug)]
enum CompareArguments {
    /// With a platform's report.
    Platform {
        /// The encoder's report.
        sent: PathBuf,
        /// The platform's report.
        received: PathBuf,
    },
    /// With a player's report.
    Player {
        /// The encoder's report.
        sent: PathBuf,
        /// The player's report.
        received: PathBuf,
    },
    /// With a take.
    Take {
        /// The encoder's report.
        sent: PathBuf,
        /// The take.
        take: PathBuf,
    },
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> anyhow::Result<()> {
    match Arguments::parse() {
        Arguments::Encoder(arguments) => run_encoder(arguments).await,
        Arguments::Platform(arguments) => run_platform(arguments).await,
        Arguments::Player(arguments) => run_player(arguments).await,
        Arguments::Club(arguments) => run_club(arguments).await,
        Arguments::Network(arguments) => run_network(arguments).await,
        Arguments::Compare(CompareArguments::Platform { sent, received }) => {
            let (sent, received): (EncoderReport, PlatformReport) = (read_json(&sent)?, read_json(&received)?);
            let last = received.connections.last().context("no publisher came")?;
            print_comparison(&sent, &last.received, None)
        }
        Arguments::Compare(CompareArguments::Player { sent, received }) => {
            let (sent, received): (EncoderReport, PlayerReport) = (read_json(&sent)?, read_json(&received)?);
            print_comparison(&sent, &received.received, None)
        }
        Arguments::Compare(CompareArguments::Take { sent, take }) => {
            let (marks, seconds) = read_take(&take)?;
            print_comparison(&read_json(&sent)?, &marks, Some(seconds))
        }
    }
}

fn pauses_of(text: &str) -> Result<(u8, u32, u32), String> {
    let expected = || "a number, a time and a length were expected, as in `2:60:20`".to_owned();
    let mut parts = text.split(':');
    let mut next = || parts.next().and_then(|part| part.parse::<u32>().ok()).ok_or_else(expected);
    let (sound, every, length) = (next()?, next()?, next()?);
    Ok((u8::try_from(sound).map_err(|_| expected())?, every, length))
}

async fn run_encoder(arguments: EncoderArguments) -> anyhow::Result<()> {
    let clip = match &arguments.clip {
        Some(path) => Clip::load(path)?,
        None => Clip::made(&arguments.made.iter().map(String::as_str).collect::<Vec<_>>())?,
    };
    let labels: Vec<(&str, &str)> = arguments.sounds.iter().filter_map(|label| label.split_once('=')).collect();
    let clip = match u8::try_from(labels.len()) {
        Ok(count @ 1..) => clip.with_sounds(count).with_labels(&labels),
        _ => clip,
    };
    let clip = match arguments.silent {
        Some((sound, every, length)) => clip.with_pauses(sound.saturating_sub(1), every, length)?,
        None => clip,
    };
    let mut options = EncoderOptions::new(arguments.server, arguments.key, Duration::from_secs_f64(arguments.seconds));
    options.chunk_size = arguments.chunk_size;
    (options.srt.passphrase, options.srt.stream_id) = (arguments.passphrase, arguments.stream_id);
    if arguments.matroska {
        options.srt.container = SrtContainer::Matroska;
    }
    options.srt.latency = arguments.latency_ms.map(Duration::from_millis);
    options.first_timestamp_ms = arguments.first_timestamp_ms;
    options.authority = arguments.authority_file.as_ref().map(std::fs::read_to_string).transpose()?;
    options.fault = arguments
        .break_after
        .map(|seconds| EncoderFault::BreakAfter(Duration::from_secs_f64(seconds)))
        .or(arguments.stall_after.map(|seconds| EncoderFault::StallAfter(Duration::from_secs_f64(seconds))));
    loop {
        let outcome = Encoder::new(clip.clone(), options.clone()).run().await;
        if !arguments.again {
            let report = outcome?;
            eprintln!("waverant-standin: {:?} after {} payloads", report.end, report.sent.len());
            return arguments.report.map_or(Ok(()), |path| write_json(&path, &report));
        }
        match outcome {
            Ok(report) => options.first_packet = clip.keyframe_from(report.next_packet),
            Err(error) => eprintln!("waverant-standin: {error:#}"),
        }
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
}

async fn run_club(arguments: ClubArguments) -> anyhow::Result<()> {
    let ClubArguments { listen, not, ready_file } = arguments;
    let club = Club::open_at(listen, move |question| {
        // What its chat is told.
        if let Some(text) = question["text"].as_str() {
            eprintln!("{text}");
            return ClubAnswer::new(200, r#"{"ok": true}"#);
        }
        let label = question["key"]["label"].as_str().unwrap_or_default();
        match not.iter().any(|name| name == label) {
            true => ClubAnswer::new(403, r#"{"message": "Not entered for the regatta. Ask the race office."}"#),
            false => ClubAnswer::new(200, r#"{"keep_s": 10}"#),
        }
    });
    let club = club.await?;
    if let Some(path) = &ready_file {
        write_ready(path, club.address())?;
    }
    wait_for_end().await
}

async fn run_network(arguments: NetworkArguments) -> anyhow::Result<()> {
    let faults = NetworkFaults {
        loss: arguments.loss,
        burst: (arguments.burst, arguments.burst_length),
        delay: Duration::from_millis(arguments.delay_ms),
        jitter: Duration::from_millis(arguments.jitter_ms),
        reorder: (arguments.reorder, Duration::from_millis(10)),
        duplicate: arguments.duplicate,
        bandwidth: arguments.bandwidth,
        outage: None,
    };
    let network = Network::start(arguments.target, (faults, faults), arguments.seed).await?;
    if let Some(path) = &arguments.ready_file {
        write_ready(path, network.address())?;
    }
    wait_for_end().await?;
    let (there, back) = network.reports();
    eprintln!("waverant-standin: there {there:?}, back {back:?}");
    network.stop().await;
    Ok(())
}

/// Written beside its place and renamed, so that nobody reads half of it.
fn write_ready(path: &Path, address: SocketAddr) -> anyhow::Result<()> {
    let fresh = path.with_extension("new");
    std::fs::write(&fresh, address.to_string())?;
    Ok(std::fs::rename(fresh, path)?)
}

async fn wait_for_end() -> anyhow::Result<()> {
    let (mut terminate, mut interrupt) = (signal(SignalKind::terminate())?, signal(SignalKind::interrupt())?);
    tokio::select! {
        _ = terminate.recv() => {}
        _ = interrupt.recv() => {}
    }
    Ok(())
}

async fn run_platform(arguments: PlatformArguments) -> anyhow::Result<()> {
    let seconds = Duration::from_secs_f64;
    let fault = if arguments.refuse {
        Some(PlatformFault::Refuse)
    } else {
        let reset = arguments.reset_once_after.map(|time| PlatformFault::ResetOnceAfter(seconds(time)));
        let stall = arguments.stall_after.map(|time| PlatformFault::StallAfter(seconds(time)));
        reset.or(stall).or(arguments.read_slowly.map(PlatformFault::ReadSlowly))
    };
    let tls = arguments.tls_authority.as_ref().map(make_certificate).transpose()?;
    let srt = arguments.srt.then(|| SrtOptions { passphrase: arguments.passphrase, ..SrtOptions::default() });
    let options = PlatformOptions {
        srt,
        listen: arguments.listen,
        fault,
        is_enhanced: !arguments.plain,
        tls,
        ..PlatformOptions::new(arguments.key)
    };
    let platform = Platform::start(options).await?;
    if let Some(path) = &arguments.ready_file {
        write_ready(path, platform.address())?;
    }
    wait_for_end().await?;
    arguments.report.map_or(Ok(()), |path| write_json(&path, &platform.report()))
}

/// A certificate for `localhost`, and that of its authority in a file.
fn make_certificate(authority_file: &PathBuf) -> anyhow::Result<std::sync::Arc<rustls::ServerConfig>> {
    let authority = Authority::new()?;
    std::fs::write(authority_file, authority.pem()).with_context(|| authority_file.display().to_string())?;
    authority.issue("localhost", Validity::Good)?.server_config()
}

async fn run_player(arguments: PlayerArguments) -> anyhow::Result<()> {
    let length = Duration::from_secs_f64(arguments.seconds);
    let options = PlayerOptions { server: arguments.server, key: arguments.key, length, pause: None };
    let report = Player::new(options).run().await?;
    let first = report.first_picture_after_ms.map_or("none".to_owned(), |millis| format!("after {millis} ms"));
    eprintln!("waverant-standin: {} payloads, first picture {first}, {:?}", report.received.len(), report.ended);
    arguments.report.map_or(Ok(()), |path| write_json(&path, &report))
}

#[expect(clippy::print_stdout, reason = "the comparison is the program's output")]
fn print_comparison(
    sent: &EncoderReport,
    received: &[waverant_standin::Mark],
    seconds: Option<f64>,
) -> anyhow::Result<()> {
    let sent_pictures = sent.sent.iter().filter(|mark| mark.kind.is_picture()).count();
    let found = compare(&sent.sent, received, true);
    let from = found.first_picture.map_or("-".to_owned(), |first| first.to_string());
    let length = seconds.map(|seconds| format!("  length {seconds:.3} s")).unwrap_or_default();
    let verdict = found.fault.as_deref().unwrap_or("digests equal");
    println!(
        "pictures {}/{sent_pictures} from {from}  audio {}  {verdict}{length}",
        found.picture_count, found.sound_count
    );
    anyhow::ensure!(found.fault.is_none(), "they differ");
    Ok(())
}

fn read_json<T: serde::de::DeserializeOwned>(path: &PathBuf) -> anyhow::Result<T> {
    let text = std::fs::read_to_string(path).with_context(|| path.display().to_string())?;
    serde_json::from_str(&text).with_context(|| path.display().to_string())
}

fn write_json<T: serde::Serialize>(path: &PathBuf, value: &T) -> anyhow::Result<()> {
    std::fs::write(path, serde_json::to_string(value)?).with_context(|| path.display().to_string())
}
