use std::time::Duration;

use sqlx::mysql::{MySqlArguments, MySqlRow};
use sqlx::query::Query;
use sqlx::{MySql, Row};
use waverant_relay::{Audience, Nearness, ViewingRules};

use crate::StoreError;

/// The columns of a channel that say how it is watched, in the order of [`bind`].
pub(super) const COLUMNS: [&str; 4] = ["audience", "nearness", "viewing_back_ms", "is_viewing_always_ready"];

pub(super) fn from_row(row: &MySqlRow) -> Result<ViewingRules, StoreError> {
    let back_ms: u32 = row.try_get("viewing_back_ms")?;
    Ok(ViewingRules {
        audience: match row.try_get("audience")? {
            "everybody" => Audience::Everybody,
            _ => Audience::Nobody,
        },
        nearness: match row.try_get("nearness")? {
            "nearest" => Nearness::Nearest,
            "steady" => Nearness::Steady,
            _ => Nearness::Near,
        },
        back: Duration::from_millis(back_ms.into()),
        is_always_ready: row.try_get("is_viewing_always_ready")?,
    })
}

pub(super) fn bind<'q>(
    rules: &ViewingRules,
    query: Query<'q, MySql, MySqlArguments>,
) -> Query<'q, MySql, MySqlArguments> {
    let audience = match rules.audience {
        Audience::Nobody => "nobody",
        Audience::Everybody => "everybody",
    };
    let nearness = match rules.nearness {
        Nearness::Nearest => "nearest",
        Nearness::Near => "near",
        Nearness::Steady => "steady",
    };
    let back_ms = u32::try_from(rules.back.as_millis()).unwrap_or(u32::MAX);
    query.bind(audience).bind(nearness).bind(back_ms).bind(rules.is_always_ready)
}
