use std::time::Duration;

use waverant_calls::{MailSecurity, MailServer, check_sender};
use waverant_relay::Secret;

use super::SettingsError;
use super::file::{Mail, Reader};

const SECTION: &str = "mail";

/// Ports by custom. Source: RFC 8314, 3.3; RFC 6409, 3.1
const TLS_PORT: u64 = 465;
const SUBMISSION_PORT: u64 = 587;

impl Reader<'_> {
    /// Who takes mail for people, if anybody, and how long it is gathered.
    pub(super) fn mail(&self, file: Mail) -> Result<(Option<MailServer>, Duration), SettingsError> {
        let minutes = self.number(SECTION, "digest_minutes", file.digest_minutes, 0..=1440, 5)?;
        let digest = Duration::from_secs(minutes * 60);
        let security = match self.optional(SECTION, "security", file.security.clone()).as_deref() {
            None | Some("tls") => MailSecurity::Tls,
            Some("starttls") => MailSecurity::StartTls,
            Some("none") => MailSecurity::None,
            Some(word) => {
                let told = format!("`{word}` is none of \"tls\", \"starttls\" and \"none\"");
                return Err(self.error_at(SECTION, "security", file.security, &told));
            }
        };
        let usual = if security == MailSecurity::Tls { TLS_PORT } else { SUBMISSION_PORT };
        let port = self.number(SECTION, "port", file.port, 1..=65_535, usual)?;
        let password = self.text_of_file(SECTION, "password_file", file.password_file)?;
        let user = self.optional(SECTION, "user", file.user);
        let authority = self.text_of_file(SECTION, "trusted_file", file.trusted_file)?;
        let at = file.server.clone();
        let from = self.optional(SECTION, "from", file.from.clone());
        let Some(host) = self.optional(SECTION, "server", file.server) else { return Ok((None, digest)) };
        let wrong = |told: &str| self.error_at(SECTION, "server", at.clone(), told);
        let from = from.ok_or_else(|| wrong("who mail is from is missing: set mail.from"))?;
        check_sender(&from).map_err(|told| self.error_at(SECTION, "from", file.from, &told))?;
        let sign_in = match (user, password) {
            (None, None) => None,
            (Some(user), Some(password)) => Some((user, Secret::new(password.trim()))),
            _ => return Err(wrong("mail.user and mail.password_file go together")),
        };
        if sign_in.is_some() && security == MailSecurity::None {
            return Err(wrong("a password is sent over TLS only: set mail.security to \"tls\" or \"starttls\""));
        }
        let port = u16::try_from(port).unwrap_or(u16::MAX);
        Ok((Some(MailServer { host, port, security, sign_in, from, authority }), digest))
    }
}
