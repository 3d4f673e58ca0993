//! Calls over loopback between our own ends.
#![allow(clippy::unwrap_used, reason = "a test stops at the first surprise")]

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use bytes::Bytes;
use tokio_util::sync::CancellationToken;
use waverant_srt::{CloseReason, Config, Connection, Message, RejectReason, Request, Statistics};
use waverant_udp::{DatagramSocket, Decision, Doorkeeper, Link, Onward, SrtSocket, Turned, Welcome};

/// Lets everybody in, and counts the bytes that come.
#[derive(Clone, Default)]
struct Counter {
    bytes: Arc<AtomicUsize>,
    /// Who is in is shown out.
    closes: bool,
}

impl Doorkeeper for Counter {
    type Guest = ();
    type Pass = ();

    fn judge(&mut self, request: &Request) -> Decision<()> {
        let welcome = Welcome { config: Config::default(), pass: () };
        Decision::Now(if request.stream_id() == Some("nobody") { Err(RejectReason::UNAUTHORIZED) } else { Ok(welcome) })
    }

    fn admit(&mut self, _: &Request, (): ()) -> Result<(), RejectReason> {
        Ok(())
    }

    fn refused(&mut self, _: &Request, (): (), _: RejectReason) {}

    fn turned_away(&mut self, _: Turned) {}

    fn message(&mut self, (): &mut (), message: Message<'_>) {
        self.bytes.fetch_add(message.payload.len(), Ordering::Relaxed);
    }

    fn serve(&mut self, (): &mut (), _: &mut Connection, _: Instant) -> Onward {
        if self.closes { Onward::Ends } else { Onward::GoesOn }
    }

    fn figures(&mut self, (): &mut (), _: &Statistics) {}

    fn closed(&mut self, (): (), _: CloseReason) {}
}

fn listen(counter: Counter, stop: &CancellationToken) -> SocketAddr {
    let socket = DatagramSocket::bind(SocketAddr::from(([127, 0, 0, 1], 0))).unwrap();
    let address = socket.local_address().unwrap();
    tokio::spawn(SrtSocket::new(socket, &Config::default(), counter).unwrap().run(stop.clone()));
    address
}

/// A handshake that had to be said twice would take 250 ms, and count as the line's delay from then
/// on.
#[tokio::test]
async fn an_idle_listener_answers_at_once() {
    let stop = CancellationToken::new();
    let address = listen(Counter::default(), &stop);
    let mut fastest = Duration::MAX;
    for _ in 0..5 {
        tokio::time::sleep(Duration::from_millis(30)).await;
        let began = Instant::now();
        let link = Link::call(address, Config::default(), None).await.unwrap();
        fastest = fastest.min(began.elapsed());
        link.close();
    }
    assert!(fastest < Duration::from_millis(200), "{fastest:?}");
    stop.cancel();
}

#[tokio::test]
async fn what_is_sent_comes() {
    let (stop, counter) = (CancellationToken::new(), Counter::default());
    let address = listen(counter.clone(), &stop);
    Link::greet(address).await.unwrap();
    let mut link = Link::call(address, Config::default(), Some("somebody".to_owned())).await.unwrap();
    for _ in 0..100 {
        link.send(&Bytes::from_static(&[7; 1316])).unwrap();
    }
    let end = Instant::now() + Duration::from_secs(10);
    while counter.bytes.load(Ordering::Relaxed) < 131_600 && Instant::now() < end {
        link.run_until(Instant::now() + Duration::from_millis(20), |_| {}).await.unwrap();
    }
    assert_eq!(counter.bytes.load(Ordering::Relaxed), 131_600);
    assert!(link.is_flushed());
    link.close();
    let refused = Link::call(address, Config::default(), Some("nobody".to_owned())).await.unwrap_err().to_string();
    assert!(refused.contains("1401"), "{refused}");
    stop.cancel();
}

/// Between `house` and the caller that calls the address it returns. From the first goodbye of the
/// house on nothing passes for a while.
async fn line_that_drops_goodbyes(house: SocketAddr) -> SocketAddr {
    let bind = || async { tokio::net::UdpSocket::bind("127.0.0.1:0").await.unwrap() };
    let (outer, inner) = (bind().await, bind().await);
    let address = outer.local_addr().unwrap();
    tokio::spawn(async move {
        let (mut caller, mut open_at) = (None, None::<Instant>);
        let (mut from_caller, mut from_house) = ([0; 2048], [0; 2048]);
        loop {
            tokio::select! {
                Ok((length, from)) = outer.recv_from(&mut from_caller) => {
                    caller = Some(from);
                    inner.send_to(&from_caller[..length], house).await.unwrap();
                }
                Ok(length) = inner.recv(&mut from_house) => {
                    if from_house[..2] == [0x80, 5] {
                        open_at.get_or_insert(Instant::now() + Duration::from_millis(300));
                    }
                    let (Some(caller), true) = (caller, open_at.is_none_or(|at| Instant::now() >= at)) else { continue };
                    outer.send_to(&from_house[..length], caller).await.unwrap();
                }
            }
        }
    });
    address
}

/// A caller that misses the goodbye goes on, and is told once more. It used to send into the void
/// until it missed our signs of life.
#[tokio::test]
async fn a_goodbye_that_is_lost_is_said_again() {
    let stop = CancellationToken::new();
    let house = listen(Counter { closes: true, ..Counter::default() }, &stop);
    let mut link = Link::call(line_that_drops_goodbyes(house).await, Config::default(), None).await.unwrap();
    let reason = loop {
        let _ = link.send(&Bytes::from_static(&[7; 1316]));
        if let Err(reason) = link.run_until(Instant::now() + Duration::from_millis(20), |_| {}).await {
            break reason;
        }
    };
    assert_eq!(reason, CloseReason::Shutdown);
    stop.cancel();
}
