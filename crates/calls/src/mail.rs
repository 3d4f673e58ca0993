use std::sync::Arc;
use std::time::Duration;

use lettre::address::AddressError;
use lettre::message::{Mailbox, header};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, CertificateStore, Tls, TlsParameters};
use lettre::{Address, AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};
use thiserror::Error;
use tokio::sync::OnceCell;
use waverant_relay::{Secret, printable};

/// How long a server may take for a mail.
const PATIENCE: Duration = Duration::from_secs(30);

/// What is told of what a server said, in characters.
const MAX_TOLD: usize = 300;

/// How a mail server is reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MailSecurity {
    /// TLS from the first byte. Source: RFC 8314, 3.3
    Tls,
    /// TLS after a greeting in the clear, and nothing without it. Source: RFC 3207
    StartTls,
    /// In the clear: in a network that one trusts.
    None,
}

impl MailSecurity {
    /// Its word in the settings.
    pub fn word(self) -> &'static str {
        match self {
            Self::Tls => "tls",
            Self::StartTls => "starttls",
            Self::None => "none",
        }
    }
}

/// The server that takes mail for others.
#[derive(Clone, Debug)]
pub struct MailServer {
    /// Its name.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// How it is reached.
    pub security: MailSecurity,
    /// Name and password, if it wants them.
    pub sign_in: Option<(String, Secret)>,
    /// Who it is from.
    pub from: String,
    /// The authority of its certificate (PEM), if it is not one that this machine trusts.
    pub authority: Option<String>,
}

/// A mail was not taken.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{told}")]
pub struct MailFault {
    /// What was said.
    pub told: String,
    /// True if it is of no use to try again.
    pub is_final: bool,
}

/// The text is no address of a person.
///
/// # Errors
/// What was expected.
pub fn check_mailbox(text: &str) -> Result<(), String> {
    let told = |error: AddressError| {
        format!("`{}` ({error}) stands where an address like crew@wexcombe.example was expected", printable(text, 120))
    };
    text.trim().parse::<Address>().map(|_| ()).map_err(told)
}

/// Who it is from may have a name before it, as in `Harbour <relay@wexcombe.example>`.
///
/// # Errors
/// What was expected.
pub fn check_sender(text: &str) -> Result<(), String> {
    let told = |error: AddressError| {
        format!("`{}` ({error}) stands where an address like relay@wexcombe.example was expected", printable(text, 120))
    };
    text.trim().parse::<Mailbox>().map(|_| ()).map_err(told)
}

/// Sends mail by the server of the settings.
#[derive(Clone, Debug, Default)]
pub struct Postbox {
    server: Option<Arc<MailServer>>,
    transport: Arc<OnceCell<AsyncSmtpTransport<Tokio1Executor>>>,
}

impl Postbox {
    /// Sends by this server; without one it sends nothing.
    pub fn new(server: Option<MailServer>) -> Self {
        Self { server: server.map(Arc::new), transport: Arc::default() }
    }

    /// True if there is a server.
    pub fn is_there(&self) -> bool {
        self.server.is_some()
    }

    /// Hands a mail to the server. `id` is its number, by which one that comes twice is known.
    ///
    /// # Errors
    /// [`MailFault`] if it was not taken.
    pub async fn send(&self, to: &[String], subject: &str, text: String, id: &str) -> Result<(), MailFault> {
        let server =
            self.server.as_ref().ok_or_else(|| fault("no mail server is set: see [mail] in the settings file"))?;
        let mail = message(server, to, subject, text, id)?;
        let transport = self.transport.get_or_try_init(|| open(server.clone())).await?;
        match tokio::time::timeout(PATIENCE, transport.send(mail)).await {
            Ok(Ok(_)) => Ok(()),
            Ok(Err(error)) => {
                let told = printable(&format!("{}: {}", server.host, innermost(&error)), MAX_TOLD).into_owned();
                // A wrong password is refused for good as well: that is for people to mend, while what happened waits.
                Err(fault(&told))
            }
            Err(_) => Err(fault(&format!("{} did not answer in {} s", server.host, PATIENCE.as_secs()))),
        }
    }
}

fn fault(told: &str) -> MailFault {
    MailFault { told: told.to_owned(), is_final: false }
}

fn innermost(error: &dyn std::error::Error) -> String {
    let mut told = error.to_string();
    let mut cause = error.source();
    while let Some(inner) = cause {
        told = format!("{told}: {inner}");
        cause = inner.source();
    }
    told
}

fn message(server: &MailServer, to: &[String], subject: &str, text: String, id: &str) -> Result<Message, MailFault> {
    let wrong = |error: &dyn std::fmt::Display| MailFault { told: error.to_string(), is_final: true };
    let from: Mailbox = server.from.parse().map_err(|error: AddressError| wrong(&error))?;
    let domain = from.email.domain().to_owned();
    let mut builder = Message::builder().from(from).subject(subject).header(header::ContentType::TEXT_PLAIN);
    for mailbox in to {
        builder = builder.to(mailbox.parse().map_err(|error: AddressError| wrong(&error))?);
    }
    builder.message_id(Some(format!("<{id}@{domain}>"))).body(text).map_err(|error| wrong(&error))
}

/// Reading the authorities of this machine takes a while, once.
async fn open(server: Arc<MailServer>) -> Result<AsyncSmtpTransport<Tokio1Executor>, MailFault> {
    let opened = tokio::task::spawn_blocking(move || transport(&server)).await;
    opened.map_err(|error| fault(&error.to_string()))?.map_err(|told| fault(&told))
}

fn transport(server: &MailServer) -> Result<AsyncSmtpTransport<Tokio1Executor>, String> {
    let mut builder = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(&server.host).port(server.port);
    builder = builder.timeout(Some(PATIENCE)).tls(match server.security {
        MailSecurity::Tls => Tls::Wrapper(parameters(server)?),
        MailSecurity::StartTls => Tls::Required(parameters(server)?),
        MailSecurity::None => Tls::None,
    });
    if let Some((name, password)) = &server.sign_in {
        builder = builder.credentials(Credentials::new(name.clone(), password.reveal().to_owned()));
    }
    Ok(builder.build())
}

fn parameters(server: &MailServer) -> Result<TlsParameters, String> {
    let mut builder = TlsParameters::builder(server.host.clone());
    if let Some(authority) = &server.authority {
        let certificate = Certificate::from_pem(authority.as_bytes()).map_err(|error| innermost(&error))?;
        builder = builder.certificate_store(CertificateStore::None).add_root_certificate(certificate);
    }
    builder.build_rustls().map_err(|error| innermost(&error))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::plain("crew@wexcombe.example", true)]
    #[case::number("crew@[192.0.2.7]", true)]
    #[case::no_at("wexcombe.example", false)]
    #[case::a_line_more("crew@wexcombe.example\r\nBcc: all@wexcombe.example", false)]
    #[case::nothing("", false)]
    fn people_have_addresses(#[case] text: &str, #[case] expected: bool) {
        assert_eq!(check_mailbox(text).is_ok(), expected);
    }

    #[test]
    fn what_happened_is_no_head_of_a_mail() {
        let server = MailServer {
            host: "mail.wexcombe.example".to_owned(),
            port: 465,
            security: MailSecurity::Tls,
            sign_in: None,
            from: "Harbour <relay@wexcombe.example>".to_owned(),
            authority: None,
        };
        let to = ["crew@wexcombe.example".to_owned()];
        let mail = message(&server, &to, "finish-line\r\nBcc: all@wexcombe.example", "ä\r\n.\r\n".to_owned(), "evt_1");
        let written = String::from_utf8(mail.unwrap().formatted()).unwrap();
        let (head, _) = written.split_once("\r\n\r\n").unwrap();
        assert!(!head.contains("\r\nBcc:") && head.contains("Message-ID: <evt_1@wexcombe.example>"), "{written}");
    }
}
