//! An authority that gives certificates over the automatic protocol (RFC 8555), and does it wrong when it is asked to. It
//! looks neither at signatures nor at proofs: it is there for what else can go wrong.
#![expect(clippy::result_large_err, reason = "an error is an answer here, and goes straight to the caller")]

use std::net::SocketAddr;
use std::sync::Arc;

use anyhow::Context;
use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::{Path, State};
use axum::http::{HeaderName, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use base64::Engine;
use base64::prelude::BASE64_URL_SAFE_NO_PAD;
use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use hyper_util::service::TowerToHyperService;
use parking_lot::Mutex;
use rcgen::CertificateSigningRequestParams;
use serde_json::{Value, json};
use time::{Duration, OffsetDateTime};
use tokio::net::TcpListener;
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;

use crate::{Authority, Validity};

/// What it does wrong.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum CertifierFault {
    /// Nothing.
    #[default]
    None,
    /// It takes no nonce of the next so many calls.
    BadNonce(u32),
    /// It has enough, for so many seconds.
    RateLimited(u32),
    /// Something before it says that it is away.
    Away,
    /// It sees no proof.
    NoProof,
    /// It offers another proof only.
    OtherProof,
    /// It never comes to a decision.
    Undecided,
    /// Its certificates are for another name.
    WrongName,
    /// Its certificates have ended.
    Ended,
    /// Its certificates are no certificates.
    Nonsense,
    /// Its answers do not end.
    Endless,
}

/// What it saw.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct CertifierCounts {
    /// Accounts that were opened.
    pub accounts: usize,
    /// Orders that were placed.
    pub orders: usize,
    /// Certificates that were given.
    pub certificates: usize,
}

#[derive(Debug, Default)]
struct Seen {
    fault: CertifierFault,
    life: Option<Duration>,
    counts: CertifierCounts,
    known_accounts: usize,
    orders: Vec<Order>,
}

#[derive(Clone, Debug, Default)]
struct Order {
    identifiers: Vec<Value>,
    is_proven: bool,
    request: Option<Vec<u8>>,
}

#[derive(Clone)]
struct Desk {
    seen: Arc<Mutex<Seen>>,
    authority: Arc<Authority>,
    site: String,
}

/// A running one, at `localhost`. Ends when dropped.
pub struct Certifier {
    desk: Desk,
    task: JoinHandle<()>,
}

impl Drop for Certifier {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl std::fmt::Debug for Certifier {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Certifier").field("site", &self.desk.site).finish_non_exhaustive()
    }
}

impl Certifier {
    /// Starts one whose certificates are good for `life`, or for years.
    ///
    /// # Errors
    /// If it cannot listen, or a key cannot be made.
    pub async fn start(life: Option<Duration>) -> anyhow::Result<Self> {
        let authority = Arc::new(Authority::new()?);
        let tls = TlsAcceptor::from(authority.issue("localhost", Validity::Good)?.server_config()?);
        let listener = TcpListener::bind(SocketAddr::from(([127, 0, 0, 1], 0))).await.context("listen")?;
        let site = format!("https://localhost:{}", listener.local_addr()?.port());
        let seen = Arc::new(Mutex::new(Seen { life, ..Seen::default() }));
        let desk = Desk { seen, authority, site };
        let router = router(desk.clone());
        let task = tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let (tls, service) = (tls.clone(), TowerToHyperService::new(router.clone()));
                tokio::spawn(async move {
                    let Ok(stream) = tls.accept(stream).await else { return };
                    let _ = Builder::new(TokioExecutor::new()).serve_connection(TokioIo::new(stream), service).await;
                });
            }
        });
        Ok(Self { desk, task })
    }

    /// Where it tells what it can do.
    pub fn directory(&self) -> String {
        format!("{}/directory", self.desk.site)
    }

    /// The certificate of the authority that signs all of its own.
    pub fn pem(&self) -> &str {
        self.desk.authority.pem()
    }

    /// What it does wrong from now on.
    pub fn set_fault(&self, fault: CertifierFault) {
        self.desk.seen.lock().fault = fault;
    }

    /// It loses its own records.
    pub fn forget(&self) {
        let mut seen = self.desk.seen.lock();
        seen.known_accounts = 0;
        seen.orders.clear();
    }

    /// What it saw.
    pub fn counts(&self) -> CertifierCounts {
        self.desk.seen.lock().counts
    }
}

fn router(desk: Desk) -> Router {
    Router::new()
        .route("/directory", get(directory))
        .route("/nonce", get(nonce).head(nonce))
        .route("/account", post(open_account))
        .route("/order", post(place_order))
        .route("/order/{order}", post(show_order))
        .route("/proof/{order}/{at}", post(show_proof))
        .route("/prove/{order}", post(prove))
        .route("/finalize/{order}", post(finalize))
        .route("/certificate/{order}", post(certificate))
        .with_state(desk)
}

type Answer = Result<Response, Response>;

const NONCE: (HeaderName, &str) = (HeaderName::from_static("replay-nonce"), "c2x1aWNl");

fn told(status: StatusCode, value: &Value) -> Response {
    (status, [NONCE, (header::CONTENT_TYPE, "application/json")], value.to_string()).into_response()
}

fn problem(status: StatusCode, kind: &str, detail: &str) -> Response {
    let value = json!({"type": format!("urn:ietf:params:acme:error:{kind}"), "detail": detail});
    let head = [NONCE, (header::CONTENT_TYPE, "application/problem+json")];
    (status, head, value.to_string()).into_response()
}

impl Desk {
    /// What a call carries, unless the fault of now is that none gets through.
    fn open(&self, body: &[u8], needs_account: bool) -> Result<Value, Response> {
        let mut seen = self.seen.lock();
        match &mut seen.fault {
            CertifierFault::BadNonce(left) if *left > 0 => {
                *left -= 1;
                return Err(problem(StatusCode::BAD_REQUEST, "badNonce", "this nonce is not known"));
            }
            CertifierFault::RateLimited(seconds) => {
                let mut answer = problem(StatusCode::TOO_MANY_REQUESTS, "rateLimited", "too many orders");
                answer.headers_mut().insert(header::RETRY_AFTER, (*seconds).into());
                return Err(answer);
            }
            _ => {}
        }
        if needs_account && seen.known_accounts == 0 {
            return Err(problem(StatusCode::BAD_REQUEST, "accountDoesNotExist", "there is no such account"));
        }
        let malformed = || problem(StatusCode::BAD_REQUEST, "malformed", "this is no signed request");
        let envelope: Value = serde_json::from_slice(body).map_err(|_| malformed())?;
        let payload = BASE64_URL_SAFE_NO_PAD.decode(envelope["payload"].as_str().unwrap_or("?"));
        let payload = payload.map_err(|_| malformed())?;
        Ok(serde_json::from_slice(&payload).unwrap_or_default())
    }

    fn order(&self, number: usize) -> Result<Order, Response> {
        let missing = || problem(StatusCode::NOT_FOUND, "malformed", "there is no such order");
        self.seen.lock().orders.get(number).cloned().ok_or_else(missing)
    }

    fn tell_order(&self, status: StatusCode, number: usize) -> Answer {
        let (order, fault) = (self.order(number)?, self.seen.lock().fault);
        let state = match (&order, fault) {
            (Order { request: Some(_), .. }, _) => "valid",
            (_, CertifierFault::Undecided) => "pending",
            (Order { is_proven: true, .. }, CertifierFault::NoProof) => "invalid",
            (Order { is_proven: true, .. }, _) => "ready",
            _ => "pending",
        };
        let proofs: Vec<String> =
            (0..order.identifiers.len()).map(|at| format!("{}/proof/{number}/{at}", self.site)).collect();
        let mut answer = told(
            status,
            &json!({
                "status": state,
                "identifiers": order.identifiers,
                "authorizations": proofs,
                "finalize": format!("{}/finalize/{number}", self.site),
                "certificate": format!("{}/certificate/{number}", self.site),
            }),
        );
        let place = format!("{}/order/{number}", self.site).parse();
        answer.headers_mut().extend(place.ok().map(|place| (header::LOCATION, place)));
        Ok(answer)
    }

    fn issue(&self, request: &[u8]) -> anyhow::Result<String> {
        let (fault, life) = {
            let seen = self.seen.lock();
            (seen.fault, seen.life)
        };
        let mut request = CertificateSigningRequestParams::from_der(&request.into())?;
        let now = OffsetDateTime::now_utc();
        request.params.not_before = now - Duration::seconds(1);
        request.params.not_after = now + life.unwrap_or(Duration::days(90));
        match fault {
            CertifierFault::Ended => request.params.not_after = now - Duration::milliseconds(500),
            CertifierFault::WrongName => {
                request.params.subject_alt_names = vec![rcgen::SanType::DnsName("elsewhere.test".try_into()?)];
            }
            CertifierFault::Nonsense => return Ok("no certificate".to_owned()),
            _ => {}
        }
        self.authority.sign(&request)
    }
}

async fn directory(State(desk): State<Desk>) -> Response {
    match desk.seen.lock().fault {
        CertifierFault::Away => return (StatusCode::SERVICE_UNAVAILABLE, "<h1>Away</h1>").into_response(),
        CertifierFault::Endless => {
            let pieces = std::iter::repeat_with(|| Ok::<_, std::io::Error>(Bytes::from_static(&[b' '; 4096])));
            return Body::from_stream(futures_util::stream::iter(pieces)).into_response();
        }
        _ => {}
    }
    let at = |path: &str| format!("{}/{path}", desk.site);
    told(StatusCode::OK, &json!({"newNonce": at("nonce"), "newAccount": at("account"), "newOrder": at("order")}))
}

async fn nonce() -> Response {
    [NONCE].into_response()
}

async fn open_account(State(desk): State<Desk>, body: Bytes) -> Answer {
    desk.open(&body, false)?;
    let number = {
        let mut seen = desk.seen.lock();
        seen.counts.accounts += 1;
        seen.known_accounts += 1;
        seen.counts.accounts
    };
    let place = [(header::LOCATION, format!("{}/account/{number}", desk.site))];
    Ok((place, told(StatusCode::CREATED, &json!({"status": "valid"}))).into_response())
}

async fn place_order(State(desk): State<Desk>, body: Bytes) -> Answer {
    let wanted = desk.open(&body, true)?;
    let number = {
        let mut seen = desk.seen.lock();
        seen.counts.orders += 1;
        let identifiers = wanted["identifiers"].as_array().cloned().unwrap_or_default();
        seen.orders.push(Order { identifiers, ..Order::default() });
        seen.orders.len() - 1
    };
    desk.tell_order(StatusCode::CREATED, number)
}

async fn show_order(State(desk): State<Desk>, Path(number): Path<usize>, body: Bytes) -> Answer {
    desk.open(&body, true)?;
    desk.tell_order(StatusCode::OK, number)
}

async fn show_proof(State(desk): State<Desk>, Path((number, at)): Path<(usize, usize)>, body: Bytes) -> Answer {
    desk.open(&body, true)?;
    let (order, fault) = (desk.order(number)?, desk.seen.lock().fault);
    let kind = |kind: &str| json!({"type": kind, "url": format!("{}/prove/{number}", desk.site), "token": "dG9rZW4", "status": "pending"});
    let mut proofs = if fault == CertifierFault::OtherProof {
        vec![kind("dns-01")]
    } else {
        vec![kind("http-01"), kind("tls-alpn-01")]
    };
    let is_refused = order.is_proven && fault == CertifierFault::NoProof;
    if is_refused {
        proofs[0]["status"] = json!("invalid");
        proofs[0]["error"] = json!({"type": "urn:ietf:params:acme:error:connection", "detail": "Connection refused"});
    }
    let status = if is_refused { "invalid" } else { "pending" };
    let identifier = order.identifiers.get(at).cloned().unwrap_or_default();
    Ok(told(StatusCode::OK, &json!({"status": status, "identifier": identifier, "challenges": proofs})))
}

async fn prove(State(desk): State<Desk>, Path(number): Path<usize>, body: Bytes) -> Answer {
    desk.open(&body, true)?;
    desk.order(number)?;
    desk.seen.lock().orders[number].is_proven = true;
    Ok(told(StatusCode::OK, &json!({"type": "http-01", "url": "", "token": "dG9rZW4", "status": "processing"})))
}

async fn finalize(State(desk): State<Desk>, Path(number): Path<usize>, body: Bytes) -> Answer {
    let wanted = desk.open(&body, true)?;
    desk.order(number)?;
    let request = BASE64_URL_SAFE_NO_PAD.decode(wanted["csr"].as_str().unwrap_or_default()).unwrap_or_default();
    desk.seen.lock().orders[number].request = Some(request);
    desk.tell_order(StatusCode::OK, number)
}

async fn certificate(State(desk): State<Desk>, Path(number): Path<usize>, body: Bytes) -> Answer {
    desk.open(&body, true)?;
    let request = desk.order(number)?.request.unwrap_or_default();
    let refused = |error: anyhow::Error| problem(StatusCode::BAD_REQUEST, "badCSR", &error.to_string());
    let chain = desk.issue(&request).map_err(refused)?;
    desk.seen.lock().counts.certificates += 1;
    Ok(([NONCE, (header::CONTENT_TYPE, "application/pem-certificate-chain")], chain).into_response())
}
