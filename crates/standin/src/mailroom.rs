//! A mail server that takes mail and keeps it, over TLS from the first byte or after a greeting, for who signs in.

use std::net::SocketAddr;
use std::sync::Arc;

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use parking_lot::Mutex;
use tokio::io::{AsyncBufRead, AsyncBufReadExt, AsyncRead, AsyncWrite, AsyncWriteExt, BufReader};
use tokio::net::TcpListener;
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;

use crate::{Authority, Validity};

/// A mail that was taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TakenMail {
    /// From whom, as the server was told.
    pub from: String,
    /// To whom.
    pub to: Vec<String>,
    /// Head and text.
    pub text: String,
}

#[derive(Debug)]
struct Desk {
    sign_in: String,
    is_secure_at_once: bool,
    mails: Mutex<Vec<TakenMail>>,
    refusal: Mutex<Option<String>>,
}

/// A mail server on loopback, for `localhost`; it ends when it is dropped.
#[derive(Debug)]
pub struct Mailroom {
    address: SocketAddr,
    authority: Authority,
    desk: Arc<Desk>,
    serving: JoinHandle<()>,
}

impl Drop for Mailroom {
    fn drop(&mut self) {
        self.serving.abort();
    }
}

impl Mailroom {
    /// Opens one that takes mail of who signs in so.
    ///
    /// # Errors
    /// What the system said.
    pub async fn open(user: &str, password: &str, is_secure_at_once: bool) -> anyhow::Result<Self> {
        let listener = TcpListener::bind(("127.0.0.1", 0)).await?;
        let address = listener.local_addr()?;
        let authority = Authority::new()?;
        let acceptor = TlsAcceptor::from(authority.issue("localhost", Validity::Good)?.server_config()?);
        let sign_in = BASE64_STANDARD.encode(format!("\0{user}\0{password}"));
        let desk = Arc::new(Desk { sign_in, is_secure_at_once, mails: Mutex::default(), refusal: Mutex::default() });
        let serving = tokio::spawn({
            let desk = desk.clone();
            async move {
                while let Ok((stream, _)) = listener.accept().await {
                    let (desk, acceptor) = (desk.clone(), acceptor.clone());
                    tokio::spawn(async move {
                        let _ = desk.receive(stream, acceptor).await;
                    });
                }
            }
        });
        Ok(Self { address, authority, desk, serving })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// The authority of its certificate.
    pub fn authority(&self) -> &Authority {
        &self.authority
    }

    /// What it took so far.
    pub fn mails(&self) -> Vec<TakenMail> {
        self.desk.mails.lock().clone()
    }

    /// It takes nothing from now on, and says this; or takes mail again.
    pub fn refuse(&self, words: Option<&str>) {
        *self.desk.refusal.lock() = words.map(str::to_owned);
    }
}

impl Desk {
    async fn receive(&self, stream: tokio::net::TcpStream, acceptor: TlsAcceptor) -> anyhow::Result<()> {
        if self.is_secure_at_once {
            let mut wire = BufReader::new(acceptor.accept(stream).await?);
            say(&mut wire, "220 mailroom").await?;
            return self.talk(&mut wire, true).await.map(|_| ());
        }
        let mut wire = BufReader::new(stream);
        say(&mut wire, "220 mailroom").await?;
        if self.talk(&mut wire, false).await? {
            let mut wire = BufReader::new(acceptor.accept(wire.into_inner()).await?);
            self.talk(&mut wire, true).await?;
        }
        Ok(())
    }

    /// Source: RFC 5321, 4.1; RFC 4954, 4; RFC 3207. True if TLS is wanted.
    async fn talk<W: AsyncRead + AsyncWrite + Unpin>(
        &self,
        wire: &mut BufReader<W>,
        is_secure: bool,
    ) -> anyhow::Result<bool> {
        let (mut is_in, mut mail) = (false, TakenMail { from: String::new(), to: Vec::new(), text: String::new() });
        while let Some(line) = read(wire).await? {
            let (word, rest) = line.split_once([' ', ':']).unwrap_or((&line, ""));
            let answer = match word.to_ascii_uppercase().as_str() {
                "EHLO" if is_secure => "250-mailroom\r\n250 AUTH PLAIN".to_owned(),
                "EHLO" => "250-mailroom\r\n250 STARTTLS".to_owned(),
                "STARTTLS" if !is_secure => {
                    say(wire, "220 go on").await?;
                    return Ok(true);
                }
                "AUTH" => {
                    is_in = rest.trim_start_matches("PLAIN ") == self.sign_in;
                    if is_in { "235 welcome" } else { "535 nobody knows you" }.to_owned()
                }
                "MAIL" | "RCPT" | "DATA" if !is_in => "530 sign in first".to_owned(),
                "MAIL" => {
                    mail.from = mailbox(rest);
                    self.refusal.lock().clone().unwrap_or_else(|| "250 good".to_owned())
                }
                "RCPT" => {
                    mail.to.push(mailbox(rest));
                    "250 good".to_owned()
                }
                "DATA" => {
                    say(wire, "354 go on").await?;
                    while let Some(line) = read(wire).await?.filter(|line| line != ".") {
                        mail.text.push_str(line.strip_prefix('.').unwrap_or(&line));
                        mail.text.push('\n');
                    }
                    self.mails.lock().push(mail.clone());
                    (mail.to, mail.text) = (Vec::new(), String::new());
                    "250 taken".to_owned()
                }
                "QUIT" => {
                    say(wire, "221 bye").await?;
                    break;
                }
                "RSET" | "NOOP" => "250 good".to_owned(),
                _ => "502 not known".to_owned(),
            };
            say(wire, &answer).await?;
        }
        Ok(false)
    }
}

fn mailbox(text: &str) -> String {
    text.split(['<', '>']).nth(1).unwrap_or_default().to_owned()
}

async fn say(wire: &mut (impl AsyncWrite + Unpin), line: &str) -> anyhow::Result<()> {
    wire.write_all(format!("{line}\r\n").as_bytes()).await?;
    Ok(wire.flush().await?)
}

async fn read(wire: &mut (impl AsyncBufRead + Unpin)) -> anyhow::Result<Option<String>> {
    let mut line = String::new();
    let count = wire.read_line(&mut line).await?;
    Ok((count > 0).then(|| line.trim_end_matches(['\r', '\n']).to_owned()))
}
