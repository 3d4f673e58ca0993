//! The library of takes.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::Deserialize;
use time::OffsetDateTime;
use utoipa::IntoParams;
use waverant_library::{CutOrder, Job, JobView};
use waverant_model::{ChangeTake, CopyTake, CutTake, JobReport, ListedTakes, RemovedTake, Take, TakeLink, TakeSound};
use waverant_store::{TakeChange, TakeFilter};

use crate::act_detail::Detail;
use crate::input::{Body, Path, Query};
use crate::rights::{Caller, Sight};
use crate::sessions::{as_it_grows, growing_takes};
use crate::{ApiError, ApiState, tell, tell_jobs};

const DEFAULT_LIMIT: u32 = 50;
const MAX_LIMIT: u32 = 500;
const MAX_TITLE: usize = 160;
const MAX_NOTE: usize = 4000;

/// How long a link to a depot is valid: by default, and at most.
const DEFAULT_LINK_S: u64 = 3_600;
const MAX_LINK_S: u64 = 604_800;

/// Which takes to list.
#[derive(Debug, Default, Deserialize, IntoParams)]
pub(crate) struct TakeQuery {
    /// Only of this channel.
    channel: Option<String>,
    /// Only those that began then or later (RFC 3339).
    #[serde(default, with = "time::serde::rfc3339::option")]
    from: Option<OffsetDateTime>,
    /// Only those that began before (RFC 3339).
    #[serde(default, with = "time::serde::rfc3339::option")]
    until: Option<OffsetDateTime>,
    /// Only those that are at least so long.
    min_ms: Option<u64>,
    /// Only those that are at most so long.
    max_ms: Option<u64>,
    /// Those that were removed and can be had back, instead of the others.
    #[serde(default)]
    removed: bool,
    /// Only what comes after this in the list: `next` of an earlier answer.
    before: Option<String>,
    /// At most so many; 1 to 500, default 50.
    limit: Option<u32>,
}

/// How long a link is to be valid.
#[derive(Debug, Deserialize, IntoParams)]
pub(crate) struct LinkQuery {
    /// In seconds, up to a week; an hour if left out.
    valid_s: Option<u64>,
}

impl TakeQuery {
    /// The newest of all channels.
    pub(crate) fn newest() -> Self {
        Self { limit: Some(MAX_LIMIT), ..Self::default() }
    }
}

fn parse_cursor(text: &str) -> Result<(u64, u32), ApiError> {
    let parts = text.split_once('.').and_then(|(session, number)| Some((session.parse().ok()?, number.parse().ok()?)));
    parts.ok_or_else(|| ApiError::invalid("before", format!("`{text}` is none that an earlier answer gave")))
}

/// List takes
#[utoipa::path(get, path = "/takes", params(TakeQuery), responses((status = 200, body = ListedTakes)))]
pub(super) async fn list_takes(
    State(state): State<ApiState>,
    sight: Sight,
    Query(query): Query<TakeQuery>,
) -> Result<Json<ListedTakes>, ApiError> {
    let limit = query.limit.unwrap_or(DEFAULT_LIMIT);
    if !(1..=MAX_LIMIT).contains(&limit) {
        return Err(ApiError::invalid("limit", format!("{limit} is not between 1 and {MAX_LIMIT}")));
    }
    let filter = TakeFilter {
        channel_name: query.channel,
        channels: sight.channels(),
        from: query.from,
        until: query.until,
        min_ms: query.min_ms,
        max_ms: query.max_ms,
        before: query.before.as_deref().map(parse_cursor).transpose()?,
        removed: query.removed,
        limit,
    };
    let takes = state.house.store().takes(&filter).await?;
    let is_full = u32::try_from(takes.len()).is_ok_and(|count| count >= limit);
    let last = takes.last().map(|take| format!("{}.{}", take.record.session_id, take.record.number));
    let growing = growing_takes(&state);
    let ids: Vec<(u64, u32)> = takes.iter().map(|take| (take.record.session_id, take.record.number)).collect();
    let copies = state.house.store().copies_of(&ids).await?;
    let mut copies: HashMap<_, _> = copies.into_iter().map(|copy| ((copy.session_id, copy.number), copy)).collect();
    let items = takes.into_iter().map(|take| {
        let copy = copies.remove(&(take.record.session_id, take.record.number));
        tell::take(as_it_grows(&growing, take), copy)
    });
    Ok(Json(ListedTakes { items: items.collect(), next: last.filter(|_| is_full) }))
}

async fn described(state: &ApiState, session: u64, number: u32) -> Result<Json<Take>, ApiError> {
    let take = state.house.store().take(session, number).await?;
    let copy = state.house.store().copy_of(session, number).await?;
    // A file that cannot be read is found by a check; here its sounds stay unknown.
    let sounds =
        if take.card.is_here { state.house.library().sounds(&take).await.unwrap_or_default() } else { Vec::new() };
    let sounds = sounds.into_iter().map(|track| TakeSound {
        codec: track.codec.name().to_owned(),
        language: track.language.as_deref().map(str::to_owned),
        name: track.name.as_deref().map(str::to_owned),
    });
    let sounds = sounds.collect();
    Ok(Json(Take { sounds, ..tell::take(as_it_grows(&growing_takes(state), take), copy) }))
}

/// Show a take
#[utoipa::path(get, path = "/takes/{session}/{number}", params(("session" = u64, Path), ("number" = u32, Path)), responses((status = 200, body = Take)))]
pub(super) async fn show_take(
    State(state): State<ApiState>,
    Path((session, number)): Path<(u64, u32)>,
) -> Result<Json<Take>, ApiError> {
    described(&state, session, number).await
}

/// Change a take's title, note or lock
#[utoipa::path(patch, path = "/takes/{session}/{number}", params(("session" = u64, Path), ("number" = u32, Path)), request_body = ChangeTake, responses((status = 200, body = Take)))]
pub(super) async fn change_take(
    State(state): State<ApiState>,
    caller: Caller,
    Path((session, number)): Path<(u64, u32)>,
    Body(form): Body<ChangeTake>,
) -> Result<(Detail, Json<Take>), ApiError> {
    let change = TakeChange {
        title: checked("title", form.title, MAX_TITLE)?,
        note: checked("note", form.note, MAX_NOTE)?,
        is_locked: form.is_locked,
    };
    let before = described(&state, session, number).await?;
    state.house.library().change((session, number), &change, &caller.actor).await?;
    let after = described(&state, session, number).await?;
    Ok((Detail::changed(&before.0, &after.0), after))
}

fn checked(field: &'static str, text: Option<String>, longest: usize) -> Result<Option<String>, ApiError> {
    let text = text.map(|text| text.trim().to_owned());
    let length = text.as_ref().map_or(0, |text| text.chars().count());
    if length > longest {
        return Err(ApiError::invalid(field, format!("it has {length} characters; {longest} are allowed")));
    }
    Ok(text)
}

/// Remove a take; it can be had back for some minutes
#[utoipa::path(delete, path = "/takes/{session}/{number}", params(("session" = u64, Path), ("number" = u32, Path)), responses((status = 200, body = RemovedTake)))]
pub(super) async fn remove_take(
    State(state): State<ApiState>,
    caller: Caller,
    Path(take): Path<(u64, u32)>,
) -> Result<Json<RemovedTake>, ApiError> {
    let gone_at = state.house.library().remove(take, &caller.actor).await?;
    Ok(Json(RemovedTake { gone_at }))
}

/// Have a removed take back
#[utoipa::path(post, path = "/takes/{session}/{number}/undo-removal", params(("session" = u64, Path), ("number" = u32, Path)), responses((status = 200, body = Take)))]
pub(super) async fn undo_remove_take(
    State(state): State<ApiState>,
    caller: Caller,
    Path((session, number)): Path<(u64, u32)>,
) -> Result<Json<Take>, ApiError> {
    state.house.library().undo_removal((session, number), &caller.actor).await?;
    described(&state, session, number).await
}

fn begun(job: &Arc<Job>) -> (StatusCode, Json<JobReport>) {
    (StatusCode::ACCEPTED, Json(tell_jobs::job(job.view())))
}

fn check_room_for_a_job(state: &ApiState) -> Result<(), ApiError> {
    if state.house.library().jobs().is_full() {
        return Err(ApiError::Conflict("Too many jobs wait. Try again when some are done.".to_owned()));
    }
    Ok(())
}

/// Check a take: tracks, gaps, timestamps, end, digest
#[utoipa::path(post, path = "/takes/{session}/{number}/check", params(("session" = u64, Path), ("number" = u32, Path)), responses((status = 202, body = JobReport)))]
pub(super) async fn check_take(
    State(state): State<ApiState>,
    Path((session, number)): Path<(u64, u32)>,
) -> Result<(StatusCode, Json<JobReport>), ApiError> {
    check_room_for_a_job(&state)?;
    Ok(begun(&state.house.library().start_check(session, number).await?))
}

/// Mend a take that was not ended in order
#[utoipa::path(post, path = "/takes/{session}/{number}/mend", params(("session" = u64, Path), ("number" = u32, Path)), responses((status = 200, body = Take)))]
pub(super) async fn mend_take(
    State(state): State<ApiState>,
    caller: Caller,
    Path((session, number)): Path<(u64, u32)>,
) -> Result<Json<Take>, ApiError> {
    state.house.library().mend_now((session, number), &caller.actor).await?;
    described(&state, session, number).await
}

/// Cut a piece of a take into a take of its own
#[utoipa::path(post, path = "/takes/{session}/{number}/cut", params(("session" = u64, Path), ("number" = u32, Path)), request_body = CutTake, responses((status = 202, body = JobReport)))]
pub(super) async fn cut_take(
    State(state): State<ApiState>,
    Path((session, number)): Path<(u64, u32)>,
    Body(form): Body<CutTake>,
) -> Result<(StatusCode, Json<JobReport>), ApiError> {
    if form.to_ms.is_some_and(|to| to <= form.from_ms) {
        return Err(ApiError::invalid("to_ms", "it is not later than from_ms"));
    }
    check_room_for_a_job(&state)?;
    let title = checked("title", form.title, MAX_TITLE)?;
    let order = CutOrder { from_ms: form.from_ms, to_ms: form.to_ms, title };
    Ok(begun(&state.house.library().start_cut((session, number), order).await?))
}

/// Copy a take to a depot
#[utoipa::path(post, path = "/takes/{session}/{number}/copy", params(("session" = u64, Path), ("number" = u32, Path)), request_body = CopyTake, responses((status = 202, body = Take)))]
pub(super) async fn copy_take(
    State(state): State<ApiState>,
    Path((session, number)): Path<(u64, u32)>,
    Body(form): Body<CopyTake>,
) -> Result<(StatusCode, Json<Take>), ApiError> {
    let take = state.house.library().ended_take(session, number).await?;
    let directory = state.house.directory();
    let channel = directory.channel_named(&take.channel_name);
    let depot = form.depot.or_else(|| channel.and_then(|channel| channel.depot.clone()));
    let missing = || ApiError::invalid("depot", "the channel has none; name one");
    state.house.library().plan_copy(&take, &depot.ok_or_else(missing)?).await?;
    Ok((StatusCode::ACCEPTED, described(&state, session, number).await?))
}

/// Bring a take back from its depot
#[utoipa::path(post, path = "/takes/{session}/{number}/restore", params(("session" = u64, Path), ("number" = u32, Path)), responses((status = 202, body = JobReport)))]
pub(super) async fn restore_take(
    State(state): State<ApiState>,
    Path((session, number)): Path<(u64, u32)>,
) -> Result<(StatusCode, Json<JobReport>), ApiError> {
    check_room_for_a_job(&state)?;
    Ok(begun(&state.house.library().start_restore(session, number).await?))
}

/// A link under which anybody can fetch a take's copy from its depot for a while
#[utoipa::path(get, path = "/takes/{session}/{number}/link", params(("session" = u64, Path), ("number" = u32, Path), LinkQuery), responses((status = 200, body = TakeLink)))]
pub(super) async fn link_take(
    State(state): State<ApiState>,
    caller: Caller,
    Path((session, number)): Path<(u64, u32)>,
    Query(query): Query<LinkQuery>,
) -> Result<Json<TakeLink>, ApiError> {
    let valid_s = query.valid_s.unwrap_or(DEFAULT_LINK_S);
    if !(1..=MAX_LINK_S).contains(&valid_s) {
        return Err(ApiError::invalid("valid_s", format!("{valid_s} is not between 1 and {MAX_LINK_S}")));
    }
    let (copy, client) = state.house.library().copy_there(session, number).await?;
    let valid = Duration::from_secs(valid_s);
    let until = OffsetDateTime::now_utc() + valid;
    let link = client.link(&copy.object_key, valid).await.map_err(|error| ApiError::Conflict(error.to_string()))?;
    tracing::info!(session, take = number, by = %caller.actor, "a link to a copy was made");
    Ok(Json(TakeLink { link, until }))
}

/// List jobs, the newest first
#[utoipa::path(get, path = "/jobs", responses((status = 200, body = Vec<JobReport>)))]
pub(super) async fn list_jobs(State(state): State<ApiState>, sight: Sight) -> Result<Json<Vec<JobReport>>, ApiError> {
    let jobs = seen_jobs(&state, &sight, state.house.library().jobs().all()).await?;
    Ok(Json(jobs.into_iter().map(tell_jobs::job).collect()))
}

/// Those of takes of channels that may be seen.
async fn seen_jobs(state: &ApiState, sight: &Sight, mut jobs: Vec<JobView>) -> Result<Vec<JobView>, ApiError> {
    if !sight.is_whole() {
        let sessions: Vec<u64> = jobs.iter().map(|job| job.session).collect();
        let channels = state.house.store().channels_of_sessions(&sessions).await?;
        jobs.retain(|job| sight.has(channels.get(&job.session).copied()));
    }
    Ok(jobs)
}

/// Show a job
#[utoipa::path(get, path = "/jobs/{job}", params(("job" = u64, Path)), responses((status = 200, body = JobReport)))]
pub(super) async fn show_job(
    State(state): State<ApiState>,
    sight: Sight,
    Path(id): Path<u64>,
) -> Result<Json<JobReport>, ApiError> {
    let found = state.house.library().jobs().find(id).into_iter().collect();
    let job = seen_jobs(&state, &sight, found).await?.pop();
    let missing = || ApiError::NotFound { kind: "job", name: id.to_string() };
    job.map(|job| Json(tell_jobs::job(job))).ok_or_else(missing)
}
