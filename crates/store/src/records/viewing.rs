use std::time::Duration;

use sqlx::mysql::{MySqlArguments, MySqlRow};
use sqlx::query::Query;
use sqlx::{MySql, Row};
use waverant_relay::{Audience, BetweenShows, ChannelPage, Nearness, PublishedTo, Site, ViewingRules, Way, Ways};

use crate::StoreError;

/// The columns of a channel that say how it is watched, in the order of [`bind`].
pub(super) const COLUMNS: [&str; 10] = [
    "audience",
    "nearness",
    "viewing_back_ms",
    "is_viewing_always_ready",
    "most_viewers",
    "viewing_sites",
    "viewing_page",
    "viewing_ways",
    "between_shows",
    "published_to",
];

pub(super) fn from_row(row: &MySqlRow) -> Result<ViewingRules, StoreError> {
    let back_ms: u32 = row.try_get("viewing_back_ms")?;
    Ok(ViewingRules {
        audience: match row.try_get("audience")? {
            "everybody" => Audience::Everybody,
            "by-link" => Audience::ByLink,
            _ => Audience::Nobody,
        },
        nearness: match row.try_get("nearness")? {
            "nearest" => Nearness::Nearest,
            "steady" => Nearness::Steady,
            _ => Nearness::Near,
        },
        back: Duration::from_millis(back_ms.into()),
        is_always_ready: row.try_get("is_viewing_always_ready")?,
        most_viewers: most_viewers_from(row)?,
        sites: sites_from(row, "viewing_sites")?,
        page: page_from(row)?,
        ways: ways_from(row)?,
        published_to: published_from(row)?,
        between_shows: match row.try_get("between_shows")? {
            "picture" => BetweenShows::Picture,
            _ => BetweenShows::Silence,
        },
    })
}

fn published_from(row: &MySqlRow) -> Result<Option<PublishedTo>, StoreError> {
    let (depot, public_address) = (row.try_get("published_to")?, row.try_get("published_address")?);
    Ok(Option::map(depot, |depot| PublishedTo { depot, public_address }))
}

/// Ways with a space between; none for all.
fn ways_from(row: &MySqlRow) -> Result<Ways, StoreError> {
    let Some(text): Option<&str> = row.try_get("viewing_ways")? else { return Ok(Ways::default()) };
    let way = |word: &str| Way::ALL.into_iter().find(|way| way_word(*way) == word);
    Ok(Ways::only(text.split_whitespace().filter_map(way)))
}

fn ways_column(ways: Ways) -> Option<String> {
    (ways != Ways::default()).then(|| ways.iter().map(way_word).collect::<Vec<_>>().join(" "))
}

fn way_word(way: Way) -> &'static str {
    match way {
        Way::Segments => "segments",
        Way::Pictures => "pictures",
        Way::Stream => "stream",
        Way::Rtmp => "rtmp",
        Way::Srt => "srt",
    }
}

fn page_from(row: &MySqlRow) -> Result<ChannelPage, StoreError> {
    let text: Option<&str> = row.try_get("viewing_page")?;
    let page = text.map(serde_json::from_str).transpose();
    page.map(Option::unwrap_or_default).map_err(|_| StoreError::Unreadable { what: "what a page says" })
}

/// 0 is as many as there is room for.
pub(super) fn most_viewers_from(row: &MySqlRow) -> Result<Option<u32>, StoreError> {
    Ok(Some(row.try_get("most_viewers")?).filter(|most| *most > 0))
}

/// Sites, with a space between. One that cannot be read is an error: without it all sites would be let in.
pub(super) fn sites_from(row: &MySqlRow, column: &str) -> Result<Vec<Site>, StoreError> {
    let text: Option<&str> = row.try_get(column)?;
    let sites = text.into_iter().flat_map(str::split_whitespace).map(str::parse);
    sites.collect::<Result<_, _>>().map_err(|_| StoreError::Unreadable { what: "a site" })
}

pub(super) fn sites_column(sites: &[Site]) -> Option<String> {
    (!sites.is_empty()).then(|| sites.iter().map(Site::as_str).collect::<Vec<_>>().join(" "))
}

pub(super) fn bind<'q>(
    rules: &ViewingRules,
    query: Query<'q, MySql, MySqlArguments>,
) -> Query<'q, MySql, MySqlArguments> {
    let audience = match rules.audience {
        Audience::Nobody => "nobody",
        Audience::ByLink => "by-link",
        Audience::Everybody => "everybody",
    };
    let nearness = match rules.nearness {
        Nearness::Nearest => "nearest",
        Nearness::Near => "near",
        Nearness::Steady => "steady",
    };
    let back_ms = u32::try_from(rules.back.as_millis()).unwrap_or(u32::MAX);
    let query = query.bind(audience).bind(nearness).bind(back_ms).bind(rules.is_always_ready);
    let page = (rules.page != ChannelPage::default()).then(|| serde_json::to_string(&rules.page).unwrap_or_default());
    let between_shows = match rules.between_shows {
        BetweenShows::Silence => "silence",
        BetweenShows::Picture => "picture",
    };
    let query = query.bind(rules.most_viewers.unwrap_or(0)).bind(sites_column(&rules.sites)).bind(page);
    query
        .bind(ways_column(rules.ways))
        .bind(between_shows)
        .bind(rules.published_to.as_ref().map(|published| published.depot.clone()))
}
