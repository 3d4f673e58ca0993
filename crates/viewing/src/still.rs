//! The newest picture as a still.

use std::sync::Arc;

use axum::Extension;
use axum::extract::{Query, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use waverant_show::{NoStill, STILL_WIDTHS};

use crate::access::Access;
use crate::{Fault, ViewingState};

/// A still is good for so long.
const CACHING: &str = "public, max-age=2";

#[derive(Debug, Default, Deserialize)]
pub(crate) struct Chosen {
    /// In pixels; the smallest that is at least so wide is sent.
    width: Option<u32>,
}

pub(crate) async fn still(
    State(state): State<ViewingState>,
    Extension(access): Extension<Arc<Access>>,
    Query(chosen): Query<Chosen>,
) -> Result<Response, Fault> {
    let show = access.show_on_air(&state.house).ok_or(Fault::OffAir)?;
    let width = chosen.width.unwrap_or(STILL_WIDTHS[2]);
    let jpeg = show.still(state.house.codec(), width).await.map_err(|error| match error {
        NoStill::NoPicture => Fault::OffAir,
        error => Fault::NoStill(error.to_string()),
    })?;
    Ok(([(header::CONTENT_TYPE, "image/jpeg"), (header::CACHE_CONTROL, CACHING)], jpeg).into_response())
}
