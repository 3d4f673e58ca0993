use clap::ValueEnum;
use time::OffsetDateTime;
use waverant_model::{ChangeKey, KeyRules, KeyState, Moment, OpenHours, Protocol, ShowThen, StreamKey};

use super::Show;
use crate::commands::time_of;
use crate::error::Failure;
use crate::output::{moment, word};

/// When, from where and how a key opens, as options give it.
#[derive(clap::Args, Debug, Default)]
pub(super) struct Rules {
    /// When it begins to open, as in 2026-05-17T08:00:00Z.
    #[arg(long, value_parser = time_of)]
    starts_at: Option<OffsetDateTime>,
    /// When it stops being valid, as in 2026-05-17T18:00:00Z.
    #[arg(long, value_parser = time_of)]
    expires_at: Option<OffsetDateTime>,
    /// Hours of a week at which it opens, as in "mon-fri 08:00-18:00" or "sat 22:00-02:00"; may be given up to 14 times.
    #[arg(long, value_name = "DAYS HOURS", requires = "zone")]
    hours: Vec<String>,
    /// The time zone of the hours, by its IANA name, as in Europe/Lisbon.
    #[arg(long, requires = "hours")]
    zone: Option<String>,
    /// An address or network that it may be used from, as in 192.0.2.0/24; may be given up to eight times.
    #[arg(long, value_name = "ADDRESS")]
    allow_from: Vec<String>,
    /// A protocol over which it opens; may be given more than once. All if none is given.
    #[arg(long, value_enum)]
    protocol: Vec<Door>,
    /// How many may use it at once: for publishing 1, which turns a second encoder away instead of letting it take over;
    /// for watching the number of players.
    #[arg(long)]
    most_connections: Option<u32>,
    /// What becomes of a show that it let in, when its end comes or its hours are over.
    #[arg(long, value_enum)]
    show_when_over: Option<Show>,
}

/// A protocol.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Door {
    /// RTMP in the clear.
    Rtmp,
    /// RTMP over TLS.
    Rtmps,
    /// SRT.
    Srt,
}

/// What can be taken away from a key.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(super) enum Cleared {
    /// Its begin.
    StartsAt,
    /// Its end.
    ExpiresAt,
    /// Its hours.
    Hours,
    /// The addresses.
    AllowFrom,
    /// The protocols.
    Protocol,
    /// The number of connections.
    MostConnections,
    /// Its passphrase.
    Passphrase,
}

impl Cleared {
    pub(super) fn take_away(self, form: &mut ChangeKey) {
        match self {
            Self::StartsAt => form.starts_at = Some(None),
            Self::ExpiresAt => form.expires_at = Some(None),
            Self::Hours => form.hours = Some(None),
            Self::AllowFrom => form.allowed_from = Some(Vec::new()),
            Self::Protocol => form.protocols = Some(Vec::new()),
            Self::MostConnections => form.most_connections = Some(None),
            Self::Passphrase => form.passphrase = Some(String::new().into()),
        }
    }
}

impl Rules {
    fn open_hours(&self) -> Option<OpenHours> {
        let zone = self.zone.clone()?;
        Some(OpenHours { zone, windows: self.hours.clone() })
    }

    fn protocols(&self) -> Vec<Protocol> {
        let meant = |door: &Door| match door {
            Door::Rtmp => Protocol::Rtmp,
            Door::Rtmps => Protocol::Rtmps,
            Door::Srt => Protocol::Srt,
        };
        self.protocol.iter().map(meant).collect()
    }

    /// For a new key.
    pub(super) fn meant(self) -> Result<KeyRules, Failure> {
        Ok(KeyRules {
            hours: self.open_hours(),
            protocols: self.protocols(),
            starts_at: self.starts_at,
            expires_at: self.expires_at,
            allowed_from: self.allow_from,
            most_connections: self.most_connections,
            show_when_over: self.show_when_over.map_or(ShowThen::Ends, Show::meant),
        })
    }

    /// For one that is there: what is not said stays.
    pub(super) fn change(self) -> Result<ChangeKey, Failure> {
        let some = |list: Vec<String>| (!list.is_empty()).then_some(list);
        let protocols = self.protocols();
        Ok(ChangeKey {
            hours: self.open_hours().map(Some),
            protocols: (!protocols.is_empty()).then_some(protocols),
            starts_at: self.starts_at.map(|at| Some(Moment(at))),
            expires_at: self.expires_at.map(|at| Some(Moment(at))),
            allowed_from: some(self.allow_from),
            most_connections: self.most_connections.map(Some),
            show_when_over: self.show_when_over.map(Show::meant),
            ..ChangeKey::default()
        })
    }
}

/// Whether a key opens now, in a few words.
pub(super) fn state(key: &StreamKey) -> String {
    let turn = key.turns_at.map(moment);
    match (key.state, turn) {
        (KeyState::Open, None) => "open".to_owned(),
        (KeyState::Open, Some(turn)) => format!("open until {turn}"),
        (KeyState::Early | KeyState::OutOfHours, Some(turn)) => format!("opens at {turn}"),
        (KeyState::Early | KeyState::OutOfHours | KeyState::Expired, _) => "over".to_owned(),
        (KeyState::Retired, _) => {
            let at = key.retired.as_ref().map_or_else(String::new, |retired| format!(" {}", moment(retired.at)));
            format!("retired{at}")
        }
    }
}

/// What binds a key, in a few words.
pub(super) fn told(key: &StreamKey) -> String {
    let rules = &key.rules;
    let mut told = Vec::new();
    if let Some(hours) = &rules.hours {
        told.push(format!("{} ({})", hours.windows.join(", "), hours.zone));
    }
    if !rules.allowed_from.is_empty() {
        told.push(format!("from {}", rules.allowed_from.join(", ")));
    }
    if !rules.protocols.is_empty() {
        let names: Vec<String> = rules.protocols.iter().map(word).collect();
        told.push(format!("over {}", names.join(", ")));
    }
    if let Some(most) = rules.most_connections {
        told.push(format!("{most} at a time"));
    }
    if key.has_passphrase {
        told.push("own passphrase".to_owned());
    }
    if rules.show_when_over == ShowThen::GoesOn {
        told.push("show goes on".to_owned());
    }
    if let Some(first) = key.stands_for {
        told.push(format!("renews key {first}"));
    }
    if let Some(until) = key.guest_link_until {
        told.push(format!("guest's link until {}", moment(until)));
    }
    if told.is_empty() { "-".to_owned() } else { told.join("; ") }
}
