use std::ops::RangeInclusive;

use time::OffsetDateTime;
use waverant_model::{AddChannel, ChangeChannel, ChangeRecording, ChangeViewing};
use waverant_relay::{Actor, ChannelName, ViewingRules};
use waverant_store::{Channel, ChannelSettings, RecordingSettings, SrtTerms};

use super::{checked_text, recording, srt, viewing};
use crate::words::{slate_of, takeover_of};
use crate::{House, HouseError};

/// Hold time of a new channel.
const DEFAULT_HOLD_MS: u32 = 10_000;

/// The longest hold time: an hour.
const MAX_HOLD_MS: u32 = 3_600_000;

const MAX_TITLE: usize = 160;

fn checked_hold(hold_ms: u32) -> Result<u32, HouseError> {
    if hold_ms > MAX_HOLD_MS {
        let told = format!("{hold_ms} is more than {MAX_HOLD_MS}, which is an hour");
        return Err(HouseError::invalid("hold_ms", told));
    }
    Ok(hold_ms)
}

/// Loudness that a channel may be meant to have, in LUFS.
const LOUDNESS: RangeInclusive<i8> = -40..=-5;

/// 0 is none.
fn checked_loudness(lufs: i8) -> Result<Option<i8>, HouseError> {
    if lufs != 0 && !LOUDNESS.contains(&lufs) {
        let (least, most) = (LOUDNESS.start(), LOUDNESS.end());
        let told = format!("{lufs} is not between {least} and {most} LUFS; 0 is for none");
        return Err(HouseError::invalid("loudness_lufs", told));
    }
    Ok(Some(lufs).filter(|lufs| *lufs != 0))
}

impl House {
    /// Adds a channel.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, the name is taken, or the database is away.
    pub async fn add_channel(&self, form: AddChannel, by: &Actor) -> Result<Channel, HouseError> {
        let name: ChannelName = form.name.parse().map_err(|error| HouseError::invalid("name", error))?;
        if self.directory().gate().has_own_key(&self.store.keychain().digest(name.as_str())) {
            return Err(HouseError::invalid("name", "it is a stream key that somebody chose; take another name"));
        }
        let settings = ChannelSettings {
            title: checked_text("title", form.title.as_deref().unwrap_or(name.as_str()), MAX_TITLE)?,
            hold_ms: checked_hold(form.hold_ms.unwrap_or(DEFAULT_HOLD_MS))?,
            recording: self.checked_recording(form.recording, RecordingSettings::default()).await?,
            takeover: takeover_of(form.takeover),
            slate: slate_of(form.slate),
            loudness: checked_loudness(form.loudness_lufs)?,
            srt: srt::changed(form.srt, SrtTerms::default())?,
            viewing: self.checked_viewing(&form.viewing, ViewingRules::default()).await?,
        };
        let channel = self.store.add_channel(name.as_str(), &settings, OffsetDateTime::now_utc()).await?;
        self.follow([channel.id]).await?;
        tracing::info!(channel = channel.name, %by, "a channel is added");
        Ok(channel)
    }

    /// Changes a channel; what the form leaves out stays.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, there is no such channel, or the database is away.
    pub async fn change_channel(&self, name: &str, form: ChangeChannel, by: &Actor) -> Result<Channel, HouseError> {
        let _changing = self.changing.of(name).await;
        let present = self.store.channel(name).await?.settings;
        let settings = ChannelSettings {
            title: checked_text("title", &form.title.unwrap_or(present.title), MAX_TITLE)?,
            hold_ms: checked_hold(form.hold_ms.unwrap_or(present.hold_ms))?,
            recording: self.checked_recording(form.recording, present.recording).await?,
            takeover: form.takeover.map_or(present.takeover, takeover_of),
            slate: form.slate.map_or(present.slate, slate_of),
            loudness: form.loudness_lufs.map_or(Ok(present.loudness), checked_loudness)?,
            srt: srt::changed(form.srt, present.srt)?,
            viewing: self.checked_viewing(&form.viewing, present.viewing).await?,
        };
        self.write_channel(name, &settings, by).await
    }

    pub(super) async fn write_channel(
        &self,
        name: &str,
        settings: &ChannelSettings,
        by: &Actor,
    ) -> Result<Channel, HouseError> {
        let channel = self.store.change_channel(name, settings).await?;
        self.follow([channel.id]).await?;
        tracing::info!(channel = name, %by, "a channel is changed");
        Ok(channel)
    }

    /// Removes a channel with its keys and its slate; its sessions and takes stay.
    ///
    /// # Errors
    /// [`HouseError::Conflict`] if it is on air.
    pub async fn remove_channel(&self, name: &str, by: &Actor) -> Result<(), HouseError> {
        let channel = self.store.channel(name).await?;
        if self.show(channel.id).is_some() {
            return Err(HouseError::Conflict(format!("The channel `{name}` is on air. End its session first.")));
        }
        self.store.remove_channel(name).await?;
        self.ledger.telling.drop_targets(|target| target.rules.channel == Some(channel.id));
        self.follow([channel.id]).await?;
        let (posters, id) = (self.posters.clone(), channel.id);
        let _ = tokio::task::spawn_blocking(move || posters.remove(id)).await;
        let (shelf, id) = (self.slates.clone(), channel.id);
        if !matches!(tokio::task::spawn_blocking(move || shelf.remove(id)).await, Ok(Ok(_))) {
            tracing::warn!(channel = name, "the slate of a removed channel is left behind");
        }
        tracing::info!(channel = name, %by, "a channel is removed");
        Ok(())
    }

    /// The rules after a change; a depot that is new among them must be there, and be reached by viewers.
    async fn checked_viewing(&self, change: &ChangeViewing, present: ViewingRules) -> Result<ViewingRules, HouseError> {
        let mut rules = viewing::changed(change, present, &self.slot_sites)?;
        if let Some(published) = rules.published_to.as_mut().filter(|published| published.public_address.is_none()) {
            let name = &published.depot;
            published.public_address = self.store.depot(name).await?.public_address;
            if published.public_address.is_none() {
                let told =
                    format!("viewers do not reach `{name}`: give it a public address first (`depot change {name}`)");
                return Err(HouseError::invalid("viewing.published_to", told));
            }
        }
        Ok(rules)
    }

    /// The rules after a change; a depot that is new among them must be there.
    async fn checked_recording(
        &self,
        change: ChangeRecording,
        present: RecordingSettings,
    ) -> Result<RecordingSettings, HouseError> {
        let before = present.depot.clone();
        let settings = recording::changed(change, present)?;
        if let Some(depot) = settings.depot.as_ref().filter(|depot| Some(*depot) != before.as_ref()) {
            self.store.depot(depot).await?;
        }
        Ok(settings)
    }
}
