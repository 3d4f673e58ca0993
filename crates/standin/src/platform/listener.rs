//! The platform as a listener of SRT.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::Context;
use parking_lot::Mutex;
use tokio::sync::watch;
use tokio_util::sync::CancellationToken;
use waverant_srt::{CloseReason, Config, Connection, Message, RejectReason, Request, Statistics};
use waverant_udp::{DatagramSocket, Decision, Doorkeeper, Onward, SrtSocket, Turned, Welcome};

use super::{ConnectionReport, PlatformFault, PlatformOptions, PlatformReport};
use crate::encoder::{SrtOptions, srt_config};
use crate::ts_marks::TsMarks;

/// Takes callers until it is dropped; returns where.
pub(super) fn start(
    options: &PlatformOptions,
    srt: &SrtOptions,
    report: Arc<Mutex<PlatformReport>>,
    changed: watch::Sender<u64>,
) -> std::io::Result<(SocketAddr, tokio::task::JoinHandle<()>)> {
    let socket = DatagramSocket::bind(options.listen)?;
    let address = socket.local_address()?;
    let config = srt_config(srt).context("passphrase").map_err(std::io::Error::other)?;
    let door =
        Door { key: options.key.clone(), fault: options.fault, config: config.clone(), report, changed, served: 0 };
    let task = tokio::spawn(SrtSocket::new(socket, &config, door)?.run(CancellationToken::new()));
    Ok((address, task))
}

struct Door {
    key: String,
    fault: Option<PlatformFault>,
    config: Config,
    report: Arc<Mutex<PlatformReport>>,
    changed: watch::Sender<u64>,
    served: usize,
}

/// A publisher and where its report is.
struct Guest {
    number: usize,
    marks: TsMarks,
    began: Instant,
    /// When the connection is to be broken.
    breaks_after: Option<Duration>,
}

impl Door {
    fn note(&self, change: impl FnOnce(&mut PlatformReport)) {
        change(&mut self.report.lock());
        self.changed.send_modify(|count| *count += 1);
    }

    fn note_refused(&self, reason: RejectReason) {
        let refused = Some(reason.to_string());
        self.note(|report| report.connections.push(ConnectionReport { refused, ..ConnectionReport::default() }));
    }
}

impl Doorkeeper for Door {
    type Guest = Guest;
    type Pass = ();

    fn judge(&mut self, request: &Request) -> Decision<()> {
        let reason = match self.fault {
            Some(PlatformFault::Refuse) => Some(RejectReason::FORBIDDEN),
            _ if request.stream_id().unwrap_or_default() != self.key => Some(RejectReason::UNAUTHORIZED),
            _ => None,
        };
        if let Some(reason) = reason {
            self.note_refused(reason);
            return Decision::Now(Err(reason));
        }
        Decision::Now(Ok(Welcome { config: self.config.clone(), pass: () }))
    }

    fn admit(&mut self, _: &Request, (): ()) -> Result<Guest, RejectReason> {
        let breaks_after = match self.fault {
            Some(PlatformFault::ResetOnceAfter(time)) if self.served == 0 => Some(time),
            Some(PlatformFault::ResetAfter(time)) => Some(time),
            _ => None,
        };
        self.served += 1;
        let number = self.report.lock().connections.len();
        self.note(|report| report.connections.push(ConnectionReport::default()));
        Ok(Guest { number, marks: TsMarks::default(), began: Instant::now(), breaks_after })
    }

    fn refused(&mut self, _: &Request, (): (), reason: RejectReason) {
        self.note_refused(reason);
    }

    fn turned_away(&mut self, turned: Turned) {
        self.note_refused(turned.reason);
    }

    fn message(&mut self, guest: &mut Guest, message: Message<'_>) {
        self.note(|report| {
            if let Some(connection) = report.connections.get_mut(guest.number) {
                guest.marks.push(message.payload, &mut connection.received);
                connection.fault = guest.marks.fault();
            }
        });
    }

    fn serve(&mut self, guest: &mut Guest, _: &mut Connection, now: Instant) -> Onward {
        let is_over = guest.breaks_after.is_some_and(|time| now >= guest.began + time);
        if is_over { Onward::Ends } else { Onward::GoesOn }
    }

    fn figures(&mut self, _: &mut Guest, _: &Statistics) {}

    fn closed(&mut self, mut guest: Guest, reason: CloseReason) {
        self.note(|report| {
            if let Some(connection) = report.connections.get_mut(guest.number) {
                guest.marks.finish(&mut connection.received);
                connection.was_ended = reason == CloseReason::Shutdown;
            }
        });
    }
}
