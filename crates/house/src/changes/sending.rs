use waverant_model::ChangeSending;
use waverant_relay::Actor;
use waverant_store::{Channel, Sending};

use super::at_most;
use crate::{House, HouseError};

/// The longest delay: five minutes.
const MAX_DELAY_MS: u32 = 300_000;

/// The longest time that a leg can start later: an hour.
const MAX_START_AFTER_MS: u32 = 3_600_000;

/// How a channel sends after a change.
pub(crate) fn changed(form: &ChangeSending, present: Sending) -> Result<Sending, HouseError> {
    let start_after_ms = form.start_after_ms.unwrap_or(present.start_after_ms);
    Ok(Sending {
        switched_on: form.is_on.unwrap_or(present.switched_on),
        delay_ms: at_most("delay_ms", form.delay_ms.unwrap_or(present.delay_ms), MAX_DELAY_MS)?,
        start_after_ms: at_most("start_after_ms", start_after_ms, MAX_START_AFTER_MS)?,
    })
}

impl House {
    /// Gives a channel a destination, or changes how it sends there; in mid-show too.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, one of the two is not there, or the database is away.
    pub async fn change_sending(
        &self,
        channel: &str,
        destination: &str,
        form: &ChangeSending,
        by: &Actor,
    ) -> Result<Channel, HouseError> {
        let _changing = self.changing.of(channel).await;
        let channel = self.store.channel(channel).await?;
        let destination = self.store.destination(destination).await?;
        let own = self.store.destinations_of(&[channel.id]).await?;
        let present = own.iter().find(|own| own.destination.id == destination.id).map(|own| own.sending);
        let present = present.unwrap_or(Sending { switched_on: true, ..Sending::default() });
        let sending = changed(form, present)?;
        self.store.set_channel_destination(channel.id, destination.id, sending).await?;
        if let Some(show) = self.show(channel.id).filter(|_| form.is_on.is_some()) {
            show.release_destination(&destination.name);
        }
        self.follow([channel.id]).await?;
        let is_on = sending.switched_on;
        tracing::info!(channel = channel.name, destination = destination.name, is_on, %by, "sending is changed");
        Ok(channel)
    }

    /// Takes a destination from a channel; in mid-show too.
    ///
    /// # Errors
    /// [`HouseError`] if one of the two is not there, or the database is away.
    pub async fn unlink_destination(&self, channel: &str, destination: &str, by: &Actor) -> Result<(), HouseError> {
        let _changing = self.changing.of(channel).await;
        let channel = self.store.channel(channel).await?;
        let destination = self.store.destination(destination).await?;
        self.store.remove_channel_destination(channel.id, destination.id).await?;
        self.follow([channel.id]).await?;
        tracing::info!(channel = channel.name, destination = destination.name, %by, "a destination is taken away");
        Ok(())
    }
}
