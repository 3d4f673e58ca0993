//! A house with many channels, sessions and takes: how long a start, a change and a page of a list take.

use std::path::Path;
use std::time::{Duration, Instant};

use anyhow::Context;
use serde_json::json;
use sqlx::mysql::MySqlConnection;
use sqlx::{AssertSqlSafe, Connection};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::task::JoinSet;
use tokio::time::sleep;
use waverant_store::PrivateServer;

use crate::process::{anonymous_mib, cpu_seconds, resident_mib};
use crate::relay::House;

const CHANNELS: u32 = 500;
const DESTINATIONS: u32 = 200;
const SESSIONS: u32 = 100_000;
const CONSOLES: usize = 20;

/// How often each call is made.
const REPEATS: usize = 20;

/// How long consoles listen.
const LISTENING: Duration = Duration::from_secs(10);

/// Two takes of each session, half of them with a copy; what is told apart is spread over three years.
fn filling() -> Vec<String> {
    vec![
        format!(
            "INSERT INTO channels (name, title, hold_ms, created_at)
             SELECT CONCAT('lane-', seq), CONCAT('Lane ', seq), 10000, UTC_TIMESTAMP(3) FROM seq_1_to_{CHANNELS}"
        ),
        "INSERT INTO stream_keys (channel_id, label, prefix, digest, created_at)
         SELECT id, 'boat', LPAD(id, 7, '0'), UNHEX(SHA2(id, 256)), UTC_TIMESTAMP(3) FROM channels"
            .to_owned(),
        format!(
            "INSERT INTO destinations (name, address, sealed_key, created_at)
             SELECT CONCAT('shore-', seq), 'rtmp://127.0.0.1:1/in', sealed_key, UTC_TIMESTAMP(3)
             FROM seq_1_to_{DESTINATIONS}, (SELECT sealed_key FROM destinations LIMIT 1) one"
        ),
        "INSERT INTO channel_destinations (channel_id, destination_id, switched_on)
         SELECT channels.id, destinations.id, TRUE FROM channels, destinations
         WHERE (channels.id + destinations.id) % 50 = 0"
            .to_owned(),
        format!(
            "INSERT INTO sessions
                 (id, channel_id, channel_name, key_label, publisher_address, encoder, started_at, ended_at, end_reason)
             SELECT 100 + seq, 1 + seq % {CHANNELS}, CONCAT('lane-', 1 + seq % {CHANNELS}), 'boat', '192.0.2.7',
                 'made', UTC_TIMESTAMP(3) - INTERVAL ({SESSIONS} + 1 - seq) * 15 MINUTE,
                 UTC_TIMESTAMP(3) - INTERVAL ({SESSIONS} + 1 - seq) * 15 - 10 MINUTE, 'the encoder stopped'
             FROM seq_1_to_{SESSIONS}"
        ),
        "INSERT INTO legs (session_id, destination_id, destination_name, state, sent_frame_count, sent_bytes,
                 dropped_frame_count, redial_count)
         SELECT sessions.id, seq, CONCAT('shore-', seq), 'off', 15000, 450000000, 0, 0
         FROM sessions, seq_1_to_3 WHERE sessions.id > 100"
            .to_owned(),
        "INSERT INTO takes (session_id, number, channel_name, path, state, started_at, duration_ms, size_bytes, sha256, is_here)
         SELECT sessions.id, seq, channel_name, CONCAT(channel_name, '/', sessions.id, '_', seq, '.mp4'), 'complete',
             started_at + INTERVAL seq SECOND, 300000, 225000000, UNHEX(SHA2(sessions.id * 2 + seq, 256)),
             sessions.id % 20 = 0
         FROM sessions, seq_1_to_2 WHERE sessions.id > 100"
            .to_owned(),
        "INSERT INTO copies (session_id, number, depot, object_key, state, sent_bytes, changed_at)
         SELECT session_id, number, 'attic', path, 'there', size_bytes, started_at FROM takes WHERE session_id > 100 AND number = 1"
            .to_owned(),
    ]
}

/// Fills the database of a service that does not run.
async fn fill(state: &Path) -> anyhow::Result<()> {
    let server = PrivateServer::start(&state.join("database"))?;
    let mut connection = MySqlConnection::connect(&server.url("waverant")).await?;
    for statement in filling() {
        sqlx::raw_sql(AssertSqlSafe(statement)).execute(&mut connection).await?;
    }
    connection.close().await?;
    tokio::task::spawn_blocking(move || server.stop()).await?;
    Ok(())
}

#[expect(clippy::print_stdout, reason = "the table is the program's output")]
pub(crate) async fn measure(waverantd: &Path) -> anyhow::Result<()> {
    let mut house = House::start(waverantd, 1, 1)?;
    let began = Instant::now();
    let start = house.start_again(waverantd, fill).await?;
    println!(
        "{CHANNELS} channels, {DESTINATIONS} destinations, {SESSIONS} sessions, {} takes (filled in {:.0} s)",
        SESSIONS * 2,
        (began.elapsed() - start).as_secs_f64()
    );
    println!("start: {:.1} s", start.as_secs_f64());
    tell_calls(&house, "nobody listens")?;
    let idle = busy(&house).await?;
    let mut consoles = JoinSet::new();
    for _ in 0..CONSOLES {
        consoles.spawn(listen(house.http_address, house.token().to_owned()));
    }
    sleep(Duration::from_secs(2)).await;
    tell_calls(&house, &format!("{CONSOLES} consoles listen"))?;
    let listened = busy(&house).await?;
    println!("cores: {idle:.3} while nobody listens, {listened:.3} with {CONSOLES} consoles");
    println!(
        "memory: waverantd {:.1} MiB ({:.1} MiB anonymous), private database {:.1} MiB",
        resident_mib(house.pid()),
        anonymous_mib(house.pid()),
        house.database_mib()
    );
    Ok(())
}

async fn busy(house: &House) -> anyhow::Result<f64> {
    let before = cpu_seconds(house.pid())?;
    sleep(LISTENING).await;
    Ok((cpu_seconds(house.pid())? - before) / LISTENING.as_secs_f64())
}

/// A console that reads what it is told.
async fn listen(address: std::net::SocketAddr, token: String) -> anyhow::Result<()> {
    let mut stream = TcpStream::connect(address).await?;
    let request =
        format!("GET /api/v1/live/events HTTP/1.1\r\nHost: {address}\r\nAuthorization: Bearer {token}\r\n\r\n");
    stream.write_all(request.as_bytes()).await?;
    let mut buffer = vec![0; 64 * 1024];
    while stream.read(&mut buffer).await? > 0 {}
    Ok(())
}

#[expect(clippy::print_stdout, reason = "the table is the program's output")]
fn tell_calls(house: &House, when: &str) -> anyhow::Result<()> {
    let (day, middle) = ("from=2025-06-01T00:00:00Z&until=2025-06-02T00:00:00Z", SESSIONS / 2);
    let deep = house.get("/takes?limit=50&channel=lane-7")?["next"].as_str().unwrap_or_default().to_owned();
    let reads = [
        ("channels, all", "/channels".to_owned()),
        ("the board", "/live".to_owned()),
        ("sessions, first page", "/sessions?limit=50".to_owned()),
        ("sessions, in the middle", format!("/sessions?limit=50&before={middle}")),
        ("takes, first page", "/takes?limit=50".to_owned()),
        ("takes of a channel, second page", format!("/takes?limit=50&channel=lane-7&before={deep}")),
        ("takes of a day", format!("/takes?limit=50&{day}")),
        ("takes that are long", "/takes?limit=50&min_ms=299000".to_owned()),
    ];
    println!("{:<34} {:>8} {:>8}", format!("calls while {when}"), "p50 ms", "most ms");
    for (what, path) in reads {
        tell(what, || house.get(&path).map(drop))?;
    }
    let mut count = 0;
    tell("a change of a channel", || {
        count += 1;
        house.call("PATCH", "/channels/lane-250", &json!({"title": format!("Lane {count}")})).map(drop)
    })?;
    tell("a change of a destination", || {
        count += 1;
        house.call("PATCH", "/destinations/shore-50", &json!({"batch_ms": 20 + count % 50})).map(drop)
    })?;
    tell("a destination switched", || {
        count += 1;
        house.call("PUT", "/channels/lane-250/destinations/shore-50", &json!({"is_on": count % 2 == 0})).map(drop)
    })?;
    tell("a key made", || house.call("POST", "/channels/lane-250/keys", &json!({"label": "boat"})).map(drop))
}

#[expect(clippy::print_stdout, reason = "the table is the program's output")]
fn tell(what: &str, mut call: impl FnMut() -> anyhow::Result<()>) -> anyhow::Result<()> {
    let mut millis = Vec::new();
    for _ in 0..REPEATS {
        let began = Instant::now();
        call().with_context(|| what.to_owned())?;
        millis.push(began.elapsed().as_secs_f64() * 1000.0);
    }
    millis.sort_by(f64::total_cmp);
    let most = millis.last().copied().unwrap_or(f64::NAN);
    println!("{what:<34} {:>8.1} {most:>8.1}", millis[millis.len() / 2]);
    Ok(())
}
