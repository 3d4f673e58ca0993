//! The measured service, with one encoder and many RTMP sinks around it.

use std::net::SocketAddr;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use bytes::Bytes;
use serde_json::{Value, json};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinSet;
use tokio::time::sleep;
use tokio_rustls::TlsAcceptor;
use waverant_container::{TagCodec, TagForm, config_header, frame_header};
use waverant_media::TrackKind;
use waverant_media::testing::AVC_RECORD;
use waverant_rtmp::{
    ClientConfig, ClientConnection, ClientPurpose, ClientTarget, MediaKind, MediaOutput, RtmpAddress, ServerConfig,
    ServerConnection, ServerEvent, StreamMetadataBuilder, StreamRates, Timestamp,
};

use crate::Figures;
use crate::latency::Latencies;
use crate::process::{cpu_seconds, resident_mib};
use crate::source::{Source, age};
use crate::tls::Tls;

const PASSWORD: &str = "benchmark only";
const START_PATIENCE: Duration = Duration::from_secs(30);
const WARM_UP: Duration = Duration::from_secs(3);

/// Bytes of a video tag before the picture.
const TAG_HEADER: usize = 5;

/// A running `waverantd` with a channel. Ends when dropped.
pub(crate) struct House {
    child: Child,
    url: String,
    rtmp_address: SocketAddr,
    rtmp: String,
    database_pid: u32,
    token: String,
    key: String,
    names: usize,
    _folder: tempfile::TempDir,
}

impl House {
    pub(crate) fn start(program: &Path, names: usize) -> anyhow::Result<Self> {
        let folder = tempfile::tempdir()?;
        let path = |name: &str| folder.path().join(name);
        std::fs::write(path("administrator.toml"), format!("name = \"bench\"\npassword = \"{PASSWORD}\"\n"))?;
        std::fs::write(path("waverant.toml"), "[log]\nlevel = \"warn\"\n")?;
        let mut child = Command::new(program)
            .arg("--settings")
            .arg(path("waverant.toml"))
            .env("WAVERANT_LISTEN_RTMP", "127.0.0.1:0")
            .env("WAVERANT_LISTEN_HTTP", "127.0.0.1:0")
            .env("WAVERANT_LIMITS_RTMP_CONNECTIONS", "1000")
            .env("WAVERANT_LIMITS_RTMP_CONNECTIONS_PER_ADDRESS", "1000")
            .env("WAVERANT_HOUSE_STATE_FOLDER", path("state"))
            .env("WAVERANT_HOUSE_RECORDINGS_FOLDER", path("recordings"))
            .env("WAVERANT_HOUSE_READY_FILE", path("ready.json"))
            .env("WAVERANT_FIRST_RUN_ADMINISTRATOR_FILE", path("administrator.toml"))
            .stdout(Stdio::null())
            .spawn()
            .with_context(|| format!("{}: build it with --release first", program.display()))?;
        let began = Instant::now();
        while !path("ready.json").exists() {
            ensure!(child.try_wait()?.is_none(), "waverantd ended");
            ensure!(began.elapsed() < START_PATIENCE, "waverantd is not ready");
            std::thread::sleep(Duration::from_millis(50));
        }
        let ready: Value = serde_json::from_str(&std::fs::read_to_string(path("ready.json"))?)?;
        let text = |field: &str| ready[field].as_str().unwrap_or_default().to_owned();
        let mut house = Self {
            child,
            url: format!("http://{}/api/v1", text("http")),
            rtmp_address: text("rtmp").parse()?,
            rtmp: format!("rtmp://{}/in", text("rtmp")),
            database_pid: u32::try_from(ready["database_pid"].as_u64().unwrap_or(0))?,
            token: String::new(),
            key: String::new(),
            names,
            _folder: folder,
        };
        let sign_in = json!({"name": "bench", "password": PASSWORD, "token_label": "bench"});
        house.token = house.call("POST", "/sign-in", &sign_in)?["token"].as_str().unwrap_or_default().to_owned();
        house.call("POST", "/channels", &json!({"name": "bench", "hold_ms": 0, "records": false}))?;
        let made = house.call("POST", "/channels/bench/keys", &json!({"label": "bench"}))?;
        house.key = made["encoder"]["key"].as_str().unwrap_or_default().to_owned();
        for number in 0..names {
            let destination = json!({"name": format!("d{number}"), "address": "rtmp://127.0.0.1:1/in", "key": "k"});
            house.call("POST", "/destinations", &destination)?;
        }
        Ok(house)
    }

    fn call(&self, method: &str, path: &str, body: &Value) -> anyhow::Result<Value> {
        let request = ureq::http::Request::builder()
            .method(method)
            .uri(format!("{}{path}", self.url))
            .header("authorization", format!("Bearer {}", self.token))
            .header("content-type", "application/json")
            .body(body.to_string())?;
        let mut answer = ureq::run(request).with_context(|| format!("{method} {path}"))?;
        let text = answer.body_mut().read_to_string()?;
        Ok(serde_json::from_str(&text).unwrap_or(Value::Null))
    }

    pub(crate) fn rtmp_address(&self) -> SocketAddr {
        self.rtmp_address
    }

    pub(crate) fn database_mib(&self) -> f64 {
        resident_mib(self.database_pid)
    }

    /// Runs a show to `count` sinks and measures the service.
    pub(crate) async fn measure(
        &self,
        count: usize,
        length: Duration,
        records: bool,
        tls: Option<&Tls>,
    ) -> anyhow::Result<Figures> {
        let source = Source::new();
        let state = Arc::new(Sinks::default());
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let (address, authority) = match tls {
            Some(tls) => (format!("rtmps://localhost:{}/in", listener.local_addr()?.port()), tls.authority.as_str()),
            None => (format!("rtmp://{}/in", listener.local_addr()?), ""),
        };
        self.call("PATCH", "/channels/bench", &json!({ "records": records }))?;
        for number in 0..self.names {
            let path = format!("/channels/bench/destinations/d{number}");
            if number < count {
                self.call(
                    "PATCH",
                    &format!("/destinations/d{number}"),
                    &json!({ "address": address, "authority": authority }),
                )?;
                self.call("PUT", &path, &json!({"is_on": true}))?;
            } else {
                self.call("DELETE", &path, &Value::Null)?;
            }
        }
        let sinks = tokio::spawn(accept_sinks(listener, source.began(), state.clone(), tls.map(Tls::acceptor)));
        let encoder = tokio::spawn(publish(self.rtmp.clone(), self.key.clone(), source));
        let pid = self.child.id();
        let began = Instant::now();
        while state.taken.load(Ordering::Relaxed) < count {
            ensure!(
                began.elapsed() < START_PATIENCE,
                "only {} of {count} legs carry",
                state.taken.load(Ordering::Relaxed)
            );
            sleep(Duration::from_millis(50)).await;
        }
        sleep(WARM_UP).await;
        let before = cpu_seconds(pid)?;
        state.counting.store(true, Ordering::Relaxed);
        sleep(length).await;
        state.counting.store(false, Ordering::Relaxed);
        let cpu = cpu_seconds(pid)? - before;
        let resident_mib = resident_mib(pid);
        encoder.abort();
        let delivered_gb = state.bytes.load(Ordering::Relaxed) as f64 / 1e9;
        // The broken line ends the session, and with it all connections.
        state.finished.store(true, Ordering::Relaxed);
        let latencies = sinks.await?;
        Ok(Figures { cpu_seconds_per_gb: cpu / delivered_gb, delivered_gb, latencies, resident_mib })
    }
}

impl Drop for House {
    fn drop(&mut self) {
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }
}

/// What all sinks of a measurement share.
#[derive(Default)]
struct Sinks {
    taken: AtomicUsize,
    counting: AtomicBool,
    finished: AtomicBool,
    bytes: AtomicU64,
}

async fn accept_sinks(listener: TcpListener, began: Instant, state: Arc<Sinks>, tls: Option<TlsAcceptor>) -> Latencies {
    let mut connections = JoinSet::new();
    let mut latencies = Latencies::default();
    loop {
        tokio::select! {
            accepted = listener.accept() => {
                if let Ok((stream, _)) = accepted {
                    let (state, tls) = (state.clone(), tls.clone());
                    connections.spawn(async move {
                        match tls {
                            None => read_sink(stream, began, state).await,
                            Some(tls) => match tls.accept(stream).await {
                                Ok(stream) => read_sink(stream, began, state).await,
                                Err(_) => Latencies::default(),
                            },
                        }
                    });
                }
            }
            Some(ended) = connections.join_next() => latencies.extend(ended.unwrap_or_default()),
            () = sleep(Duration::from_millis(200)) => {}
        }
        if state.finished.load(Ordering::Relaxed) && connections.is_empty() {
            return latencies;
        }
    }
}

async fn read_sink(mut stream: impl AsyncRead + AsyncWrite + Unpin, began: Instant, state: Arc<Sinks>) -> Latencies {
    let mut server = ServerConnection::new(ServerConfig::default(), Instant::now());
    let mut latencies = Latencies::default();
    let mut buffer = vec![0; 64 * 1024];
    loop {
        while let Some(piece) = server.poll_transmit() {
            if stream.write_all(&piece).await.is_err() {
                return latencies;
            }
        }
        let _ = stream.flush().await;
        let count = stream.read(&mut buffer).await.unwrap_or(0);
        if count == 0 || server.handle_input(Instant::now(), &buffer[..count]).is_err() {
            return latencies;
        }
        while let Some(event) = server.poll_event() {
            match event {
                ServerEvent::PublishRequested(request) => {
                    state.taken.fetch_add(1, Ordering::Relaxed);
                    let _ = server.accept_publish(Instant::now(), request.stream);
                }
                ServerEvent::Media { kind: MediaKind::Video, body, .. } if state.counting.load(Ordering::Relaxed) => {
                    state.bytes.fetch_add((body.len() - TAG_HEADER) as u64, Ordering::Relaxed);
                    if let Some(latency) = age(&body[TAG_HEADER..], began) {
                        latencies.push(latency);
                    }
                }
                _ => {}
            }
        }
    }
}

async fn publish(server: String, key: String, mut source: Source) -> anyhow::Result<()> {
    let address: RtmpAddress = server.parse()?;
    let mut stream = TcpStream::connect((address.host(), address.port())).await?;
    stream.set_nodelay(true)?;
    let purpose = ClientPurpose::Publish;
    let target = ClientTarget { purpose, app: address.app().to_owned(), tc_url: server, stream_name: key };
    let mut client = ClientConnection::new(ClientConfig::default(), target, Instant::now());
    let mut buffer = vec![0; 4096];
    flush(&mut client, &mut stream).await?;
    while !client.is_publishing() {
        let count = stream.read(&mut buffer).await?;
        ensure!(count > 0, "the service closed the connection");
        client.handle_input(Instant::now(), &buffer[..count])?;
        flush(&mut client, &mut stream).await?;
    }
    let metadata = StreamMetadataBuilder::new(&Default::default(), StreamRates::default(), "bench");
    client.send_data(Timestamp(0), &metadata.encode_for_server())?;
    let (kind, codec, form) = (TrackKind::Video, TagCodec::Avc, TagForm::First);
    client.send_video(Timestamp(0), &config_header(kind, codec, form), &Bytes::from_static(AVC_RECORD))?;
    loop {
        let (millis, keyframe, picture) = source.next().await;
        client.send_video(Timestamp(millis), &frame_header(kind, codec, form, keyframe, 0), &picture)?;
        flush(&mut client, &mut stream).await?;
    }
}

async fn flush(client: &mut ClientConnection, stream: &mut TcpStream) -> std::io::Result<()> {
    while let Some(piece) = client.poll_transmit() {
        stream.write_all(&piece).await?;
    }
    Ok(())
}
