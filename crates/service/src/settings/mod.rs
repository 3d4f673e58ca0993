//! Process settings: the file, the environment, and the checks on them.

mod announced;
mod authority;
mod file;
mod mail;
mod outside;
mod told;

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

use thiserror::Error;
use waverant_acme::Wanted;
use waverant_api::{ConsolePath, MetricsAccess, ProxyHeader};
use waverant_calls::MailServer;
use waverant_house::{AudienceLimits, FigureDays};
use waverant_outside::Answerer;
use waverant_relay::{AddressRange, Role, Site};
use waverant_rtmp::Limits;

pub use announced::AnnouncedDoor;
use file::{
    Checkup as CheckupSection, File, Limits as LimitsSection, Number, People as PeopleSection, Reader,
    Timeline as TimelineSection,
};
use waverant_net::TlsFiles;

/// How log lines look.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LogFormat {
    /// For people.
    Text,
    /// For programs.
    Json,
}

/// Why settings cannot be used. The text tells file, line and column, or the variable.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum SettingsError {
    /// The file cannot be read.
    #[error("settings file {}: {source}; give its place with --settings, or start from the waverant.toml that is shipped", path.display())]
    Unreadable {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// The file is not as expected at one place.
    #[error("{}:{line}:{column}: {message}", path.display())]
    File {
        /// The file.
        path: PathBuf,
        /// Line, counted from 1.
        line: usize,
        /// Column, counted from 1.
        column: usize,
        /// What was found and what was expected.
        message: String,
    },
    /// A variable is not as expected.
    #[error("environment variable {name}: {message}")]
    Variable {
        /// The variable.
        name: String,
        /// What was found and what was expected.
        message: String,
    },
}

/// Process settings. See the shipped `waverant.toml` for their meaning and defaults.
#[derive(Clone, Debug)]
pub struct Settings {
    /// Where encoders connect.
    pub rtmp: SocketAddr,
    /// Where encoders connect over TLS, if there is a certificate.
    pub rtmps: SocketAddr,
    /// Where encoders and players are taken over SRT.
    pub srt: SocketAddr,
    /// Where console and API are.
    pub http: SocketAddr,
    /// Where console and API are over TLS, if there is a certificate.
    pub https: SocketAddr,
    /// Where whoever comes in the clear is led to that.
    pub redirect: Option<SocketAddr>,
    /// Where viewers are.
    pub viewing: SocketAddr,
    /// Where viewers are over TLS, if there is a certificate.
    pub viewing_https: SocketAddr,
    /// The host shown with stream keys.
    pub host: String,
    /// Keys of the house and the private database.
    pub state_folder: PathBuf,
    /// Where takes are written.
    pub recordings_folder: PathBuf,
    /// So much stays free on the disk of the recordings.
    pub recordings_floor_bytes: u64,
    /// How long a removed take can be had back.
    pub take_undo: Duration,
    /// Where the bound addresses are written.
    pub ready_file: Option<PathBuf>,
    /// A database of one's own.
    pub database_url: Option<String>,
    /// The certificate for encoders; without one there is no TLS.
    pub(crate) tls: Option<TlsFiles>,
    /// The authority that gives it, if one does.
    pub(crate) authority: Option<Wanted>,
    /// RTMP connections that are let in, at one time.
    pub rtmp_connections: usize,
    /// RTMP connections that wait to be let in, at one time.
    pub rtmp_callers: usize,
    /// RTMP connections from one address at one time.
    pub rtmp_connections_per_address: usize,
    /// SRT connections at once.
    pub srt_connections: usize,
    /// SRT connections from one address at once.
    pub srt_connections_per_address: usize,
    /// Connections to console and API at once, signed in; as many may be there that are not.
    pub http_connections: usize,
    /// Connections to console and API from one address at once.
    pub http_connections_per_address: usize,
    /// Viewers' connections at one time.
    pub viewing_connections: usize,
    /// From one address.
    pub viewing_connections_per_address: usize,
    /// Addresses of one's own house to which calls may lead.
    pub private_addresses: Vec<AddressRange>,
    /// Who takes mail for people, and how long it is gathered.
    pub(crate) mail: (Option<MailServer>, Duration),
    /// Proxies whose word on who calls is believed.
    pub proxies: Vec<AddressRange>,
    /// The doors at which they announce by the PROXY protocol who calls.
    pub proxy_protocol: Vec<AnnouncedDoor>,
    /// Where they say it.
    pub proxy_header: ProxyHeader,
    /// The path under which they have the console.
    pub console_path: ConsolePath,
    /// Sites that pages of channels may show beside the player.
    pub slot_sites: Vec<Site>,
    /// The site under which viewers reach this house, if its ports do not tell it.
    pub viewing_site: Option<Site>,
    /// What hearing and seeing shows may take of one processor.
    pub checkup_share: f64,
    /// How long figures are kept.
    pub figure_days: FigureDays,
    /// For how many days it is kept who did what.
    pub act_days: u32,
    /// From which role on people have a second factor.
    pub second_factor_from: Option<Role>,
    /// The helper out there that tries the doors.
    pub(crate) answerer: Option<Answerer>,
    /// Who may read figures for monitoring.
    pub metrics: MetricsAccess,
    /// How many may watch.
    pub audience: AudienceLimits,
    /// Bounds on one RTMP peer.
    pub rtmp_limits: Limits,
    /// How log lines look, and which there are.
    pub log: (LogFormat, String),
    /// From what a house is made that has nothing yet.
    pub first_run: FirstRunFiles,
}

/// From what a house is made that has nothing yet.
#[derive(Clone, Debug, Default)]
pub struct FirstRunFiles {
    /// From where the first administrator is made.
    pub administrator: Option<PathBuf>,
    /// The set-up file.
    pub setup: Option<PathBuf>,
    /// Where secrets are that it refers to.
    pub secrets: Option<PathBuf>,
}

/// Where what must not be lost is kept if nobody says.
const STATE: &str = "/var/lib/waverant";

/// Where takes are written if nobody says.
const RECORDINGS: &str = "/var/lib/waverant/recordings";

impl Settings {
    /// Reads the file at `path` and the variables of the environment.
    ///
    /// # Errors
    /// [`SettingsError`] at the first thing that is not as expected.
    pub fn load(path: &Path, variables: impl IntoIterator<Item = (String, String)>) -> Result<Self, SettingsError> {
        let text = std::fs::read_to_string(path);
        let text = text.map_err(|source| SettingsError::Unreadable { path: path.to_owned(), source })?;
        Self::parse(path, &text, variables)
    }

    /// Reads settings from `text`, which stands in the file at `path`.
    ///
    /// # Errors
    /// [`SettingsError`] at the first thing that is not as expected.
    pub fn parse(
        path: &Path,
        text: &str,
        variables: impl IntoIterator<Item = (String, String)>,
    ) -> Result<Self, SettingsError> {
        let file = File::parse(path, text)?;
        let reader = Reader::new(path, text, variables);
        let count = |key: &str, value, default| {
            let count = reader.number("limits", key, value, 1..=100_000, default)?;
            Ok(usize::try_from(count).unwrap_or(usize::MAX))
        };
        let per_address = |door, value, default| count(&format!("{door}_connections_per_address"), value, default);
        let (limits, redirect) = (file.limits, reader.maybe("listen", "redirect", file.listen.redirect)?);
        let folder = |key, value, default| PathBuf::from(reader.text("house", key, value, default));
        let state_folder = folder("state_folder", file.house.state_folder, STATE);
        let authority = reader.authority(file.authority, &state_folder, redirect.is_some())?;
        Ok(Self {
            rtmp_limits: rtmp_limits(&reader, &limits)?,
            audience: audience(&reader, &limits)?,
            rtmp: reader.address("listen", "rtmp", file.listen.rtmp, "0.0.0.0:1935")?,
            rtmps: reader.address("listen", "rtmps", file.listen.rtmps, "0.0.0.0:7835")?,
            srt: reader.address("listen", "srt", file.listen.srt, "0.0.0.0:7810")?,
            http: reader.address("listen", "http", file.listen.http, "127.0.0.1:7800")?,
            https: reader.address("listen", "https", file.listen.https, "127.0.0.1:7801")?,
            redirect,
            viewing: reader.address("listen", "viewing", file.listen.viewing, "0.0.0.0:7850")?,
            viewing_https: reader.address("listen", "viewing_https", file.listen.viewing_https, "0.0.0.0:7851")?,
            host: reader.text("house", "host", file.house.host, ""),
            state_folder,
            recordings_folder: folder("recordings_folder", file.house.recordings_folder, RECORDINGS),
            recordings_floor_bytes: recordings_floor(&reader, file.house.recordings_floor_mib)?,
            take_undo: take_undo(&reader, file.house.take_undo_s)?,
            ready_file: reader.path("house", "ready_file", file.house.ready_file),
            database_url: reader.database_url(file.database.url)?,
            tls: reader.tls(file.tls, authority.as_ref().map(Wanted::certificate_file))?,
            authority,
            rtmp_connections: count("rtmp_connections", limits.rtmp_connections, 256)?,
            rtmp_callers: count("rtmp_callers", limits.rtmp_callers, 2048)?,
            rtmp_connections_per_address: per_address("rtmp", limits.rtmp_connections_per_address, 32)?,
            srt_connections: count("srt_connections", limits.srt_connections, 256)?,
            srt_connections_per_address: per_address("srt", limits.srt_connections_per_address, 32)?,
            http_connections: count("http_connections", limits.http_connections, 256)?,
            http_connections_per_address: per_address("http", limits.http_connections_per_address, 128)?,
            viewing_connections: count("viewing_connections", limits.viewing_connections, 1024)?,
            viewing_connections_per_address: per_address("viewing", limits.viewing_connections_per_address, 256)?,
            slot_sites: reader.list("house", "slot_sites", file.house.slot_sites)?,
            viewing_site: reader.maybe("house", "viewing_site", file.house.viewing_site)?,
            proxies: reader.list("house", "proxies", file.house.proxies)?,
            proxy_protocol: reader.list("house", "proxy_protocol", file.house.proxy_protocol)?,
            proxy_header: reader.maybe("house", "proxy_header", file.house.proxy_header)?.unwrap_or_default(),
            console_path: reader.maybe("house", "console_path", file.house.console_path)?.unwrap_or_default(),
            checkup_share: checkup_share(&reader, file.checkup)?,
            figure_days: figure_days(&reader, &file.timeline)?,
            act_days: act_days(&reader, &file.people)?,
            private_addresses: reader.list("calls", "private_addresses", file.calls.private_addresses)?,
            mail: reader.mail(file.mail)?,
            second_factor_from: reader.role("people", "second_factor_from", file.people.second_factor_from)?,
            answerer: reader.answerer(file.outside)?,
            metrics: reader.metrics(file.metrics)?,
            log: reader.log(file.log)?,
            first_run: reader.first_run(file.first_run),
        })
    }
}

fn rtmp_limits(reader: &Reader<'_>, file: &LimitsSection) -> Result<Limits, SettingsError> {
    let seconds = |key, value, default| reader.number("limits", key, value, 1..=600, default).map(Duration::from_secs);
    let setup_message_kib =
        reader.number("limits", "setup_message_kib", file.setup_message_kib.clone(), 4..=1024, 64)?;
    let message_mib = reader.number("limits", "message_mib", file.message_mib.clone(), 1..=64, 4)?;
    Ok(Limits {
        max_message_bytes: u32::try_from(message_mib << 20).unwrap_or(u32::MAX),
        max_setup_message_bytes: u32::try_from(setup_message_kib << 10).unwrap_or(u32::MAX),
        handshake_timeout: seconds("handshake_timeout_s", file.handshake_timeout_s.clone(), 5)?,
        setup_timeout: seconds("setup_timeout_s", file.setup_timeout_s.clone(), 10)?,
        idle_timeout: seconds("idle_timeout_s", file.idle_timeout_s.clone(), 15)?,
    })
}

fn figure_days(reader: &Reader<'_>, file: &TimelineSection) -> Result<FigureDays, SettingsError> {
    let days = |key, value: &Number, default| {
        let days = reader.number("timeline", key, value.clone(), 1..=36_500, default)?;
        Ok(u32::try_from(days).unwrap_or(u32::MAX))
    };
    Ok(FigureDays {
        tens: days("tens_days", &file.tens_days, 30)?,
        minutes: days("minutes_days", &file.minutes_days, 400)?,
    })
}

fn checkup_share(reader: &Reader<'_>, file: CheckupSection) -> Result<f64, SettingsError> {
    let cpu_percent = reader.number("checkup", "cpu_percent", file.cpu_percent, 0..=400, 25)?;
    Ok(f64::from(u32::try_from(cpu_percent).unwrap_or(0)) / 100.0)
}

fn recordings_floor(reader: &Reader<'_>, mib: Number) -> Result<u64, SettingsError> {
    reader.number("house", "recordings_floor_mib", mib, 0..=1 << 30, 512).map(|mib| mib << 20)
}

fn take_undo(reader: &Reader<'_>, seconds: Number) -> Result<Duration, SettingsError> {
    reader.number("house", "take_undo_s", seconds, 0..=2_592_000, 600).map(Duration::from_secs)
}

fn act_days(reader: &Reader<'_>, file: &PeopleSection) -> Result<u32, SettingsError> {
    let days = reader.number("people", "act_days", file.act_days.clone(), 1..=36_500, 400)?;
    Ok(u32::try_from(days).unwrap_or(u32::MAX))
}

fn audience(reader: &Reader<'_>, file: &LimitsSection) -> Result<AudienceLimits, SettingsError> {
    let viewers = reader.number("limits", "viewers", file.viewers.clone(), 1..=1_000_000, 5000)?;
    let uplink_kbps = reader.number("limits", "uplink_kbps", file.uplink_kbps.clone(), 0..=1_000_000_000, 0)?;
    Ok(AudienceLimits {
        viewers: u32::try_from(viewers).unwrap_or(u32::MAX),
        uplink_bps: (uplink_kbps > 0).then_some(uplink_kbps * 1000),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const SHIPPED: &str = include_str!("../../../../waverant.toml");

    fn parse(text: &str, variables: &[(&str, &str)]) -> Result<Settings, String> {
        let variables = variables.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned()));
        Settings::parse(Path::new("w.toml"), text, variables).map_err(|error| error.to_string())
    }

    #[test]
    fn the_shipped_file_holds_the_defaults() {
        let (shipped, empty) = (parse(SHIPPED, &[]).unwrap(), parse("", &[]).unwrap());
        assert_eq!(format!("{shipped:?}"), format!("{empty:?}"));
    }

    #[test]
    fn the_environment_wins_over_the_file() {
        let settings = parse("[listen]\nrtmp = \"127.0.0.1:1\"", &[("WAVERANT_LISTEN_RTMP", "127.0.0.1:2")]).unwrap();
        assert_eq!(settings.rtmp.port(), 2);
    }

    #[rstest]
    #[case::syntax("[listen]\nrtmp = \"0.0.0.0:1935", "w.toml:2:21: invalid basic string")]
    #[case::unknown_key(
        "[listen]\nrtpm = \"0.0.0.0:1935\"",
        "w.toml:2:1: unknown field `rtpm`, expected one of `rtmp`, `rtmps`, `srt`, `http`, `https`, `redirect`, `viewing`, `viewing_https`"
    )]
    #[case::unknown_section("[lisen]\n", "w.toml:1:2: unknown field `lisen`")]
    #[case::wrong_type("[limits]\nmessage_mib = \"4\"", "w.toml:2:15: invalid type: string \"4\", expected u64")]
    #[case::bad_address(
        "[listen]\nhttp = \"localhost\"",
        "w.toml:2:8: `localhost` is no address and port, as in 127.0.0.1:7800"
    )]
    #[case::out_of_range("\n[limits]\nidle_timeout_s = 0", "w.toml:3:18: 0 is not between 1 and 600")]
    #[case::bad_database(
        "[database]\nurl = \"postgres://x\"",
        "w.toml:2:7: `postgres` stands where `mysql://` was expected"
    )]
    #[case::certificate_without_its_key(
        "[tls]\ncertificate = \"a.pem\"",
        "w.toml:2:15: its private key is missing: set tls.key"
    )]
    #[case::names_missing(
        "[authority]\ndirectory = \"https://authority.example/\"",
        "w.toml:2:13: what the certificate is to be for is missing: set authority.names"
    )]
    #[case::terms_unread(
        "[authority]\ndirectory = \"https://authority.example/\"\nnames = \"relay.example\"",
        "w.toml:2:13: read the authority's terms"
    )]
    #[case::nothing_at_port_80(
        "[authority]\ndirectory = \"https://authority.example/\"\nnames = \"relay.example\"\nagrees_to_terms = true",
        "w.toml:2:13: it asks at port 80 (http-01), where nothing listens: set listen.redirect"
    )]
    #[case::half_a_binding(
        "[authority]\ndirectory = \"https://authority.example/\"\nnames = \"relay.example\"\nagrees_to_terms = true\nproof = \"tls-alpn-01\"\nbinding_id = \"7\"",
        "w.toml:2:13: authority.binding_id and authority.binding_key_file go together"
    )]
    #[case::certificate_twice(
        "[tls]\ncertificate = \"a.pem\"\n[authority]\ndirectory = \"https://authority.example/\"\nnames = \"relay.example\"\nagrees_to_terms = true\nproof = \"tls-alpn-01\"",
        "w.toml:2:15: [authority] has the certificate already"
    )]
    #[case::name_with_a_star(
        "[authority]\nnames = \"*.example\"",
        "w.toml:2:9: `*.example` is no name for a certificate"
    )]
    #[case::in_the_clear(
        "[authority]\ndirectory = \"http://a.example/\"",
        "w.toml:2:13: `http://a.example/` is no address of an authority"
    )]
    #[case::mail_from_nobody(
        "[mail]\nserver = \"mail.example\"",
        "w.toml:2:10: who mail is from is missing: set mail.from"
    )]
    #[case::mail_from_nowhere(
        "[mail]\nserver = \"mail.example\"\nfrom = \"harbour\"",
        "w.toml:3:8: `harbour` (Invalid input) stands where an address like"
    )]
    #[case::mail_security(
        "[mail]\nsecurity = \"ssl\"",
        "w.toml:2:12: `ssl` is none of \"tls\", \"starttls\" and \"none\""
    )]
    #[case::half_a_sign_in(
        "[mail]\nserver = \"mail.example\"\nfrom = \"a@b.example\"\nuser = \"a\"",
        "w.toml:2:10: mail.user and mail.password_file go together"
    )]
    #[case::answerer_without_its_secret(
        "[outside]\nanswerer = \"http://203.0.113.9:7899\"",
        "w.toml:2:12: the secret that it shares with this house is missing: set outside.secret_file"
    )]
    #[case::answerer_of_another_kind("[outside]\nanswerer = \"ftp://a\"", "w.toml:2:12: `ftp://a` begins otherwise")]
    #[case::bad_format("[log]\nformat = \"xml\"", "w.toml:2:10: `xml` is neither \"text\" nor \"json\"")]
    #[case::bad_level("[log]\nlevel = \"loud=loud\"", "w.toml:2:9: `loud=loud` is no log level")]
    fn errors_name_their_place(#[case] text: &str, #[case] expected: &str) {
        let error = parse(text, &[]).unwrap_err();
        assert!(error.starts_with(expected), "{error}");
    }

    #[test]
    fn a_bad_variable_is_named() {
        let error = parse("", &[("WAVERANT_LIMITS_MESSAGE_MIB", "many")]).unwrap_err();
        assert_eq!(error, "environment variable WAVERANT_LIMITS_MESSAGE_MIB: `many` is not a whole number");
    }

    #[test]
    fn an_unreadable_file_says_what_to_do() {
        let error = Settings::load(Path::new("/nowhere/w.toml"), []).unwrap_err().to_string();
        assert!(error.contains("/nowhere/w.toml") && error.contains("--settings"), "{error}");
    }
}
