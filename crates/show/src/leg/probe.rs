//! Trying a destination without going live.

use std::fmt::Display;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use waverant_relay::LegAddress;
use waverant_store::Destination;

use super::{rtmp, srt};
use waverant_net::resolve;

/// What a try came to.
#[derive(Clone, Debug, Default)]
pub(crate) struct ProbeReport {
    pub(crate) steps: Vec<ProbeStep>,
}

/// One step of a try.
#[derive(Clone, Debug)]
pub(crate) struct ProbeStep {
    /// `resolve`, `connect`, `tls`, `handshake`, `application` or `publish`.
    pub(crate) name: &'static str,
    pub(crate) took: Duration,
    /// What was found, or what went wrong.
    pub(crate) outcome: Result<String, String>,
}

impl ProbeReport {
    /// True if every step went well.
    pub(crate) fn is_good(&self) -> bool {
        self.steps.iter().all(|step| step.outcome.is_ok())
    }

    /// Notes a step that began at `began`; passes on what it gave.
    pub(super) fn note<T>(
        &mut self,
        name: &'static str,
        began: Instant,
        outcome: Result<T, impl Display>,
        tell: impl FnOnce(&T) -> String,
    ) -> Option<T> {
        let took = began.elapsed();
        let told = outcome.as_ref().map(tell).map_err(ToString::to_string);
        self.steps.push(ProbeStep { name, took, outcome: told });
        outcome.ok()
    }

    /// Looks a host's addresses up.
    pub(super) async fn resolve(&mut self, host: &str, port: u16) -> Option<Vec<SocketAddr>> {
        let began = Instant::now();
        let tell =
            |found: &Vec<SocketAddr>| found.iter().map(|found| found.ip().to_string()).collect::<Vec<_>>().join(", ");
        self.note("resolve", began, resolve(host, port).await, tell)
    }
}

/// Goes step by step to a destination. The stream key is only shown to it with `publishes`: then it
/// may say to the world that a show begins.
pub(crate) async fn probe(destination: &Destination, publishes: bool) -> ProbeReport {
    let mut report = ProbeReport::default();
    match destination.settings.address.parse::<LegAddress>() {
        Ok(LegAddress::Rtmp(address)) => {
            rtmp::probe::walk(destination, &address, publishes, &mut report).await;
        }
        Ok(LegAddress::Srt(address)) => {
            srt::probe::walk(destination, &address, publishes, &mut report).await;
        }
        Err(error) => {
            report.note("resolve", Instant::now(), Err::<(), _>(error), |()| String::new());
        }
    }
    report
}
