use time::OffsetDateTime;
use waverant_model::AddKey;
use waverant_relay::{Actor, AddressRange, Secret};
use waverant_rtmp::password_digest;
use waverant_store::{Channel, KeyPassword, NewStreamKey, StreamKey, new_salt};

use super::checked_text;
use crate::words::right_of;
use crate::{House, HouseError};

const MAX_LABEL: usize = 96;

/// The lowest rank of a key.
const LOWEST_RANK: u8 = 9;

/// The most addresses and networks of a key.
const MAX_RANGES: usize = 8;

/// A key that was made; the only place where it is known.
#[derive(Debug)]
pub struct MadeKey {
    /// Its channel.
    pub channel: Channel,
    /// Its record.
    pub key: StreamKey,
    /// The key itself.
    pub secret: Secret,
}

impl House {
    /// Makes a stream key.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, there is no such channel, or the database is away.
    pub async fn add_key(&self, channel: &str, form: AddKey, by: &Actor) -> Result<MadeKey, HouseError> {
        let now = OffsetDateTime::now_utc();
        if form.expires_at.is_some_and(|end| end <= now) {
            return Err(HouseError::invalid("expires_at", "it is in the past"));
        }
        if form.rank > LOWEST_RANK {
            return Err(HouseError::invalid("rank", format!("{} is not between 0 and {LOWEST_RANK}", form.rank)));
        }
        let label = checked_text("label", &form.label, MAX_LABEL)?;
        let channel = self.store.channel(channel).await?;
        let new = NewStreamKey {
            right: right_of(form.right),
            rank: form.rank,
            label,
            expires_at: form.expires_at,
            allowed_from: checked_ranges(&form.allowed_from)?,
        };
        let (key, secret) = self.store.add_key(channel.id, &new, now, password_of).await?;
        self.follow([channel.id]).await?;
        tracing::info!(channel = channel.name, key = key.label, %by, "a key is made");
        Ok(MadeKey { channel, key, secret })
    }

    /// Removes a stream key; a publisher who uses it is ended.
    ///
    /// # Errors
    /// [`HouseError`] if there is no such key, or the database is away.
    pub async fn remove_key(&self, channel: &str, key: u64, by: &Actor) -> Result<(), HouseError> {
        let channel = self.store.channel(channel).await?;
        self.store.remove_key(channel.id, key).await?;
        self.follow([channel.id]).await?;
        tracing::info!(channel = channel.name, key, %by, "a key is removed");
        Ok(())
    }
}

/// Encoders that have fields for user name and password use the public part and the whole key.
fn password_of(secret: &Secret) -> KeyPassword {
    let salt = new_salt();
    let digest = Secret::new(password_digest(secret.prefix(), &salt, secret.reveal()));
    KeyPassword { salt, digest }
}

fn checked_ranges(ranges: &[String]) -> Result<Vec<String>, HouseError> {
    if ranges.len() > MAX_RANGES {
        return Err(HouseError::invalid("allowed_from", format!("{} are more than {MAX_RANGES}", ranges.len())));
    }
    let parsed: Result<Vec<_>, _> = ranges.iter().map(|range| range.parse::<AddressRange>()).collect();
    let parsed = parsed.map_err(|error| HouseError::invalid("allowed_from", error))?;
    Ok(parsed.into_iter().map(|range| range.to_string()).collect())
}
