//! How the C library's allocator keeps memory.

use std::env;
use std::os::unix::process::CommandExt;
use std::process::Command;

/// It is told by its environment, which it reads once, before the program begins.
///
/// By itself it keeps a store for each thread, of which nothing goes back to the system, and treats large pieces like
/// small ones once one was given back: a password's hash and a holding picture would stay for ever. With one store and
/// large pieces apart, what a show takes is little more than its ring.
const SETTINGS: [(&str, &str); 4] = [
    ("MALLOC_ARENA_MAX", "1"),
    ("MALLOC_MMAP_THRESHOLD_", "262144"),
    ("MALLOC_TRIM_THRESHOLD_", "1048576"),
    ("MALLOC_TOP_PAD_", "262144"),
];

/// Begins the program anew, in the same process, with what is not set yet. Where that cannot be done the program goes
/// on as it is.
pub(crate) fn set_up() {
    let missing = SETTINGS.iter().filter(|(name, _)| env::var_os(name).is_none());
    let (Ok(own), mut arguments) = (env::current_exe(), env::args_os()) else { return };
    if missing.clone().next().is_none() {
        return;
    }
    let mut anew = Command::new(own);
    if let Some(name) = arguments.next() {
        anew.arg0(name);
    }
    // It returns only if it fails.
    let _ = anew.args(arguments).envs(missing.copied()).exec();
}
