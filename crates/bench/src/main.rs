//! Fan-out of one 6 Mbit/s stream: `waverantd` beside a plain TCP or TLS copy, in the same run;
//! SRT beside a plain UDP copy; recordings beside a plain write; and the chunk layer beside memcpy.
//!
//! `cargo run --release -p waverant-bench` builds nothing else: build `waverantd` first with
//! `cargo build --release -p waverant-service`. Prints CPU seconds of the measured process per
//! delivered GB, and the latency that it adds.

mod checkup;
mod chunks;
mod encoder;
mod faulty;
mod latency;
mod plain;
mod process;
mod recordings;
mod relay;
mod rest;
mod scale;
mod siege;
mod sign_in_times;
mod sinks;
mod source;
mod srt;
mod take_times;
mod timeline;
mod tls;
mod viewers;

use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::Parser;

use latency::Latencies;
use relay::Plan;
use tls::Tls;
use waverant_standin::Crowd;

/// Measures fan-out beside a plain TCP copy.
#[derive(Parser, Debug)]
struct Arguments {
    /// Numbers of sinks to measure.
    #[arg(long, value_delimiter = ',', default_values_t = [1, 10, 50, 200])]
    sinks: Vec<usize>,
    /// Measured seconds for each.
    #[arg(long, default_value_t = 10)]
    seconds: u64,
    /// The service to measure; beside this program if left out.
    #[arg(long)]
    waverantd: Option<PathBuf>,
    /// Measure fan-out over TLS, beside a plain TLS copy.
    #[arg(long)]
    tls: bool,
    /// Milliseconds that packets are collected before they are sent, by us and by the plain copy.
    #[arg(long, default_value_t = 0)]
    batch: u64,
    /// Shows at once; more than one are measured without the plain copy.
    #[arg(long, default_value_t = 1)]
    channels: usize,
    /// Record the shows, too, where more than one are measured.
    #[arg(long)]
    recorded: bool,
    /// Platforms of each show that refuse, stall, flap, say nothing or read at 100 kbit/s, in addition.
    #[arg(long, default_value_t = 0)]
    faulty: usize,
    /// Hostile connections beside each measured show.
    #[arg(long, default_value_t = 0)]
    hostile: usize,
    /// Measure the chunk layer beside memcpy, and nothing else.
    #[arg(long)]
    chunks: bool,
    /// Measure SRT beside a plain copy of the same datagrams, and nothing else.
    #[arg(long)]
    srt: bool,
    /// Measure a house with 500 channels, 100,000 sessions and 200,000 takes, and nothing else.
    #[arg(long)]
    scale: bool,
    /// Measure what shows at rest take of memory and wake-ups, and nothing else.
    #[arg(long)]
    rest: bool,
    /// Measure two shows beside everything that strangers can do at once, and nothing else.
    #[arg(long)]
    siege: bool,
    /// Measure whether a failed sign-in tells by its time if there is such a name, and how long the right one takes among a
    /// flood of wrong ones, and nothing else.
    #[arg(long)]
    sign_in_times: bool,
    /// Measure so many viewers by playlists, and a tenth of them over WebSockets, beside 20 legs, and nothing else.
    #[arg(long)]
    viewers: Option<usize>,
    /// Kilobits per second of the show that viewers watch.
    #[arg(long, default_value_t = source::USUAL_KBPS)]
    kbps: usize,
    /// Run as the viewers of a service at this address themselves (used by the benchmark).
    #[arg(long, hide = true)]
    watch: Option<std::net::SocketAddr>,
    /// How many of them take a picture at a time.
    #[arg(long, hide = true, default_value_t = 0)]
    pictures: usize,
    /// Run as the server of plain files itself (used by the benchmark).
    #[arg(long, hide = true)]
    files: bool,
    /// Measure so many recordings at once beside a plain write, and a disk that stands still, and nothing
    /// else.
    #[arg(long)]
    recordings: Option<usize>,
    /// Compare times of a take of 30 minutes with those of the encoder playing this clip, and of the
    /// wall clock, and nothing else.
    #[arg(long, value_name = "CLIP")]
    take_times: Option<PathBuf>,
    /// Measure what a year of figures takes, and how long a day of it takes to be read, and nothing else.
    #[arg(long)]
    timeline: bool,
    /// Measure what judging a show costs, with the sound and pictures of this clip, and nothing else.
    #[arg(long, value_name = "CLIP")]
    checkup: Option<PathBuf>,
    /// Run as the plain write itself (used by the benchmark).
    #[arg(long, hide = true)]
    plain_write: Option<usize>,
    /// Where the plain write writes, and the files are.
    #[arg(long, hide = true)]
    folder: Option<PathBuf>,
    /// Run as the plain copy itself (used by the benchmark).
    #[arg(long, hide = true)]
    plain_copy: bool,
    /// Where the plain copy finds its certificate.
    #[arg(long, hide = true)]
    tls_folder: Option<PathBuf>,
}

/// One measurement.
struct Figures {
    cpu_seconds_per_gb: f64,
    /// Cores that were busy.
    cores: f64,
    delivered_gb: f64,
    latencies: Latencies,
    resident_mib: f64,
    /// Of that, what no file backs.
    anonymous_mib: f64,
    waits_per_second: f64,
    /// Pictures that a healthy sink did not get.
    lost_frames: u64,
}

fn main() -> anyhow::Result<()> {
    // A helper has one thread, so there is no runtime yet.
    if std::env::args().nth(1).is_some_and(|word| word == checkup::HELPER) {
        return Ok(waverant_codec::serve()?);
    }
    measure()
}

#[tokio::main]
async fn measure() -> anyhow::Result<()> {
    let arguments = Arguments::parse();
    if arguments.plain_copy {
        let tls = arguments.tls_folder.as_deref().map(Tls::open).transpose()?;
        return plain::copy(tls, Duration::from_millis(arguments.batch)).await;
    }
    if arguments.chunks {
        return chunks::measure();
    }
    if let Some(clip) = &arguments.checkup {
        return checkup::measure(clip);
    }
    let length = Duration::from_secs(arguments.seconds);
    if arguments.srt {
        return tokio::task::spawn_blocking(move || srt::measure(length)).await?;
    }
    if let (true, Some(folder)) = (arguments.files, &arguments.folder) {
        return viewers::serve_files(folder).await;
    }
    if let (Some(count), Some(folder)) = (arguments.plain_write, &arguments.folder) {
        return recordings::plain_write(folder, count, length).await;
    }
    if let Some(address) = arguments.watch {
        return viewers::watch(address, arguments.viewers.unwrap_or(0), arguments.pictures).await;
    }
    let own = std::env::current_exe()?;
    let waverantd = arguments.waverantd.clone().unwrap_or_else(|| own.with_file_name("waverantd"));
    if let Some(clip) = &arguments.take_times {
        return take_times::measure(&waverantd, clip).await;
    }
    if arguments.timeline {
        return timeline::measure().await;
    }
    if arguments.scale {
        return scale::measure(&waverantd).await;
    }
    if arguments.rest {
        return rest::measure(&waverantd, length).await;
    }
    if arguments.siege {
        return siege::measure(&waverantd, length).await;
    }
    if arguments.sign_in_times {
        return tokio::task::spawn_blocking(move || sign_in_times::measure(&waverantd)).await?;
    }
    if let Some(count) = arguments.viewers {
        return viewers::measure(&waverantd, &own, (count, count / 10, arguments.kbps), length).await;
    }
    if let Some(count) = arguments.recordings {
        return recordings::measure(&waverantd, &own, count, length).await;
    }
    fan_out(&arguments, &waverantd, &own).await
}

/// Shows with many sinks.
#[expect(clippy::print_stdout, reason = "the table is the program's output")]
async fn fan_out(arguments: &Arguments, waverantd: &Path, own: &Path) -> anyhow::Result<()> {
    let length = Duration::from_secs(arguments.seconds);
    let folder = tempfile::tempdir()?;
    let tls = if arguments.tls { Some(Tls::make(folder.path())?) } else { None };
    let most = arguments.sinks.iter().copied().max().unwrap_or(1).max(5) + arguments.faulty;
    let house = relay::House::start(waverantd, arguments.channels, most)?;
    let _crowd = (arguments.hostile > 0).then(|| Crowd::start(house.rtmp_address(), arguments.hostile));
    if arguments.hostile > 0 {
        println!("beside {} hostile connections, which cost the service CPU of their own", arguments.hostile);
    }
    let plan = Plan {
        channels: arguments.channels,
        sinks: 0,
        faulty: arguments.faulty,
        batch: Some(Duration::from_millis(arguments.batch)),
        length,
        records: arguments.recorded,
        kbps: crate::source::USUAL_KBPS,
    };
    if arguments.channels > 1 || arguments.faulty > 0 {
        return load(&house, plan, &arguments.sinks, tls.as_ref()).await;
    }
    beside_the_copy(&house, plan, &arguments.sinks, own, tls.as_ref()).await?;
    let five = house.measure(&Plan { sinks: 5, records: true, ..plan }, tls.as_ref()).await?;
    println!(
        "memory with 5 destinations and a recording: waverantd {:.1} MiB, private database {:.1} MiB",
        five.resident_mib,
        house.database_mib()
    );
    Ok(())
}

/// Each number of sinks, and the plain copy beside it in the same run.
#[expect(clippy::print_stdout, reason = "the table is the program's output")]
async fn beside_the_copy(
    house: &relay::House,
    plan: Plan,
    sinks: &[usize],
    own: &Path,
    tls: Option<&Tls>,
) -> anyhow::Result<()> {
    let (seconds, batch) = (plan.length.as_secs(), plan.batch.unwrap_or_default());
    println!(
        "one 6 Mbit/s stream, {seconds} s each, batches of {} ms; CPU seconds per delivered GB",
        batch.as_millis()
    );
    let copy = if tls.is_some() { "plain TLS copy" } else { "plain TCP copy" };
    println!("{:>5}  {copy:>23}  {:>23}  {:>6}", "", "waverantd", "CPU");
    println!(
        "{:>5}  {:>7} {:>7} {:>7}  {:>7} {:>7} {:>7}  {:>6}  {:>8}",
        "sinks", "s/GB", "p50 ms", "p99 ms", "s/GB", "p50 ms", "p99 ms", "ratio", "RSS MiB"
    );
    for count in sinks {
        let floor = plain::measure(own, *count, plan.length, batch, tls).await?;
        let ours = house.measure(&Plan { sinks: *count, ..plan }, tls).await?;
        println!(
            "{count:>5}  {:>7.2} {:>7.1} {:>7.1}  {:>7.2} {:>7.1} {:>7.1}  {:>5.2}x  {:>8.1}",
            floor.cpu_seconds_per_gb,
            floor.latencies.percentile(50.0),
            floor.latencies.percentile(99.0),
            ours.cpu_seconds_per_gb,
            ours.latencies.percentile(50.0),
            ours.latencies.percentile(99.0),
            ours.cpu_seconds_per_gb / floor.cpu_seconds_per_gb,
            ours.resident_mib,
        );
        let short = ours.delivered_gb / floor.delivered_gb;
        if short < 0.98 {
            println!("       waverantd delivered only {:.0} % of what the copy did", short * 100.0);
        }
    }
    Ok(())
}

/// Many shows, or bad platforms beside the good ones.
#[expect(clippy::print_stdout, reason = "the table is the program's output")]
async fn load(house: &relay::House, plan: Plan, sinks: &[usize], tls: Option<&Tls>) -> anyhow::Result<()> {
    let batch = plan.batch.unwrap_or_default().as_millis();
    println!("{} shows of 6 Mbit/s, {} s each, batches of {batch} ms", plan.channels, plan.length.as_secs());
    println!(
        "{:>9}  {:>10}  {:>6}  {:>8}  {:>12}  {:>7} {:>7}  {:>11}",
        "good legs", "bad legs", "cores", "RSS MiB", "KiB/more leg", "p50 ms", "p99 ms", "lost frames"
    );
    // The ring of a show is the same for any number of legs; what a leg costs shows from row to row.
    let mut first: Option<(usize, f64)> = None;
    for count in sinks {
        let ours = house.measure(&Plan { sinks: *count, ..plan }, tls).await?;
        let (good, bad) = (plan.channels * count, plan.channels * plan.faulty);
        let (fewest, least) = *first.get_or_insert((good, ours.resident_mib));
        let more = good - fewest.min(good);
        let each = if more == 0 { f64::NAN } else { (ours.resident_mib - least) * 1024.0 / more as f64 };
        println!(
            "{good:>9}  {bad:>10}  {:>6.2}  {:>8.1}  {:>12.0}  {:>7.1} {:>7.1}  {:>11}",
            ours.cores,
            ours.resident_mib,
            each,
            ours.latencies.percentile(50.0),
            ours.latencies.percentile(99.0),
            ours.lost_frames,
        );
    }
    Ok(())
}
