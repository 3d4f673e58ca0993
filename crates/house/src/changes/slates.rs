use bytes::Bytes;
use tokio::task::spawn_blocking;
use waverant_media::Tracks;
use waverant_model::ChangeChannel;
use waverant_relay::{Actor, Slate, SlateChoice, SlateSource as _};
use waverant_store::ChannelSettings;

use crate::{House, HouseError};

impl House {
    /// Keeps a slate (MP4) and uses it. One that does not match a show on air is refused.
    ///
    /// # Errors
    /// [`HouseError`] if it cannot be used, there is no such channel, or the disk or the database fail.
    pub async fn upload_slate(&self, channel: &str, clip: Bytes, by: &Actor) -> Result<Slate, HouseError> {
        let channel = self.store.channel(channel).await?;
        let show = self.show(channel.id).map(|show| show.source_snapshot().tracks);
        let show = show.filter(|tracks| !tracks.is_empty());
        let (shelf, id) = (self.slates.clone(), channel.id);
        let kept = spawn_blocking(move || {
            let slate = Slate::from_mp4(&clip).map_err(|error| HouseError::invalid("slate", error))?;
            check_against(&slate, show.as_deref())?;
            shelf.keep(id, &clip).map_err(HouseError::Disk)?;
            Ok::<_, HouseError>(slate)
        });
        let slate = kept.await??;
        let _changing = self.changing.of(&channel.name).await;
        // Read again: it may have been changed while the clip was looked at.
        let present = self.store.channel(&channel.name).await?.settings;
        let settings = ChannelSettings { slate: SlateChoice::Uploaded, ..present };
        self.write_channel(&channel.name, &settings, by).await?;
        Ok(slate)
    }

    /// The uploaded slate of a channel.
    ///
    /// # Errors
    /// [`HouseError::NotFound`] if there is none that can be read.
    pub async fn slate(&self, channel: &str) -> Result<Slate, HouseError> {
        let (id, shelf) = (self.store.channel(channel).await?.id, self.slates.clone());
        let slate = spawn_blocking(move || shelf.uploaded(id)).await?;
        slate.map_err(|_| HouseError::NotFound { kind: "slate of channel", name: channel.to_owned() })
    }

    /// Removes the uploaded slate of a channel; the built-in one is used again.
    ///
    /// # Errors
    /// [`HouseError::NotFound`] if there is none.
    pub async fn remove_slate(&self, channel: &str, by: &Actor) -> Result<(), HouseError> {
        let channel = self.store.channel(channel).await?;
        let (shelf, id) = (self.slates.clone(), channel.id);
        if !spawn_blocking(move || shelf.remove(id)).await?.map_err(HouseError::Disk)? {
            return Err(HouseError::NotFound { kind: "slate of channel", name: channel.name });
        }
        if channel.settings.slate == SlateChoice::Uploaded {
            let form = ChangeChannel { slate: Some(waverant_model::SlateChoice::BuiltIn), ..ChangeChannel::default() };
            self.change_channel(&channel.name, form, by).await?;
        }
        Ok(())
    }
}

fn check_against(slate: &Slate, show: Option<&Tracks>) -> Result<(), HouseError> {
    let Some(show) = show else { return Ok(()) };
    slate.fitted(show).map(|_| ()).map_err(|error| HouseError::invalid("slate", error))
}
