use std::io;

use tokio::runtime::{Builder, Handle, Runtime};

/// Threads for viewers, at most.
const MOST_THREADS: usize = 4;

/// Threads for what viewers read from the disk.
const DISK_THREADS: usize = 16;

/// How much less of the processor viewers get than shows, on Linux's scale up to 19.
const NICENESS: i32 = 5;

/// Threads of their own for viewers: a thousand that fetch the same segment in the same moment stand in a queue of
/// their own, and no leg behind them.
#[derive(Debug)]
pub(crate) struct ViewingRuntime(Option<Runtime>);

impl ViewingRuntime {
    pub(crate) fn start() -> io::Result<Self> {
        let threads = std::thread::available_parallelism().map_or(1, usize::from).clamp(1, MOST_THREADS);
        let mut builder = Builder::new_multi_thread();
        builder.worker_threads(threads).max_blocking_threads(DISK_THREADS).thread_name("viewing").enable_all();
        builder.on_thread_start(|| {
            // On Linux a thread has a niceness of its own.
            let _ = rustix::process::setpriority_process(Some(rustix::thread::gettid()), NICENESS);
        });
        Ok(Self(Some(builder.build()?)))
    }

    /// Where tasks of viewers are spawned; none once it ends.
    pub(crate) fn handle(&self) -> Handle {
        self.0.as_ref().map_or_else(Handle::current, |runtime| runtime.handle().clone())
    }
}

impl Drop for ViewingRuntime {
    fn drop(&mut self) {
        // Nothing is waited for: what viewers still take is theirs to lose.
        if let Some(runtime) = self.0.take() {
            runtime.shutdown_background();
        }
    }
}
