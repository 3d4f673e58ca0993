//! The helper's side.

use std::io;
use std::os::fd::AsFd;
use std::os::unix::net::UnixStream;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::time::Duration;

use rustix::process::{Signal, set_parent_process_death_signal};
use rustix::time::{ClockId, clock_gettime};
use serde::{Deserialize, Serialize};

use super::crafts::{Outcome, Task, perform};
use super::sandbox::confine;
use super::wire;

/// How much less of the processor a helper gets than shows, on Linux's scale up to 19.
const NICENESS: i32 = 10;

/// What a helper says of a task.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Answer {
    pub(super) outcome: Outcome,
    /// What it took of the processor.
    pub(super) spent: Duration,
}

/// Works as a helper for who is at the other end of standard input, a socket, until that end is closed.
///
/// # Errors
/// If standard input is none, or breaks, or this process cannot be kept from files and the network.
pub fn serve() -> io::Result<()> {
    let mut link = UnixStream::from(io::stdin().as_fd().try_clone_to_owned()?);
    // The thread that wants something of it: without that there is nothing to do here.
    set_parent_process_death_signal(Some(Signal::KILL))?;
    let _ = rustix::process::setpriority_process(None, NICENESS);
    // Where memory is short, this goes first, and no show.
    let _ = std::fs::write("/proc/self/oom_score_adj", "800");
    // What a panic says goes into the answer.
    std::panic::set_hook(Box::new(|_| {}));
    let confined = confine().map_err(|error| error.to_string());
    wire::write(&mut link, &confined)?;
    confined.map_err(io::Error::other)?;
    while let Some(task) = wire::read::<Task>(&mut link)? {
        let before = process_time();
        let outcome = catch_unwind(AssertUnwindSafe(|| perform(task))).unwrap_or_else(|panic| {
            let text = panic.downcast_ref::<String>().map(String::as_str).or(panic.downcast_ref::<&str>().copied());
            Outcome::Panicked(text.unwrap_or("a panic").to_owned())
        });
        wire::write(&mut link, &Answer { outcome, spent: process_time().saturating_sub(before) })?;
    }
    Ok(())
}

fn process_time() -> Duration {
    let time = clock_gettime(ClockId::ProcessCPUTime);
    Duration::new(u64::try_from(time.tv_sec).unwrap_or(0), u32::try_from(time.tv_nsec).unwrap_or(0))
}
