use std::ops::RangeInclusive;

use time::OffsetDateTime;
use waverant_model::{AddChannel, ChangeChannel};
use waverant_relay::{Actor, ChannelName, Site, ViewingRules};
use waverant_store::{Channel, ChannelSettings, RecordingSettings, SrtTerms};

use super::{checked_text, recording, srt, viewing};
use crate::words::{slate_of, takeover_of};
use crate::{House, HouseError};

/// Hold time of a new channel.
pub(crate) const DEFAULT_HOLD_MS: u32 = 10_000;

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

/// What a new channel is to be. Depots that it names are not looked up.
pub(crate) fn new_settings(
    form: AddChannel,
    slot_sites: &[Site],
) -> Result<(ChannelName, ChannelSettings), HouseError> {
    let name: ChannelName = form.name.parse().map_err(|error| HouseError::invalid("name", error))?;
    let settings = ChannelSettings {
        title: checked_text("title", form.title.as_deref().unwrap_or(name.as_str()), MAX_TITLE)?,
        hold_ms: checked_hold(form.hold_ms.unwrap_or(DEFAULT_HOLD_MS))?,
        recording: recording::changed(form.recording, RecordingSettings::default())?,
        takeover: takeover_of(form.takeover),
        slate: slate_of(form.slate),
        loudness: checked_loudness(form.loudness_lufs)?,
        srt: srt::changed(form.srt, SrtTerms::default())?,
        viewing: viewing::changed(&form.viewing, ViewingRules::default(), slot_sites)?,
    };
    Ok((name, settings))
}

/// Shows are published to a depot that viewers do not reach.
pub(crate) fn out_of_reach(depot: &str) -> HouseError {
    let told = format!("viewers do not reach `{depot}`: give it a public address first (`depot change {depot}`)");
    HouseError::invalid("viewing.published_to", told)
}

impl House {
    /// A name that is a stream key would open its channel to everybody.
    pub(crate) fn check_name_is_no_key(&self, name: &ChannelName) -> Result<(), HouseError> {
        if self.directory().gate().has_own_key(&self.store.keychain().digest(name.as_str())) {
            return Err(HouseError::invalid("name", "it is a stream key that somebody chose; take another name"));
        }
        Ok(())
    }

    /// Adds a channel.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, the name is taken, or the database is away.
    pub async fn add_channel(&self, form: AddChannel, by: &Actor) -> Result<Channel, HouseError> {
        let (name, settings) = new_settings(form, &self.slot_sites)?;
        let _changing = self.changing.of(name.as_str()).await;
        self.check_name_is_no_key(&name)?;
        let settings = self.with_depots(settings, None).await?;
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
        let before = present.recording.depot.clone();
        let settings = ChannelSettings {
            title: checked_text("title", &form.title.unwrap_or(present.title), MAX_TITLE)?,
            hold_ms: checked_hold(form.hold_ms.unwrap_or(present.hold_ms))?,
            recording: recording::changed(form.recording, present.recording)?,
            takeover: form.takeover.map_or(present.takeover, takeover_of),
            slate: form.slate.map_or(present.slate, slate_of),
            loudness: form.loudness_lufs.map_or(Ok(present.loudness), checked_loudness)?,
            srt: srt::changed(form.srt, present.srt)?,
            viewing: viewing::changed(&form.viewing, present.viewing, &self.slot_sites)?,
        };
        let settings = self.with_depots(settings, before.as_ref()).await?;
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
        let _changing = self.changing.of(name).await;
        let channel = self.store.channel(name).await?;
        if self.show(channel.id).is_some() {
            return Err(HouseError::Conflict(format!("The channel `{name}` is on air. End its session first.")));
        }
        self.store.remove_channel(name).await?;
        self.ledger.telling.drop_targets(|target| target.rules.channel == Some(channel.id));
        self.follow([channel.id]).await?;
        self.remove_pictures(channel.id, name).await;
        tracing::info!(channel = name, %by, "a channel is removed");
        Ok(())
    }

    /// Takes the poster and the slate of a channel that is gone off the disk.
    pub(crate) async fn remove_pictures(&self, id: u64, name: &str) {
        let (posters, shelf) = (self.posters.clone(), self.slates.clone());
        let _ = tokio::task::spawn_blocking(move || posters.remove(id)).await;
        if !matches!(tokio::task::spawn_blocking(move || shelf.remove(id)).await, Ok(Ok(_))) {
            tracing::warn!(channel = name, "the slate of a removed channel is left behind");
        }
    }

    /// The same with the depots looked up: takes are copied to one that is there, if it is another one than `before`, and
    /// shows are published to one that viewers reach.
    async fn with_depots(
        &self,
        mut settings: ChannelSettings,
        before: Option<&String>,
    ) -> Result<ChannelSettings, HouseError> {
        if let Some(depot) = settings.recording.depot.as_ref().filter(|depot| Some(*depot) != before) {
            self.store.depot(depot).await?;
        }
        let published = settings.viewing.published_to.as_mut();
        if let Some(published) = published.filter(|published| published.public_address.is_none()) {
            published.public_address = self.store.depot(&published.depot).await?.public_address;
            if published.public_address.is_none() {
                return Err(out_of_reach(&published.depot));
            }
        }
        Ok(settings)
    }
}
