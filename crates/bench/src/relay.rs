//! The measured service, with one encoder and many RTMP sinks around it.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use serde_json::{Value, json};
use tokio::net::TcpListener;
use tokio::task::JoinSet;
use tokio::time::sleep;

use crate::process::{anonymous_mib, cpu_seconds, resident_mib, waits};
use crate::sinks::{Sinks, accept_all};
use crate::source::Source;
use crate::tls::Tls;
use crate::{Figures, encoder, faulty};

pub(crate) const PASSWORD: &str = "benchmark only";
pub(crate) const START_PATIENCE: Duration = Duration::from_secs(30);
pub(crate) const WARM_UP: Duration = Duration::from_secs(3);

/// What a measurement is of.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Plan {
    /// Shows at once.
    pub(crate) channels: usize,
    /// Sinks of each.
    pub(crate) sinks: usize,
    /// How many more platforms each has that do it wrong.
    pub(crate) faulty: usize,
    /// How long legs collect packets; none for their usual time.
    pub(crate) batch: Option<Duration>,
    pub(crate) length: Duration,
    pub(crate) records: bool,
    /// Of each show.
    pub(crate) kbps: usize,
}

pub(crate) fn destination(channel: usize, number: usize) -> String {
    format!("d{channel}-{number}")
}

/// A running `waverantd` with channels. Ends when dropped.
pub(crate) struct House {
    child: Child,
    url: String,
    rtmp_address: SocketAddr,
    pub(crate) srt_address: SocketAddr,
    pub(crate) http_address: SocketAddr,
    pub(crate) viewing_address: SocketAddr,
    pub(crate) rtmp: String,
    database_pid: u32,
    token: String,
    /// The keys of the channels.
    pub(crate) keys: Vec<String>,
    /// Destinations of each channel.
    names: usize,
    folder: tempfile::TempDir,
}

impl House {
    pub(crate) fn start(program: &Path, channels: usize, names: usize) -> anyhow::Result<Self> {
        Self::start_on(program, channels, names, None)
    }

    /// With the recordings in a folder of one's own.
    pub(crate) fn start_on(
        program: &Path,
        channels: usize,
        names: usize,
        recordings: Option<&Path>,
    ) -> anyhow::Result<Self> {
        let folder = tempfile::tempdir()?;
        let path = |name: &str| folder.path().join(name);
        std::fs::write(path("administrator.toml"), format!("name = \"bench\"\npassword = \"{PASSWORD}\"\n"))?;
        std::fs::write(path("waverant.toml"), "[log]\nlevel = \"error\"\n")?;
        let recordings = recordings.map_or_else(|| path("recordings"), Path::to_owned);
        let (child, ready) = launch(program, folder.path(), &recordings)?;
        let text = |field: &str| ready[field].as_str().unwrap_or_default().to_owned();
        let mut house = Self {
            child,
            url: format!("http://{}/api/v1", text("http")),
            rtmp_address: text("rtmp").parse()?,
            srt_address: text("srt").parse()?,
            http_address: text("http").parse()?,
            viewing_address: text("viewing").parse()?,
            rtmp: format!("rtmp://{}/in", text("rtmp")),
            database_pid: u32::try_from(ready["database_pid"].as_u64().unwrap_or(0))?,
            token: String::new(),
            keys: Vec::new(),
            names,
            folder,
        };
        let sign_in = json!({"name": "bench", "password": PASSWORD, "token_label": "bench"});
        house.token = house.call("POST", "/sign-in", &sign_in)?["token"].as_str().unwrap_or_default().to_owned();
        for channel in 0..channels {
            let settings = json!({"name": format!("bench{channel}"), "hold_ms": 0, "recording": {"when": "off"}});
            house.call("POST", "/channels", &settings)?;
            let made = house.call("POST", &format!("/channels/bench{channel}/keys"), &json!({"label": "bench"}))?;
            house.keys.push(made["encoder"]["key"].as_str().unwrap_or_default().to_owned());
            for number in 0..names {
                let name = destination(channel, number);
                let settings = json!({"name": name, "address": "rtmp://127.0.0.1:1/in", "key": "k"});
                house.call("POST", "/destinations", &settings)?;
            }
        }
        Ok(house)
    }

    /// Where the service keeps its state.
    pub(crate) fn state_folder(&self) -> PathBuf {
        self.folder.path().join("state")
    }

    /// Stops the service, does `meanwhile`, and starts the service again. Returns how long that start took.
    pub(crate) async fn start_again(
        &mut self,
        program: &Path,
        meanwhile: impl AsyncFnOnce(&Path) -> anyhow::Result<()>,
    ) -> anyhow::Result<Duration> {
        self.stop();
        meanwhile(&self.state_folder()).await?;
        let began = Instant::now();
        let (child, ready) = launch(program, self.folder.path(), &self.folder.path().join("recordings"))?;
        let took = began.elapsed();
        self.child = child;
        self.url = format!("http://{}/api/v1", ready["http"].as_str().unwrap_or_default());
        self.http_address = ready["http"].as_str().unwrap_or_default().parse()?;
        self.database_pid = u32::try_from(ready["database_pid"].as_u64().unwrap_or(0))?;
        Ok(took)
    }

    fn stop(&mut self) {
        if matches!(self.child.try_wait(), Ok(Some(_))) {
            return;
        }
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }

    pub(crate) fn token(&self) -> &str {
        &self.token
    }

    pub(crate) fn call(&self, method: &str, path: &str, body: &Value) -> anyhow::Result<Value> {
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

    pub(crate) fn get(&self, path: &str) -> anyhow::Result<Value> {
        let request =
            ureq::get(format!("{}{path}", self.url)).header("authorization", format!("Bearer {}", self.token));
        Ok(serde_json::from_str(&request.call()?.body_mut().read_to_string()?)?)
    }

    /// Gaps in all recordings.
    pub(crate) fn gap_count(&self) -> anyhow::Result<u64> {
        let takes = self.get("/takes?limit=500")?;
        let gaps = takes["items"].as_array().into_iter().flatten().map(|take| take["gap_count"].as_u64().unwrap_or(0));
        Ok(gaps.sum())
    }

    pub(crate) fn record_as(&self, format: &str) -> anyhow::Result<()> {
        let rules = json!({"recording": {"when": "always", "format": format}});
        self.call("PATCH", "/channels/bench0", &rules).map(drop)
    }

    /// Waits until the last take is ended; returns where it lies.
    pub(crate) async fn finished_take(&self) -> anyhow::Result<String> {
        let waited = Instant::now();
        loop {
            let takes = self.get("/takes?limit=1")?;
            let take = &takes["items"][0];
            if take["state"] == "complete" {
                return Ok(take["path"].as_str().unwrap_or_default().to_owned());
            }
            ensure!(waited.elapsed() < START_PATIENCE, "the take does not end: {take}");
            sleep(Duration::from_millis(200)).await;
        }
    }

    pub(crate) fn server(&self) -> &str {
        &self.rtmp
    }

    pub(crate) fn key(&self, channel: usize) -> &str {
        &self.keys[channel]
    }

    pub(crate) fn rtmp_address(&self) -> SocketAddr {
        self.rtmp_address
    }

    pub(crate) fn pid(&self) -> u32 {
        self.child.id()
    }

    pub(crate) fn database_mib(&self) -> f64 {
        resident_mib(self.database_pid)
    }

    /// Runs shows and measures the service.
    pub(crate) async fn measure(&self, plan: &Plan, tls: Option<&Tls>) -> anyhow::Result<Figures> {
        let sources: Vec<Source> = (0..plan.channels).map(|_| Source::of(plan.kbps)).collect();
        let began = sources.first().context("no channel")?.began();
        let state = Arc::new(Sinks::default());
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let mut bad = JoinSet::new();
        self.set_up(plan, &listener, &mut bad, tls).await?;
        let sinks = tokio::spawn(accept_all(listener, began, state.clone(), tls.map(Tls::acceptor)));
        let mut encoders = JoinSet::new();
        for (source, key) in sources.into_iter().zip(&self.keys) {
            encoders.spawn(encoder::publish(self.rtmp.clone(), key.clone(), source.since(began)));
        }
        let (pid, waited, wanted) = (self.child.id(), Instant::now(), plan.channels * plan.sinks);
        while state.taken.load(Ordering::Relaxed) < wanted {
            let taken = state.taken.load(Ordering::Relaxed);
            ensure!(waited.elapsed() < START_PATIENCE, "only {taken} of {wanted} legs carry");
            sleep(Duration::from_millis(50)).await;
        }
        sleep(WARM_UP).await;
        let (before, waits_before) = (cpu_seconds(pid)?, waits(pid));
        let counting = Instant::now();
        state.counting.store(true, Ordering::Relaxed);
        sleep(plan.length).await;
        state.counting.store(false, Ordering::Relaxed);
        let cpu = cpu_seconds(pid)? - before;
        let seconds = counting.elapsed().as_secs_f64();
        let (cores, waits_per_second) = (cpu / seconds, (waits(pid) - waits_before) / seconds);
        let (resident_mib, anonymous_mib) = (resident_mib(pid), anonymous_mib(pid));
        let lost_frames = state.lost.load(Ordering::Relaxed);
        encoders.shutdown().await;
        let delivered_gb = state.bytes.load(Ordering::Relaxed) as f64 / 1e9;
        // The broken line ends the session, and with it all connections.
        state.finished.store(true, Ordering::Relaxed);
        let latencies = sinks.await?;
        Ok(Figures {
            cpu_seconds_per_gb: cpu / delivered_gb,
            cores,
            delivered_gb,
            latencies,
            resident_mib,
            anonymous_mib,
            waits_per_second,
            lost_frames,
        })
    }

    /// Gives each channel its sinks and its bad platforms, and takes all others from it.
    async fn set_up(
        &self,
        plan: &Plan,
        listener: &TcpListener,
        bad: &mut JoinSet<()>,
        tls: Option<&Tls>,
    ) -> anyhow::Result<()> {
        let (good, authority) = match tls {
            Some(tls) => (format!("rtmps://localhost:{}/in", listener.local_addr()?.port()), tls.authority.as_str()),
            None => (format!("rtmp://{}/in", listener.local_addr()?), ""),
        };
        let batch = plan.batch.map(|batch| batch.as_millis());
        for (channel, number) in
            (0..self.keys.len()).flat_map(|channel| (0..self.names).map(move |number| (channel, number)))
        {
            let name = destination(channel, number);
            let path = format!("/channels/bench{channel}/destinations/{name}");
            let is_used = channel < plan.channels && number < plan.sinks + plan.faulty;
            if !is_used {
                self.call("DELETE", &path, &Value::Null)?;
                continue;
            }
            let settings = if number < plan.sinks {
                json!({"address": good, "authority": authority, "batch_ms": batch})
            } else {
                let listener = TcpListener::bind("127.0.0.1:0").await?;
                let address = format!("rtmp://{}/in", listener.local_addr()?);
                bad.spawn(faulty::serve(number, listener));
                json!({"address": address, "authority": "", "batch_ms": batch})
            };
            self.call("PATCH", &format!("/destinations/{name}"), &settings)?;
            self.call("PUT", &path, &json!({"is_on": true}))?;
        }
        for channel in 0..plan.channels {
            self.call(
                "PATCH",
                &format!("/channels/bench{channel}"),
                &json!({"recording": {"when": if plan.records { "always" } else { "off" }}}),
            )?;
        }
        Ok(())
    }
}

impl Drop for House {
    fn drop(&mut self) {
        self.stop();
    }
}

/// Starts the service on loopback and waits until it is ready; returns what it says of itself then.
fn launch(program: &Path, folder: &Path, recordings: &Path) -> anyhow::Result<(Child, Value)> {
    let path = |name: &str| folder.join(name);
    let mut child = Command::new(program)
        .arg("--settings")
        .arg(path("waverant.toml"))
        .env("WAVERANT_LISTEN_RTMP", "127.0.0.1:0")
        .env("WAVERANT_LISTEN_SRT", "127.0.0.1:0")
        .env("WAVERANT_LISTEN_HTTP", "127.0.0.1:0")
        .env("WAVERANT_LISTEN_VIEWING", "127.0.0.1:0")
        .env("WAVERANT_LIMITS_VIEWING_CONNECTIONS", "4000")
        .env("WAVERANT_LIMITS_VIEWING_CONNECTIONS_PER_ADDRESS", "4000")
        .env("WAVERANT_LIMITS_RTMP_CONNECTIONS", "1000")
        .env("WAVERANT_LIMITS_RTMP_CONNECTIONS_PER_ADDRESS", "1000")
        .env("WAVERANT_HOUSE_STATE_FOLDER", path("state"))
        .env("WAVERANT_HOUSE_RECORDINGS_FOLDER", recordings)
        .env("WAVERANT_HOUSE_RECORDINGS_FLOOR_MIB", "0")
        .env("WAVERANT_HOUSE_READY_FILE", path("ready.json"))
        .env("WAVERANT_FIRST_RUN_ADMINISTRATOR_FILE", path("administrator.toml"))
        .stdout(Stdio::null())
        .spawn()
        .with_context(|| format!("{}: build it with --release first", program.display()))?;
    let began = Instant::now();
    while !path("ready.json").exists() {
        ensure!(child.try_wait()?.is_none(), "waverantd ended");
        ensure!(began.elapsed() < START_PATIENCE, "waverantd is not ready");
        std::thread::sleep(Duration::from_millis(20));
    }
    Ok((child, serde_json::from_str(&std::fs::read_to_string(path("ready.json"))?)?))
}
