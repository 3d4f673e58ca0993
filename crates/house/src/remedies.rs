//! What the house does about findings when somebody asks for it: never by itself, and only what is offered now.

use std::time::Duration;

use waverant_media::TrackId;
use waverant_model::{ChangeChannel, ChangeDestination, ChangeSrt, MissingSound, SheetForm};
use waverant_relay::{Actor, FindingCode, Remedy};
use waverant_store::Destination;

use crate::orders::read_sheet;
use crate::{House, HouseError};

/// The longest latency that SRT has a place for.
const MAX_LATENCY_MS: u64 = 65_535;

impl House {
    /// Carries out what a finding of the show that is on air offers at this moment. Says what was done.
    ///
    /// # Errors
    /// [`HouseError`] if no such finding stands now, it offers nothing, or it cannot be done.
    pub async fn carry_out(
        &self,
        channel: &str,
        word: &str,
        destination: Option<&str>,
        by: &Actor,
    ) -> Result<String, HouseError> {
        let show = self.running(channel)?;
        let code = FindingCode::from_word(word);
        let code = code.ok_or_else(|| HouseError::NotFound { kind: "finding", name: word.to_owned() })?;
        let is_meant = |key: &waverant_relay::FindingKey| {
            key.code == code && destination.is_none_or(|name| key.destination.as_deref() == Some(name))
        };
        let offered = show.findings().into_iter().filter(|shown| is_meant(&shown.finding.key));
        let offered: Vec<(Remedy, Option<String>)> =
            offered.filter_map(|shown| Some((shown.finding.remedy?, shown.finding.key.destination))).collect();
        let (remedy, of) = match offered.as_slice() {
            [one] => one.clone(),
            [] => {
                let told = format!("no finding `{word}` that we can do something about stands on `{channel}` now");
                return Err(HouseError::Conflict(told));
            }
            _ => {
                let told = format!("`{word}` stands for several destinations of `{channel}`: say for which");
                return Err(HouseError::Conflict(told));
            }
        };
        let done = remedy.text(of.as_deref().unwrap_or(channel));
        match (remedy, of) {
            (Remedy::ChannelLatency(latency), _) => self.set_channel_latency(channel, latency, by).await?,
            (_, None) => return Err(HouseError::Conflict(format!("`{word}` is of no destination"))),
            (remedy, Some(destination)) => self.change_for(&destination, remedy, by).await?,
        }
        show.note_event(format!("{by} had this done about `{word}`: {done}"));
        Ok(done)
    }

    async fn set_channel_latency(&self, channel: &str, latency: Duration, by: &Actor) -> Result<(), HouseError> {
        let srt = ChangeSrt { latency_ms: Some(whole(latency)), passphrase: None };
        let change = ChangeChannel { srt, ..ChangeChannel::default() };
        self.change_channel(channel, change, by).await.map(drop)
    }

    async fn change_for(&self, destination: &str, remedy: Remedy, by: &Actor) -> Result<(), HouseError> {
        let _changing = self.changing.of(destination).await;
        let present = self.store.destination(destination).await?;
        self.change_destination_in_turn(destination, change(&present, remedy), by).await.map(drop)
    }
}

fn change(present: &Destination, remedy: Remedy) -> ChangeDestination {
    let mut change = ChangeDestination::default();
    match remedy {
        Remedy::AddSilence => {
            let sheet = read_sheet(present.settings.limits_sheet.as_deref());
            change.limits = Some(SheetForm { missing_sound: MissingSound::Add, ..sheet });
        }
        Remedy::SendTrack(TrackId(number)) => change.video_track = Some(number / 2 + 1),
        Remedy::LegLatency(latency) | Remedy::ChannelLatency(latency) => change.srt.latency_ms = Some(whole(latency)),
    }
    change
}

fn whole(latency: Duration) -> u16 {
    let millis = u64::try_from(latency.as_millis()).unwrap_or(MAX_LATENCY_MS).min(MAX_LATENCY_MS);
    u16::try_from(millis).unwrap_or(u16::MAX)
}
