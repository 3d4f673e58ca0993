//! Trying a destination without going live.

use waverant_relay::{LegAddress, LegDestination};

use crate::clock;

use super::probe_report::{ProbeReport, ProbeStepName};
use super::{rtmp, srt};

/// Goes step by step to a destination. The stream key is only shown to it with `publishes`: then it
/// may say to the world that a show begins.
pub async fn probe(destination: &LegDestination, publishes: bool) -> ProbeReport {
    let mut report = ProbeReport::default();
    match destination.address() {
        Ok(LegAddress::Rtmp(address)) => {
            rtmp::probe::walk(destination, &address, publishes, &mut report).await;
        }
        Ok(LegAddress::Srt(address)) => {
            srt::probe::walk(destination, &address, publishes, &mut report).await;
        }
        Err(error) => {
            report.note(ProbeStepName::Resolve, clock::now(), Err::<(), _>(error), |()| String::new());
        }
    }
    report
}
