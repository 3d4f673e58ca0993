//! Callers who mean harm, at every door of the service at once.

mod flood;
mod guesses;
mod habits;

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread::{self, JoinHandle};
use std::time::Duration;

pub use flood::{Flood, FloodHabit, connect_as, stranger_address};
pub use guesses::{GuessCounts, guess_passwords, post_sign_in};
pub use habits::{call_srt_as, invent_srt_callers};

/// Those who mean harm do so on machines of their own: here they leave the processor to who is measured.
const NICENESS: i32 = 10;

/// The doors, and a right key for SRT that is called with a wrong passphrase.
#[derive(Clone, Debug)]
pub struct SiegeDoors {
    /// Where RTMP is taken.
    pub rtmp: SocketAddr,
    /// Where SRT is taken.
    pub srt: SocketAddr,
    /// Where the console is.
    pub http: SocketAddr,
    /// A stream key that got into wrong hands, of a channel with a passphrase.
    pub srt_key: String,
}

/// What the besiegers saw.
#[derive(Debug, Default)]
pub struct SiegeCounts {
    /// RTMP connections that were made.
    pub rtmp_calls: AtomicU64,
    /// SRT calls that were refused for their passphrase.
    pub wrong_passphrases: AtomicU64,
    /// Sign-ins that were answered at all.
    pub guesses: AtomicU64,
}

/// Everything at once, from a thousand addresses: silent redialing, messages that become gigabytes when they are
/// decoded, half requests, wrong passphrases that cost a derivation each, noise, and guessed passwords. Ends when
/// dropped.
#[derive(Debug)]
pub struct Siege {
    stop: Arc<AtomicBool>,
    counts: Arc<SiegeCounts>,
    threads: Vec<JoinHandle<()>>,
}

impl Siege {
    /// Begins at once.
    pub fn start(doors: &SiegeDoors) -> Self {
        let counts = Arc::new(SiegeCounts::default());
        let mut siege = Self { stop: Arc::default(), counts: counts.clone(), threads: Vec::new() };
        let SiegeDoors { rtmp, srt, http, srt_key } = doors.clone();
        siege.add(1, habits::redial(rtmp, counts.clone()));
        siege.add(10, habits::send_bombs(rtmp, counts.clone()));
        siege.add(5, habits::ask_by_halves(http));
        siege.add(1, habits::call_with_wrong_passphrase(srt, srt_key, counts.clone()));
        siege.add(2, habits::send_noise(srt));
        siege.add(50, habits::guess_passwords(http, counts));
        siege
    }

    /// What was seen until now.
    pub fn counts(&self) -> &SiegeCounts {
        &self.counts
    }

    /// One thing that is done again and again, with a pause in milliseconds.
    fn add(&mut self, pause: u64, mut act: impl FnMut(usize) + Send + 'static) {
        let stop = self.stop.clone();
        self.threads.push(thread::spawn(move || {
            // On Linux a thread has a niceness of its own.
            let _ = rustix::process::setpriority_process(Some(rustix::thread::gettid()), NICENESS);
            for number in 0.. {
                if stop.load(Ordering::Relaxed) {
                    return;
                }
                act(number);
                thread::sleep(Duration::from_millis(pause));
            }
        }));
    }
}

impl Drop for Siege {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        for thread in self.threads.drain(..) {
            let _ = thread.join();
        }
    }
}
