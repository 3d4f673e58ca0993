//! Many who guess passwords, and one who knows his.

use std::io::{Read, Write};
use std::net::{IpAddr, SocketAddr};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use super::{connect_as, stranger_address};

/// Addresses that guess.
const GUESSERS: usize = 50;

/// How often each of them guesses.
const GUESS_EVERY: Duration = Duration::from_millis(50);

/// How often the one who knows his password signs in.
const RIGHT_EVERY: Duration = Duration::from_secs(5);

/// What came of it.
#[derive(Debug, Default)]
pub struct GuessCounts {
    /// Wrong passwords that were answered.
    pub answered: usize,
    /// What who knows his password was answered, and how long he waited.
    pub right: Vec<(u16, Duration)>,
}

/// For a while fifty addresses send twenty wrong passwords a second each, of the user `name`; `right` signs somebody in who
/// knows his, and returns the status; it is given a number of its own each time.
pub fn guess_passwords(at: SocketAddr, name: &str, length: Duration, right: impl Fn(usize) -> u16) -> GuessCounts {
    let answered = AtomicUsize::new(0);
    let began = Instant::now();
    let body = format!(r#"{{"name": "{name}", "password": "wrong password", "token_label": "x"}}"#);
    thread::scope(|scope| {
        for number in 0..GUESSERS {
            let (answered, body) = (&answered, body.as_str());
            scope.spawn(move || {
                for turn in 0.. {
                    let due = GUESS_EVERY * turn;
                    if due > length {
                        return;
                    }
                    thread::sleep(due.saturating_sub(began.elapsed()));
                    if post_sign_in(stranger_address(number), at, body).is_some() {
                        answered.fetch_add(1, Ordering::Relaxed);
                    }
                }
            });
        }
        let mut counts = GuessCounts::default();
        for number in 0.. {
            thread::sleep(RIGHT_EVERY);
            if began.elapsed() >= length {
                break;
            }
            let asked = Instant::now();
            let status = right(number);
            counts.right.push((status, asked.elapsed()));
        }
        counts.answered = answered.load(Ordering::Relaxed);
        counts
    })
}

/// Signs in from an address with a body; None if there was no place, or no answer within 20 s.
pub fn post_sign_in(from: IpAddr, at: SocketAddr, body: &str) -> Option<u16> {
    let mut stream = connect_as(from, at).ok()?;
    stream.set_read_timeout(Some(Duration::from_secs(20))).ok()?;
    let head = format!("POST /api/v1/sign-in HTTP/1.1\r\nhost: {at}\r\ncontent-type: application/json\r\n");
    let request = format!("{head}content-length: {}\r\nconnection: close\r\n\r\n{body}", body.len());
    stream.write_all(request.as_bytes()).ok()?;
    let mut answer = String::new();
    stream.read_to_string(&mut answer).ok()?;
    answer.split(' ').nth(1)?.parse().ok()
}
