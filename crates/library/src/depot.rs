//! Object storage that takes are copied to: uploads in parts that can be taken up again.

use std::io;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use futures_util::stream::BoxStream;
use futures_util::{StreamExt, TryStreamExt};
use object_store::aws::{AmazonS3, AmazonS3Builder, Checksum};
use object_store::multipart::{MultipartStore, PartId};
use object_store::path::Path;
use object_store::signer::Signer;
use object_store::{ClientOptions, GetOptions, GetRange, ObjectStore, ObjectStoreExt, PutPayload, RetryConfig};
use reqwest::Method;
use thiserror::Error;
use waverant_container::Source;
use waverant_relay::printable;
use waverant_store::{CopyRecord, CopyUpload, Depot, Store, StoreError};

use crate::FileSource;

/// Parts but the last have 5 MiB at least, and there are 10,000 at most.
const PART_BYTES: u64 = 8 * 1024 * 1024;
const MAX_PARTS: u64 = 9_000;

/// A request that takes longer is given up and tried again.
const REQUEST_TIMEOUT: Duration = Duration::from_secs(120);
const CONNECT_TIMEOUT: Duration = Duration::from_secs(10);

/// What our library says of a request that got no answer.
const NOT_SENT: &str = "error sending request";

/// What is told of an error, in characters.
const MAX_TOLD: usize = 300;

/// A connection to a depot.
#[derive(Clone, Debug)]
pub struct DepotClient {
    store: Arc<AmazonS3>,
    prefix: String,
}

/// Why a depot does not do as it should: a matter of its settings, or of the depot.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct DepotError(String);

/// What a try to copy came to.
#[derive(Debug)]
pub(crate) enum CopyOutcome {
    /// The object is there, as long as the file.
    There,
    /// In words.
    Failed(String),
}

impl DepotClient {
    /// A client; it connects to nothing yet.
    ///
    /// # Errors
    /// [`DepotError`] if the depot's settings cannot be used.
    pub fn new(depot: &Depot) -> Result<Self, DepotError> {
        let retry = RetryConfig { max_retries: 3, retry_timeout: Duration::from_secs(60), ..RetryConfig::default() };
        let options = ClientOptions::new().with_timeout(REQUEST_TIMEOUT).with_connect_timeout(CONNECT_TIMEOUT);
        Ok(Self { store: Arc::new(connect(depot, options, retry)?), prefix: depot.prefix.trim_matches('/').to_owned() })
    }

    /// What a take is called at the depot.
    pub(crate) fn object_key(&self, path: &str) -> String {
        if self.prefix.is_empty() { path.to_owned() } else { format!("{}/{path}", self.prefix) }
    }

    /// Writes an object and removes it again.
    ///
    /// # Errors
    /// [`DepotError`] with what the depot answered.
    pub async fn try_out(&self) -> Result<(), DepotError> {
        let path = Path::from(self.object_key("waverant-probe"));
        self.store.put(&path, PutPayload::from_static(b"probe")).await.map_err(told)?;
        self.store.delete(&path).await.map_err(told)
    }

    /// Sends a file from where an earlier try stopped; each part that is there is written down in `records`.
    pub(crate) async fn send(&self, copy: &mut CopyRecord, source: Arc<FileSource>, records: &Store) -> CopyOutcome {
        match self.send_parts(copy, &source, records).await {
            Ok(()) => CopyOutcome::There,
            Err(error) => {
                // An upload that the depot has forgotten is begun anew.
                if error.is_upload_lost {
                    copy.upload = None;
                    copy.sent_bytes = 0;
                }
                CopyOutcome::Failed(error.told)
            }
        }
    }

    async fn send_parts(
        &self,
        copy: &mut CopyRecord,
        source: &Arc<FileSource>,
        records: &Store,
    ) -> Result<(), SendError> {
        let path = Path::from(copy.object_key.as_str());
        let (session, number) = (copy.session_id, copy.number);
        let mut parts = Vec::new();
        let upload = match copy.upload.clone() {
            Some(upload) => {
                parts = records.copy_parts(session, number).await?;
                upload
            }
            None => {
                records.forget_copy_parts(session, number).await?;
                let id = self.store.create_multipart(&path).await?;
                let upload = CopyUpload { id, part_bytes: PART_BYTES.max(source.len().div_ceil(MAX_PARTS)) };
                copy.upload = Some(upload.clone());
                records.write_copy(copy).await?;
                upload
            }
        };
        loop {
            let at = upload.part_bytes * parts.len() as u64;
            if at >= source.len() && !parts.is_empty() {
                break;
            }
            let part = read_part(source.clone(), at, upload.part_bytes).await?;
            copy.sent_bytes = at + part.len() as u64;
            let part = self.store.put_part(&path, &upload.id, parts.len(), part.into()).await?;
            records.write_copy_part(copy, u32::try_from(parts.len()).unwrap_or(u32::MAX), &part.content_id).await?;
            parts.push(part.content_id);
        }
        let parts = parts.into_iter().map(|content_id| PartId { content_id }).collect();
        self.store.complete_multipart(&path, &upload.id, parts).await?;
        let there = self.store.head(&path).await?.size;
        if there != source.len() {
            let told = format!("the object has {there} bytes, and the file {}", source.len());
            return Err(SendError { told, is_upload_lost: true });
        }
        copy.upload = None;
        Ok(())
    }

    /// Gives up an upload in parts, so that the depot does not keep what is there of it.
    pub(crate) async fn abandon(&self, copy: &CopyRecord) {
        let Some(upload) = &copy.upload else { return };
        let path = Path::from(copy.object_key.as_str());
        if let Err(error) = self.store.abort_multipart(&path, &upload.id).await {
            tracing::warn!(key = copy.object_key, %error, "an unfinished upload stays at the depot");
        }
    }

    /// The object's bytes from `offset` on.
    pub(crate) async fn fetch(
        &self,
        key: &str,
        offset: u64,
    ) -> Result<(u64, BoxStream<'static, Result<Bytes, DepotError>>), DepotError> {
        let range = (offset > 0).then_some(GetRange::Offset(offset));
        let options = GetOptions { range, ..GetOptions::default() };
        let found = self.store.get_opts(&Path::from(key), options).await.map_err(told)?;
        Ok((found.meta.size, found.into_stream().map_err(told).boxed()))
    }

    /// An address under which anybody can fetch the object for a while.
    ///
    /// # Errors
    /// [`DepotError`] if it cannot be signed.
    pub async fn link(&self, key: &str, valid: Duration) -> Result<String, DepotError> {
        let signed = self.store.signed_url(Method::GET, &Path::from(key), valid).await;
        signed.map(|url| url.to_string()).map_err(told)
    }
}

/// The bucket of a depot; nothing is connected to yet.
pub(crate) fn connect(depot: &Depot, options: ClientOptions, retry: RetryConfig) -> Result<AmazonS3, DepotError> {
    // The HTTP client takes the process's own TLS; a second call changes nothing.
    let _ = rustls::crypto::ring::default_provider().install_default();
    AmazonS3Builder::new()
        .with_endpoint(&depot.endpoint)
        .with_region(&depot.region)
        .with_bucket_name(&depot.bucket)
        .with_access_key_id(&depot.access_key)
        .with_secret_access_key(depot.secret_key.reveal())
        .with_virtual_hosted_style_request(false)
        .with_checksum_algorithm(Checksum::SHA256)
        .with_client_options(options.with_allow_http(depot.endpoint.starts_with("http://")))
        .with_retry(retry)
        .build()
        .map_err(|error| DepotError(error.to_string()))
}

#[derive(Debug)]
struct SendError {
    told: String,
    is_upload_lost: bool,
}

impl From<object_store::Error> for SendError {
    fn from(error: object_store::Error) -> Self {
        let is_upload_lost = matches!(error, object_store::Error::NotFound { .. });
        Self { told: told(error).0, is_upload_lost }
    }
}

impl From<StoreError> for SendError {
    fn from(error: StoreError) -> Self {
        Self { told: error.to_string(), is_upload_lost: false }
    }
}

impl From<io::Error> for SendError {
    fn from(error: io::Error) -> Self {
        Self { told: format!("the file cannot be read: {error}"), is_upload_lost: false }
    }
}

/// The innermost cause says most; the rest names our library. What an answer holds is not repeated: a depot's
/// address may lead to anything in the house.
pub(crate) fn told(error: object_store::Error) -> DepotError {
    let mut cause: &dyn std::error::Error = &error;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    let (whole, cause) = (error.to_string(), cause.to_string());
    let whole = if whole.contains(&cause) { whole } else { format!("{whole}: {cause}") };
    DepotError(match answered(&whole) {
        Some(answer) => format!("the depot answered {answer}"),
        // The rest tells how long it took, and would be another text each time.
        None if whole.contains(NOT_SENT) => format!("the depot cannot be reached: {}", printable(&cause, MAX_TOLD)),
        None => printable(&whole, MAX_TOLD).into_owned(),
    })
}

/// What of an answer may be told: the error's code as S3 names them, or the status.
fn answered(whole: &str) -> Option<String> {
    let answer = &whole[whole.find("Server returned")?..];
    let is_word =
        |text: &&str| !text.is_empty() && text.len() < 60 && text.bytes().all(|byte| byte.is_ascii_alphanumeric());
    let code = answer.split_once("<Code>").and_then(|(_, rest)| rest.split_once("</Code>"));
    if let Some(code) = code.map(|(code, _)| code).filter(is_word) {
        return Some(code.to_owned());
    }
    let status = answer.split(|letter: char| !letter.is_ascii_digit()).find(|digits| digits.len() == 3);
    Some(status.map_or_else(|| "with an error".to_owned(), |status| format!("with status {status}")))
}

async fn read_part(source: Arc<FileSource>, at: u64, length: u64) -> io::Result<Bytes> {
    let read = tokio::task::spawn_blocking(move || {
        let length = usize::try_from(length.min(source.len().saturating_sub(at))).unwrap_or(0);
        let mut part = vec![0; length];
        source.read_at(at, &mut part).map(|()| Bytes::from(part))
    });
    read.await.map_err(io::Error::other)?
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::s3(
        "Server returned non-2xx status code: 403 Forbidden: <Error><Code>AccessDenied</Code></Error>",
        Some("AccessDenied")
    )]
    #[case::another_service(
        "x Server returned non-2xx status code: 401 Unauthorized: secret of the house",
        Some("with status 401")
    )]
    #[case::hidden("Server returned error response: secret of the house", Some("with an error"))]
    #[case::script("Server returned non-2xx status code: 500: <Code><b>secret</b></Code>", Some("with status 500"))]
    #[case::no_answer("error sending request: connection refused", None)]
    fn answers_are_not_repeated(#[case] whole: &str, #[case] expected: Option<&str>) {
        assert_eq!(answered(whole).as_deref(), expected);
    }
}
