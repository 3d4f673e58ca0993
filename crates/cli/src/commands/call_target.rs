use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use waverant_model::{
    AddCallTarget, CallFormat, CallTarget as Told, CallTargetSet, CallTargetTry, CallTargets, ChangeCallTarget, Hidden,
};

use super::ask::secret;
use super::dash;
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, moment};

#[derive(Subcommand, Debug)]
pub(super) enum CallTarget {
    /// Who is told what happens, and how each does.
    List,
    /// Of what one can be told.
    Kinds,
    /// Have another system or people told what happens.
    Add(Add),
    /// Change who is told what.
    Change(Change),
    /// Tell one at once that this is a test; show the call and what came back.
    Try {
        /// Its name.
        name: String,
    },
    /// Tell one nothing more; what waits for it is forgotten.
    Remove {
        /// Its name.
        name: String,
    },
}

/// Where it is told.
#[derive(Args, Debug)]
struct Where {
    /// Where it is told: https://…, http://… in a network that you trust, or mailto: and people with commas between.
    #[arg(long, conflicts_with = "address_file")]
    address: Option<String>,
    /// Read that from a file, where a secret stands in it; `-` is standard input.
    #[arg(long, value_name = "FILE")]
    address_file: Option<PathBuf>,
}

impl Where {
    fn address(&self) -> Result<Option<Hidden>, Failure> {
        match (&self.address, &self.address_file) {
            (Some(address), _) => Ok(Some(address.clone().into())),
            (None, Some(file)) => secret("Address", "--address-file", Some(file)).map(|text| Some(text.into())),
            (None, None) => Ok(None),
        }
    }
}

/// How it is told.
#[derive(Args, Debug)]
struct How {
    /// Send a text of your own in the place of events; this file has it, with places as {{ text }}.
    #[arg(long, value_name = "FILE")]
    text_file: Option<PathBuf>,
    /// What that text is.
    #[arg(long, value_enum, requires = "text_file", default_value_t = Content::Json)]
    text_is: Content,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
enum Content {
    /// JSON: each place is written as JSON, a text with its quotes.
    Json,
    /// Plain text.
    Plain,
}

impl How {
    fn format(&self) -> Result<Option<CallFormat>, Failure> {
        let Some(path) = &self.text_file else { return Ok(None) };
        let template = secret("Text", "--text-file", Some(path))?;
        let content_type = match self.text_is {
            Content::Json => "application/json",
            Content::Plain => "text/plain",
        };
        Ok(Some(CallFormat::Text { content_type: content_type.to_owned(), template }))
    }
}

#[derive(Args, Debug)]
pub(super) struct Add {
    /// Its name.
    name: String,
    #[command(flatten)]
    place: Where,
    /// Tell it of this, as in session.begins; once for each. See `call-target kinds`.
    #[arg(long = "tell", value_name = "KIND", required_unless_present = "tell_all")]
    tell: Vec<String>,
    /// Tell it of everything.
    #[arg(long, conflicts_with = "tell")]
    tell_all: bool,
    /// Tell it only what happens in this channel.
    #[arg(long)]
    channel: Option<String>,
    #[command(flatten)]
    how: How,
    /// A file that holds the secret which calls are signed with (whsec_…); left out: a new one.
    #[arg(long, value_name = "FILE")]
    secret_file: Option<PathBuf>,
}

#[derive(Args, Debug)]
pub(super) struct Change {
    /// Its name.
    name: String,
    /// Call it otherwise.
    #[arg(long, value_name = "NAME")]
    rename: Option<String>,
    #[command(flatten)]
    place: Where,
    /// Tell it of this alone; once for each.
    #[arg(long = "tell", value_name = "KIND")]
    tell: Vec<String>,
    /// Tell it only what happens in this channel; empty: in all, and in the house.
    #[arg(long)]
    channel: Option<String>,
    #[command(flatten)]
    how: How,
    /// Send it events again, not a text of your own.
    #[arg(long, conflicts_with = "text_file")]
    events: bool,
    /// Whether it is told at all.
    #[arg(long, value_name = "BOOL")]
    on: Option<bool>,
    /// A file that holds the secret which calls are signed with.
    #[arg(long, value_name = "FILE", conflicts_with = "new_secret")]
    secret_file: Option<PathBuf>,
    /// Have another secret made.
    #[arg(long)]
    new_secret: bool,
}

impl CallTarget {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List => list(&client, report),
            Self::Kinds => kinds(&client, report),
            Self::Add(form) => add(&client, form, report),
            Self::Change(form) => change(&client, form, report),
            Self::Try { name } => try_out(&client, &name, report),
            Self::Remove { name } => {
                client.order::<()>("DELETE", &path(&name))?;
                Ok(report.done(&(), &format!("{name} is told nothing more."))?)
            }
        }
    }
}

fn path(name: &str) -> String {
    format!("/call-targets/{}", piece(name))
}

fn list(client: &Client, report: &mut Report<'_>) -> Result<(), Failure> {
    let all: CallTargets = client.get("/call-targets")?;
    let columns = [
        Column::text("name", |told: &Told| told.name.clone()),
        Column::text("told", |told: &Told| if told.is_on { "yes" } else { "no" }.to_owned()),
        Column::text("address", |told: &Told| told.address.clone()),
        Column::text("channel", |told: &Told| told.channel.clone().unwrap_or_else(|| "all".to_owned())),
        Column::text("of", |told: &Told| told.kinds.join(" ")),
        Column::text("waiting", |told: &Told| told.waiting.to_string()),
        Column::text("condition", condition),
    ];
    let empty = "Nobody is told. Have somebody told: waverant call-target add NAME --address URL --tell session.begins";
    Ok(report.rows(&all, &all.items, &columns, empty)?)
}

fn condition(told: &Told) -> String {
    match (told.failing_since, told.took_at) {
        (Some(since), _) => format!("takes nothing since {}: {}", moment(since), dash(told.fault.as_deref())),
        (None, Some(at)) => format!("took the last at {}", moment(at)),
        (None, None) => "-".to_owned(),
    }
}

fn kinds(client: &Client, report: &mut Report<'_>) -> Result<(), Failure> {
    let all: CallTargets = client.get("/call-targets")?;
    let columns = [
        Column::text("kind", |kind: &waverant_model::OccurrenceWord| kind.kind.clone()),
        Column::text("means", |kind: &waverant_model::OccurrenceWord| kind.meaning.clone()),
    ];
    Ok(report.rows(&all.kinds, &all.kinds, &columns, "Nothing.")?)
}

fn add(client: &Client, form: Add, report: &mut Report<'_>) -> Result<(), Failure> {
    let missing = || Failure::Usage("the address is missing: give --address or --address-file".to_owned());
    let kinds = if form.tell_all {
        let all: CallTargets = client.get("/call-targets")?;
        all.kinds.into_iter().map(|kind| kind.kind).collect()
    } else {
        form.tell
    };
    let body = AddCallTarget {
        name: form.name,
        address: form.place.address()?.ok_or_else(missing)?,
        channel: form.channel,
        kinds,
        is_on: true,
        format: form.how.format()?.unwrap_or_default(),
        secret: own_secret(form.secret_file)?,
    };
    let set: CallTargetSet = client.call("POST", "/call-targets", &body)?;
    let mut told = format!("{} is told. Try it: waverant call-target try {}", set.target.name, piece(&set.target.name));
    told.push_str(&shown_once(&set));
    Ok(report.done(&set, &told)?)
}

fn change(client: &Client, form: Change, report: &mut Report<'_>) -> Result<(), Failure> {
    let format = if form.events { Some(CallFormat::Event) } else { form.how.format()? };
    let body = ChangeCallTarget {
        name: form.rename,
        address: form.place.address()?,
        channel: form.channel,
        kinds: Some(form.tell).filter(|kinds| !kinds.is_empty()),
        is_on: form.on,
        format,
        secret: own_secret(form.secret_file)?,
        renews_secret: form.new_secret,
    };
    let set: CallTargetSet = client.call("PATCH", &path(&form.name), &body)?;
    let told = format!("{} is changed.{}", set.target.name, shown_once(&set));
    Ok(report.done(&set, &told)?)
}

fn own_secret(file: Option<PathBuf>) -> Result<Option<Hidden>, Failure> {
    file.map(|file| secret("Secret", "--secret-file", Some(&file)).map(Hidden::from)).transpose()
}

fn shown_once(set: &CallTargetSet) -> String {
    let Some(secret) = &set.secret else { return String::new() };
    format!("\n\nCalls are signed with this secret, which is shown this once. Give it to the system:\n\n  {secret}")
}

fn try_out(client: &Client, name: &str, report: &mut Report<'_>) -> Result<(), Failure> {
    let tried: CallTargetTry = client.order("POST", &format!("{}/try", path(name)))?;
    let mut told = tried.request.as_ref().map(super::delivery::call_of).unwrap_or_default();
    if let Some(answer) = &tried.answer {
        told.push_str(&format!("{} after {} ms\n", answer.status, answer.took_ms));
        if !answer.body.trim().is_empty() {
            told.push_str(&format!("\n{}\n", answer.body.trim()));
        }
        told.push('\n');
    }
    match &tried.fault {
        Some(fault) => {
            report.done(&tried, told.trim_end())?;
            Err(Failure::Job(format!("It is not taken: {fault}.")))
        }
        None => Ok(report.done(&tried, &format!("{told}Taken."))?),
    }
}
