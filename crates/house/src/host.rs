//! What the machine does, and our two processes on it: from /proc.

use std::time::{Duration, Instant};

use procfs::process::Process;
use procfs::{Current, CurrentSI, KernelStats, Meminfo, WithCurrentSystemInfo, ticks_per_second};

/// The machine at one moment. Shares and rates are of the last seconds.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct HostFigures {
    /// How many processors it has.
    pub processors: u32,
    /// The share of all processors that is used: 0 to 1.
    pub processor_share: f64,
    /// Bytes of memory, and those that are free or can be.
    pub memory_bytes: u64,
    /// See `memory_bytes`.
    pub available_bytes: u64,
    /// Network interfaces by name, without the loopback.
    pub networks: Vec<NetworkFigures>,
    /// The mean time of a write to a disk; none if nothing was written.
    pub disk_write: Option<Duration>,
    /// This process.
    pub service: ProcessFigures,
    /// That of the private database, if we have one.
    pub database: Option<ProcessFigures>,
}

/// A network interface.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct NetworkFigures {
    /// Its name.
    pub name: String,
    /// Bits per second in.
    pub received_bps: f64,
    /// Bits per second out.
    pub sent_bps: f64,
}

/// A process.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct ProcessFigures {
    /// The share of one processor.
    pub processor_share: f64,
    /// What it has had of processors since it was started.
    pub processor_time: Duration,
    /// Bytes in memory.
    pub resident_bytes: u64,
    /// Open files, sockets included; 0 where that may not be seen.
    pub open_files: u64,
}

/// Counters at one moment.
#[derive(Clone, Debug)]
struct Sample {
    at: Instant,
    /// Ticks of all processors: used, and all.
    processors: (u64, u64),
    /// Bytes in and out.
    networks: Vec<(String, u64, u64)>,
    /// Writes, and their time in ms.
    disk: (u64, u64),
    service: Option<ProcessSample>,
    database: Option<ProcessSample>,
}

#[derive(Clone, Copy, Debug)]
struct ProcessSample {
    ticks: u64,
    resident_bytes: u64,
    open_files: u64,
}

/// Looks at the machine.
#[derive(Debug)]
pub(crate) struct HostMeter {
    database: Option<i32>,
    before: Option<Sample>,
}

impl HostMeter {
    /// For a machine on which the private database has this process.
    pub(crate) fn new(database: Option<u32>) -> Self {
        Self { database: database.and_then(|pid| i32::try_from(pid).ok()), before: None }
    }

    /// The machine now, with rates since the last look. None where there is no /proc.
    pub(crate) fn look(&mut self, now: Instant) -> Option<HostFigures> {
        let kernel = KernelStats::current().ok()?;
        let memory = Meminfo::current().ok()?;
        let sample = Sample {
            at: now,
            processors: used_of_all(&kernel),
            networks: networks(),
            disk: writes(),
            service: Process::myself().ok().as_ref().and_then(process),
            database: self.database.and_then(|pid| Process::new(pid).ok()).as_ref().and_then(process),
        };
        let before = self.before.replace(sample.clone());
        let before = before.as_ref().unwrap_or(&sample);
        let seconds = now.saturating_duration_since(before.at).as_secs_f64();
        let of_process = |now: Option<ProcessSample>, before: Option<ProcessSample>| {
            now.map(|now| now.figures(before.unwrap_or(now), seconds))
        };
        Some(HostFigures {
            processors: u32::try_from(kernel.cpu_time.len()).unwrap_or(u32::MAX),
            processor_share: share(sample.processors, before.processors),
            memory_bytes: memory.mem_total,
            available_bytes: memory.mem_available.unwrap_or(memory.mem_free),
            networks: network_figures(&sample.networks, &before.networks, seconds),
            disk_write: mean_write(sample.disk, before.disk),
            service: of_process(sample.service, before.service).unwrap_or_default(),
            database: of_process(sample.database, before.database),
        })
    }
}

impl ProcessSample {
    fn figures(self, before: Self, seconds: f64) -> ProcessFigures {
        let in_seconds = |ticks: u64| ticks as f64 / ticks_per_second().max(1) as f64;
        ProcessFigures {
            processor_share: per_second(in_seconds(self.ticks.saturating_sub(before.ticks)), seconds),
            processor_time: Duration::from_secs_f64(in_seconds(self.ticks)),
            resident_bytes: self.resident_bytes,
            open_files: self.open_files,
        }
    }
}

fn per_second(amount: f64, seconds: f64) -> f64 {
    if seconds > 0.0 { amount / seconds } else { 0.0 }
}

fn used_of_all(kernel: &KernelStats) -> (u64, u64) {
    let total = &kernel.total;
    let waiting = total.idle + total.iowait.unwrap_or(0);
    let more = [total.irq, total.softirq, total.steal].into_iter().flatten().sum::<u64>();
    let used = total.user + total.nice + total.system + more;
    (used, used + waiting)
}

fn share((used, all): (u64, u64), (used_before, all_before): (u64, u64)) -> f64 {
    match all.saturating_sub(all_before) {
        0 => 0.0,
        passed => used.saturating_sub(used_before) as f64 / passed as f64,
    }
}

fn networks() -> Vec<(String, u64, u64)> {
    let devices = procfs::net::dev_status().unwrap_or_default();
    let real = devices.into_values().filter(|device| device.name != "lo");
    let mut all: Vec<_> = real.map(|device| (device.name, device.recv_bytes, device.sent_bytes)).collect();
    all.sort();
    all
}

fn network_figures(now: &[(String, u64, u64)], before: &[(String, u64, u64)], seconds: f64) -> Vec<NetworkFigures> {
    let figures = now.iter().map(|(name, received, sent)| {
        let known = before.iter().find(|(known, ..)| known == name);
        let (received_before, sent_before) = known.map_or((*received, *sent), |(_, received, sent)| (*received, *sent));
        let rate = |now: u64, before: u64| per_second(now.saturating_sub(before) as f64 * 8.0, seconds);
        NetworkFigures {
            name: name.clone(),
            received_bps: rate(*received, received_before),
            sent_bps: rate(*sent, sent_before),
        }
    });
    figures.collect()
}

/// Of all disks; partitions count with them, which leaves the mean as it is.
fn writes() -> (u64, u64) {
    let disks = procfs::diskstats().unwrap_or_default();
    disks.iter().fold((0, 0), |(writes, time), disk| (writes + disk.writes, time + disk.time_writing))
}

fn mean_write((writes, time): (u64, u64), (writes_before, time_before): (u64, u64)) -> Option<Duration> {
    let count = writes.saturating_sub(writes_before);
    (count > 0).then(|| Duration::from_secs_f64(time.saturating_sub(time_before) as f64 / 1000.0 / count as f64))
}

fn process(process: &Process) -> Option<ProcessSample> {
    let stat = process.stat().ok()?;
    Some(ProcessSample {
        ticks: stat.utime + stat.stime,
        resident_bytes: stat.rss_bytes().get(),
        open_files: process.fd_count().map_or(0, |count| count as u64),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn this_machine_is_seen() {
        let mut meter = HostMeter::new(Some(std::process::id()));
        let start = Instant::now();
        meter.look(start).unwrap();
        let mut sum = 0u64;
        while start.elapsed() < Duration::from_millis(300) {
            sum = sum.wrapping_mul(31).wrapping_add(7);
        }
        let seen = meter.look(Instant::now()).unwrap();
        assert!(sum > 0 && seen.processors > 0 && seen.memory_bytes > seen.available_bytes, "{seen:?}");
        assert!((0.0..=1.0).contains(&seen.processor_share), "{seen:?}");
        assert!(seen.service.processor_share > 0.3 && seen.service.resident_bytes > 1 << 20, "{seen:?}");
        assert!(seen.service.open_files > 2 && seen.database.is_some(), "{seen:?}");
    }

    #[test]
    fn counters_that_begin_anew_are_no_rate() {
        let before = [("eth0".to_owned(), 1000, 1000)];
        let found = network_figures(&[("eth0".to_owned(), 10, 1500), ("wlan0".to_owned(), 5, 5)], &before, 2.0);
        let rates: Vec<_> = found.iter().map(|network| (network.received_bps, network.sent_bps)).collect();
        assert_eq!(rates, [(0.0, 2000.0), (0.0, 0.0)]);
        assert_eq!((share((10, 20), (10, 20)), mean_write((3, 30), (1, 10))), (0.0, Some(Duration::from_millis(10))));
    }
}
