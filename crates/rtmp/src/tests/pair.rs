use std::time::{Duration, Instant};

use bytes::Bytes;

use crate::{
    ClientConfig, ClientConnection, ClientEvent, ClientPurpose, ClientTarget, Error, Greeting, MediaKind, Refusal,
    ServerConfig, ServerConnection, ServerEvent,
};

/// A server and a client joined by a link that cuts data into pieces of `cut` bytes.
pub(super) struct Pair {
    pub(super) server: ServerConnection,
    pub(super) client: ClientConnection,
    pub(super) now: Instant,
    pub(super) server_events: Vec<ServerEvent>,
    pub(super) client_events: Vec<ClientEvent>,
    /// What the server answers to a publisher.
    pub(super) refusal: Option<Refusal>,
    cut: usize,
}

impl Pair {
    pub(super) fn new(cut: usize) -> Self {
        Self::with(cut, ClientPurpose::Publish, Greeting::Plain)
    }

    #[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
    pub(super) fn with(cut: usize, purpose: ClientPurpose, greeting: Greeting) -> Self {
        let now = Instant::now();
        let target = ClientTarget {
            purpose,
            app: "live".into(),
            tc_url: "rtmp://relay.test/live".into(),
            stream_name: "k7f2-secret?edge=1".into(),
        };
        Self {
            server: ServerConnection::new(ServerConfig::default(), now),
            client: ClientConnection::new(ClientConfig { greeting, ..ClientConfig::default() }, target, now),
            now,
            server_events: Vec::new(),
            client_events: Vec::new(),
            refusal: None,
            cut,
        }
    }

    /// Carries bytes both ways until neither side has more to say.
    pub(super) fn drive(&mut self) {
        for _ in 0..1000 {
            let up = drain(|| self.client.poll_transmit());
            for piece in up.chunks(self.cut) {
                self.server.handle_input(self.now, piece).expect("the server understands our client");
                self.collect_server_events();
            }
            let down = drain(|| self.server.poll_transmit());
            for piece in down.chunks(self.cut) {
                self.client.handle_input(self.now, piece).expect("the client understands our server");
            }
            while let Some(event) = self.client.poll_event() {
                self.client_events.push(event);
            }
            if up.is_empty() && down.is_empty() {
                return;
            }
        }
        panic!("the two sides never come to rest");
    }

    pub(super) fn collect_server_events(&mut self) {
        while let Some(event) = self.server.poll_event() {
            let answered = match (&event, &self.refusal) {
                (ServerEvent::PublishRequested(request) | ServerEvent::PlayRequested(request), Some(refusal)) => {
                    self.server.refuse(request.stream, refusal)
                }
                (ServerEvent::PublishRequested(request), None) => self.server.accept_publish(self.now, request.stream),
                (ServerEvent::PlayRequested(request), None) => self.server.accept_play(self.now, request.stream),
                _ => Ok(()),
            };
            answered.expect("a request waits");
            self.server_events.push(event);
        }
    }

    /// The media that reached the server: kind, timestamp, body.
    pub(super) fn media(&self) -> Vec<(MediaKind, u32, Bytes)> {
        let media = self.server_events.iter().filter_map(|event| match event {
            ServerEvent::Media { kind, timestamp, body, .. } => Some((*kind, timestamp.0, body.clone())),
            _ => None,
        });
        media.collect()
    }

    pub(super) fn pass(&mut self, time: Duration) -> Result<(), Error> {
        self.now += time;
        self.server.handle_timeout(self.now)
    }
}

pub(super) fn drain(mut poll: impl FnMut() -> Option<Bytes>) -> Vec<u8> {
    std::iter::from_fn(&mut poll).flatten().collect()
}
