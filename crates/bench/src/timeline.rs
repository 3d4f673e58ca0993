//! A year of figures: what they take of the disk, and how long a day of a channel takes to be read.

use std::path::Path;
use std::time::{Duration, Instant};

use anyhow::Context;
use sqlx::mysql::MySqlConnection;
use sqlx::{AssertSqlSafe, Connection, Row};
use time::OffsetDateTime;
use waverant_relay::{Block, Figure, SeriesKey, Strip, Timeline, Wanted};
use waverant_store::{Keychain, PrivateServer, Store};

/// Four channels that are on air around the clock, an hour at a time.
const CHANNELS: u32 = 4;
const SESSIONS: u32 = 365 * 24 * CHANNELS;
const SESSION_S: u32 = 3_600;

/// Points of ten seconds are kept for so many days.
const TENS_DAYS: u32 = 30;

const REPEATS: usize = 20;

/// An hour of a show with two tracks of sound, three destinations and a line over SRT. Its figures move as those of real
/// shows do: a rate by some percent, loudness by some LU.
fn an_hour() -> Timeline {
    let mut timeline = Timeline::default();
    let mut state = 7u32;
    let mut wave = |middle: f64, spread: f64| {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        middle + spread * (f64::from(state >> 8) / f64::from(1 << 23) - 1.0)
    };
    for second in 0..SESSION_S {
        let mut samples = vec![
            (SeriesKey::whole(Figure::Bitrate), wave(6_200.0, 400.0)),
            (SeriesKey::whole(Figure::FrameRate), wave(29.97, 0.5)),
            (SeriesKey::whole(Figure::Jitter), wave(4.0, 1.0)),
            (SeriesKey::whole(Figure::LineLoss), wave(0.5, 0.5)),
            (SeriesKey::whole(Figure::LineDropped), 0.0),
            (SeriesKey::whole(Figure::LineRoundTrip), wave(30.0, 5.0)),
            (SeriesKey::whole(Figure::LineBuffer), wave(590.0, 12.0)),
            (SeriesKey::whole(Figure::Brightness), wave(45.0, 10.0)),
            (SeriesKey::whole(Figure::Viewers), wave(40.0, 3.0)),
        ];
        for track in [0, 1, 3] {
            samples.push((SeriesKey::of(Figure::TrackBitrate, track), wave(2_000.0, 150.0)));
        }
        for track in [1, 3] {
            samples.push((SeriesKey::of(Figure::Loudness, track), wave(-23.0, 4.0)));
            samples.push((SeriesKey::of(Figure::Peak, track), wave(-9.0, 4.0)));
        }
        for destination in ["plovio", "Tindrel", "clubhouse"] {
            samples.push((SeriesKey::of(Figure::LegCarrying, destination), 1.0));
            samples.push((SeriesKey::of(Figure::LegBitrate, destination), wave(6_200.0, 400.0)));
            samples.push((SeriesKey::of(Figure::LegBehind, destination), wave(25.0, 20.0)));
            samples.push((SeriesKey::of(Figure::LegDropped, destination), 0.0));
        }
        timeline.note(second, samples);
    }
    timeline
}

async fn fill(connection: &mut MySqlConnection) -> anyhow::Result<()> {
    let sessions = format!(
        "INSERT INTO sessions
             (id, channel_id, channel_name, key_label, publisher_address, encoder, started_at, ended_at, end_reason)
         SELECT seq, 1 + seq % {CHANNELS}, CONCAT('lane-', 1 + seq % {CHANNELS}), 'boat', '192.0.2.7', 'made',
             UTC_TIMESTAMP(3) - INTERVAL ({SESSIONS} - seq) DIV {CHANNELS} + 1 HOUR,
             UTC_TIMESTAMP(3) - INTERVAL ({SESSIONS} - seq) DIV {CHANNELS} HOUR, 'the encoder stopped'
         FROM seq_1_to_{SESSIONS}"
    );
    sqlx::raw_sql(AssertSqlSafe(sessions)).execute(&mut *connection).await?;
    for block in an_hour().finish() {
        sqlx::query(
            "INSERT INTO figures SELECT id, 1, ?, ?, started_at + INTERVAL ? SECOND, ? FROM sessions
             WHERE ? > 10 OR started_at > UTC_TIMESTAMP(3) - INTERVAL ? DAY",
        )
        .bind(block.step_s)
        .bind(block.start_s)
        .bind(block.start_s)
        .bind(&block.bytes)
        .bind(block.step_s)
        .bind(TENS_DAYS)
        .execute(&mut *connection)
        .await?;
    }
    sqlx::raw_sql("ANALYZE TABLE figures").execute(&mut *connection).await?;
    Ok(())
}

/// A channel's day as the API puts it together; returns its points.
async fn read_a_day(store: &Store, step_s: u32, factor: usize) -> anyhow::Result<usize> {
    let until = OffsetDateTime::now_utc();
    let sessions = store.sessions_within("lane-2", until - time::Duration::DAY, until, 200).await?;
    let mut points = 0;
    for session in sessions {
        let wanted = Wanted { seconds: 0..SESSION_S, step_s, factor };
        let mut strip = Strip::new(wanted.seconds.clone(), wanted.step_s);
        for (start, bytes) in store.figures(session.begun.id, step_s, 0..SESSION_S.into()).await? {
            strip.add(&Block::decode(&bytes)?, i64::try_from(start)?);
        }
        strip.widen(factor);
        points += strip.series.iter().map(|series| series.points.iter().flatten().count()).sum::<usize>();
    }
    Ok(points)
}

#[expect(clippy::print_stdout, reason = "the table is the program's output")]
pub(crate) async fn measure() -> anyhow::Result<()> {
    let folder = tempfile::tempdir()?;
    let server = PrivateServer::start(&folder.path().join("database"))?;
    let url = server.url("waverant");
    let store = Store::open(&url, Keychain::open(folder.path())?).await?;
    let mut connection = MySqlConnection::connect(&url).await?;
    fill(&mut connection).await?;
    println!(
        "{SESSIONS} sessions of an hour, each with 26 series; {TENS_DAYS} days in points of 10 s, a year in minutes"
    );
    let row = sqlx::query(
        "SELECT CAST(data_length + index_length AS UNSIGNED), CAST(table_rows AS UNSIGNED)
         FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = 'figures'",
    )
    .fetch_one(&mut connection)
    .await?;
    let (bytes, rows): (u64, u64) = (row.try_get(0)?, row.try_get(1)?);
    println!("on disk: {:.0} MB in about {rows} blocks", bytes as f64 / 1e6);
    let plain = plain_read(&folder.path().join("plain"), an_hour())?;
    for (name, step_s, factor) in [("minutes, two a point", 60, 2), ("ten seconds", 10, 1)] {
        let mut times = Vec::new();
        let mut points = 0;
        for _ in 0..REPEATS {
            let began = Instant::now();
            points = read_a_day(&store, step_s, factor).await?;
            times.push(began.elapsed());
        }
        times.sort();
        let (median, most) = (times.get(REPEATS / 2).context("no times")?, times.last().context("no times")?);
        println!("a day of a channel, {name}: {points} points, median {median:.1?}, most {most:.1?}");
    }
    println!("the same bytes of ten seconds from a plain file: {plain:.1?}");
    tokio::task::spawn_blocking(move || server.stop()).await?;
    Ok(())
}

/// The floor: a day's blocks of ten seconds, read from one file.
fn plain_read(file: &Path, hour: Timeline) -> anyhow::Result<Duration> {
    let blocks: Vec<u8> = hour.packed(0..SESSION_S, 10).into_iter().flat_map(|(_, bytes)| bytes).collect();
    std::fs::write(file, blocks.repeat(24))?;
    let began = Instant::now();
    std::fs::read(file)?;
    Ok(began.elapsed())
}
