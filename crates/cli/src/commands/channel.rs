use std::time::{Duration, Instant};

use clap::{Args, Subcommand, ValueEnum};
use indicatif::{ProgressBar, ProgressStyle};
use waverant_model::{
    AddChannel, BeginRehearsal, ChangeChannel, ChangeSending, Channel as Kept, ChannelDestination, Rehearsal,
    SessionDetail, SlateChoice,
};

use super::recording::{Rules, told};
use super::srt::{self, SrtTerms};
use super::viewing::ViewingRules;
use super::{dash, millis, word};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, duration};

/// How much longer than it lasts a rehearsal is waited for.
const REHEARSAL_PATIENCE: Duration = Duration::from_secs(20);

#[derive(Subcommand, Debug)]
pub(super) enum Channel {
    /// List channels.
    List,
    /// Add a channel.
    Add(Add),
    /// Change a channel.
    Change(Change),
    /// Remove a channel with its keys; its sessions and takes stay.
    Remove {
        /// The channel.
        channel: String,
    },
    /// Send a channel's sessions to a destination, or stop it; in mid-show too.
    Send {
        /// The channel.
        channel: String,
        /// The destination.
        destination: String,
        /// On or off.
        switch: Switch,
        /// How much later than the source, in seconds, up to 300.
        #[arg(long)]
        delay: Option<f64>,
        /// How much later than the show it starts, in seconds, up to 3600.
        #[arg(long)]
        start_after: Option<f64>,
    },
    /// Take a destination from a channel.
    Unlink {
        /// The channel.
        channel: String,
        /// The destination.
        destination: String,
    },
    /// Run a channel on the built-in test picture, and print the report of it.
    Rehearse(Rehearse),
    /// End the session that is on air.
    End {
        /// The channel.
        channel: String,
    },
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(super) enum Switch {
    /// Send.
    On,
    /// Do not send.
    Off,
}

#[derive(Args, Debug)]
pub(super) struct Add {
    /// Name in addresses: small letters, digits and hyphens.
    name: String,
    /// What people read.
    #[arg(long)]
    title: Option<String>,
    /// How long a session waits for a lost publisher, in seconds.
    #[arg(long)]
    hold: Option<f64>,
    /// What becomes of a second encoder.
    #[arg(long)]
    takeover: Option<Takeover>,
    /// What is sent while a session waits for its encoder. Upload a clip with `slate upload`.
    #[arg(long)]
    slate: Option<Slate>,
    /// The loudness that its sound is to have, in LUFS, as in -16; 0 is for none.
    #[arg(long, value_name = "LUFS", allow_negative_numbers = true)]
    loudness: Option<i8>,
    #[command(flatten)]
    srt: SrtTerms,
    #[command(flatten)]
    viewing: ViewingRules,
    #[command(flatten)]
    recording: Rules,
}

/// What becomes of a second encoder with a key of the same rank.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(super) enum Takeover {
    /// It is turned away.
    Refuse,
    /// It takes the place of the first.
    Replace,
}

/// What is sent while a session waits for its encoder.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(super) enum Slate {
    /// Nothing.
    None,
    /// The built-in holding picture.
    BuiltIn,
    /// The uploaded clip.
    Uploaded,
}

#[derive(Args, Debug)]
pub(super) struct Rehearse {
    /// The channel.
    channel: String,
    /// How long, in seconds.
    #[arg(long, default_value_t = 20)]
    seconds: u32,
    /// Really send it to this destination; may be given several times. Without it, the built-in
    /// sink takes it.
    #[arg(long = "to", value_name = "DESTINATION")]
    destinations: Vec<String>,
}

#[derive(Args, Debug)]
pub(super) struct Change {
    /// The channel.
    channel: String,
    /// What people read.
    #[arg(long)]
    title: Option<String>,
    /// How long a session waits for a lost publisher, in seconds.
    #[arg(long)]
    hold: Option<f64>,
    /// What becomes of a second encoder; in mid-show too.
    #[arg(long)]
    takeover: Option<Takeover>,
    /// What is sent while a session waits for its encoder; in mid-show too.
    #[arg(long)]
    slate: Option<Slate>,
    /// The loudness that its sound is to have, in LUFS, as in -16; 0 is for none.
    #[arg(long, value_name = "LUFS", allow_negative_numbers = true)]
    loudness: Option<i8>,
    #[command(flatten)]
    srt: SrtTerms,
    #[command(flatten)]
    viewing: ViewingRules,
    #[command(flatten)]
    recording: Rules,
}

impl Channel {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List => {
                let channels: Vec<Kept> = client.get("/channels")?;
                let empty = "No channels yet. Add one: waverant channel add NAME";
                Ok(report.rows(&channels, &channels, &columns(), empty)?)
            }
            Self::Add(form) => {
                let made: Kept = client.call("POST", "/channels", &form.form()?)?;
                let next = format!("Channel `{0}` added. Make a key: waverant key add {0} LABEL", made.name);
                Ok(report.done(&made, &next)?)
            }
            Self::Change(form) => {
                let path = format!("/channels/{}", piece(&form.channel));
                let changed: Kept = client.call("PATCH", &path, &form.form()?)?;
                Ok(report.done(&changed, &format!("Channel `{}` changed.", form.channel))?)
            }
            Self::Remove { channel } => {
                client.order::<()>("DELETE", &format!("/channels/{}", piece(&channel)))?;
                Ok(report.done(&(), &format!("Channel `{channel}` removed."))?)
            }
            Self::Send { channel, destination, switch, delay, start_after } => {
                let is_on = matches!(switch, Switch::On);
                let form = ChangeSending {
                    is_on: Some(is_on),
                    delay_ms: millis("--delay", delay)?,
                    start_after_ms: millis("--start-after", start_after)?,
                };
                let path = format!("/channels/{}/destinations/{}", piece(&channel), piece(&destination));
                let changed: Kept = client.call("PUT", &path, &form)?;
                let state = if is_on { "on" } else { "off" };
                Ok(report.done(&changed, &format!("`{channel}` to `{destination}` is {state}."))?)
            }
            Self::Unlink { channel, destination } => {
                let path = format!("/channels/{}/destinations/{}", piece(&channel), piece(&destination));
                client.order::<()>("DELETE", &path)?;
                Ok(report.done(&(), &format!("`{channel}` is no longer sent to `{destination}`."))?)
            }
            Self::Rehearse(form) => rehearse(&client, &form, report),
            Self::End { channel } => {
                client.order::<()>("POST", &format!("/channels/{}/end-session", piece(&channel)))?;
                Ok(report.done(&(), &format!("The session on `{channel}` is ended."))?)
            }
        }
    }
}

impl Add {
    fn form(&self) -> Result<AddChannel, Failure> {
        Ok(AddChannel {
            name: self.name.clone(),
            title: self.title.clone(),
            hold_ms: millis("--hold", self.hold)?,
            recording: self.recording.change()?,
            takeover: self.takeover.map(Takeover::choice).unwrap_or_default(),
            slate: self.slate.map(Slate::choice).unwrap_or_default(),
            loudness_lufs: self.loudness.unwrap_or(0),
            srt: self.srt.change()?,
            viewing: self.viewing.change()?,
        })
    }
}

impl Change {
    fn form(&self) -> Result<ChangeChannel, Failure> {
        Ok(ChangeChannel {
            title: self.title.clone(),
            hold_ms: millis("--hold", self.hold)?,
            recording: self.recording.change()?,
            takeover: self.takeover.map(Takeover::choice),
            slate: self.slate.map(Slate::choice),
            loudness_lufs: self.loudness,
            srt: self.srt.change()?,
            viewing: self.viewing.change()?,
        })
    }
}

impl Takeover {
    fn choice(self) -> waverant_model::Takeover {
        match self {
            Self::Refuse => waverant_model::Takeover::Refuse,
            Self::Replace => waverant_model::Takeover::Replace,
        }
    }
}

impl Slate {
    fn choice(self) -> SlateChoice {
        match self {
            Self::None => SlateChoice::None,
            Self::BuiltIn => SlateChoice::BuiltIn,
            Self::Uploaded => SlateChoice::Uploaded,
        }
    }
}

/// Holds a rehearsal, waits for its end and prints its report.
fn rehearse(client: &Client, form: &Rehearse, report: &mut Report<'_>) -> Result<(), Failure> {
    let path = format!("/channels/{}/rehearsals", piece(&form.channel));
    let wanted = BeginRehearsal { seconds: Some(form.seconds), destinations: form.destinations.clone() };
    let begun: Rehearsal = client.call("POST", &path, &wanted)?;
    let session = format!("/sessions/{}", begun.session);
    let bar = ProgressBar::new(form.seconds.into());
    bar.set_style(
        ProgressStyle::with_template("rehearsing {bar:30} {pos} of {len} s")
            .unwrap_or_else(|_| ProgressStyle::default_bar()),
    );
    let began = Instant::now();
    let patience = Duration::from_secs(form.seconds.into()) + REHEARSAL_PATIENCE;
    loop {
        bar.set_position(began.elapsed().as_secs().min(form.seconds.into()));
        // The session is in the records a moment after it began.
        let ended = client.get(&session).is_ok_and(|found: SessionDetail| found.session.ended_at.is_some());
        if ended || began.elapsed() > patience {
            break;
        }
        std::thread::sleep(Duration::from_millis(250));
    }
    bar.finish_and_clear();
    super::session::print_report(&client.get(&format!("{session}/report"))?, report)
}

fn columns() -> [Column<Kept>; 8] {
    [
        Column::text("name", |row| row.name.clone()),
        Column::text("title", |row| dash(Some(&row.title))),
        Column::number("hold", |row| duration(row.hold_ms)),
        Column::text("recording", |row| told(&row.recording)),
        Column::text("second encoder", |row| word(row.takeover)),
        Column::text("slate", |row| word(row.slate).replace('_', "-")),
        Column::text("SRT", |row| srt::told(&row.srt)),
        Column::text("destinations", |row| destinations(&row.destinations)),
    ]
}

fn destinations(list: &[ChannelDestination]) -> String {
    let names = list.iter().map(|row| {
        let mut notes = Vec::new();
        if !row.is_on {
            notes.push("off".to_owned());
        }
        for (millis, what) in [(row.delay_ms, "later"), (row.start_after_ms, "after the start")] {
            if millis > 0 {
                notes.push(format!("{} {what}", duration(millis)));
            }
        }
        let notes = if notes.is_empty() { String::new() } else { format!(" ({})", notes.join(", ")) };
        format!("{}{notes}", row.destination)
    });
    dash(Some(&names.collect::<Vec<_>>().join(", ")))
}
