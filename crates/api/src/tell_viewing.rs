//! How watching is told to callers.

use waverant_house::{audience_word, between_word, nearness_word, way_word};
use waverant_model as model;
use waverant_relay::{ChannelPage, PageLink, Site, ViewerCounts, ViewingLink, ViewingRules};
use waverant_store as store;

pub(crate) fn viewing(rules: &ViewingRules, addresses: model::ViewingAddresses) -> model::Viewing {
    model::Viewing {
        audience: audience_word(rules.audience),
        nearness: nearness_word(rules.nearness),
        back_ms: u32::try_from(rules.back.as_millis()).unwrap_or(u32::MAX),
        is_always_ready: rules.is_always_ready,
        most_viewers: rules.most_viewers.unwrap_or(0),
        sites: site_names(&rules.sites),
        ways: rules.ways.iter().map(way_word).collect(),
        between_shows: between_word(rules.between_shows),
        published_to: rules.published_to.as_ref().map(|published| published.depot.clone()),
        page: page(&rules.page),
        addresses,
    }
}

fn page(from: &ChannelPage) -> model::ChannelPage {
    let link = |link: &PageLink| model::PageLink { label: link.label.clone(), address: link.address.clone() };
    model::ChannelPage {
        description: from.description.clone(),
        tags: from.tags.clone(),
        links: from.links.iter().map(link).collect(),
        starts_at: from.starts_at,
        accent: from.accent.clone(),
        style: from.style.clone(),
        slot: from.slot.clone(),
        is_listed: from.is_listed,
        shows_recording: from.shows_recording,
        has_poster: from.poster.is_some(),
    }
}

pub(crate) fn link(from: &ViewingLink, viewer_count: u32, addresses: model::ViewingAddresses) -> model::ViewingLink {
    model::ViewingLink {
        id: from.id,
        label: from.label.clone(),
        created_at: from.created_at,
        ends_at: from.ends_at,
        most_viewers: from.most_viewers.unwrap_or(0),
        viewer_count,
        sites: site_names(&from.sites),
        shows_rehearsals: from.shows_rehearsals,
        take: from.take.map(|(session, number)| model::TakeName { session, number }),
        addresses,
    }
}

pub(crate) fn viewer_counts(from: ViewerCounts) -> model::ViewerCounts {
    let ViewerCounts { segments, pictures, stream, rtmp, srt } = from;
    model::ViewerCounts { segments, pictures, stream, rtmp, srt, total: from.total() }
}

pub(crate) fn viewer_minute(from: &store::ViewerMinute) -> model::ViewerMinute {
    model::ViewerMinute { minute: from.minute, viewers: viewer_counts(from.counts) }
}

fn site_names(sites: &[Site]) -> Vec<String> {
    sites.iter().map(Site::to_string).collect()
}
