//! Fan-out of one 6 Mbit/s stream: `waverantd` beside a plain TCP or TLS copy, in the same run;
//! and the chunk layer beside memcpy.
//!
//! `cargo run --release -p waverant-bench` builds nothing else: build `waverantd` first with
//! `cargo build --release -p waverant-service`. Prints CPU seconds of the measured process per
//! delivered GB, and the latency that it adds.

mod chunks;
mod latency;
mod plain;
mod process;
mod relay;
mod source;
mod tls;

use std::path::PathBuf;
use std::time::Duration;

use clap::Parser;

use latency::Latencies;
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
    /// Hostile connections beside each measured show.
    #[arg(long, default_value_t = 0)]
    hostile: usize,
    /// Measure the chunk layer beside memcpy, and nothing else.
    #[arg(long)]
    chunks: bool,
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
    delivered_gb: f64,
    latencies: Latencies,
    resident_mib: f64,
}

#[tokio::main]
#[expect(clippy::print_stdout, reason = "the table is the program's output")]
async fn main() -> anyhow::Result<()> {
    let arguments = Arguments::parse();
    if arguments.plain_copy {
        let tls = arguments.tls_folder.as_deref().map(Tls::open).transpose()?;
        return plain::copy(tls).await;
    }
    if arguments.chunks {
        return chunks::measure();
    }
    let folder = tempfile::tempdir()?;
    let tls = if arguments.tls { Some(Tls::make(folder.path())?) } else { None };
    let own = std::env::current_exe()?;
    let waverantd = arguments.waverantd.unwrap_or_else(|| own.with_file_name("waverantd"));
    let length = Duration::from_secs(arguments.seconds);
    let most = arguments.sinks.iter().copied().max().unwrap_or(1).max(5);
    let house = relay::House::start(&waverantd, most)?;
    let _crowd = (arguments.hostile > 0).then(|| Crowd::start(house.rtmp_address(), arguments.hostile));
    if arguments.hostile > 0 {
        println!("beside {} hostile connections, which cost the service CPU of their own", arguments.hostile);
    }
    println!("one 6 Mbit/s stream, {} s each; CPU seconds of the measured process per delivered GB", length.as_secs());
    println!(
        "{:>5}  {:>23}  {:>23}  {:>6}",
        "",
        if arguments.tls { "plain TLS copy" } else { "plain TCP copy" },
        "waverantd",
        "CPU"
    );
    println!(
        "{:>5}  {:>7} {:>7} {:>7}  {:>7} {:>7} {:>7}  {:>6}  {:>8}",
        "sinks", "s/GB", "p50 ms", "p99 ms", "s/GB", "p50 ms", "p99 ms", "ratio", "RSS MiB"
    );
    for count in arguments.sinks {
        let floor = plain::measure(&own, count, length, tls.as_ref()).await?;
        let ours = house.measure(count, length, false, tls.as_ref()).await?;
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
    let five = house.measure(5, length, true, tls.as_ref()).await?;
    println!(
        "memory with 5 destinations and a recording: waverantd {:.1} MiB, private database {:.1} MiB",
        five.resident_mib,
        house.database_mib()
    );
    Ok(())
}
