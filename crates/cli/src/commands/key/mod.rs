mod fields;
mod list;
mod rules;

use std::path::PathBuf;

use clap::{Subcommand, ValueEnum};
use time::OffsetDateTime;
use waverant_model::{AddKey, AddKeys, ChangeKey, KeyRight, NewKey, RenewKey, RetireKey, ShowThen, StreamKey};

use super::ask::secret;
use super::time_of;
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, moment};

use fields::{QrField, show_made};
use rules::{Cleared, Rules};

/// What a key opens a channel for.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(super) enum Right {
    /// Publishing on the channel.
    Publish,
    /// Watching it over RTMP and SRT.
    View,
}

/// What becomes of a show.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(super) enum Show {
    /// It is ended.
    Ends,
    /// It goes on.
    GoesOn,
}

impl Show {
    fn meant(self) -> ShowThen {
        match self {
            Self::Ends => ShowThen::Ends,
            Self::GoesOn => ShowThen::GoesOn,
        }
    }
}

#[derive(Subcommand, Debug)]
pub(super) enum Key {
    /// List a channel's keys, without the keys themselves.
    List {
        /// The channel.
        channel: String,
    },
    /// Make a key for publishing, or for watching; it is shown this once.
    Add(Box<Add>),
    /// Make keys from a list, all or none: a CSV file with a column `label` and any of `key`, `right`, `rank`,
    /// `starts_at`, `expires_at`, `zone`, `hours`, `allow_from`, `protocols`, `most_connections`, `show_when_over`,
    /// `passphrase`; more of one kind in a field are parted by `|`. Where `key` is empty one is made.
    Import {
        /// The channel.
        channel: String,
        /// The file.
        file: PathBuf,
    },
    /// Change when, from where and how a key opens; a show that it opened is left alone.
    Change(Box<Change>),
    /// Make another key that takes the place of one; for a while both open.
    Renew {
        /// The channel.
        channel: String,
        /// The key's number.
        key: u64,
        /// Until when the old one opens too, as in 2026-05-17T18:00:00Z; up to 90 days from now.
        #[arg(long, value_parser = time_of)]
        both_until: OffsetDateTime,
        /// Until when a guest's link is to show the new one.
        #[arg(long, value_parser = time_of)]
        guest_link_until: Option<OffsetDateTime>,
        /// Show a field as a QR code too.
        #[arg(long, value_enum, value_name = "FIELD")]
        qr: Option<QrField>,
    },
    /// Retire a key: from now on it opens nothing. It stays in the list for 90 days, with who still comes with it.
    Retire {
        /// The channel.
        channel: String,
        /// The key's number.
        key: u64,
        /// What becomes of a show that it opened.
        #[arg(long, value_enum)]
        show: Show,
    },
    /// End the guest's link of a key; the key stays.
    EndGuestLink {
        /// The channel.
        channel: String,
        /// The key's number.
        key: u64,
    },
    /// Remove a stream key; a publisher who uses it is ended.
    Remove {
        /// The channel.
        channel: String,
        /// The key's number.
        key: u64,
    },
}

#[derive(clap::Args, Debug)]
pub(super) struct Add {
    /// The channel.
    channel: String,
    /// For whom: a person or a device.
    label: String,
    /// What it opens the channel for.
    #[arg(long, value_enum, default_value_t = Right::Publish)]
    right: Right,
    /// 0 is the highest; an encoder with a key of lower rank, up to 9, waits as a backup.
    #[arg(long, default_value_t = 0)]
    rank: u8,
    #[command(flatten)]
    rules: Rules,
    /// Take a key of your own choosing, from a file, or from standard input if it is `-`: 8 to 128
    /// characters. One that is made here is safer.
    #[arg(long, value_name = "FILE")]
    own_key_file: Option<PathBuf>,
    /// Give it a passphrase for SRT of its own, from a file, or from standard input if it is `-`.
    #[arg(long, value_name = "FILE")]
    passphrase_file: Option<PathBuf>,
    /// Make a passphrase for SRT of its own.
    #[arg(long, conflicts_with = "passphrase_file")]
    make_passphrase: bool,
    /// Make a guest's link that shows the key, and whether it is in use, until then.
    #[arg(long, value_parser = time_of)]
    guest_link_until: Option<OffsetDateTime>,
    /// Show a field as a QR code too.
    #[arg(long, value_enum, value_name = "FIELD")]
    qr: Option<QrField>,
}

#[derive(clap::Args, Debug)]
pub(super) struct Change {
    /// The channel.
    channel: String,
    /// The key's number.
    key: u64,
    /// For whom.
    #[arg(long)]
    label: Option<String>,
    /// 0 is the highest; holds from the next connection.
    #[arg(long)]
    rank: Option<u8>,
    #[command(flatten)]
    rules: Rules,
    /// The passphrase for SRT, from a file, or from standard input if it is `-`.
    #[arg(long, value_name = "FILE")]
    passphrase_file: Option<PathBuf>,
    /// What is to be taken away; may be given more than once.
    #[arg(long, value_enum, value_name = "RULE")]
    clear: Vec<Cleared>,
}

impl Key {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List { channel } => {
                let keys: Vec<StreamKey> = client.get(&keys_of(&channel))?;
                let empty = format!("No keys yet. Make one: waverant key add {channel} LABEL");
                Ok(report.rows(&keys, &keys, &columns(), &empty)?)
            }
            Self::Add(form) => form.run(&client, report),
            Self::Import { channel, file } => {
                let keys = list::read(&file)?;
                let made: Vec<NewKey> =
                    client.call("POST", &format!("{}/list", keys_of(&channel)), &AddKeys { keys })?;
                list::show(&made, report)
            }
            Self::Change(form) => form.run(&client, report),
            Self::Renew { channel, key, both_until, guest_link_until, qr } => {
                let form = RenewKey { both_until, guest_link_until };
                let made: NewKey = client.call("POST", &format!("{}/{key}/renewal", keys_of(&channel)), &form)?;
                show_made(&made, qr, report)
            }
            Self::Retire { channel, key, show } => {
                let form = RetireKey { show: show.meant() };
                client.call::<()>("POST", &format!("{}/{key}/retirement", keys_of(&channel)), &form)?;
                let then = match show {
                    Show::Ends => "its show is ended",
                    Show::GoesOn => "its show goes on until the encoder leaves",
                };
                Ok(report.done(&(), &format!("Key {key} of `{channel}` opens nothing any more; {then}."))?)
            }
            Self::EndGuestLink { channel, key } => {
                client.order::<()>("DELETE", &format!("{}/{key}/guest-link", keys_of(&channel)))?;
                Ok(report.done(&(), &format!("The guest's link of key {key} shows nothing any more."))?)
            }
            Self::Remove { channel, key } => {
                client.order::<()>("DELETE", &format!("{}/{key}", keys_of(&channel)))?;
                Ok(report.done(&(), &format!("Key {key} of `{channel}` removed."))?)
            }
        }
    }
}

impl Add {
    fn run(self, client: &Client, report: &mut Report<'_>) -> Result<(), Failure> {
        let read = |what, option, file: &Option<PathBuf>| match file {
            Some(file) => secret(what, option, Some(file)).map(|text| Some(text.into())),
            None => Ok(None),
        };
        let form = AddKey {
            label: self.label,
            right: match self.right {
                Right::Publish => KeyRight::Publish,
                Right::View => KeyRight::View,
            },
            rank: self.rank,
            key: read("The key", "--own-key-file", &self.own_key_file)?,
            rules: self.rules.meant()?,
            passphrase: read("The passphrase", "--passphrase-file", &self.passphrase_file)?,
            makes_passphrase: self.make_passphrase,
            guest_link_until: self.guest_link_until,
        };
        let made: NewKey = client.call("POST", &keys_of(&self.channel), &form)?;
        show_made(&made, self.qr, report)
    }
}

impl Change {
    fn run(self, client: &Client, report: &mut Report<'_>) -> Result<(), Failure> {
        let mut form = ChangeKey { label: self.label, rank: self.rank, ..self.rules.change()? };
        if let Some(file) = &self.passphrase_file {
            form.passphrase = Some(secret("The passphrase", "--passphrase-file", Some(file))?.into());
        }
        self.clear.iter().for_each(|cleared| cleared.take_away(&mut form));
        let (channel, key) = (&self.channel, self.key);
        let changed: StreamKey = client.call("PATCH", &format!("{}/{key}", keys_of(channel)), &form)?;
        if report.json {
            return Ok(report.value(&changed)?);
        }
        Ok(report.table(&[changed], &columns())?)
    }
}

fn keys_of(channel: &str) -> String {
    format!("/channels/{}/keys", piece(channel))
}

fn columns() -> [Column<StreamKey>; 8] {
    [
        Column::number("key", |row| row.id.to_string()),
        Column::number("rank", |row| row.rank.to_string()),
        Column::text("label", |row| row.label.clone()),
        Column::text("opens for", |row| match row.right {
            KeyRight::View => "watching".to_owned(),
            KeyRight::Publish => "publishing".to_owned(),
        }),
        Column::text("begins with", |row| if row.is_own { "(chosen)".to_owned() } else { row.prefix.clone() }),
        Column::text("now", rules::state),
        Column::text("rules", rules::told),
        Column::text("last used", |row| match &row.last_use {
            None => "never".to_owned(),
            Some(used) => format!("{} from {} ({}, {})", moment(used.at), used.address, used.protocol, used.encoder),
        }),
    ]
}
