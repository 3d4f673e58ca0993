//! What a channel's page says besides the show: description, links, start, poster, and the list of all channels.

use std::collections::HashMap;
use std::sync::Arc;

use axum::body::Body;
use axum::extract::State;
use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use bytes::BytesMut;
use futures_util::stream;
use pulldown_cmark::{Options, Parser};
use serde::Serialize;
use time::OffsetDateTime;
use tokio::fs::File;
use tokio::io::AsyncReadExt as _;
use waverant_house::House;
use waverant_relay::{Audience, ChannelRules, PageLink, SessionState, Site};

use crate::access::Access;
use crate::{Fault, ViewingState};

/// What is said changes seldom.
const CACHING: &str = "public, max-age=10";

/// Bytes of a poster that are read at once.
const POSTER_PIECE: usize = 32 * 1024;

/// Posters are asked for anew after so long.
const POSTER_CACHING: &str = "public, max-age=60";

#[derive(Debug, Serialize)]
struct About<'a> {
    title: &'a str,
    /// HTML without anything that runs or fetches.
    description: String,
    tags: &'a [String],
    links: &'a [PageLink],
    #[serde(with = "time::serde::rfc3339::option")]
    starts_at: Option<OffsetDateTime>,
    accent: Option<&'a str>,
    has_style: bool,
    has_poster: bool,
    slot: Option<&'a str>,
}

pub(crate) async fn about(State(state): State<ViewingState>, Extension(access): Extension<Arc<Access>>) -> Response {
    let page = &access.rules.viewing.page;
    let about = About {
        title: &access.rules.title,
        description: safe_html(&page.description),
        tags: &page.tags,
        links: &page.links,
        starts_at: page.starts_at,
        accent: page.accent.as_deref(),
        has_style: !page.style.is_empty(),
        has_poster: page.poster.is_some(),
        slot: allowed_slot(&state.house, &access.rules).map(|(slot, _)| slot),
    };
    ([(header::CACHE_CONTROL, CACHING)], Json(about)).into_response()
}

/// Lines of the house's own style.
pub(crate) async fn style(Extension(access): Extension<Arc<Access>>) -> Response {
    let fixed = [(header::CONTENT_TYPE, "text/css; charset=utf-8"), (header::CACHE_CONTROL, CACHING)];
    (fixed, access.rules.viewing.page.style.clone()).into_response()
}

pub(crate) async fn poster(
    State(state): State<ViewingState>,
    Extension(access): Extension<Arc<Access>>,
) -> Result<Response, Fault> {
    let kind = access.rules.viewing.page.poster.as_deref().ok_or(Fault::Gone)?;
    let kind = HeaderValue::from_str(kind).map_err(|_| Fault::Gone)?;
    let file = File::open(state.house.poster_path(access.rules.id)).await.map_err(|_| Fault::Gone)?;
    let length = file.metadata().await.map_err(|_| Fault::Gone)?.len();
    let fixed = [
        (header::CONTENT_TYPE, kind),
        (header::CONTENT_LENGTH, length.into()),
        (header::CACHE_CONTROL, HeaderValue::from_static(POSTER_CACHING)),
    ];
    // Read as it is taken: a crowd that takes it slowly holds a piece each, and not the whole.
    let pieces = stream::unfold(file, |mut file| async move {
        let mut piece = BytesMut::with_capacity(POSTER_PIECE);
        match file.read_buf(&mut piece).await {
            Ok(0) => None,
            read => Some((read.map(|_| piece.freeze()), file)),
        }
    });
    Ok((fixed, Body::from_stream(pieces)).into_response())
}

/// What is shown beside the player, while the settings allow its site.
pub(crate) fn allowed_slot<'a>(house: &House, rules: &'a ChannelRules) -> Option<(&'a str, Site)> {
    let slot = rules.viewing.page.slot.as_deref()?;
    let site = Site::of_address(slot).filter(|site| house.slot_sites().contains(site))?;
    Some((slot, site))
}

/// Markdown as HTML in which nothing runs and nothing is fetched from elsewhere.
fn safe_html(markdown: &str) -> String {
    let parser = Parser::new_ext(markdown, Options::ENABLE_STRIKETHROUGH | Options::ENABLE_TABLES);
    let mut html = String::new();
    pulldown_cmark::html::push_html(&mut html, parser);
    let mut cleaner = ammonia::Builder::default();
    // Pictures would tell other hosts who looks; headings go below that of the page.
    cleaner.rm_tags(["img", "h1", "map", "area"]).url_schemes(["http", "https", "mailto"].into());
    cleaner.link_rel(Some("noopener noreferrer nofollow")).clean(&html).to_string()
}

/// Without markup, for the previews of links: the first words.
pub(crate) fn plain_text(markdown: &str, longest: usize) -> String {
    use pulldown_cmark::Event;
    let mut text = String::new();
    for event in Parser::new(markdown) {
        match event {
            Event::Text(words) | Event::Code(words) => text.push_str(&words),
            Event::SoftBreak | Event::HardBreak | Event::End(_) => text.push(' '),
            _ => {}
        }
    }
    let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
    match text.char_indices().nth(longest) {
        Some((end, _)) => format!("{}…", text[..end].trim_end()),
        None => text,
    }
}

#[derive(Debug, Serialize)]
struct Listed {
    name: String,
    title: String,
    is_on_air: bool,
    #[serde(with = "time::serde::rfc3339::option")]
    starts_at: Option<OffsetDateTime>,
    has_poster: bool,
}

/// The channels that are open and want to be found: those on air first, then those that begin soonest.
pub(crate) async fn list(State(state): State<ViewingState>) -> Result<Response, Fault> {
    let directory = state.house.directory();
    let is_listed =
        |rules: &&Arc<ChannelRules>| rules.viewing.audience == Audience::Everybody && rules.viewing.page.is_listed;
    let listed = directory.channels().filter(is_listed).map(|rules| Listed {
        name: rules.name.to_string(),
        title: rules.title.clone(),
        is_on_air: state
            .house
            .show(rules.id)
            .is_some_and(|show| !show.is_rehearsal() && show.state() != SessionState::Over),
        starts_at: rules.viewing.page.starts_at.filter(|at| *at > OffsetDateTime::now_utc()),
        has_poster: rules.viewing.page.poster.is_some(),
    });
    let mut listed: Vec<Listed> = listed.collect();
    if listed.is_empty() {
        return Err(Fault::NotOpen);
    }
    listed.sort_by_cached_key(|channel| {
        let starts = channel.starts_at.map_or(i64::MAX, OffsetDateTime::unix_timestamp);
        (!channel.is_on_air, starts, channel.title.clone())
    });
    let answer: HashMap<&str, Vec<Listed>> = [("channels", listed)].into();
    Ok(([(header::CACHE_CONTROL, CACHING)], Json(answer)).into_response())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::words("**Heat** 1 at *two*", "<p><strong>Heat</strong> 1 at <em>two</em></p>")]
    #[case::link(
        "[results](https://club.example)",
        "href=\"https://club.example\" rel=\"noopener noreferrer nofollow\""
    )]
    #[case::list("- one\n- two", "<li>one</li>")]
    fn markdown_is_shown(#[case] markdown: &str, #[case] expected: &str) {
        let html = safe_html(markdown);
        assert!(html.contains(expected), "{html}");
    }

    #[rstest]
    #[case("<script>alert(1)</script>")]
    #[case("<img src=x onerror=alert(1)>")]
    #[case("![x](https://elsewhere.example/who.gif)")]
    #[case("[x](javascript:alert(1))")]
    #[case("<a href='data:text/html,<script>'>x</a>")]
    #[case("<div style='position:fixed' onclick='x()'>y</div>")]
    #[case("<iframe src='https://elsewhere.example'></iframe>")]
    #[case("<form action='https://elsewhere.example'><input></form>")]
    fn nothing_runs_and_nothing_is_fetched(#[case] markdown: &str) {
        let html = safe_html(markdown).to_lowercase();
        let bad =
            ["<script", "<img", "javascript:", "data:", "onerror", "onclick", "style=", "<iframe", "<form", "<input"];
        assert!(bad.iter().all(|part| !html.contains(part)), "{html}");
    }

    #[test]
    fn previews_have_the_first_words() {
        assert_eq!(plain_text("# Regatta\n\nHeat **1**\nat two", 100), "Regatta Heat 1 at two");
        assert_eq!(plain_text("one two three", 7), "one two…");
    }
}
