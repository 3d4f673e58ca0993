use waverant_store::Keychain;

use super::{Records, must_be_ours};
use crate::settings::Settings;
use crate::start::StartError;
use crate::state_lock::StateLock;

/// What came of another root key.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rekeyed {
    /// Secrets that were sealed anew.
    pub secrets: usize,
}

/// Makes another root key and seals all secrets anew under it. Whatever breaks this off: either the old file still is the
/// key of the database, or the next start, or the next try, finds the new one and goes on.
///
/// # Errors
/// [`StartError`] that says what to do; the service must be stopped.
pub async fn rekey(settings: &Settings) -> Result<Rekeyed, StartError> {
    must_be_ours(&settings.state_folder)?;
    let lock = StateLock::take(&settings.state_folder)?;
    let records = Records::open_stopped(settings, lock).await?;
    let successor = records.store.keychain().successor(&settings.state_folder)?;
    let secrets = records.store.seal_anew(&successor).await?;
    Keychain::install_successor(&settings.state_folder)?;
    records.note("rekey", String::new()).await?;
    records.close().await;
    Ok(Rekeyed { secrets })
}
