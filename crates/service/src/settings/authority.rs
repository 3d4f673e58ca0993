use std::path::Path;

use waverant_acme::{Binding, CertificateName, Directory, Proof, Wanted};

use super::SettingsError;
use super::file::{Authority, Reader};

/// Below the state folder: account, orders, and the certificate itself.
const FOLDER: &str = "certificate";

impl Reader<'_> {
    /// What is to be had from an authority, and from whom; none if none is named.
    pub(super) fn authority(
        &self,
        file: Authority,
        state_folder: &Path,
        has_redirect: bool,
    ) -> Result<Option<Wanted>, SettingsError> {
        const SECTION: &str = "authority";
        let agrees = self.flag(SECTION, "agrees_to_terms", file.agrees_to_terms)?;
        let proof: Proof = self.maybe(SECTION, "proof", file.proof)?.unwrap_or_default();
        let names: Vec<CertificateName> = self.list(SECTION, "names", file.names)?;
        let contacts: Vec<String> = self.list(SECTION, "contacts", file.contacts)?;
        let trusted = self.text_of_file(SECTION, "trusted_file", file.trusted_file)?;
        let binding_id = self.optional(SECTION, "binding_id", file.binding_id);
        let binding_key = self.text_of_file(SECTION, "binding_key_file", file.binding_key_file)?;
        let at = file.directory.clone();
        let Some(directory) = self.maybe::<Directory>(SECTION, "directory", file.directory)? else { return Ok(None) };
        let wrong = |told: &str| Err(self.error_at(SECTION, "directory", at.clone(), told));
        if names.is_empty() {
            return wrong("what the certificate is to be for is missing: set authority.names");
        }
        if !agrees {
            return wrong("read the authority's terms, and say that you agree: set authority.agrees_to_terms = true");
        }
        if proof == Proof::Http && !has_redirect {
            return wrong(
                "it asks at port 80 (http-01), where nothing listens: set listen.redirect = \"0.0.0.0:80\", or \
                 authority.proof = \"tls-alpn-01\"",
            );
        }
        let binding = match (binding_id, binding_key) {
            (None, None) => None,
            (Some(id), Some(key)) => match waverant_acme::binding_key(&key) {
                Some(key) => Some(Binding { id, key }),
                None => return wrong("the key in authority.binding_key_file is not base64url, as authorities give it"),
            },
            _ => return wrong("authority.binding_id and authority.binding_key_file go together"),
        };
        let folder = state_folder.join(FOLDER);
        Ok(Some(Wanted { directory, trusted, names, contacts, proof, binding, folder }))
    }
}
