use clap::Subcommand;
use waverant_model::{CertificateRenewal, CertificateSource};

use crate::client::Client;
use crate::error::Failure;
use crate::output::{Report, moment};

#[derive(Subcommand, Debug)]
pub(super) enum Certificate {
    /// What it is for, who signed it, when it ends, and how the next one is had.
    Show,
    /// Have the authority make a new one now.
    Renew,
}

impl Certificate {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        let found: waverant_model::Certificate = match self {
            Self::Show => client.get("/certificate")?,
            Self::Renew => client.call("POST", "/certificate/renewal", &())?,
        };
        Ok(report.done(&found, &told(&found))?)
    }
}

fn told(certificate: &waverant_model::Certificate) -> String {
    let mut lines = Vec::new();
    match (&certificate.in_use, certificate.source) {
        (_, CertificateSource::None) => lines.push("None: nothing is served over TLS.".to_owned()),
        (None, _) => lines.push("The one in use cannot be read.".to_owned()),
        (Some(found), _) if found.is_placeholder => {
            lines.push("None yet: one of our own, which nobody trusts, stands in for it.".to_owned());
        }
        (Some(found), source) => {
            lines.push(format!("for          {}", found.names.join(" ")));
            lines.push(format!("signed by    {}", found.issuer));
            lines.push(format!("good         {} to {}", moment(found.since), moment(found.ends_at)));
            let from = if source == CertificateSource::Files { "files" } else { "the authority" };
            lines.push(format!("from         {from}"));
            lines.push(format!("serial       {}", found.serial));
            lines.push(format!("SHA-256      {}", found.fingerprint));
        }
    }
    lines.extend(certificate.renewal.iter().flat_map(told_renewal));
    lines.join("\n")
}

fn told_renewal(renewal: &CertificateRenewal) -> Vec<String> {
    let mut lines = vec![
        format!("authority    {}", renewal.directory),
        format!("asked for    {} ({})", renewal.names.join(" "), renewal.proof),
    ];
    if renewal.is_at_work {
        lines.push("now          one is being had".to_owned());
    } else if let Some(next) = renewal.next_at {
        let what = if renewal.fault.is_some() { "next try" } else { "renewed" };
        lines.push(format!("{what:<12} {}", moment(next)));
    }
    if let (Some(fault), Some(at)) = (&renewal.fault, renewal.failed_at) {
        lines.push(format!("failed       {} times in a row, last at {}: {fault}", renewal.failures, moment(at)));
    }
    lines
}
