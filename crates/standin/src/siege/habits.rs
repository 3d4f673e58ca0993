use std::collections::VecDeque;
use std::io::{Read, Write};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpStream, UdpSocket};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use serde_json::json;
use waverant_srt::{CallError, Caller, Config, Passphrase, Randomness, RejectReason};

use super::{SiegeCounts, connect_as, stranger_address};

/// Connections that one habit holds at a time.
const HELD: usize = 600;

/// Bytes of a chunk before anybody says otherwise.
const CHUNK: usize = 128;

/// Each address says nothing for a second, leaves, and comes again.
pub(super) fn redial(rtmp: SocketAddr, counts: Arc<SiegeCounts>) -> impl FnMut(usize) + Send {
    let mut held = VecDeque::new();
    move |number| {
        if let Ok(stream) = connect_as(stranger_address(number), rtmp) {
            counts.rtmp_calls.fetch_add(1, Ordering::Relaxed);
            held.push_back(stream);
        }
        if held.len() > 1000 {
            held.pop_front();
        }
    }
}

pub(super) fn send_bombs(rtmp: SocketAddr, counts: Arc<SiegeCounts>) -> impl FnMut(usize) + Send {
    let bomb = bomb();
    move |number| {
        if let Ok(mut stream) = connect_as(stranger_address(number), rtmp) {
            counts.rtmp_calls.fetch_add(1, Ordering::Relaxed);
            let _ = stream.write_all(&bomb);
        }
    }
}

/// One AMF3 message that would become gigabytes: a string of 55,000 bytes, and thousands of references to it, in
/// arrays in arrays.
///
/// Source: AMF 3, 3.8 (string references), 3.11 (arrays)
fn bomb() -> Vec<u8> {
    let mut body = b"\x02\x00\x07connect\x11\x09\x05\x01\x06\x86\xdb\x31".to_vec();
    body.extend([b'x'; 55_000]);
    body.extend([9, 3, 1].repeat(13));
    body.extend([9, 0xbe, 0x3f, 1]);
    body.extend([6, 0].repeat(3999));
    let [_, length @ ..] = u32::try_from(body.len()).unwrap_or(0).to_be_bytes();
    let mut message = vec![3];
    message.resize(1 + 2 * 1536, 7);
    message.extend([3, 0, 0, 0]);
    message.extend(length);
    message.extend([20, 0, 0, 0, 0]);
    for (place, chunk) in body.chunks(CHUNK).enumerate() {
        message.extend((place > 0).then_some(0xc3));
        message.extend(chunk);
    }
    message
}

pub(super) fn ask_by_halves(http: SocketAddr) -> impl FnMut(usize) + Send {
    let mut held = Vec::new();
    move |number| {
        if let Ok(mut stream) = connect_as(stranger_address(number), http) {
            let _ = stream.write_all(b"GET / HTTP/1.1\r\nhost: a\r\nx: ");
            held.push(stream);
        }
        if held.len() > HELD {
            held.clear();
        }
    }
}

/// A right key with a wrong passphrase: to find out costs the service a derivation.
pub(super) fn call_with_wrong_passphrase(
    srt: SocketAddr,
    key: String,
    counts: Arc<SiegeCounts>,
) -> impl FnMut(usize) + Send {
    let passphrase = Passphrase::new("not the umpire's").ok();
    move |number| {
        let Ok(socket) = UdpSocket::bind(SocketAddr::new(stranger_address(number), 0)) else { return };
        let _ = socket.set_read_timeout(Some(Duration::from_millis(50)));
        let mut seed = [7; 32];
        seed[..8].copy_from_slice(&number.to_be_bytes());
        let config = Config { passphrase: passphrase.clone(), ..Config::default() };
        let call = Caller::new(config, srt, Some(key.clone()), 77, Randomness::new(seed), Instant::now());
        if is_refused_for_passphrase(&socket, srt, call) {
            counts.wrong_passphrases.fetch_add(1, Ordering::Relaxed);
        }
    }
}

fn is_refused_for_passphrase(socket: &UdpSocket, srt: SocketAddr, call: Caller) -> bool {
    answer_to(socket, srt, call) == Some(Some(RejectReason::BAD_SECRET))
}

/// Whether a call was taken, or why not; none if nobody answered.
fn answer_to(socket: &UdpSocket, srt: SocketAddr, mut call: Caller) -> Option<Option<RejectReason>> {
    let mut buffer = [0; 1500];
    for _ in 0..6 {
        if let Some(datagram) = call.poll_transmit(Instant::now()) {
            let _ = socket.send_to(&datagram, srt);
        }
        let Ok(count) = socket.recv(&mut buffer) else { continue };
        match call.handle_datagram(Instant::now(), &buffer[..count]) {
            Err(CallError::Refused(reason)) => return Some(Some(reason)),
            Err(_) => return None,
            Ok(Some(_)) => return Some(None),
            Ok(None) => {}
        }
    }
    None
}

/// Calls over SRT with a key from an address of this machine: why it is refused, if it is; none if nobody answers.
pub fn call_srt_as(from: IpAddr, srt: SocketAddr, key: &str) -> Option<Option<RejectReason>> {
    let socket = UdpSocket::bind(SocketAddr::new(from, 0)).ok()?;
    socket.set_read_timeout(Some(Duration::from_millis(500))).ok()?;
    let port = socket.local_addr().ok()?.port();
    let mut seed = [7; 32];
    seed[..2].copy_from_slice(&port.to_be_bytes());
    let random = Randomness::new(seed);
    let call = Caller::new(Config::default(), srt, Some(key.to_owned()), port.into(), random, Instant::now());
    answer_to(&socket, srt, call)
}

/// Sends datagrams to SRT from so many addresses that are made up: nobody hears what is answered. First what opens a
/// call, then what goes on with one that was never answered.
pub fn invent_srt_callers(srt: SocketAddr, count: u32) {
    let mut seed = [9; 32];
    for number in 0..count {
        // 127.64.0.0/10 has four million addresses.
        let from = Ipv4Addr::from_bits(u32::from_be_bytes([127, 64, 0, 1]) + number);
        let Ok(socket) = UdpSocket::bind(SocketAddr::new(from.into(), 0)) else { continue };
        seed[..4].copy_from_slice(&number.to_be_bytes());
        let key = Some("abcdefg-nobody".to_owned());
        let mut call = Caller::new(Config::default(), srt, key, number | 1, Randomness::new(seed), Instant::now());
        let Some(mut datagram) = call.poll_transmit(Instant::now()) else { continue };
        let _ = socket.send_to(&datagram, srt);
        // The kind of handshake: a conclusion, with a cookie that is a guess.
        if let Some(kind) = datagram.get_mut(36..40) {
            kind.copy_from_slice(&u32::MAX.to_be_bytes());
        }
        let _ = socket.send_to(&datagram, srt);
    }
}

pub(super) fn send_noise(srt: SocketAddr) -> impl FnMut(usize) + Send {
    let socket = UdpSocket::bind("127.0.0.1:0").ok();
    move |number| {
        for piece in 0..16 {
            let noise: Vec<u8> = (0..300).map(|place| (number * 31 + piece * 7 + place).to_le_bytes()[0]).collect();
            let _ = socket.as_ref().map(|socket| socket.send_to(&noise, srt));
        }
    }
}

pub(super) fn guess_passwords(http: SocketAddr, counts: Arc<SiegeCounts>) -> impl FnMut(usize) + Send {
    move |number| {
        let form = json!({"name": "harbour", "password": format!("guess {number}")}).to_string();
        let length = form.len();
        let request = format!(
            "POST /api/v1/sign-in HTTP/1.1\r\nhost: {http}\r\ncontent-type: application/json\r\n\
             content-length: {length}\r\nconnection: close\r\n\r\n{form}"
        );
        let Ok(mut stream) = connect_as(stranger_address(number), http) else { return };
        if is_answered(&mut stream, &request) {
            counts.guesses.fetch_add(1, Ordering::Relaxed);
        }
    }
}

fn is_answered(stream: &mut TcpStream, request: &str) -> bool {
    let _ = stream.set_read_timeout(Some(Duration::from_secs(2)));
    stream.write_all(request.as_bytes()).is_ok() && stream.read(&mut [0; 512]).is_ok_and(|count| count > 0)
}
