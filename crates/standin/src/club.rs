//! A club's own system: it is asked before somebody is let in, and answers as it is told to, well or badly.

use std::fmt;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::any;
use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use hyper_util::service::TowerToHyperService;
use parking_lot::Mutex;
use serde_json::Value;
use tokio::net::TcpListener;
use tokio::task::{JoinHandle, JoinSet};

/// What a club was asked.
#[derive(Clone, Debug)]
pub struct ClubQuestion {
    /// The headers.
    pub headers: HeaderMap,
    /// The question as it came.
    pub body: Bytes,
    /// The same, read.
    pub question: Value,
    /// When.
    pub at: Instant,
}

/// What it answers.
#[derive(Clone, Debug)]
pub struct ClubAnswer {
    /// The status.
    pub status: u16,
    /// The answer.
    pub body: String,
    /// Where it sends elsewhere.
    pub location: Option<String>,
    /// How long it thinks.
    pub after: Duration,
    /// It breaks off instead.
    pub breaks_off: bool,
}

impl ClubAnswer {
    /// A status with a body.
    pub fn new(status: u16, body: impl fmt::Display) -> Self {
        Self { status, body: body.to_string(), location: None, after: Duration::ZERO, breaks_off: false }
    }

    /// The same after a while.
    #[must_use]
    pub fn after(self, after: Duration) -> Self {
        Self { after, ..self }
    }
}

type Judge = Arc<dyn Fn(&Value) -> ClubAnswer + Send + Sync>;

#[derive(Clone)]
struct Desk {
    judge: Arc<Mutex<Judge>>,
    questions: Arc<Mutex<Vec<ClubQuestion>>>,
}

/// A club's system on loopback; it ends when it is dropped.
pub struct Club {
    address: SocketAddr,
    desk: Desk,
    serving: Option<JoinHandle<()>>,
}

impl fmt::Debug for Club {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.debug_struct("Club").field("address", &self.address).finish_non_exhaustive()
    }
}

impl Drop for Club {
    fn drop(&mut self) {
        self.close();
    }
}

impl Club {
    /// Opens one that answers as `judge` says.
    ///
    /// # Errors
    /// What the system said.
    pub async fn open(judge: impl Fn(&Value) -> ClubAnswer + Send + Sync + 'static) -> anyhow::Result<Self> {
        Self::open_at(SocketAddr::from(([127, 0, 0, 1], 0)), judge).await
    }

    /// The same at this address.
    ///
    /// # Errors
    /// What the system said.
    pub async fn open_at(
        address: SocketAddr,
        judge: impl Fn(&Value) -> ClubAnswer + Send + Sync + 'static,
    ) -> anyhow::Result<Self> {
        let judge: Judge = Arc::new(judge);
        let desk = Desk { judge: Arc::new(Mutex::new(judge)), questions: Arc::default() };
        let mut club = Self { address, desk, serving: None };
        club.reopen().await?;
        Ok(club)
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Where it is asked.
    pub fn url(&self) -> String {
        format!("http://{}/relay", self.address)
    }

    /// What it was asked so far.
    pub fn questions(&self) -> Vec<ClubQuestion> {
        self.desk.questions.lock().clone()
    }

    /// It answers otherwise from now on.
    pub fn answer(&self, judge: impl Fn(&Value) -> ClubAnswer + Send + Sync + 'static) {
        *self.desk.judge.lock() = Arc::new(judge);
    }

    /// It is down: nobody listens, and connections that are there break off.
    pub fn close(&mut self) {
        if let Some(serving) = self.serving.take() {
            serving.abort();
        }
    }

    /// It is there again, at the same address.
    ///
    /// # Errors
    /// What the system said.
    pub async fn reopen(&mut self) -> anyhow::Result<()> {
        let listener = TcpListener::bind(self.address).await?;
        self.address = listener.local_addr()?;
        let router = Router::new().fallback(any(answer)).with_state(self.desk.clone());
        self.serving = Some(tokio::spawn(serve(listener, router)));
        Ok(())
    }
}

async fn serve(listener: TcpListener, router: Router) {
    // Dropped with the task, and with it all connections.
    let mut connections = JoinSet::new();
    while let Ok((stream, _)) = listener.accept().await {
        let service = TowerToHyperService::new(router.clone());
        connections.spawn(async move {
            let _ = Builder::new(TokioExecutor::new()).serve_connection(TokioIo::new(stream), service).await;
        });
        while connections.try_join_next().is_some() {}
    }
}

async fn answer(State(desk): State<Desk>, headers: HeaderMap, body: Bytes) -> Response {
    let question: Value = serde_json::from_slice(&body).unwrap_or_default();
    let judge = desk.judge.lock().clone();
    let answer = judge(&question);
    desk.questions.lock().push(ClubQuestion { headers, body, question, at: Instant::now() });
    tokio::time::sleep(answer.after).await;
    if answer.breaks_off {
        // A body that fails breaks the connection.
        let broken = futures_util::stream::once(async { Err::<Bytes, _>(std::io::Error::other("broken off")) });
        return Response::new(Body::from_stream(broken));
    }
    let status = StatusCode::from_u16(answer.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    let mut response = (status, answer.body).into_response();
    if let Some(location) = answer.location.and_then(|location| location.parse().ok()) {
        response.headers_mut().insert(header::LOCATION, location);
    }
    response
}
