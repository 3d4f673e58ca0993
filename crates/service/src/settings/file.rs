use std::collections::HashMap;
use std::fmt::Display;
use std::net::SocketAddr;
use std::ops::{Range, RangeInclusive};
use std::path::{Path, PathBuf};
use std::str::FromStr;

use serde::Deserialize;
use toml::Spanned;

use super::{FirstRunFiles, LogFormat, SettingsError};
use waverant_api::MetricsAccess;
use waverant_net::TlsFiles;
use waverant_relay::Role;

/// Shorter tokens can be guessed.
const LEAST_TOKEN: usize = 20;

type Text = Option<Spanned<String>>;
type Flag = Option<Spanned<bool>>;
pub(super) type Number = Option<Spanned<u64>>;

/// The file as it is written; every key may be left out.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct File {
    pub(super) listen: Listen,
    pub(super) house: House,
    pub(super) database: Database,
    pub(super) tls: Tls,
    pub(super) authority: Authority,
    pub(super) limits: Limits,
    pub(super) checkup: Checkup,
    pub(super) timeline: Timeline,
    pub(super) people: People,
    pub(super) calls: Calls,
    pub(super) mail: Mail,
    pub(super) outside: Outside,
    pub(super) metrics: Metrics,
    pub(super) log: Log,
    pub(super) first_run: FirstRun,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Listen {
    pub(super) rtmp: Text,
    pub(super) rtmps: Text,
    pub(super) srt: Text,
    pub(super) http: Text,
    pub(super) https: Text,
    pub(super) redirect: Text,
    pub(super) viewing: Text,
    pub(super) viewing_https: Text,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct House {
    pub(super) host: Text,
    pub(super) state_folder: Text,
    pub(super) recordings_folder: Text,
    pub(super) recordings_floor_mib: Number,
    pub(super) take_undo_s: Number,
    pub(super) ready_file: Text,
    pub(super) slot_sites: Text,
    pub(super) viewing_site: Text,
    pub(super) proxies: Text,
    pub(super) proxy_header: Text,
    pub(super) proxy_protocol: Text,
    pub(super) console_path: Text,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Calls {
    pub(super) private_addresses: Text,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Mail {
    pub(super) server: Text,
    pub(super) port: Number,
    pub(super) security: Text,
    pub(super) user: Text,
    pub(super) password_file: Text,
    pub(super) from: Text,
    pub(super) trusted_file: Text,
    pub(super) digest_minutes: Number,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Database {
    pub(super) url: Text,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Tls {
    pub(super) certificate: Text,
    pub(super) key: Text,
    pub(super) session_tickets: Number,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Authority {
    pub(super) directory: Text,
    pub(super) names: Text,
    pub(super) contacts: Text,
    pub(super) agrees_to_terms: Flag,
    pub(super) proof: Text,
    pub(super) trusted_file: Text,
    pub(super) binding_id: Text,
    pub(super) binding_key_file: Text,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Limits {
    pub(super) rtmp_connections: Number,
    pub(super) rtmp_callers: Number,
    pub(super) rtmp_connections_per_address: Number,
    pub(super) srt_connections: Number,
    pub(super) srt_connections_per_address: Number,
    pub(super) http_connections: Number,
    pub(super) http_connections_per_address: Number,
    pub(super) viewing_connections: Number,
    pub(super) viewing_connections_per_address: Number,
    pub(super) viewers: Number,
    pub(super) uplink_kbps: Number,
    pub(super) handshake_timeout_s: Number,
    pub(super) setup_timeout_s: Number,
    pub(super) idle_timeout_s: Number,
    pub(super) message_mib: Number,
    pub(super) setup_message_kib: Number,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Checkup {
    pub(super) cpu_percent: Number,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Timeline {
    pub(super) tens_days: Number,
    pub(super) minutes_days: Number,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct People {
    pub(super) act_days: Number,
    pub(super) second_factor_from: Text,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Outside {
    pub(super) answerer: Text,
    pub(super) secret_file: Text,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Metrics {
    pub(super) access: Text,
    pub(super) token_file: Text,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct Log {
    pub(super) format: Text,
    pub(super) level: Text,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(super) struct FirstRun {
    pub(super) administrator_file: Text,
    pub(super) setup_file: Text,
    pub(super) secrets_folder: Text,
}

impl File {
    pub(super) fn parse(path: &Path, text: &str) -> Result<Self, SettingsError> {
        toml::from_str(text).map_err(|error| {
            let at = error.span().map_or(0, |span| span.start);
            place(path, text, at, error.message().to_owned())
        })
    }
}

/// An error at the byte `at` of the file.
fn place(path: &Path, text: &str, at: usize, message: String) -> SettingsError {
    let before = text.get(..at).unwrap_or(text);
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().map_or(0, |line| line.chars().count()) + 1;
    SettingsError::File { path: path.to_owned(), line, column, message }
}

/// Where a value came from, for errors.
enum Origin {
    File(Range<usize>),
    Variable(String),
}

/// Reads values from the environment before the file before the default.
pub(super) struct Reader<'a> {
    path: &'a Path,
    text: &'a str,
    variables: HashMap<String, String>,
}

impl<'a> Reader<'a> {
    pub(super) fn new(path: &'a Path, text: &'a str, variables: impl IntoIterator<Item = (String, String)>) -> Self {
        Self { path, text, variables: variables.into_iter().collect() }
    }

    fn find(&self, section: &str, key: &str, value: Text) -> Option<(String, Origin)> {
        let name = format!("WAVERANT_{}_{}", section.to_uppercase(), key.to_uppercase());
        if let Some(value) = self.variables.get(&name) {
            return Some((value.clone(), Origin::Variable(name)));
        }
        value.map(|value| (value.get_ref().clone(), Origin::File(value.span())))
    }

    fn error(&self, origin: Origin, message: String) -> SettingsError {
        match origin {
            Origin::File(span) => place(self.path, self.text, span.start, message),
            Origin::Variable(name) => SettingsError::Variable { name, message },
        }
    }

    pub(super) fn text(&self, section: &str, key: &str, value: Text, default: &str) -> String {
        self.find(section, key, value).map_or_else(|| default.to_owned(), |(value, _)| value)
    }

    pub(super) fn optional(&self, section: &str, key: &str, value: Text) -> Option<String> {
        self.find(section, key, value).map(|(value, _)| value).filter(|value| !value.is_empty())
    }

    pub(super) fn first_run(&self, file: FirstRun) -> FirstRunFiles {
        FirstRunFiles {
            administrator: self.path("first_run", "administrator_file", file.administrator_file),
            setup: self.path("first_run", "setup_file", file.setup_file),
            secrets: self.path("first_run", "secrets_folder", file.secrets_folder),
        }
    }

    pub(super) fn path(&self, section: &str, key: &str, value: Text) -> Option<PathBuf> {
        self.optional(section, key, value).map(PathBuf::from)
    }

    pub(super) fn address(
        &self,
        section: &str,
        key: &str,
        value: Text,
        default: &str,
    ) -> Result<SocketAddr, SettingsError> {
        let (text, origin) = self.find(section, key, value).unwrap_or_else(|| (default.to_owned(), Origin::File(0..0)));
        text.parse().map_err(|_| {
            self.error(origin, format!("`{text}` is no address and port, as in 127.0.0.1:7800 or [::]:7800"))
        })
    }

    pub(super) fn number(
        &self,
        section: &str,
        key: &str,
        value: Number,
        range: RangeInclusive<u64>,
        default: u64,
    ) -> Result<u64, SettingsError> {
        let value = value.map(|value| Spanned::new(value.span(), value.get_ref().to_string()));
        let Some((text, origin)) = self.find(section, key, value) else { return Ok(default) };
        let Ok(number) = text.parse::<u64>() else {
            return Err(self.error(origin, format!("`{text}` is not a whole number")));
        };
        if range.contains(&number) {
            return Ok(number);
        }
        Err(self.error(origin, format!("{number} is not between {} and {}", range.start(), range.end())))
    }

    pub(super) fn flag(&self, section: &str, key: &str, value: Flag) -> Result<bool, SettingsError> {
        let value = value.map(|value| Spanned::new(value.span(), value.get_ref().to_string()));
        match self.find(section, key, value) {
            None => Ok(false),
            Some((text, origin)) => {
                text.parse().map_err(|_| self.error(origin, format!("`{text}` is neither true nor false")))
            }
        }
    }

    /// What is wrong with a value that was read, or with what goes with it.
    pub(super) fn error_at(&self, section: &str, key: &str, value: Text, told: &str) -> SettingsError {
        let origin = self.find(section, key, value).map_or(Origin::File(0..0), |(_, origin)| origin);
        self.error(origin, told.to_owned())
    }

    /// What stands in a file that is named; none if none is.
    pub(super) fn text_of_file(&self, section: &str, key: &str, value: Text) -> Result<Option<String>, SettingsError> {
        let Some((path, origin)) = self.find(section, key, value).filter(|(path, _)| !path.is_empty()) else {
            return Ok(None);
        };
        let read = std::fs::read_to_string(&path);
        read.map(Some).map_err(|error| self.error(origin, format!("`{path}` cannot be read: {error}")))
    }

    /// Sites, addresses and the like, with a space between.
    pub(super) fn list<T>(&self, section: &str, key: &str, value: Text) -> Result<Vec<T>, SettingsError>
    where
        T: FromStr<Err: Display>,
    {
        let Some((text, origin)) = self.find(section, key, value) else { return Ok(Vec::new()) };
        let list: Result<Vec<T>, _> = text.split_whitespace().map(str::parse).collect();
        list.map_err(|error| self.error(origin, error.to_string()))
    }

    /// One of a kind; none if it is empty.
    pub(super) fn maybe<T>(&self, section: &str, key: &str, value: Text) -> Result<Option<T>, SettingsError>
    where
        T: FromStr<Err: Display>,
    {
        let Some((text, origin)) = self.find(section, key, value) else { return Ok(None) };
        let text = text.trim();
        let read = (!text.is_empty()).then(|| text.parse()).transpose();
        read.map_err(|error: T::Err| self.error(origin, error.to_string()))
    }

    pub(super) fn database_url(&self, value: Text) -> Result<Option<String>, SettingsError> {
        let Some((url, origin)) = self.find("database", "url", value) else { return Ok(None) };
        if url.is_empty() {
            return Ok(None);
        }
        if !url.starts_with("mysql://") {
            // The rest may hold a password and is not repeated.
            let found = url.split_once("://").map_or("text without a scheme", |(scheme, _)| scheme);
            return Err(self.error(origin, format!("`{found}` stands where `mysql://` was expected")));
        }
        Ok(Some(url))
    }

    /// Certificate and key go together: with one of them alone TLS cannot be offered. What an authority gives is in one file.
    pub(super) fn tls(&self, file: Tls, of_authority: Option<PathBuf>) -> Result<Option<TlsFiles>, SettingsError> {
        let certificate = self.find("tls", "certificate", file.certificate).filter(|(value, _)| !value.is_empty());
        let key = self.find("tls", "key", file.key).filter(|(value, _)| !value.is_empty());
        let tickets = self.number("tls", "session_tickets", file.session_tickets, 0..=8, 0)?;
        let tickets = usize::try_from(tickets).unwrap_or(0);
        if let Some(file) = of_authority {
            let twice = "[authority] has the certificate already: leave its directory empty, or this";
            let written = certificate.or(key);
            return match written {
                Some((_, origin)) => Err(self.error(origin, twice.to_owned())),
                None => Ok(Some(TlsFiles { certificate: file.clone(), key: file, tickets })),
            };
        }
        match (certificate, key) {
            (None, None) => Ok(None),
            (Some((certificate, _)), Some((key, _))) => {
                Ok(Some(TlsFiles { certificate: certificate.into(), key: key.into(), tickets }))
            }
            (Some((_, origin)), None) => Err(self.error(origin, "its private key is missing: set tls.key".to_owned())),
            (None, Some((_, origin))) => {
                Err(self.error(origin, "its certificate is missing: set tls.certificate".to_owned()))
            }
        }
    }

    /// How log lines look, and which there are.
    pub(super) fn log(&self, section: Log) -> Result<(LogFormat, String), SettingsError> {
        Ok((self.log_format(section.format)?, self.log_level(section.level)?))
    }

    fn log_format(&self, value: Text) -> Result<LogFormat, SettingsError> {
        let Some((text, origin)) = self.find("log", "format", value) else { return Ok(LogFormat::Text) };
        match text.as_str() {
            "text" => Ok(LogFormat::Text),
            "json" => Ok(LogFormat::Json),
            _ => Err(self.error(origin, format!("`{text}` is neither \"text\" nor \"json\""))),
        }
    }

    pub(super) fn metrics(&self, section: Metrics) -> Result<MetricsAccess, SettingsError> {
        let from_loopback = match self.find("metrics", "access", section.access) {
            None => true,
            Some((text, _)) if text == "loopback" => true,
            Some((text, _)) if text == "token" => false,
            Some((text, origin)) => {
                return Err(self.error(origin, format!("`{text}` is neither \"loopback\" nor \"token\"")));
            }
        };
        let at = section.token_file.clone();
        let Some(text) = self.text_of_file("metrics", "token_file", section.token_file)? else {
            return Ok(MetricsAccess { from_loopback, token: None });
        };
        let token = text.trim();
        if token.len() < LEAST_TOKEN {
            let told = format!("the token in it has {} characters; at least {LEAST_TOKEN} are expected", token.len());
            return Err(self.error_at("metrics", "token_file", at, &told));
        }
        Ok(MetricsAccess { from_loopback, token: Some(token.into()) })
    }

    /// A role; none if it is empty.
    pub(super) fn role(&self, section: &str, key: &str, value: Text) -> Result<Option<Role>, SettingsError> {
        let Some((text, origin)) = self.find(section, key, value).filter(|(text, _)| !text.is_empty()) else {
            return Ok(None);
        };
        let told = || format!("`{text}` is no role: observer, operator, engineer or administrator");
        Role::from_word(&text).map(Some).ok_or_else(|| self.error(origin, told()))
    }

    fn log_level(&self, value: Text) -> Result<String, SettingsError> {
        let Some((text, origin)) = self.find("log", "level", value) else { return Ok("info".to_owned()) };
        match text.parse::<tracing_subscriber::filter::Targets>() {
            Ok(_) => Ok(text),
            Err(_) => Err(self.error(origin, format!("`{text}` is no log level: error, warn, info, debug or trace"))),
        }
    }
}
