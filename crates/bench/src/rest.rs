//! What shows take of memory, wake-ups and processor while nothing happens but the shows.

use std::path::Path;
use std::time::Duration;

use crate::relay::{House, Plan};

/// Shows, legs of each, and whether they are recorded.
const SCENES: [(usize, usize, bool); 4] = [(1, 0, false), (1, 5, true), (1, 50, true), (4, 5, true)];

/// Each scene has a service of its own: what an earlier one left behind would be counted.
#[expect(clippy::print_stdout, reason = "the table is the program's output")]
pub(crate) async fn measure(waverantd: &Path, length: Duration) -> anyhow::Result<()> {
    println!("shows of 6 Mbit/s after {} s, usual batches", length.as_secs());
    println!(
        "{:>5}  {:>4}  {:>8}  {:>11}  {:>8}  {:>9}  {:>6}  {:>13}",
        "shows", "legs", "recorded", "RssAnon MiB", "RSS MiB", "wakes / s", "cores", "database MiB"
    );
    for (channels, sinks, records) in SCENES {
        let house = House::start(waverantd, channels, sinks)?;
        let plan = Plan { channels, sinks, faulty: 0, batch: None, length, records, kbps: crate::source::USUAL_KBPS };
        let ours = house.measure(&plan, None).await?;
        println!(
            "{channels:>5}  {:>4}  {:>8}  {:>11.1}  {:>8.1}  {:>9.0}  {:>6.3}  {:>13.1}",
            channels * sinks,
            if records { "yes" } else { "no" },
            ours.anonymous_mib,
            ours.resident_mib,
            ours.waits_per_second,
            ours.cores,
            house.database_mib(),
        );
    }
    Ok(())
}
