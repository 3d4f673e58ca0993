use std::fs;
use std::process::Command;
use std::sync::OnceLock;

use anyhow::Context;

/// Clock ticks in a second, as the kernel counts CPU time.
fn ticks_per_second() -> f64 {
    static TICKS: OnceLock<f64> = OnceLock::new();
    *TICKS.get_or_init(|| {
        let output = Command::new("getconf").arg("CLK_TCK").output();
        let text = output.map(|output| String::from_utf8_lossy(&output.stdout).into_owned()).unwrap_or_default();
        text.trim().parse().unwrap_or(100.0)
    })
}

/// CPU seconds that a process has used, user and system.
pub(crate) fn cpu_seconds(pid: u32) -> anyhow::Result<f64> {
    let text = fs::read_to_string(format!("/proc/{pid}/stat")).context("the measured process is gone")?;
    Ok(seconds_in(&text))
}

/// CPU seconds that the calling thread has used. What stands in `stat` is too coarse for a thread
/// that is busy for a tenth of a second.
pub(crate) fn thread_cpu_seconds() -> anyhow::Result<f64> {
    let text = fs::read_to_string("/proc/thread-self/schedstat").context("this thread's times")?;
    let nanoseconds = text.split_whitespace().next().and_then(|field| field.parse::<f64>().ok());
    Ok(nanoseconds.context("this thread's times")? / 1e9)
}

fn seconds_in(text: &str) -> f64 {
    // The second field is the name in parentheses and may hold spaces.
    let rest = text.rsplit(')').next().unwrap_or_default();
    let fields: Vec<f64> = rest.split_whitespace().map(|field| field.parse().unwrap_or(0.0)).collect();
    let [user, system] = [11, 12].map(|at| fields.get(at).copied().unwrap_or(0.0));
    (user + system) / ticks_per_second()
}

/// Resident memory of a process.
pub(crate) fn resident_mib(pid: u32) -> f64 {
    status_field(&format!("/proc/{pid}/status"), "VmRSS:") / 1024.0
}

/// Resident memory of a process that no file backs: what it asked the system for.
pub(crate) fn anonymous_mib(pid: u32) -> f64 {
    status_field(&format!("/proc/{pid}/status"), "RssAnon:") / 1024.0
}

/// How often the threads of a process that are there now gave the processor away to wait.
pub(crate) fn waits(pid: u32) -> f64 {
    let tasks = fs::read_dir(format!("/proc/{pid}/task")).into_iter().flatten().flatten();
    tasks.map(|task| status_field(&task.path().join("status").to_string_lossy(), "voluntary_ctxt_switches:")).sum()
}

fn status_field(path: &str, name: &str) -> f64 {
    let text = fs::read_to_string(path).unwrap_or_default();
    let line = text.lines().find(|line| line.starts_with(name)).unwrap_or_default();
    line.split_whitespace().nth(1).and_then(|value| value.parse::<f64>().ok()).unwrap_or(0.0)
}
