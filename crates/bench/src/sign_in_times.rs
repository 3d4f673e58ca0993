//! Whether a sign-in that fails tells by its time if there is somebody of that name, and how long the right one takes
//! among many that are wrong.

use std::io::{Read, Write};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::path::Path;
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use serde_json::json;
use waverant_standin::{connect_as, guess_passwords, post_sign_in, stranger_address};

use crate::relay::{House, PASSWORD};

/// Tries with a name that there is, and as many with one that there is not, in turns.
const TRIES: usize = 1000;

/// By how many standard deviations the ranks of one kind may be off before they count as told apart.
const MOST_SIGMAS: f64 = 3.3;

/// How long passwords are guessed.
const FLOOD: Duration = Duration::from_secs(60);

/// Who knows his password is in after this.
const PATIENCE: Duration = Duration::from_secs(3);

#[expect(clippy::print_stdout, reason = "the figures are the program's output")]
pub(crate) fn measure(waverantd: &Path) -> anyhow::Result<()> {
    let house = House::start(waverantd, 1, 1)?;
    let mut times = [Vec::with_capacity(TRIES), Vec::with_capacity(TRIES)];
    for number in 0..2 * TRIES {
        let name = if number % 2 == 0 { "bench" } else { "nobdy" };
        times[number % 2].push(try_once(house.http_address, number, name)?);
    }
    let medians = times.each_ref().map(|times| median(times));
    let sigmas = sigmas_apart(&times);
    println!("{} wrong passwords: {:.2} ms of a name that there is", 2 * TRIES, medians[0]);
    println!("{:>21} {:.2} ms of one that there is not", "", medians[1]);
    println!("ranks are {sigmas:.2} standard deviations apart (U test); up to {MOST_SIGMAS} is chance");
    ensure!(sigmas.abs() < MOST_SIGMAS, "names are told apart by their time");
    drop(house);
    // Another house: this one remembers who guessed.
    flood(&House::start(waverantd, 1, 1)?)
}

#[expect(clippy::print_stdout, reason = "the figures are the program's output")]
fn flood(house: &House) -> anyhow::Result<()> {
    let body = json!({"name": "bench", "password": PASSWORD, "token_label": "t"}).to_string();
    // None is 0: no answer.
    let right = |number| post_sign_in(stranger_address(500 + number), house.http_address, &body).unwrap_or(0);
    let counts = guess_passwords(house.http_address, "bench", FLOOD, right);
    let slowest = counts.right.iter().map(|(_, took)| *took).max().context("nobody signed in")?;
    let (answered, length) = (counts.answered, FLOOD.as_secs());
    println!("of {answered} wrong passwords in {length} s the right one took {slowest:.2?} at most");
    ensure!(counts.right.iter().all(|(status, _)| *status == 200), "not all came in: {:?}", counts.right);
    ensure!(slowest < PATIENCE, "it took too long");
    Ok(())
}

/// Milliseconds of one try, from an address that guessed nothing before.
fn try_once(at: SocketAddr, number: usize, name: &str) -> anyhow::Result<f64> {
    let [.., high, low] = (number + 256).to_be_bytes();
    let mut stream = connect_as(IpAddr::V4(Ipv4Addr::new(127, 9, high, low)), at)?;
    stream.set_nodelay(true)?;
    let body = json!({"name": name, "password": "not the password", "token_label": "t"}).to_string();
    let head = format!("POST /api/v1/sign-in HTTP/1.1\r\nhost: {at}\r\ncontent-type: application/json\r\n");
    let request = format!("{head}content-length: {}\r\nconnection: close\r\n\r\n{body}", body.len());
    let began = Instant::now();
    stream.write_all(request.as_bytes())?;
    let mut answer = String::new();
    stream.read_to_string(&mut answer)?;
    let took = began.elapsed().as_secs_f64() * 1000.0;
    let status = answer.split(' ').nth(1).context("no answer")?;
    ensure!(status == "401", "a sign-in was answered {status}");
    Ok(took)
}

fn median(times: &[f64]) -> f64 {
    let mut sorted = times.to_vec();
    sorted.sort_unstable_by(f64::total_cmp);
    sorted[sorted.len() / 2]
}

/// How far the ranks of one kind are from those of chance. Source: H. Mann, D. Whitney, 1947
fn sigmas_apart([one, other]: &[Vec<f64>; 2]) -> f64 {
    let above: usize = one.iter().map(|time| other.iter().filter(|than| time > than).count()).sum();
    #[expect(clippy::cast_precision_loss, reason = "counts are far below 2^52")]
    let [n, m, u] = [one.len(), other.len(), above].map(|count| count as f64);
    (u - n * m / 2.0) / (n * m * (n + m + 1.0) / 12.0).sqrt()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_slower_is_told_apart() {
        let times = |slower: f64| (0..400).map(|number| f64::from(number % 20) + slower).collect::<Vec<_>>();
        assert!(sigmas_apart(&[times(0.1), times(0.0)]).abs() < MOST_SIGMAS);
        assert!(sigmas_apart(&[times(3.0), times(0.0)]) > 5.0);
    }
}
