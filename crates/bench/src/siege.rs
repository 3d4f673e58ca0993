//! Two shows, over RTMP and over SRT, with and without everything that strangers can do at once beside them.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use anyhow::ensure;
use serde_json::json;
use tokio::net::TcpListener;
use tokio::task::JoinSet;
use tokio::time::sleep;
use waverant_standin::{Siege, SiegeDoors};

use crate::encoder;
use crate::latency::Latencies;
use crate::process::{cpu_seconds, resident_mib};
use crate::relay::{House, START_PATIENCE, WARM_UP, destination};
use crate::sinks::{Sinks, accept_all};
use crate::source::Source;

/// What the wait for lost datagrams adds to the show over SRT.
const LATENCY_MS: u64 = 300;

const PASSPHRASE: &str = "the umpire's launch";

/// How often memory is looked at.
const LOOK: Duration = Duration::from_millis(250);

struct Round {
    /// Of the show over RTMP, and of that over SRT.
    latencies: [Latencies; 2],
    lost: [u64; 2],
    cores: f64,
    most_mib: f64,
}

#[expect(clippy::print_stdout, reason = "the table is the program's output")]
pub(crate) async fn measure(waverantd: &Path, length: Duration) -> anyhow::Result<()> {
    let house = House::start(waverantd, 2, 1)?;
    let terms = json!({"srt": {"latency_ms": LATENCY_MS, "passphrase": PASSPHRASE}});
    house.call("PATCH", "/channels/bench1", &terms)?;
    println!("two shows of 6 Mbit/s, {} s each, one over SRT with {LATENCY_MS} ms latency", length.as_secs());
    println!("{:>9}  {:>17}  {:>17}  {:>5}  {:>7}", "", "RTMP", "SRT", "cores", "MiB");
    let quiet = run(&house, length).await?;
    row("alone", &quiet);
    let doors = SiegeDoors {
        rtmp: house.rtmp_address(),
        srt: house.srt_address,
        http: house.http_address,
        srt_key: house.keys[1].clone(),
    };
    let siege = Siege::start(&doors);
    let besieged = run(&house, length).await?;
    row("besieged", &besieged);
    let counts = siege.counts();
    let of = [&counts.rtmp_calls, &counts.wrong_passphrases, &counts.guesses];
    let [calls, passphrases, guesses] = of.map(|count| count.load(Ordering::Relaxed));
    println!("{calls} RTMP calls, {passphrases} wrong passphrases, {guesses} guessed passwords were answered");
    for (name, place) in [("RTMP", 0), ("SRT", 1)] {
        let p99 = |round: &Round| round.latencies[place].percentile(99.0);
        println!("added p99 latency over {name}: {:.1} ms", p99(&besieged) - p99(&quiet));
    }
    Ok(())
}

#[expect(clippy::print_stdout, reason = "the table is the program's output")]
fn row(name: &str, round: &Round) {
    let figures = |place: usize| {
        let latencies = &round.latencies[place];
        let (p50, p99) = (latencies.percentile(50.0), latencies.percentile(99.0));
        format!("{p50:.1}/{p99:.1} ms, {} lost", round.lost[place])
    };
    println!("{name:>9}  {:>17}  {:>17}  {:>5.2}  {:>7.1}", figures(0), figures(1), round.cores, round.most_mib);
}

async fn run(house: &House, length: Duration) -> anyhow::Result<Round> {
    let source = Source::new();
    let began = source.began();
    let states = [Arc::new(Sinks::default()), Arc::new(Sinks::default())];
    let (mut sinks, mut encoders) = (Vec::new(), JoinSet::new());
    for (channel, state) in states.iter().enumerate() {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let name = destination(channel, 0);
        let address = json!({"address": format!("rtmp://{}/in", listener.local_addr()?)});
        house.call("PATCH", &format!("/destinations/{name}"), &address)?;
        house.call("PUT", &format!("/channels/bench{channel}/destinations/{name}"), &json!({"is_on": true}))?;
        sinks.push(tokio::spawn(accept_all(listener, began, state.clone(), None)));
    }
    encoders.spawn(encoder::publish(house.rtmp.clone(), house.keys[0].clone(), source));
    let second = Source::new().since(began);
    encoders.spawn(encoder::publish_over_srt(house.srt_address, house.keys[1].clone(), PASSPHRASE, second));
    let waited = Instant::now();
    while states.iter().any(|state| state.taken.load(Ordering::Relaxed) == 0) {
        ensure!(waited.elapsed() < START_PATIENCE, "not both shows are carried");
        sleep(LOOK).await;
    }
    sleep(WARM_UP).await;
    let (before, counting) = (cpu_seconds(house.pid())?, Instant::now());
    states.iter().for_each(|state| state.counting.store(true, Ordering::Relaxed));
    let mut most_mib = 0.0_f64;
    while counting.elapsed() < length {
        most_mib = most_mib.max(resident_mib(house.pid()));
        sleep(LOOK).await;
    }
    states.iter().for_each(|state| state.counting.store(false, Ordering::Relaxed));
    let cores = (cpu_seconds(house.pid())? - before) / counting.elapsed().as_secs_f64();
    let lost = [0, 1].map(|place| states[place].lost.load(Ordering::Relaxed));
    ensure!(encoders.try_join_next().is_none(), "an encoder was sent away");
    encoders.shutdown().await;
    for channel in 0..2 {
        house.call("POST", &format!("/channels/bench{channel}/end-session"), &json!(null)).ok();
    }
    states.iter().for_each(|state| state.finished.store(true, Ordering::Relaxed));
    let mut latencies = [Latencies::default(), Latencies::default()];
    for (place, sink) in sinks.into_iter().enumerate() {
        latencies[place] = sink.await?;
    }
    Ok(Round { latencies, lost, cores, most_mib })
}
