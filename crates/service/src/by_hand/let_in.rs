use time::{Duration, OffsetDateTime};
use waverant_relay::Secret;

use super::Records;
use crate::settings::Settings;
use crate::start::StartError;

/// How long the code is good.
const LIFE: Duration = Duration::HOUR;

/// A one-time link by which somebody chooses a password.
#[derive(Clone, Debug)]
pub struct LetIn {
    /// The link, at the console's own address.
    pub link: Secret,
    /// When it ends.
    pub ends_at: OffsetDateTime,
}

/// Lets somebody of the crew in again who locked himself out, second factor and all.
///
/// # Errors
/// [`StartError`] that says what to do; there must be such a person.
pub async fn let_in(settings: &Settings, name: &str, drops_second_factor: bool) -> Result<LetIn, StartError> {
    let records = Records::open(settings).await?;
    let ends_at = OffsetDateTime::now_utc() + LIFE;
    let code = records.store.invite(name, ends_at, drops_second_factor).await?;
    records.note("let_in", format!("person {name}")).await?;
    records.close().await;
    let (scheme, at) = if settings.tls.is_some() { ("https", settings.https) } else { ("http", settings.http) };
    let link = Secret::new(format!("{scheme}://{at}{}/invitation#{}", settings.console_path, code.reveal()));
    Ok(LetIn { link, ends_at })
}
