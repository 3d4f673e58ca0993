use waverant_calls::SigningSecret;
use waverant_outside::Answerer;
use waverant_relay::Secret;

use super::SettingsError;
use super::file::{Outside, Reader};

const SECTION: &str = "outside";

impl Reader<'_> {
    /// The helper out there, if there is one.
    pub(super) fn answerer(&self, file: Outside) -> Result<Option<Answerer>, SettingsError> {
        let secret = self.text_of_file(SECTION, "secret_file", file.secret_file.clone())?;
        let at = file.answerer.clone();
        let Some(address) = self.maybe(SECTION, "answerer", file.answerer)? else { return Ok(None) };
        let secret = secret.ok_or_else(|| {
            self.error_at(
                SECTION,
                "answerer",
                at,
                "the secret that it shares with this house is missing: set outside.secret_file",
            )
        })?;
        let secret = SigningSecret::read(&Secret::new(secret.trim()))
            .map_err(|error| self.error_at(SECTION, "secret_file", file.secret_file, &error.to_string()))?;
        Ok(Some(Answerer { address, secret }))
    }
}
