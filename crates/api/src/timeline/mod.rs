//! Figures over time: ranges of one show, of two beside each other, of a channel and of the machine.

mod csv;
mod tell;

use std::ops::Range;

use axum::Json;
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use time::OffsetDateTime;
use utoipa::IntoParams;
use waverant_house::{House, ShowSpan};
use waverant_model::{ShowReport, Timeline, Timelines};
use waverant_relay::{Figure, STEPS, Wanted};

use crate::input::{Path, Query};
use crate::rights::{Sight, channel_of_session};
use crate::sessions::report_of_session;
use crate::{ApiError, ApiState};

/// Points of a series that are told if nobody says how many.
const USUAL_POINTS: u32 = 600;

/// The most that are told.
const MOST_POINTS: u32 = 20_000;

/// The longest range.
const MOST_DAYS: i64 = 31;

/// Shows in one answer.
const MOST_SHOWS: u32 = 200;

/// How finely to tell, and what.
#[derive(Debug, Default, Deserialize, IntoParams)]
pub(crate) struct Fineness {
    /// At most so many points of each series: 1 to 20000, default 600.
    points: Option<u32>,
    /// The step in seconds, instead: 1, 10 or 60. Single seconds are there for two hours.
    step_s: Option<u32>,
    /// Only these figures, with commas between.
    figures: Option<String>,
}

/// A range of a show, in seconds since its begin.
#[derive(Debug, Default, Deserialize, IntoParams)]
pub(crate) struct ShowRange {
    /// The first second; default 0.
    from_s: Option<u32>,
    /// The second before which to end; default the show's end.
    until_s: Option<u32>,
    /// The last so many seconds instead.
    last_s: Option<u32>,
    /// Another session, told beside it over the same seconds.
    beside: Option<u64>,
}

/// A range of time.
#[derive(Debug, Deserialize, IntoParams)]
pub(crate) struct TimeRange {
    /// From when: RFC 3339; default an hour before the end.
    #[serde(default, with = "time::serde::rfc3339::option")]
    from: Option<OffsetDateTime>,
    /// Until when; default now.
    #[serde(default, with = "time::serde::rfc3339::option")]
    until: Option<OffsetDateTime>,
}

/// What is asked for, checked.
struct Asked {
    points: u32,
    step_s: Option<u32>,
    figures: Option<Vec<Figure>>,
}

impl Fineness {
    fn check(self) -> Result<Asked, ApiError> {
        let points = self.points.unwrap_or(USUAL_POINTS);
        if !(1..=MOST_POINTS).contains(&points) {
            return Err(ApiError::invalid("points", format!("{points} is not between 1 and {MOST_POINTS}")));
        }
        if let Some(step) = self.step_s.filter(|step| !STEPS.contains(step)) {
            return Err(ApiError::invalid("step_s", format!("{step} is none of 1, 10 and 60")));
        }
        let figure = |word: &str| {
            let known = || Figure::all().map(Figure::word).collect::<Vec<_>>().join(", ");
            Figure::from_word(word)
                .ok_or_else(|| ApiError::invalid("figures", format!("`{word}` is none of {}", known())))
        };
        let figures = self.figures.map(|words| words.split(',').map(|word| figure(word.trim())).collect());
        Ok(Asked { points, step_s: self.step_s, figures: figures.transpose()? })
    }
}

impl Asked {
    /// In which steps a range is told, of which single seconds are there from `oldest` on.
    fn wanted(&self, seconds: Range<u32>, oldest: u32) -> Result<Wanted, ApiError> {
        let Some(step_s) = self.step_s else { return Ok(Wanted::fitting(seconds, self.points, oldest)) };
        let count = seconds.end.saturating_sub(seconds.start).div_ceil(step_s);
        if count > MOST_POINTS {
            let why = format!("that would be {count} points of a series, and {MOST_POINTS} are told at most");
            return Err(ApiError::invalid("step_s", format!("{why}: ask for less, or a longer step")));
        }
        Ok(Wanted { seconds, step_s, factor: 1 })
    }
}

impl TimeRange {
    fn check(&self) -> Result<(OffsetDateTime, OffsetDateTime), ApiError> {
        let until = self.until.unwrap_or_else(OffsetDateTime::now_utc);
        let from = self.from.or(until.checked_sub(time::Duration::HOUR)).unwrap_or(until);
        let length = until - from;
        if !length.is_positive() || length > time::Duration::days(MOST_DAYS) || from.unix_timestamp() < 0 {
            let found = format!("{from} to {until} is no range of more than nothing and at most {MOST_DAYS} days");
            return Err(ApiError::invalid("from", found));
        }
        Ok((from, until))
    }
}

/// The timeline of a show, and of another beside it
#[utoipa::path(get, path = "/sessions/{session}/timeline", params(("session" = u64, Path), ShowRange, Fineness), responses((status = 200, body = Timelines)))]
pub(super) async fn show_timeline(
    State(state): State<ApiState>,
    sight: Sight,
    Path(id): Path<u64>,
    Query(range): Query<ShowRange>,
    Query(fineness): Query<Fineness>,
) -> Result<Json<Timelines>, ApiError> {
    Ok(Json(of_show(&state, &sight, id, &range, fineness).await?))
}

/// The timeline of a show, and of another beside it, as a table (RFC 4180): a row for each step, a column for each figure
#[utoipa::path(get, path = "/sessions/{session}/timeline.csv", params(("session" = u64, Path), ShowRange, Fineness), responses((status = 200, body = String, content_type = "text/csv")))]
pub(super) async fn show_timeline_table(
    State(state): State<ApiState>,
    sight: Sight,
    Path(id): Path<u64>,
    Query(range): Query<ShowRange>,
    Query(fineness): Query<Fineness>,
) -> Result<Response, ApiError> {
    table(of_show(&state, &sight, id, &range, fineness).await?, &format!("session-{id}"))
}

/// The timelines of a channel's shows over a range of time, of which seconds count from each show's begin
#[utoipa::path(get, path = "/channels/{channel}/timeline", params(("channel" = String, Path), TimeRange, Fineness), responses((status = 200, body = Timelines)))]
pub(super) async fn channel_timeline(
    State(state): State<ApiState>,
    Path(name): Path<String>,
    Query(range): Query<TimeRange>,
    Query(fineness): Query<Fineness>,
) -> Result<Json<Timelines>, ApiError> {
    let (asked, (from, until)) = (fineness.check()?, range.check()?);
    state.house.store().channel(&name).await?;
    let spans = state.house.show_spans(&name, (from, until), MOST_SHOWS).await?;
    let second = |at: OffsetDateTime, span: &ShowSpan| {
        let at = (at - span.started_at).whole_seconds().clamp(0, span.length_s.into());
        u32::try_from(at).unwrap_or(0)
    };
    let ranges = spans.into_iter().map(|span| (second(from, &span)..second(until, &span), span));
    let ranges: Vec<_> = ranges.filter(|(seconds, _)| !seconds.is_empty()).collect();
    // All of them in the steps that the whole range has.
    let length = u32::try_from((until - from).whole_seconds()).unwrap_or(u32::MAX);
    let oldest = ranges.iter().map(|(seconds, span)| oldest(&state.house, span).saturating_sub(seconds.start)).max();
    let whole = asked.wanted(0..length, oldest.unwrap_or(u32::MAX))?;
    told(&state, ranges, &whole, &asked).await.map(Json)
}

/// The timeline of the machine
#[utoipa::path(get, path = "/machine/timeline", params(TimeRange, Fineness), responses((status = 200, body = Timelines)))]
pub(super) async fn machine_timeline(
    State(state): State<ApiState>,
    Query(range): Query<TimeRange>,
    Query(fineness): Query<Fineness>,
) -> Result<Json<Timelines>, ApiError> {
    machine(&state, &range, fineness).await.map(Json)
}

/// The timeline of the machine as a table (RFC 4180)
#[utoipa::path(get, path = "/machine/timeline.csv", params(TimeRange, Fineness), responses((status = 200, body = String, content_type = "text/csv")))]
pub(super) async fn machine_timeline_table(
    State(state): State<ApiState>,
    Query(range): Query<TimeRange>,
    Query(fineness): Query<Fineness>,
) -> Result<Response, ApiError> {
    table(machine(&state, &range, fineness).await?, "machine")
}

async fn machine(state: &ApiState, range: &TimeRange, fineness: Fineness) -> Result<Timelines, ApiError> {
    let (asked, (from, until)) = (fineness.check()?, range.check()?);
    let length_s = u32::try_from((until - from).whole_seconds()).unwrap_or(u32::MAX).max(1);
    let since = state.house.machine_seconds_since();
    let oldest = since.saturating_sub(u64::try_from(from.unix_timestamp()).unwrap_or(0));
    let wanted = asked.wanted(0..length_s, u32::try_from(oldest).unwrap_or(u32::MAX))?;
    let strip = state.house.machine_strip(from, &wanted).await?;
    let step_s = strip.step_s;
    let timeline = Timeline {
        session: None,
        channel: None,
        began_at: from,
        length_s,
        start_s: strip.start_s,
        count: strip.count,
        series: tell::series(strip, asked.figures.as_deref()),
        marks: tell::of_house(&state.house, (from, until)),
    };
    Ok(Timelines { step_s, timelines: vec![timeline] })
}

async fn of_show(
    state: &ApiState,
    sight: &Sight,
    id: u64,
    range: &ShowRange,
    fineness: Fineness,
) -> Result<Timelines, ApiError> {
    let asked = fineness.check()?;
    let mut spans = vec![state.house.show_span(id).await?];
    if let Some(other) = range.beside {
        // The address names the other one alone.
        if !sight.has(channel_of_session(state, other).await?) {
            return Err(ApiError::NotFound { kind: "session", name: other.to_string() });
        }
        spans.push(state.house.show_span(other).await?);
    }
    let longest = spans.iter().map(|span| span.length_s).max().unwrap_or(0);
    // The last seconds are those of the show that is asked for, however long the other one is.
    let own = spans.first().map_or(longest, |span| span.length_s);
    let end = if range.last_s.is_some() { own } else { longest };
    let until = range.until_s.unwrap_or(u32::MAX).min(end.max(1));
    let from = range.last_s.map_or(range.from_s.unwrap_or(0), |last| until.saturating_sub(last.max(1)));
    if from >= until {
        let found = format!("{from} is not before the end, which is {until}");
        return Err(ApiError::invalid("from_s", found));
    }
    let oldest = spans.iter().map(|span| oldest(&state.house, span)).max().unwrap_or(u32::MAX);
    let wanted = asked.wanted(from..until, oldest)?;
    let ranges = spans.into_iter().map(|span| (from..until, span)).collect();
    told(state, ranges, &wanted, &asked).await
}

/// All of a show, in at most so many points.
pub(crate) async fn whole_show(state: &ApiState, id: u64, points: u32) -> Result<Timelines, ApiError> {
    let fineness = Fineness { points: Some(points), ..Fineness::default() };
    of_show(state, &Sight::whole(), id, &ShowRange::default(), fineness).await
}

/// The machine over a day.
pub(crate) async fn last_day(state: &ApiState) -> Result<Timelines, ApiError> {
    let until = OffsetDateTime::now_utc();
    let range = TimeRange { from: until.checked_sub(time::Duration::DAY), until: Some(until) };
    machine(state, &range, Fineness { step_s: Some(60), ..Fineness::default() }).await
}

/// From which second on there are single seconds.
fn oldest(house: &House, span: &ShowSpan) -> u32 {
    house.seconds_since(span.id).unwrap_or(u32::MAX)
}

async fn told(
    state: &ApiState,
    ranges: Vec<(Range<u32>, ShowSpan)>,
    steps: &Wanted,
    asked: &Asked,
) -> Result<Timelines, ApiError> {
    let mut timelines = Vec::new();
    for (seconds, span) in ranges {
        let wanted = Wanted { seconds: seconds.clone(), ..steps.clone() };
        let strip = state.house.show_strip(span.id, &wanted).await?;
        let report = match report_of_session(state, span.id).await {
            Ok(report) => Some(report),
            // A show that was cut off has none.
            Err(ApiError::NotFound { .. }) => None,
            Err(error) => return Err(error),
        };
        timelines.push(Timeline {
            session: Some(span.id),
            channel: Some(span.channel),
            began_at: span.started_at,
            length_s: span.length_s,
            start_s: strip.start_s,
            count: strip.count,
            series: tell::series(strip, asked.figures.as_deref()),
            marks: report.map(|report: ShowReport| tell::of_report(report, &seconds)).unwrap_or_default(),
        });
    }
    let factor = u32::try_from(steps.factor.max(1)).unwrap_or(u32::MAX);
    Ok(Timelines { step_s: steps.step_s.saturating_mul(factor), timelines })
}

fn table(timelines: Timelines, name: &str) -> Result<Response, ApiError> {
    let text = csv::write(&timelines).map_err(|error| {
        tracing::error!(%error, "a table cannot be written");
        ApiError::Internal
    })?;
    let name = format!("attachment; filename=\"waverant-{name}.csv\"");
    let headers = [(header::CONTENT_TYPE, "text/csv; charset=utf-8".to_owned()), (header::CONTENT_DISPOSITION, name)];
    Ok((headers, text).into_response())
}
