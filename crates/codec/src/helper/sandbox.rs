//! What a helper may do: reckon, and talk over what it has. No file, no connection, no process, little memory.

use std::collections::BTreeMap;

use rustix::process::{Resource, Rlimit, setrlimit};
use seccompiler::{BpfProgram, SeccompAction, SeccompFilter, apply_filter};
use thiserror::Error;

/// Memory of its own that a helper may have.
const MOST_MEMORY: u64 = 512 * 1024 * 1024;

/// This process cannot be kept from files and the network.
#[derive(Debug, Error)]
#[error("the helper cannot be confined: {0}")]
pub struct NotConfined(String);

/// Gives up what this process may do, for good: system calls that open, connect or begin something fail from now on.
/// To be called while it has one thread.
///
/// # Errors
/// [`NotConfined`] if the kernel does not know how.
pub fn confine() -> Result<(), NotConfined> {
    let failed = |error: &dyn std::fmt::Display| NotConfined(error.to_string());
    let most = |bytes| Rlimit { current: Some(bytes), maximum: Some(bytes) };
    setrlimit(Resource::Data, most(MOST_MEMORY)).map_err(|error| failed(&error))?;
    setrlimit(Resource::Core, most(0)).map_err(|error| failed(&error))?;
    setrlimit(Resource::Nofile, most(0)).map_err(|error| failed(&error))?;
    let architecture = std::env::consts::ARCH.try_into().map_err(|error| failed(&error))?;
    let rules: BTreeMap<_, _> = permitted().into_iter().map(|call| (call, Vec::new())).collect();
    // Refused, and not killed for it: a C library that tries something else than ours does goes on without.
    let refused = SeccompAction::Errno(libc::EPERM.unsigned_abs());
    let filter =
        SeccompFilter::new(rules, refused, SeccompAction::Allow, architecture).map_err(|error| failed(&error))?;
    let program: BpfProgram = filter.try_into().map_err(|error| failed(&error))?;
    // It takes away the right to gain rights first.
    apply_filter(&program).map_err(|error| failed(&error))
}

/// What reckoning needs: memory, locks, the clock, an end; and reading and writing what is open.
fn permitted() -> [libc::c_long; 34] {
    [
        libc::SYS_read,
        libc::SYS_write,
        libc::SYS_readv,
        libc::SYS_writev,
        libc::SYS_recvfrom,
        libc::SYS_sendto,
        libc::SYS_close,
        libc::SYS_brk,
        libc::SYS_mmap,
        libc::SYS_munmap,
        libc::SYS_mremap,
        libc::SYS_mprotect,
        libc::SYS_madvise,
        libc::SYS_futex,
        libc::SYS_sched_yield,
        libc::SYS_sched_getaffinity,
        libc::SYS_getpid,
        libc::SYS_gettid,
        libc::SYS_getrandom,
        libc::SYS_clock_gettime,
        libc::SYS_clock_getres,
        libc::SYS_clock_nanosleep,
        libc::SYS_nanosleep,
        libc::SYS_gettimeofday,
        libc::SYS_restart_syscall,
        libc::SYS_rt_sigaction,
        libc::SYS_rt_sigprocmask,
        libc::SYS_rt_sigreturn,
        libc::SYS_sigaltstack,
        libc::SYS_set_robust_list,
        libc::SYS_getrusage,
        libc::SYS_tgkill,
        libc::SYS_exit,
        libc::SYS_exit_group,
    ]
}
