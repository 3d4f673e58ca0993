use bytes::Bytes;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use tokio::task::spawn_blocking;
use waverant_model as model;
use waverant_relay::{Actor, ChannelPage, PageLink, Site, ViewingRules};
use waverant_store::{Channel, ChannelSettings};

use crate::posters::{MAX_POSTER_BYTES, poster_type};
use crate::{House, HouseError};

const MAX_DESCRIPTION: usize = 8000;
const MAX_STYLE: usize = 4000;
const MAX_TAGS: usize = 12;
const MAX_TAG: usize = 40;
const MAX_LINKS: usize = 12;
const MAX_LABEL: usize = 80;
const MAX_ADDRESS: usize = 1000;

impl House {
    /// Keeps a poster (JPEG, PNG, WebP or AVIF) for a channel's page.
    ///
    /// # Errors
    /// [`HouseError`] if it is no such picture, there is no such channel, or the disk or the database fail.
    pub async fn upload_poster(&self, channel: &str, poster: Bytes, by: &Actor) -> Result<Channel, HouseError> {
        if poster.len() > MAX_POSTER_BYTES {
            let told = format!("it has {} bytes; up to {MAX_POSTER_BYTES} are taken", poster.len());
            return Err(HouseError::invalid("poster", told));
        }
        let told = "a picture was expected: JPEG, PNG, WebP or AVIF";
        let kind = poster_type(&poster).ok_or_else(|| HouseError::invalid("poster", told))?;
        let id = self.store.channel(channel).await?.id;
        let shelf = self.posters.clone();
        spawn_blocking(move || shelf.keep(id, &poster)).await?.map_err(HouseError::Disk)?;
        self.set_poster(channel, Some(kind.to_owned()), by).await
    }

    /// Removes the poster of a channel.
    ///
    /// # Errors
    /// [`HouseError::NotFound`] if there is none.
    pub async fn remove_poster(&self, channel: &str, by: &Actor) -> Result<Channel, HouseError> {
        let id = self.store.channel(channel).await?.id;
        let shelf = self.posters.clone();
        if !spawn_blocking(move || shelf.remove(id)).await?.map_err(HouseError::Disk)? {
            return Err(HouseError::NotFound { kind: "poster of channel", name: channel.to_owned() });
        }
        self.set_poster(channel, None, by).await
    }

    async fn set_poster(&self, channel: &str, poster: Option<String>, by: &Actor) -> Result<Channel, HouseError> {
        let _changing = self.changing.of(channel).await;
        let present = self.store.channel(channel).await?.settings;
        let page = ChannelPage { poster, ..present.viewing.page };
        let settings = ChannelSettings { viewing: ViewingRules { page, ..present.viewing }, ..present };
        self.write_channel(channel, &settings, by).await
    }
}

/// What the page says after a change.
pub(super) fn changed(
    form: &model::ChangePage,
    present: ChannelPage,
    slot_sites: &[Site],
) -> Result<ChannelPage, HouseError> {
    Ok(ChannelPage {
        description: match &form.description {
            Some(text) => at_most("viewing.page.description", text, MAX_DESCRIPTION)?,
            None => present.description,
        },
        tags: form.tags.as_deref().map_or(Ok(present.tags), checked_tags)?,
        links: form.links.as_deref().map_or(Ok(present.links), checked_links)?,
        starts_at: form.starts_at.as_deref().map_or(Ok(present.starts_at), checked_start)?,
        accent: form.accent.as_deref().map_or(Ok(present.accent), checked_accent)?,
        style: match &form.style {
            Some(text) => at_most("viewing.page.style", text, MAX_STYLE)?,
            None => present.style,
        },
        slot: form.slot.as_deref().map_or(Ok(present.slot), |slot| checked_slot(slot, slot_sites))?,
        is_listed: form.is_listed.unwrap_or(present.is_listed),
        shows_recording: form.shows_recording.unwrap_or(present.shows_recording),
        poster: present.poster,
    })
}

/// A text that may be empty.
fn at_most(field: &'static str, text: &str, longest: usize) -> Result<String, HouseError> {
    let length = text.chars().count();
    if length > longest {
        return Err(HouseError::invalid(field, format!("it has {length} characters; up to {longest} are allowed")));
    }
    Ok(text.trim_end().to_owned())
}

fn checked_tags(tags: &[String]) -> Result<Vec<String>, HouseError> {
    if tags.len() > MAX_TAGS {
        return Err(HouseError::invalid("viewing.page.tags", format!("{} are more than {MAX_TAGS}", tags.len())));
    }
    tags.iter().map(|tag| super::checked_text("viewing.page.tags", tag, MAX_TAG)).collect()
}

fn checked_links(links: &[model::PageLink]) -> Result<Vec<PageLink>, HouseError> {
    const FIELD: &str = "viewing.page.links";
    if links.len() > MAX_LINKS {
        return Err(HouseError::invalid(FIELD, format!("{} are more than {MAX_LINKS}", links.len())));
    }
    let checked = |link: &model::PageLink| {
        let label = super::checked_text(FIELD, &link.label, MAX_LABEL)?;
        let address = super::checked_text(FIELD, &link.address, MAX_ADDRESS)?;
        if Site::of_address(&address).is_none() {
            return Err(HouseError::invalid(FIELD, format!("`{address}` is no address with http or https")));
        }
        Ok(PageLink { label, address })
    };
    links.iter().map(checked).collect()
}

fn checked_start(text: &str) -> Result<Option<OffsetDateTime>, HouseError> {
    if text.is_empty() {
        return Ok(None);
    }
    let told = format!("`{text}` is no time, as in 2026-05-17T14:00:00Z");
    OffsetDateTime::parse(text, &Rfc3339).map(Some).map_err(|_| HouseError::invalid("viewing.page.starts_at", told))
}

fn checked_accent(text: &str) -> Result<Option<String>, HouseError> {
    let is_colour = |text: &str| {
        let digits = text.strip_prefix('#');
        digits.is_some_and(|digits| digits.len() == 6 && digits.bytes().all(|byte| byte.is_ascii_hexdigit()))
    };
    match text {
        "" => Ok(None),
        text if is_colour(text) => Ok(Some(text.to_ascii_lowercase())),
        text => Err(HouseError::invalid("viewing.page.accent", format!("`{text}` is no colour, as in #0b5563"))),
    }
}

fn checked_slot(text: &str, allowed: &[Site]) -> Result<Option<String>, HouseError> {
    if text.is_empty() {
        return Ok(None);
    }
    let text = super::checked_text("viewing.page.slot", text, MAX_ADDRESS)?;
    match Site::of_address(&text) {
        Some(site) if allowed.contains(&site) => Ok(Some(text)),
        Some(site) => {
            let told = format!("{site} does not stand in the settings (house.slot_sites); add it there first");
            Err(HouseError::invalid("viewing.page.slot", told))
        }
        None => Err(HouseError::invalid("viewing.page.slot", format!("`{text}` is no address with http or https"))),
    }
}
