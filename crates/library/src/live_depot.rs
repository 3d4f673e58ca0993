//! Object storage as live shows use it: small objects, sent at once or not at all.

use std::time::Duration;

use bytes::Bytes;
use futures_util::TryStreamExt;
use object_store::aws::AmazonS3;
use object_store::path::Path;
use object_store::{
    Attribute, Attributes, ClientOptions, Error, ObjectStore, ObjectStoreExt, PutOptions, PutPayload, RetryConfig,
};
use time::OffsetDateTime;
use waverant_store::Depot;

use crate::DepotError;
use crate::depot::{connect, told};

/// A request that takes longer is given up: by then the next piece waits.
const REQUEST_TIMEOUT: Duration = Duration::from_secs(10);
const CONNECT_TIMEOUT: Duration = Duration::from_secs(4);

/// Where shows lie in a depot, below its prefix.
const FOLDER: &str = "live";

/// A channel's place in a depot.
#[derive(Debug)]
pub struct LiveDepot {
    store: AmazonS3,
    folder: String,
}

/// How an object is to be told by who hands it out.
#[derive(Clone, Copy, Debug)]
pub struct ObjectKind {
    /// Its media type.
    pub media_type: &'static str,
    /// How long caches may keep it.
    pub caching: &'static str,
}

impl LiveDepot {
    /// The place of a channel in a depot; nothing is connected to yet.
    ///
    /// # Errors
    /// [`DepotError`] if the depot's settings cannot be used.
    pub fn new(depot: &Depot, channel: &str) -> Result<Self, DepotError> {
        let options = ClientOptions::new().with_timeout(REQUEST_TIMEOUT).with_connect_timeout(CONNECT_TIMEOUT);
        // Who sends tries again by itself, with what is newest then.
        let retry = RetryConfig { max_retries: 0, ..RetryConfig::default() };
        let store = connect(depot, options, retry)?;
        let prefix = depot.prefix.trim_matches('/');
        let folder = if prefix.is_empty() { FOLDER.to_owned() } else { format!("{prefix}/{FOLDER}") };
        Ok(Self { store, folder: format!("{folder}/{channel}") })
    }

    /// Where a channel's playlist is reached, by the address under which a depot's objects are.
    pub fn playlist_address(public_address: &str, channel: &str) -> String {
        format!("{}/{FOLDER}/{channel}/index.m3u8", public_address.trim_end_matches('/'))
    }

    /// Sends an object; `name` is below the channel's place.
    ///
    /// # Errors
    /// [`DepotError`] with what the depot answered.
    pub async fn put(
        &self,
        name: &str,
        kind: ObjectKind,
        pieces: impl IntoIterator<Item = Bytes>,
    ) -> Result<(), DepotError> {
        let mut attributes = Attributes::new();
        attributes.insert(Attribute::ContentType, kind.media_type.into());
        attributes.insert(Attribute::CacheControl, kind.caching.into());
        let options = PutOptions { attributes, ..PutOptions::default() };
        let payload: PutPayload = pieces.into_iter().collect();
        self.store.put_opts(&self.path(name), payload, options).await.map(drop).map_err(told)
    }

    /// Removes an object; one that is not there is removed.
    ///
    /// # Errors
    /// [`DepotError`] with what the depot answered.
    pub async fn remove(&self, name: &str) -> Result<(), DepotError> {
        match self.store.delete(&self.path(name)).await {
            Ok(()) | Err(Error::NotFound { .. }) => Ok(()),
            Err(error) => Err(told(error)),
        }
    }

    /// Names of the objects in the channel's place that were written before `moment`, `most` at most.
    ///
    /// # Errors
    /// [`DepotError`] with what the depot answered.
    pub async fn written_before(&self, moment: OffsetDateTime, most: usize) -> Result<Vec<String>, DepotError> {
        let prefix = Path::from(self.folder.as_str());
        let mut found = self.store.list(Some(&prefix));
        let mut names = Vec::new();
        while names.len() < most
            && let Some(object) = found.try_next().await.map_err(told)?
        {
            if object.last_modified.timestamp() >= moment.unix_timestamp() {
                continue;
            }
            let key = object.location.to_string();
            names.extend(key.strip_prefix(&self.folder).map(|name| name.trim_start_matches('/').to_owned()));
        }
        Ok(names)
    }

    fn path(&self, name: &str) -> Path {
        Path::from(format!("{}/{name}", self.folder))
    }
}
