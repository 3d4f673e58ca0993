use clap::{Args, Subcommand, ValueEnum};
use serde_json::{Value, json};

use super::{number, rows, text};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, duration};

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
    },
    /// Take a destination from a channel.
    Unlink {
        /// The channel.
        channel: String,
        /// The destination.
        destination: String,
    },
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
    /// Do not record sessions.
    #[arg(long)]
    no_recording: bool,
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
    /// Whether sessions are recorded.
    #[arg(long)]
    records: Option<bool>,
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
                let body = json!({"name": form.name, "title": form.title, "hold_ms": millis(form.hold)?, "records": !form.no_recording});
                let answer = client.call("POST", "/channels", Some(body))?;
                let next = format!("Channel `{0}` added. Make a key: waverant key add {0} LABEL", form.name);
                Ok(report.done(&answer, &next)?)
            }
            Self::Change(form) => {
                let body = json!({"title": form.title, "hold_ms": millis(form.hold)?, "records": form.records});
                let answer = client.call("PATCH", &format!("/channels/{}", piece(&form.channel)), Some(body))?;
                Ok(report.done(&answer, &format!("Channel `{}` changed.", form.channel))?)
            }
            Self::Remove { channel } => {
                let answer = client.call("DELETE", &format!("/channels/{}", piece(&channel)), None)?;
                Ok(report.done(&answer, &format!("Channel `{channel}` removed."))?)
            }
            Self::Send { channel, destination, switch } => {
                let is_on = matches!(switch, Switch::On);
                let path = format!("/channels/{}/destinations/{}", piece(&channel), piece(&destination));
                let answer = client.call("PUT", &path, Some(json!({ "is_on": is_on })))?;
                let state = if is_on { "on" } else { "off" };
                Ok(report.done(&answer, &format!("`{channel}` to `{destination}` is {state}."))?)
            }
            Self::Unlink { channel, destination } => {
                let path = format!("/channels/{}/destinations/{}", piece(&channel), piece(&destination));
                let answer = client.call("DELETE", &path, None)?;
                Ok(report.done(&answer, &format!("`{channel}` is no longer sent to `{destination}`."))?)
            }
            Self::End { channel } => {
                let answer = client.call("POST", &format!("/channels/{}/end-session", piece(&channel)), None)?;
                Ok(report.done(&answer, &format!("The session on `{channel}` is ended."))?)
            }
        }
    }
}

fn millis(seconds: Option<f64>) -> Result<Option<u64>, Failure> {
    let Some(seconds) = seconds else { return Ok(None) };
    if !(0.0..=86_400.0).contains(&seconds) {
        return Err(Failure::Usage(format!("--hold: {seconds} is not between 0 and 86400 seconds")));
    }
    Ok(Some(std::time::Duration::from_secs_f64(seconds).as_millis().try_into().unwrap_or(u64::MAX)))
}

fn columns() -> Vec<Column> {
    vec![
        Column::text("name", |row| text(row, "name")),
        Column::text("title", |row| text(row, "title")),
        Column::number("hold", |row| duration(number(row, "hold_ms"))),
        Column::text("records", |row| text(row, "records")),
        Column::text("destinations", |row| destinations(&row["destinations"])),
    ]
}

fn destinations(list: &Value) -> String {
    let names = rows(list).iter().map(|row| {
        let off = if row["is_on"] == true { "" } else { " (off)" };
        format!("{}{off}", text(row, "destination"))
    });
    let names: Vec<String> = names.collect();
    if names.is_empty() { "-".to_owned() } else { names.join(", ") }
}
