//! Calls over loopback between our own ends.
#![allow(clippy::unwrap_used, reason = "a test stops at the first surprise")]

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use bytes::Bytes;
use tokio_util::sync::CancellationToken;
use waverant_srt::{CloseReason, Config, Connection, Message, RejectReason, Request, Statistics};
use waverant_udp::{DatagramSocket, Doorkeeper, Link, Service, SrtSocket, Turned};

/// Lets everybody in, and counts the bytes that come.
#[derive(Clone, Default)]
struct Counter {
    bytes: Arc<AtomicUsize>,
}

impl Doorkeeper for Counter {
    type Guest = ();

    fn judge(&mut self, request: &Request) -> Result<Config, RejectReason> {
        if request.stream_id() == Some("nobody") { Err(RejectReason::UNAUTHORIZED) } else { Ok(Config::default()) }
    }

    fn admit(&mut self, _: &Request) -> Result<(), RejectReason> {
        Ok(())
    }

    fn refused(&mut self, _: &Request, _: RejectReason) {}

    fn turned_away(&mut self, _: Turned) {}

    fn message(&mut self, (): &mut (), message: Message<'_>) {
        self.bytes.fetch_add(message.payload.len(), Ordering::Relaxed);
    }

    fn serve(&mut self, (): &mut (), _: &mut Connection, _: Instant) -> Service {
        Service::GoesOn
    }

    fn figures(&mut self, (): &mut (), _: &Statistics) {}

    fn closed(&mut self, (): (), _: CloseReason) {}
}

fn listen(counter: Counter, stop: &CancellationToken) -> SocketAddr {
    let socket = DatagramSocket::bind(SocketAddr::from(([127, 0, 0, 1], 0))).unwrap();
    let address = socket.local_address().unwrap();
    tokio::spawn(SrtSocket::new(socket, &Config::default(), counter).run(stop.clone()));
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
