use std::fmt::Display;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use waverant_net::resolve;

use crate::clock;

/// What a try came to.
#[derive(Clone, Debug, Default)]
pub struct ProbeReport {
    /// The steps, up to the first that failed.
    pub steps: Vec<ProbeStep>,
}

/// A step of a try, in the order in which they are gone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ProbeStepName {
    /// The host's addresses are looked up.
    Resolve,
    /// A connection is made.
    Connect,
    /// TLS is set up.
    Tls,
    /// The protocol's greeting.
    Handshake,
    /// The platform lets us into its application.
    Application,
    /// The platform takes the key.
    Publish,
}

/// One step of a try.
#[derive(Clone, Debug)]
pub struct ProbeStep {
    /// Which.
    pub name: ProbeStepName,
    /// How long it took.
    pub took: Duration,
    /// What was found, or what went wrong.
    pub outcome: Result<String, String>,
}

impl ProbeReport {
    /// True if every step went well.
    pub fn is_good(&self) -> bool {
        self.steps.iter().all(|step| step.outcome.is_ok())
    }

    /// Notes a step that began at `began`; passes on what it gave.
    pub(super) fn note<T>(
        &mut self,
        name: ProbeStepName,
        began: Instant,
        outcome: Result<T, impl Display>,
        tell: impl FnOnce(&T) -> String,
    ) -> Option<T> {
        let took = clock::now().saturating_duration_since(began);
        let told = outcome.as_ref().map(tell).map_err(ToString::to_string);
        self.steps.push(ProbeStep { name, took, outcome: told });
        outcome.ok()
    }

    /// Looks a host's addresses up.
    pub(super) async fn resolve(&mut self, host: &str, port: u16) -> Option<Vec<SocketAddr>> {
        let began = clock::now();
        let tell =
            |found: &Vec<SocketAddr>| found.iter().map(|found| found.ip().to_string()).collect::<Vec<_>>().join(", ");
        self.note(ProbeStepName::Resolve, began, resolve(host, port).await, tell)
    }
}
