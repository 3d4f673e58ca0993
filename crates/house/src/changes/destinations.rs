use time::OffsetDateTime;
use waverant_model::{AddDestination, AudioOtherwise, ChangeDestination, ChangeSrt, SheetForm};
use waverant_net::read_authority;
use waverant_relay::{Actor, AudioPick, LegAddress, Secret};
use waverant_store::{Destination, DestinationSettings, SrtTerms};

use super::srt;
use crate::orders::kept_sheet;
use crate::{House, HouseError};

/// The longest name that the records hold.
const MAX_NAME: usize = 64;

/// The longest address that the records hold.
const MAX_ADDRESS: usize = 255;

/// The longest chain of certificates; the records hold 64 KiB.
const MAX_AUTHORITY: usize = 48 * 1024;

/// How long packets are collected where nobody says otherwise, and at most.
pub(crate) const DEFAULT_BATCH_MS: u16 = 20;
const MAX_BATCH_MS: u16 = 1_000;

/// The longest key that fits when sealed.
const MAX_KEY: usize = 512;

/// Tracks of pictures that a stream can have.
const MAX_VIDEO_TRACKS: u8 = 16;

/// Names of profiles in a sheet, and characters of one.
const MAX_PROFILES: usize = 16;
const MAX_PROFILE: usize = 32;

/// Codecs that a limits sheet can name.
const CODECS: [&str; 10] = ["H.264", "HEVC", "AV1", "VP9", "AAC", "Opus", "FLAC", "AC-3", "E-AC-3", "MP3"];

impl House {
    /// Adds a destination.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, the name is taken, or the database is away.
    pub async fn add_destination(&self, form: AddDestination, by: &Actor) -> Result<Destination, HouseError> {
        let name = checked_name(&form.name)?.to_owned();
        let (settings, key) = new_settings(form)?;
        let _changing = self.changing.of(&name).await;
        let name = name.as_str();
        let added = self.store.add_destination(name, &settings, &key, OffsetDateTime::now_utc()).await?;
        tracing::info!(destination = name, %by, "a destination is added");
        Ok(added)
    }

    /// Changes a destination; what the form leaves out stays. Legs that use it redial if address, key or authority
    /// change.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, there is no such destination, or the database is away.
    pub async fn change_destination(
        &self,
        name: &str,
        form: ChangeDestination,
        by: &Actor,
    ) -> Result<Destination, HouseError> {
        let _changing = self.changing.of(name).await;
        self.change_destination_in_turn(name, form, by).await
    }

    /// The same, for who has the turn of the destination.
    pub(crate) async fn change_destination_in_turn(
        &self,
        name: &str,
        form: ChangeDestination,
        by: &Actor,
    ) -> Result<Destination, HouseError> {
        let Destination { settings: present, key: present_key, .. } = self.store.destination(name).await?;
        let address = checked_address(form.address.as_deref().unwrap_or(&present.address))?;
        let settings = DestinationSettings {
            address: address.to_string(),
            authority: match &form.authority {
                Some(authority) => checked_authority(Some(authority))?.map(str::to_owned),
                None => present.authority,
            },
            batch_ms: checked_batch(form.batch_ms.unwrap_or(present.batch_ms))?,
            limits_sheet: form.limits.as_ref().map_or(Ok(present.limits_sheet), checked_limits)?,
            audio_pick: match &form.audio {
                Some(audio) => checked_audio(Some(audio))?,
                None => present.audio_pick,
            },
            or_no_audio: form.audio_otherwise.map_or(present.or_no_audio, |or| or == AudioOtherwise::None),
            video_track: form.video_track.map_or(Ok(present.video_track), |number| checked_track(Some(number)))?,
            srt: checked_srt(&address, form.srt, present.srt)?,
        };
        // A key that SRT could do without may be missing now.
        let key = form.key.as_ref().map_or_else(|| present_key.reveal(), |key| key.reveal());
        let key = checked_key(&address, key)?;
        let (changed, channels) = self.store.change_destination(name, &settings, Some(&key)).await?;
        self.follow(channels).await?;
        tracing::info!(destination = name, %by, "a destination is changed");
        Ok(changed)
    }

    /// Removes a destination, from all channels too.
    ///
    /// # Errors
    /// [`HouseError`] if there is no such destination, or the database is away.
    pub async fn remove_destination(&self, name: &str, by: &Actor) -> Result<(), HouseError> {
        let _changing = self.changing.of(name).await;
        let channels = self.store.remove_destination(name).await?;
        self.follow(channels).await?;
        tracing::info!(destination = name, %by, "a destination is removed");
        Ok(())
    }
}

/// What a new destination is to be, and its key.
pub(crate) fn new_settings(form: AddDestination) -> Result<(DestinationSettings, Secret), HouseError> {
    let address = checked_address(&form.address)?;
    let key = checked_key(&address, form.key.reveal())?;
    let settings = DestinationSettings {
        address: address.to_string(),
        authority: checked_authority(form.authority.as_deref())?.map(str::to_owned),
        batch_ms: checked_batch(form.batch_ms.unwrap_or(DEFAULT_BATCH_MS))?,
        limits_sheet: checked_limits(&form.limits)?,
        audio_pick: checked_audio(form.audio.as_deref())?,
        or_no_audio: form.audio_otherwise == AudioOtherwise::None,
        video_track: checked_track(form.video_track)?,
        srt: checked_srt(&address, form.srt, SrtTerms::default())?,
    };
    Ok((settings, key))
}

pub(crate) fn checked_name(name: &str) -> Result<&str, HouseError> {
    let length = name.chars().count();
    let legal = |character: char| !character.is_control() && character != '/';
    if length == 0 || length > MAX_NAME || name.trim() != name || !name.chars().all(legal) {
        let detail = format!("a name has 1 to {MAX_NAME} characters, no slash, and no space at its ends");
        return Err(HouseError::invalid("name", detail));
    }
    Ok(name)
}

fn checked_address(address: &str) -> Result<LegAddress, HouseError> {
    let parsed: LegAddress = address.parse().map_err(|error| HouseError::invalid("address", error))?;
    if parsed.to_string().len() > MAX_ADDRESS {
        return Err(HouseError::invalid("address", format!("it is longer than {MAX_ADDRESS} characters")));
    }
    Ok(parsed)
}

/// The terms of SRT; a destination over RTMP has none that could be changed.
fn checked_srt(address: &LegAddress, change: ChangeSrt, present: SrtTerms) -> Result<SrtTerms, HouseError> {
    if !address.is_srt() && !srt::is_empty(&change) {
        let detail = format!("{address} is not SRT; latency and passphrase are for an address that begins with srt://");
        return Err(HouseError::invalid("srt", detail));
    }
    srt::changed(change, present)
}

fn checked_authority(authority: Option<&str>) -> Result<Option<&str>, HouseError> {
    let authority = authority.map(str::trim).filter(|pem| !pem.is_empty());
    if let Some(pem) = authority {
        if pem.len() > MAX_AUTHORITY {
            return Err(HouseError::invalid("authority", format!("it is longer than {MAX_AUTHORITY} bytes")));
        }
        read_authority(pem).map_err(|error| HouseError::invalid("authority", error))?;
    }
    Ok(authority)
}

fn checked_batch(batch_ms: u16) -> Result<u16, HouseError> {
    if batch_ms > MAX_BATCH_MS {
        return Err(HouseError::invalid("batch_ms", format!("{batch_ms} is more than {MAX_BATCH_MS}")));
    }
    Ok(batch_ms)
}

fn checked_limits(form: &SheetForm) -> Result<Option<String>, HouseError> {
    match sheet_fault(form) {
        Some(fault) => Err(HouseError::invalid("limits", fault)),
        None => Ok(kept_sheet(form)),
    }
}

fn checked_audio(audio: Option<&str>) -> Result<Option<String>, HouseError> {
    let audio = audio.map(str::trim).filter(|audio| !audio.is_empty());
    let parsed = audio.map(str::parse::<AudioPick>).transpose();
    Ok(parsed.map_err(|error| HouseError::invalid("audio", error))?.map(|pick| pick.to_string()))
}

/// 0 chooses none.
fn checked_track(number: Option<u8>) -> Result<Option<u8>, HouseError> {
    match number {
        None | Some(0) => Ok(None),
        Some(number @ 1..=MAX_VIDEO_TRACKS) => Ok(Some(number)),
        Some(number) => {
            let found =
                format!("{number} is no track of pictures; 1 to {MAX_VIDEO_TRACKS}, or 0 for all, were expected");
            Err(HouseError::invalid("video_track", found))
        }
    }
}

/// Listeners of SRT may do without a stream id; platforms of RTMP want a key.
fn checked_key(address: &LegAddress, key: &str) -> Result<Secret, HouseError> {
    let key = key.trim();
    let is_missing = key.is_empty() && !address.is_srt();
    if is_missing || key.len() > MAX_KEY || key.chars().any(char::is_control) {
        return Err(HouseError::invalid("key", format!("a key has 1 to {MAX_KEY} characters")));
    }
    Ok(Secret::new(key))
}

/// What is wrong with a limits sheet, in words.
fn sheet_fault(form: &SheetForm) -> Option<String> {
    let known = |name: &&String| !CODECS.iter().any(|codec| codec.eq_ignore_ascii_case(name));
    if let Some(name) = form.video_codecs.iter().chain(&form.audio_codecs).find(known) {
        let name: String = name.chars().take(24).collect();
        return Some(format!("`{name}` is no codec that is carried; {} were expected", CODECS.join(", ")));
    }
    let is_long = |name: &String| name.trim().is_empty() || name.chars().count() > MAX_PROFILE;
    if form.video_profiles.len() > MAX_PROFILES || form.video_profiles.iter().any(is_long) {
        return Some(format!(
            "video_profiles: up to {MAX_PROFILES} names of 1 to {MAX_PROFILE} characters were expected"
        ));
    }
    let numbers = [
        ("max_bitrate_bps", form.max_bitrate_bps),
        ("max_long_side", form.max_long_side.map(u64::from)),
        ("max_short_side", form.max_short_side.map(u64::from)),
        ("max_keyframe_spacing_ms", form.max_keyframe_spacing_ms.map(u64::from)),
    ];
    if let Some((name, _)) = numbers.iter().find(|(_, number)| *number == Some(0)) {
        return Some(format!("{name} is 0; leave it out if there is no such limit"));
    }
    let is_bad = |rate: f64| !(rate.is_finite() && rate > 0.0);
    form.max_frame_rate.is_some_and(is_bad).then(|| "max_frame_rate has to be above 0".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn faults_are_named() {
        let fault = |form: SheetForm| sheet_fault(&form).unwrap_or_default();
        assert!(fault(SheetForm { video_codecs: vec!["H.999".into()], ..SheetForm::default() }).contains("`H.999`"));
        assert!(fault(SheetForm { max_bitrate_bps: Some(0), ..SheetForm::default() }).starts_with("max_bitrate_bps"));
        assert!(fault(SheetForm { max_frame_rate: Some(f64::NAN), ..SheetForm::default() }).contains("above 0"));
        assert_eq!(sheet_fault(&SheetForm { video_codecs: vec!["h.264".into()], ..SheetForm::default() }), None);
    }
}
