use std::time::{Duration, Instant};

use clap::{Args, Subcommand, ValueEnum};
use indicatif::{ProgressBar, ProgressStyle};
use serde_json::{Value, json};

use super::recording::{Rules, told};
use super::srt::{self, SrtTerms};
use super::{number, rows, text};
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
    #[command(flatten)]
    srt: SrtTerms,
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
    #[command(flatten)]
    srt: SrtTerms,
    #[command(flatten)]
    recording: Rules,
}

impl Channel {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List => {
                let answer = client.get("/channels")?;
                let empty = "No channels yet. Add one: waverant channel add NAME";
                Ok(report.rows(&answer, rows(&answer), &columns(), empty)?)
            }
            Self::Add(form) => {
                let hold_ms = millis("--hold", form.hold)?;
                let recording = form.recording.body()?;
                let mut body =
                    json!({"name": form.name, "title": form.title, "hold_ms": hold_ms, "recording": recording});
                add_rules(&mut body, form.takeover, form.slate);
                body["srt"] = form.srt.body()?;
                let answer = client.call("POST", "/channels", Some(body))?;
                let next = format!("Channel `{0}` added. Make a key: waverant key add {0} LABEL", form.name);
                Ok(report.done(&answer, &next)?)
            }
            Self::Change(form) => {
                let hold_ms = millis("--hold", form.hold)?;
                let mut body = json!({"title": form.title, "hold_ms": hold_ms, "recording": form.recording.body()?});
                add_rules(&mut body, form.takeover, form.slate);
                body["srt"] = form.srt.body()?;
                let answer = client.call("PATCH", &format!("/channels/{}", piece(&form.channel)), Some(body))?;
                Ok(report.done(&answer, &format!("Channel `{}` changed.", form.channel))?)
            }
            Self::Remove { channel } => {
                let answer = client.call("DELETE", &format!("/channels/{}", piece(&channel)), None)?;
                Ok(report.done(&answer, &format!("Channel `{channel}` removed."))?)
            }
            Self::Send { channel, destination, switch, delay, start_after } => {
                let is_on = matches!(switch, Switch::On);
                let body = json!({
                    "is_on": is_on,
                    "delay_ms": millis("--delay", delay)?,
                    "start_after_ms": millis("--start-after", start_after)?,
                });
                let path = format!("/channels/{}/destinations/{}", piece(&channel), piece(&destination));
                let answer = client.call("PUT", &path, Some(body))?;
                let state = if is_on { "on" } else { "off" };
                Ok(report.done(&answer, &format!("`{channel}` to `{destination}` is {state}."))?)
            }
            Self::Unlink { channel, destination } => {
                let path = format!("/channels/{}/destinations/{}", piece(&channel), piece(&destination));
                let answer = client.call("DELETE", &path, None)?;
                Ok(report.done(&answer, &format!("`{channel}` is no longer sent to `{destination}`."))?)
            }
            Self::Rehearse(form) => rehearse(&client, &form, report),
            Self::End { channel } => {
                let answer = client.call("POST", &format!("/channels/{}/end-session", piece(&channel)), None)?;
                Ok(report.done(&answer, &format!("The session on `{channel}` is ended."))?)
            }
        }
    }
}

/// Names of rules as the API has them.
fn add_rules(body: &mut Value, takeover: Option<Takeover>, slate: Option<Slate>) {
    if let Some(takeover) = takeover {
        body["takeover"] = json!(match takeover {
            Takeover::Refuse => "refuse",
            Takeover::Replace => "replace",
        });
    }
    if let Some(slate) = slate {
        body["slate"] = json!(match slate {
            Slate::None => "none",
            Slate::BuiltIn => "built_in",
            Slate::Uploaded => "uploaded",
        });
    }
}

/// Holds a rehearsal, waits for its end and prints its report.
fn rehearse(client: &Client, form: &Rehearse, report: &mut Report<'_>) -> Result<(), Failure> {
    let path = format!("/channels/{}/rehearsals", piece(&form.channel));
    let body = json!({"seconds": form.seconds, "destinations": form.destinations});
    let begun = client.call("POST", &path, Some(body))?;
    let session = format!("/sessions/{}", text(&begun, "session"));
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
        let ended = client.get(&session).is_ok_and(|answer| !answer["session"]["ended_at"].is_null());
        if ended || began.elapsed() > patience {
            break;
        }
        std::thread::sleep(Duration::from_millis(250));
    }
    bar.finish_and_clear();
    let answer = client.get(&format!("{session}/report"))?;
    super::session::print_report(&answer, report)
}

fn millis(option: &str, seconds: Option<f64>) -> Result<Option<u64>, Failure> {
    let Some(seconds) = seconds else { return Ok(None) };
    if !(0.0..=86_400.0).contains(&seconds) {
        return Err(Failure::Usage(format!("{option}: {seconds} is not between 0 and 86400 seconds")));
    }
    Ok(Some(Duration::from_secs_f64(seconds).as_millis().try_into().unwrap_or(u64::MAX)))
}

fn columns() -> Vec<Column> {
    vec![
        Column::text("name", |row| text(row, "name")),
        Column::text("title", |row| text(row, "title")),
        Column::number("hold", |row| duration(number(row, "hold_ms"))),
        Column::text("recording", |row| told(&row["recording"])),
        Column::text("second encoder", |row| text(row, "takeover")),
        Column::text("slate", |row| text(row, "slate").replace('_', "-")),
        Column::text("SRT", |row| srt::told(&row["srt"])),
        Column::text("destinations", |row| destinations(&row["destinations"])),
    ]
}

fn destinations(list: &Value) -> String {
    let names = rows(list).iter().map(|row| {
        let mut notes = Vec::new();
        if row["is_on"] != true {
            notes.push("off".to_owned());
        }
        for (field, what) in [("delay_ms", "later"), ("start_after_ms", "after the start")] {
            if number(row, field) > 0.0 {
                notes.push(format!("{} {what}", duration(number(row, field))));
            }
        }
        let notes = if notes.is_empty() { String::new() } else { format!(" ({})", notes.join(", ")) };
        format!("{}{notes}", text(row, "destination"))
    });
    let names: Vec<String> = names.collect();
    if names.is_empty() { "-".to_owned() } else { names.join(", ") }
}
