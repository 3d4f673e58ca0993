//! Many recordings at once: `waverantd` beside a plain `write` of as many bytes in the same run; and
//! a disk that stands still.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use tokio::time::{sleep, sleep_until};

use crate::process::cpu_seconds;
use crate::relay::{House, Plan};

/// Bytes of a second of one recording: 6 Mbit/s.
const BYTES_A_SECOND: u64 = 750_000;

/// Writes a second: as our fragments are.
const WRITES_A_SECOND: u64 = 2;

/// How long the disk stands still.
const STALL: Duration = Duration::from_secs(2);

/// A file system of its own that can be made to stand still; taken away when dropped.
pub(crate) struct Disk {
    mount: PathBuf,
    _folder: tempfile::TempDir,
}

impl Disk {
    /// None where this user may not mount.
    pub(crate) fn mount() -> Option<Self> {
        let folder = tempfile::tempdir().ok()?;
        let (image, mount) = (folder.path().join("disk"), folder.path().join("mount"));
        std::fs::create_dir(&mount).ok()?;
        std::fs::File::create(&image).ok()?.set_len(4 << 30).ok()?;
        run("mkfs.ext4", &["-q".as_ref(), image.as_ref()]).ok()?;
        run("mount", &["-o".as_ref(), "loop".as_ref(), image.as_ref(), mount.as_ref()]).ok()?;
        Some(Self { mount, _folder: folder })
    }

    pub(crate) fn path(&self) -> &Path {
        &self.mount
    }

    async fn stand_still(mount: PathBuf) {
        let _ = run("fsfreeze", &["-f".as_ref(), mount.as_ref()]);
        sleep(STALL).await;
        let _ = run("fsfreeze", &["-u".as_ref(), mount.as_ref()]);
    }
}

impl Drop for Disk {
    fn drop(&mut self) {
        let _ = run("fsfreeze", &["-u".as_ref(), self.mount.as_ref()]);
        let _ = run("umount", &["--lazy".as_ref(), self.mount.as_ref()]);
    }
}

fn run(program: &str, arguments: &[&std::ffi::OsStr]) -> anyhow::Result<()> {
    let output = Command::new(program).args(arguments).output().context(program.to_owned())?;
    ensure!(output.status.success(), "{program}: {}", String::from_utf8_lossy(&output.stderr));
    Ok(())
}

/// The plain floor: as many files, as many bytes, as many calls and as many syncs, from one thread.
/// Prints the CPU seconds that it took.
#[expect(clippy::print_stdout, reason = "the figure is the program's output")]
pub(crate) async fn plain_write(folder: &Path, count: usize, length: Duration) -> anyhow::Result<()> {
    let piece = vec![0x55; usize::try_from(BYTES_A_SECOND / WRITES_A_SECOND)?];
    let mut files = Vec::new();
    for number in 0..count {
        files.push(std::fs::File::create(folder.join(format!("plain-{number}")))?);
    }
    let before = cpu_seconds(std::process::id())?;
    let (began, step) = (Instant::now(), Duration::from_secs(1) / u32::try_from(WRITES_A_SECOND)?);
    for round in 1.. {
        let due = began + step * round;
        if due > began + length {
            break;
        }
        for (number, file) in files.iter_mut().enumerate() {
            // Spread over the time, as shows are.
            let own = step * u32::try_from(number)? / u32::try_from(count)?;
            sleep_until((due + own).into()).await;
            file.write_all(&piece)?;
            if u64::from(round) % WRITES_A_SECOND == 0 {
                file.sync_data()?;
            }
        }
    }
    println!("{}", cpu_seconds(std::process::id())? - before);
    for number in 0..count {
        std::fs::remove_file(folder.join(format!("plain-{number}")))?;
    }
    Ok(())
}

/// Measures `count` recordings.
#[expect(clippy::print_stdout, reason = "the table is the program's output")]
pub(crate) async fn measure(waverantd: &Path, own: &Path, count: usize, length: Duration) -> anyhow::Result<()> {
    let (disk, fallback) = (Disk::mount(), tempfile::tempdir()?);
    let folder = disk.as_ref().map_or(fallback.path(), Disk::path);
    let house = House::start_on(waverantd, count, 1, Some(folder))?;
    let plan = Plan {
        channels: count,
        sinks: 1,
        faulty: 0,
        batch: Some(Duration::from_millis(20)),
        length,
        records: false,
        kbps: crate::source::USUAL_KBPS,
    };
    let without = house.measure(&plan, None).await?;
    let with = house.measure(&Plan { records: true, ..plan }, None).await?;
    let floor = Command::new(own)
        .args(["--plain-write", &count.to_string(), "--seconds", &length.as_secs().to_string(), "--folder"])
        .arg(folder)
        .output()?;
    let floor: f64 = String::from_utf8_lossy(&floor.stdout).trim().parse().context("the plain write failed")?;
    let written_gb = count as f64 * BYTES_A_SECOND as f64 * length.as_secs_f64() / 1e9;
    let ours = (with.cores - without.cores) * length.as_secs_f64();
    println!("{count} recordings of 6 Mbit/s with a destination each, {} s, {written_gb:.2} GB", length.as_secs());
    println!(
        "CPU seconds per recorded GB: plain write {:.3}, waverantd {:.3}, ratio {:.2}x",
        floor / written_gb,
        ours / written_gb,
        ours / floor
    );
    println!(
        "cores: {:.2} without recording, {:.2} with; {:.1} MiB with",
        without.cores, with.cores, with.resident_mib
    );
    let told = |name: &str, figures: &crate::Figures| {
        let (p50, p99) = (figures.latencies.percentile(50.0), figures.latencies.percentile(99.0));
        println!("added latency {name}: p50 {p50:.1} ms, p99 {p99:.1} ms, {} pictures lost", figures.lost_frames);
    };
    told("without recording", &without);
    told("with recording", &with);
    // By reference: the service ends before its disk is taken away.
    let Some(disk) = &disk else {
        println!("no disk that can stand still: this user may not mount");
        return Ok(());
    };
    let still = tokio::spawn({
        let mount = disk.path().to_owned();
        async move {
            sleep(Duration::from_secs(6)).await;
            Disk::stand_still(mount).await;
        }
    });
    let stalled =
        house.measure(&Plan { records: true, length: length.max(Duration::from_secs(8)), ..plan }, None).await?;
    still.await?;
    told("while the disk stood still for 2 s", &stalled);
    println!("gaps in the recordings: {}", house.gap_count()?);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn the_floor_writes_what_it_says() {
        let folder = tempfile::tempdir().unwrap();
        plain_write(folder.path(), 2, Duration::from_secs(1)).await.unwrap();
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0, "and removes it");
    }
}
