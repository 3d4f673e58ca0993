//! Stream keys: what is kept of them, which is everything but the key.

mod writing;

use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, Row};
use time::OffsetDateTime;
use time::macros::datetime;
use waverant_relay::{KeyRight, KeyRules, KeyUse, OpenHours, Protocol, Secret, WhenOver};

use super::{optional_time_in, places, time_in};
use crate::{Keychain, Store, StoreError};

/// A key whose rules cannot be read does not open before this.
const NEVER: OffsetDateTime = datetime!(9999-01-01 00:00 UTC);

/// A stream key as it is kept.
#[derive(Clone, Debug, PartialEq)]
pub struct StreamKey {
    /// The key's number.
    pub id: u64,
    /// The number of the first key that it stands for after renewals; else its own.
    pub family: u64,
    /// The channel that it opens.
    pub channel_id: u64,
    /// What it opens the channel for.
    pub right: KeyRight,
    /// What may be changed of it.
    pub terms: KeyTerms,
    /// The public part; of a key that somebody chose, a name for it.
    pub prefix: String,
    /// True if somebody chose it.
    pub is_own: bool,
    /// The keyed hash of the whole.
    pub digest: [u8; 32],
    /// For encoders with user name and password.
    pub password: Option<KeyPassword>,
    /// When it was made.
    pub created_at: OffsetDateTime,
    /// When it was retired, if it was, and what becomes of its show.
    pub retired: Option<(OffsetDateTime, WhenOver)>,
    /// When it was used last.
    pub last_use: Option<KeyUse>,
    /// A guest's link that shows it.
    pub guest: Option<GuestLink>,
}

/// What may be changed of a key.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct KeyTerms {
    /// For whom it was made.
    pub label: String,
    /// 0 is the highest; a key of lower rank is a backup.
    pub rank: u8,
    /// When and how it opens.
    pub rules: KeyRules,
    /// What an encoder is to know over SRT, in the place of the channel's.
    pub passphrase: Option<Secret>,
}

/// A stream key to be made.
#[derive(Clone, Debug, PartialEq)]
pub struct NewStreamKey {
    /// What it opens the channel for.
    pub right: KeyRight,
    /// The rest.
    pub terms: KeyTerms,
    /// The key, if somebody chose it.
    pub own: Option<Secret>,
    /// Until when a guest's link shows it, if one is wanted.
    pub guest_until: Option<OffsetDateTime>,
}

/// How a key is renewed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct KeyRenewal {
    /// Until when the old one opens too.
    pub both_until: OffsetDateTime,
    /// Until when a guest's link shows the new one, if one is wanted.
    pub guest_until: Option<OffsetDateTime>,
    /// When the new one is made.
    pub now: OffsetDateTime,
}

/// A stream key that was made: the only place where it is known.
#[derive(Clone, Debug)]
pub struct MadeStreamKey {
    /// Its record.
    pub key: StreamKey,
    /// The key itself.
    pub secret: Secret,
    /// What stands in the guest's link.
    pub guest_token: Option<Secret>,
}

/// A link by which somebody without an account sees the key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GuestLink {
    /// The keyed hash of what stands in it.
    pub digest: [u8; 32],
    /// The key, which what stands in the link opens.
    pub sealed: Vec<u8>,
    /// When it ends.
    pub until: OffsetDateTime,
}

/// What an encoder's answer to a challenge is checked by. The user is the key's public part, the
/// password the whole key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyPassword {
    /// What the encoder is sent to mix with its password.
    pub salt: String,
    /// The digest of user, salt and password.
    pub digest: Secret,
}

fn right_column(right: KeyRight) -> &'static str {
    match right {
        KeyRight::Publish => "publish",
        KeyRight::View => "view",
    }
}

/// What this version does not know opens nothing but watching.
fn right_from(column: &str) -> KeyRight {
    if column == "publish" { KeyRight::Publish } else { KeyRight::View }
}

fn when_over(show_goes_on: bool) -> WhenOver {
    if show_goes_on { WhenOver::ShowGoesOn } else { WhenOver::ShowEnds }
}

fn key_from(keychain: &Keychain, row: &MySqlRow) -> Result<StreamKey, StoreError> {
    let digest = |column| -> Result<[u8; 32], StoreError> {
        let digest: Vec<u8> = row.try_get(column)?;
        digest.try_into().map_err(|_| StoreError::Unsealable)
    };
    let unsealed = |column| -> Result<Option<Secret>, StoreError> {
        let sealed: Option<Vec<u8>> = row.try_get(column)?;
        sealed.map(|sealed| keychain.unseal(&sealed)).transpose()
    };
    let salt: Option<String> = row.try_get("password_salt")?;
    let password = salt.zip(unsealed("sealed_password_digest")?).map(|(salt, digest)| KeyPassword { salt, digest });
    let guest_until = optional_time_in(row, "guest_until")?;
    let guest = match guest_until.zip(row.try_get::<Option<Vec<u8>>, _>("sealed_for_guest")?) {
        Some((until, sealed)) => Some(GuestLink { digest: digest("guest_digest")?, sealed, until }),
        None => None,
    };
    let retired_at = optional_time_in(row, "retired_at")?;
    let retired_shows = when_over(row.try_get("retired_show_goes_on")?);
    let id = row.try_get("id")?;
    Ok(StreamKey {
        id,
        family: row.try_get::<Option<u64>, _>("family")?.unwrap_or(id),
        channel_id: row.try_get("channel_id")?,
        right: right_from(row.try_get("key_right")?),
        terms: KeyTerms {
            label: row.try_get("label")?,
            rank: row.try_get("rank_number")?,
            rules: rules_from(row, id)?,
            passphrase: unsealed("sealed_passphrase")?,
        },
        prefix: row.try_get("prefix")?,
        is_own: row.try_get("is_own")?,
        digest: digest("digest")?,
        password,
        created_at: time_in(row, "created_at")?,
        retired: retired_at.map(|at| (at, retired_shows)),
        last_use: last_use_from(row, id)?,
        guest,
    })
}

fn rules_from(row: &MySqlRow, id: u64) -> Result<KeyRules, StoreError> {
    let list = |column, separator| -> Result<Vec<String>, StoreError> {
        let text: Option<&str> = row.try_get(column)?;
        Ok(text.map(|text| text.split(separator).map(str::to_owned).collect()).unwrap_or_default())
    };
    let rules = KeyRules {
        starts_at: optional_time_in(row, "starts_at")?,
        expires_at: optional_time_in(row, "expires_at")?,
        hours: None,
        // They were looked at when they were set.
        allowed_from: list("allowed_from", ',')?.iter().filter_map(|range| range.parse().ok()).collect(),
        protocols: list("protocols", ',')?.iter().filter_map(|name| Protocol::named(name)).collect(),
        most_connections: row.try_get("most_connections")?,
        when_over: when_over(row.try_get("show_goes_on")?),
    };
    let Some(zone) = row.try_get::<Option<&str>, _>("hours_zone")? else { return Ok(rules) };
    match OpenHours::new(zone, &list("hours", ';')?) {
        Ok(hours) => Ok(KeyRules { hours: Some(hours), ..rules }),
        Err(error) => {
            tracing::error!(key = id, %error, "the hours of this key cannot be read: it does not open");
            Ok(KeyRules { starts_at: Some(NEVER), ..rules })
        }
    }
}

fn last_use_from(row: &MySqlRow, key_id: u64) -> Result<Option<KeyUse>, StoreError> {
    let Some(used_at) = optional_time_in(row, "last_used_at")? else { return Ok(None) };
    let text = |column| row.try_get::<Option<String>, _>(column).map(Option::unwrap_or_default);
    let (address, encoder, protocol) = (text("last_used_from")?, text("last_used_by")?, text("last_used_over")?);
    Ok(Some(KeyUse { key_id, used_at, address, encoder, protocol }))
}

impl Store {
    /// All stream keys.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn all_keys(&self) -> Result<Vec<StreamKey>, StoreError> {
        let rows = sqlx::query("SELECT * FROM stream_keys ORDER BY id").fetch_all(&self.pool).await?;
        rows.iter().map(|row| key_from(&self.keychain, row)).collect()
    }

    /// The stream keys of these channels.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn keys_of(&self, channel_ids: &[u64]) -> Result<Vec<StreamKey>, StoreError> {
        let query =
            format!("SELECT * FROM stream_keys WHERE channel_id IN ({}) ORDER BY id", places(channel_ids.len()));
        let query = channel_ids.iter().fold(sqlx::query(AssertSqlSafe(query)), |query, id| query.bind(id));
        query.fetch_all(&self.pool).await?.iter().map(|row| key_from(&self.keychain, row)).collect()
    }

    /// The key that a guest's link shows, by what stands in it.
    ///
    /// # Errors
    /// [`StoreError::Unsealable`] if it is not the link's.
    pub fn open_guest_link(&self, token: &Secret, link: &GuestLink) -> Result<Secret, StoreError> {
        self.keychain.unseal_under(token, &link.sealed)
    }
}
