//! The certificate: what it is, and having a new one made.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use tokio::sync::watch;
use waverant_acme::Keeper;
use waverant_model::{Certificate, CertificateInUse, CertificateRenewal, CertificateSource};
use waverant_net::CertificateFacts;

use crate::rights::Caller;
use crate::{ApiError, ApiState};

/// The certificate of the doors over TLS, and who keeps it good; neither if there are no such doors.
#[derive(Clone, Debug, Default)]
pub struct CertificateDesk {
    /// What the one in use says of itself.
    pub facts: Option<watch::Receiver<Option<Arc<CertificateFacts>>>>,
    /// Who has it from an authority.
    pub keeper: Option<Arc<Keeper>>,
}

impl CertificateDesk {
    fn tell(&self) -> Certificate {
        let source = match (&self.facts, &self.keeper) {
            (_, Some(_)) => CertificateSource::Authority,
            (Some(_), None) => CertificateSource::Files,
            (None, None) => CertificateSource::None,
        };
        let facts = self.facts.as_ref().and_then(|facts| facts.borrow().clone());
        Certificate {
            source,
            in_use: facts.map(|facts| tell_facts(&facts)),
            renewal: self.keeper.as_deref().map(tell_renewal),
        }
    }
}

fn tell_facts(facts: &CertificateFacts) -> CertificateInUse {
    let CertificateFacts { names, issuer, since, ends, serial, fingerprint, is_placeholder } = facts.clone();
    CertificateInUse { names, issuer, since, ends_at: ends, serial, fingerprint, is_placeholder }
}

fn tell_renewal(keeper: &Keeper) -> CertificateRenewal {
    let (wanted, progress) = (keeper.wanted(), keeper.progress());
    let progress = progress.borrow().clone();
    let (failed_at, fault) = progress.fault.unzip();
    CertificateRenewal {
        directory: wanted.directory.as_str().to_owned(),
        names: wanted.names.iter().map(ToString::to_string).collect(),
        proof: wanted.proof.to_string(),
        is_at_work: progress.is_at_work,
        renewed_at: progress.renewed_at,
        next_at: progress.next_at,
        failures: progress.failures,
        fault,
        failed_at,
    }
}

/// The certificate in use, and how the next one is had
#[utoipa::path(get, path = "/certificate", responses((status = 200, body = Certificate)))]
pub(super) async fn show_certificate(State(state): State<ApiState>) -> Json<Certificate> {
    Json(state.certificate.tell())
}

/// Have a new certificate made by the authority now, however good the one in use still is
#[utoipa::path(post, path = "/certificate/renewal", responses((status = 202, body = Certificate)))]
pub(super) async fn renew_certificate(
    State(state): State<ApiState>,
    caller: Caller,
) -> Result<(StatusCode, Json<Certificate>), ApiError> {
    let told = "The certificate comes from no authority: name one in [authority] of the settings.";
    let keeper = state.certificate.keeper.as_ref().ok_or_else(|| ApiError::Conflict(told.to_owned()))?;
    if !keeper.renew() {
        return Err(ApiError::Conflict("A certificate is being had; see what comes of it.".to_owned()));
    }
    tracing::info!(by = %caller.actor, "a new certificate is asked for");
    Ok((StatusCode::ACCEPTED, Json(state.certificate.tell())))
}
