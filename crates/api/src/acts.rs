//! Who did what, told.

use std::convert::Infallible;

use axum::Json;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use futures_util::stream;
use serde::Deserialize;
use time::OffsetDateTime;
use utoipa::IntoParams;
use waverant_model::{Act, Listed};
use waverant_relay::ActOutcome;
use waverant_store::ActFilter;

use crate::input::{Path, Query};
use crate::rights::Leave;
use crate::{ApiError, ApiState, tell_people};

/// Rows in one answer.
const DEFAULT_LIMIT: u32 = 50;
const MAX_LIMIT: u32 = 500;

/// Which acts to tell.
#[derive(Debug, Default, Deserialize, IntoParams)]
pub(crate) struct ActQuery {
    /// Only by this person.
    person: Option<String>,
    /// Only on this channel.
    channel: Option<String>,
    /// Only this: the `operationId` of a call, as in `change_channel`.
    what: Option<String>,
    /// Only those that ended so: `done`, `refused` or `failed`.
    outcome: Option<String>,
    /// Only those then or later (RFC 3339).
    #[serde(default, with = "time::serde::rfc3339::option")]
    from: Option<OffsetDateTime>,
    /// Only those before (RFC 3339).
    #[serde(default, with = "time::serde::rfc3339::option")]
    until: Option<OffsetDateTime>,
    /// Only what came before this cursor.
    before: Option<u64>,
    /// At most so many; 1 to 500, default 50.
    limit: Option<u32>,
}

impl ActQuery {
    fn filter(self) -> Result<ActFilter, ApiError> {
        let limit = self.limit.unwrap_or(DEFAULT_LIMIT);
        if !(1..=MAX_LIMIT).contains(&limit) {
            return Err(ApiError::invalid("limit", format!("{limit} is not between 1 and {MAX_LIMIT}")));
        }
        let outcome = |word: String| {
            let told = || format!("`{word}` is none of done, refused and failed");
            ActOutcome::from_word(&word).ok_or_else(|| ApiError::invalid("outcome", told()))
        };
        Ok(ActFilter {
            person: self.person,
            channel: self.channel,
            what: self.what,
            outcome: self.outcome.map(outcome).transpose()?,
            from: self.from,
            until: self.until,
            before: self.before,
            limit,
        })
    }
}

async fn listed(state: &ApiState, filter: &ActFilter) -> Result<Listed<Act>, ApiError> {
    let items: Vec<Act> = state.house.store().acts(filter).await?.into_iter().map(tell_people::act).collect();
    let is_full = u32::try_from(items.len()).is_ok_and(|count| count >= filter.limit);
    let next = items.last().filter(|_| is_full).map(|act| act.id);
    Ok(Listed { items, next })
}

/// Who did what, the newest first
#[utoipa::path(get, path = "/acts", params(ActQuery), responses((status = 200, body = Listed<Act>)))]
pub(super) async fn list_acts(
    State(state): State<ApiState>,
    Query(query): Query<ActQuery>,
) -> Result<Json<Listed<Act>>, ApiError> {
    Ok(Json(listed(&state, &query.filter()?).await?))
}

/// Who did what on a channel, the newest first
#[utoipa::path(get, path = "/channels/{channel}/acts", params(("channel" = String, Path), ActQuery), responses((status = 200, body = Listed<Act>)))]
pub(super) async fn list_channel_acts(
    State(state): State<ApiState>,
    Path(channel): Path<String>,
    Query(query): Query<ActQuery>,
) -> Result<Json<Listed<Act>>, ApiError> {
    let filter = ActFilter { channel: Some(channel), ..query.filter()? };
    Ok(Json(listed(&state, &filter).await?))
}

/// Who did what, all of it, the newest first, as a file of JSON lines
#[utoipa::path(get, path = "/acts.jsonl", params(ActQuery), responses((status = 200, content_type = "application/jsonl", body = String)))]
pub(super) async fn export_acts(
    State(state): State<ApiState>,
    leave: Leave,
    Query(query): Query<ActQuery>,
) -> Result<Response, ApiError> {
    let filter = ActFilter { limit: MAX_LIMIT, ..query.filter()? };
    let pages = Pages { state: state.clone(), filter: Some(filter) };
    let lines = stream::unfold(pages, Pages::next);
    let headers = [
        (header::CONTENT_TYPE, "application/jsonl"),
        (header::CONTENT_DISPOSITION, "attachment; filename=\"waverant-who-did-what.jsonl\""),
    ];
    Ok(leave.keep(state, (headers, Body::from_stream(lines)).into_response()))
}

/// The pages of a list that are not told yet.
struct Pages {
    state: ApiState,
    filter: Option<ActFilter>,
}

impl Pages {
    /// The lines of the next page. A list that the database breaks off ends with a line that says so.
    async fn next(mut self) -> Option<(Result<Bytes, Infallible>, Self)> {
        let filter = self.filter.take()?;
        let mut lines = String::new();
        match listed(&self.state, &filter).await {
            Ok(page) => {
                for act in &page.items {
                    lines += &serde_json::to_string(act).unwrap_or_default();
                    lines.push('\n');
                }
                self.filter = page.next.map(|next| ActFilter { before: Some(next), ..filter });
            }
            Err(error) => {
                lines = format!("{}\n", serde_json::json!({ "broken_off": error.detail() }));
            }
        }
        Some((Ok(lines.into()), self))
    }
}
