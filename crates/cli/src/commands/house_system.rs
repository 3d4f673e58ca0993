use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use waverant_model::{
    Hidden, HouseSystem as Told, HouseSystemRules, HouseSystemSet, HouseSystemState, HouseSystemTry, KeyRight,
    Protocol, SetHouseSystem, TryHouseSystem, UnknownKeys, WhenSilent,
};

use super::ask::secret;
use super::dash;
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report};

#[derive(Subcommand, Debug)]
pub(super) enum HouseSystem {
    /// The system that is asked before somebody is let in, and how it does.
    Show(Place),
    /// Have a system asked, in the place of the one that was; what is left out is as it comes.
    Set(Set),
    /// Ask about somebody made up, and show question and answer.
    Try(Try),
    /// Ask it no more.
    Remove(Place),
}

#[derive(Args, Debug)]
pub(super) struct Place {
    /// The system of this channel alone; left out: that of the whole house.
    #[arg(long)]
    channel: Option<String>,
}

impl Place {
    fn path(&self) -> String {
        match &self.channel {
            Some(channel) => format!("/channels/{}/house-system", piece(channel)),
            None => "/house-system".to_owned(),
        }
    }
}

#[derive(Args, Debug)]
pub(super) struct Set {
    /// Where it answers: https://host/path, or http:// in a network that you trust.
    address: String,
    #[command(flatten)]
    place: Place,
    /// Do not ask it for now; of a channel: ask nobody for that channel.
    #[arg(long)]
    off: bool,
    /// Ask about players with a viewing key too.
    #[arg(long)]
    players: bool,
    /// Ask about players only.
    #[arg(long, conflicts_with = "players")]
    players_only: bool,
    /// What it hears of keys that are not known here.
    #[arg(long, value_enum, default_value_t = UnknownWord::NotAsked)]
    unknown_keys: UnknownWord,
    /// Who is let in while it does not answer.
    #[arg(long, value_enum, default_value_t = SilentWord::Closed)]
    when_silent: SilentWord,
    /// How long a question may take with all its tries, in milliseconds: 200 to 8000.
    #[arg(long, value_name = "MS", default_value_t = 3000)]
    time_limit: u32,
    /// How often it is asked once more when it could not be asked: at most 3.
    #[arg(long, value_name = "COUNT", default_value_t = 1)]
    retries: u8,
    /// Ask every so many minutes whether somebody may stay.
    #[arg(long, value_name = "MINUTES")]
    again: Option<u32>,
    /// A file that holds the secret which questions are signed with (whsec_…); left out: the one that is there, or a
    /// new one.
    #[arg(long, value_name = "FILE", conflicts_with = "new_secret")]
    secret_file: Option<PathBuf>,
    /// Have another secret made.
    #[arg(long)]
    new_secret: bool,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
enum UnknownWord {
    /// It is not asked about them.
    NotAsked,
    /// Their first characters.
    Prefix,
    /// Their HMAC-SHA-256.
    Digest,
    /// The keys themselves; only over TLS, or on that machine.
    Whole,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
enum SilentWord {
    /// Nobody.
    Closed,
    /// Whoever has a key that is known here.
    KnownKeys,
}

#[derive(Args, Debug)]
pub(super) struct Try {
    #[command(flatten)]
    place: Place,
    /// It wants to watch, not to publish.
    #[arg(long)]
    view: bool,
    /// It comes over SRT, not over RTMP.
    #[arg(long)]
    srt: bool,
    /// Where it comes from.
    #[arg(long)]
    address: Option<String>,
    /// For whom its key was made.
    #[arg(long)]
    label: Option<String>,
    /// The channel of its key, where the system of the house is tried.
    #[arg(long, value_name = "CHANNEL")]
    of: Option<String>,
    /// A file with a key that is not known here, in the place of label and channel.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["label", "of"])]
    unknown_key_file: Option<PathBuf>,
}

impl HouseSystem {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::Show(place) => show(&client, &place, report),
            Self::Set(form) => set(&client, form, report),
            Self::Try(form) => try_out(&client, form, report),
            Self::Remove(place) => {
                client.order::<()>("DELETE", &place.path())?;
                Ok(report.done(&(), "It is asked no more.")?)
            }
        }
    }
}

fn show(client: &Client, place: &Place, report: &mut Report<'_>) -> Result<(), Failure> {
    let state: HouseSystemState = client.get(&place.path())?;
    let of = |system: &Option<Told>, whose: &'static str| system.clone().map(|system| (whose, system));
    let own = if place.channel.is_some() { "channel" } else { "house" };
    let rows: Vec<(&str, Told)> =
        [of(&state.system, own), of(&state.of_house, "house")].into_iter().flatten().collect();
    let empty = "Nobody is asked: keys alone decide. Have a system asked: waverant house-system set ADDRESS";
    Ok(report.rows(&state, &rows, &columns(), empty)?)
}

fn columns() -> [Column<(&'static str, Told)>; 7] {
    [
        Column::text("of", |(whose, _)| (*whose).to_owned()),
        Column::text("asked", |(_, told)| if told.rules.is_on { "yes" } else { "no" }.to_owned()),
        Column::text("address", |(_, told)| told.rules.address.clone()),
        Column::text("about", |(_, told)| about(&told.rules)),
        Column::text("while silent", |(_, told)| match told.rules.when_silent {
            WhenSilent::Closed => "closed".to_owned(),
            WhenSilent::KnownKeys => "known keys".to_owned(),
        }),
        Column::text("answers", |(_, told)| {
            let condition = &told.condition;
            let took = condition.took_ms.map_or_else(|| "-".to_owned(), |took| format!("last in {took} ms"));
            format!("{} of {}, {took}", condition.asked - condition.silent, condition.asked)
        }),
        Column::text("last silence", |(_, told)| dash(told.condition.silence.as_deref())),
    ]
}

fn about(rules: &HouseSystemRules) -> String {
    let who = match (rules.publishers, rules.players) {
        (true, true) => "publishers, players",
        (false, true) => "players",
        _ => "publishers",
    };
    let unknown = match rules.unknown_keys {
        UnknownKeys::NotAsked => "",
        UnknownKeys::Prefix => "; unknown keys by prefix",
        UnknownKeys::Digest => "; unknown keys by digest",
        UnknownKeys::Whole => "; unknown keys",
    };
    format!("{who}{unknown}")
}

fn set(client: &Client, form: Set, report: &mut Report<'_>) -> Result<(), Failure> {
    let rules = HouseSystemRules {
        address: form.address,
        is_on: !form.off,
        publishers: !form.players_only,
        players: form.players || form.players_only,
        unknown_keys: match form.unknown_keys {
            UnknownWord::NotAsked => UnknownKeys::NotAsked,
            UnknownWord::Prefix => UnknownKeys::Prefix,
            UnknownWord::Digest => UnknownKeys::Digest,
            UnknownWord::Whole => UnknownKeys::Whole,
        },
        when_silent: match form.when_silent {
            SilentWord::Closed => WhenSilent::Closed,
            SilentWord::KnownKeys => WhenSilent::KnownKeys,
        },
        time_limit_ms: form.time_limit,
        retries: form.retries,
        again_s: form.again.map(|minutes| minutes.saturating_mul(60)),
    };
    let secret = form.secret_file.as_deref().map(|file| secret("Secret", "--secret-file", Some(file)));
    let secret = secret.transpose()?;
    let body = SetHouseSystem { rules, secret: secret.map(Hidden::from), renews_secret: form.new_secret };
    let set: HouseSystemSet = client.call("PUT", &form.place.path(), &body)?;
    let mut told = format!("{} is asked. Try it: waverant house-system try", set.system.rules.address);
    if let Some(channel) = &form.place.channel {
        told.push_str(&format!(" --channel {channel}"));
    }
    if let Some(secret) = &set.secret {
        told.push_str(&format!(
            "\n\nQuestions are signed with this secret, which is shown this once. Give it to the system:\n\n  {secret}"
        ));
    }
    Ok(report.done(&set, &told)?)
}

fn try_out(client: &Client, form: Try, report: &mut Report<'_>) -> Result<(), Failure> {
    let unknown = form.unknown_key_file.as_deref().map(|file| secret("Key", "--unknown-key-file", Some(file)));
    let unknown = unknown.transpose()?;
    let body = TryHouseSystem {
        right: if form.view { KeyRight::View } else { KeyRight::Publish },
        protocol: Some(if form.srt { Protocol::Srt } else { Protocol::Rtmp }),
        address: form.address,
        label: form.label,
        channel: form.of,
        unknown_key: unknown.map(Hidden::from),
    };
    let tried: HouseSystemTry = client.call("POST", &format!("{}/try", form.place.path()), &body)?;
    let mut told = format!("POST {}\n", tried.address);
    for header in &tried.headers {
        told.push_str(&format!("{}: {}\n", header.name, header.value));
    }
    told.push_str(&format!("\n{}\n\n", tried.question));
    if let Some(answer) = &tried.answer {
        told.push_str(&format!(
            "{} after {} ms, {}\n",
            answer.status,
            answer.took_ms,
            dash(answer.content_type.as_deref())
        ));
        if !answer.body.trim().is_empty() {
            told.push_str(&format!("\n{}\n", answer.body.trim()));
        }
        told.push('\n');
    }
    if tried.is_good {
        told.push_str(&tried.meaning);
        return Ok(report.done(&tried, &told)?);
    }
    report.done(&tried, told.trim_end())?;
    Err(Failure::Job(tried.meaning.clone()))
}
