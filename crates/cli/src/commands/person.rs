use clap::{Subcommand, ValueEnum};
use waverant_model::{AddPerson, ChangePerson, ChannelRole, Invitation, InvitePerson, Person as Kept};

use super::{confirm, word};
use crate::account::Account;
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, moment};

#[derive(Subcommand, Debug)]
pub(super) enum Person {
    /// List who may sign in, and who is invited.
    List,
    /// Let somebody in; prints a one-time link by which they choose a password.
    Add {
        /// The name to sign in with.
        name: String,
        /// What they may do in the house.
        #[arg(long, required_unless_present = "channels")]
        role: Option<Role>,
        /// What they may do on one channel, as in weir=operator; can be given several times.
        #[arg(long = "channel", value_name = "NAME=ROLE", value_parser = channel_role)]
        channels: Vec<ChannelRole>,
        /// Hours until the link ends: 1 to 720, default 72.
        #[arg(long)]
        hours: Option<u32>,
    },
    /// Give somebody other roles, instead of those before; they hold at once.
    Change {
        /// The name.
        name: String,
        /// What they may do in the house.
        #[arg(long, required_unless_present = "channels")]
        role: Option<Role>,
        /// What they may do on one channel, as in weir=operator; can be given several times.
        #[arg(long = "channel", value_name = "NAME=ROLE", value_parser = channel_role)]
        channels: Vec<ChannelRole>,
    },
    /// Print another one-time link: for who lost the password, or whose link ended.
    Invite {
        /// The name.
        name: String,
        /// Hours until the link ends: 1 to 720, default 72.
        #[arg(long)]
        hours: Option<u32>,
        /// For who lost the second factor, too.
        #[arg(long)]
        drop_second_factor: bool,
    },
    /// Remove somebody; all that is signed in ends within five seconds.
    Remove {
        /// The name.
        name: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}

/// What somebody may do.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(super) enum Role {
    /// Sees shows, recordings, findings and reports, and changes nothing.
    Observer,
    /// Runs shows.
    Operator,
    /// Sets the house up: channels, keys, destinations.
    Engineer,
    /// Lets people in.
    Administrator,
}

impl Role {
    pub(super) fn meant(self) -> waverant_model::Role {
        match self {
            Self::Observer => waverant_model::Role::Observer,
            Self::Operator => waverant_model::Role::Operator,
            Self::Engineer => waverant_model::Role::Engineer,
            Self::Administrator => waverant_model::Role::Administrator,
        }
    }
}

impl Person {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List => {
                let people: Vec<Kept> = client.get("/people")?;
                Ok(report.rows(&people, &people, &columns(), "Nobody.")?)
            }
            Self::Add { name, role, channels, hours } => {
                let form = AddPerson { name, role: role.map(Role::meant), channels, hours };
                invited(&client.call("POST", "/people", &form)?, report)
            }
            Self::Change { name, role, channels } => {
                let form = ChangePerson { role: role.map(Role::meant), channels };
                client.call::<()>("PATCH", &format!("/people/{}", piece(&name)), &form)?;
                let roles = roles(form.role, &form.channels);
                Ok(report.done(&(), &format!("`{name}` is {roles} from now on."))?)
            }
            Self::Invite { name, hours, drop_second_factor: drops_second_factor } => {
                let path = format!("/people/{}/invitation", piece(&name));
                invited(&client.call("POST", &path, &InvitePerson { hours, drops_second_factor })?, report)
            }
            Self::Remove { name, yes } => {
                if !yes {
                    confirm(&format!("Remove `{name}`?"))?;
                }
                client.order::<()>("DELETE", &format!("/people/{}", piece(&name)))?;
                Ok(report.done(&(), &format!("`{name}` cannot sign in any more."))?)
            }
        }
    }
}

/// A channel and a role, as the command line takes them.
fn channel_role(text: &str) -> Result<ChannelRole, String> {
    let (channel, role) = text.split_once('=').ok_or("a channel and a role were expected, as in weir=operator")?;
    let role = Role::from_str(role, false)?.meant();
    Ok(ChannelRole { channel: channel.to_owned(), role })
}

fn roles(house: Option<waverant_model::Role>, channels: &[ChannelRole]) -> String {
    let own = channels.iter().map(|own| format!("{} on {}", word(own.role), own.channel));
    house.map(word).into_iter().chain(own).collect::<Vec<_>>().join(", ")
}

/// The link is for the console under the address by which we call.
fn invited(invitation: &Invitation, report: &mut Report<'_>) -> Result<(), Failure> {
    let link = format!("{}/invitation#{}", Account::load()?.url, invitation.code);
    let (name, ends) = (&invitation.name, moment(invitation.ends_at));
    let told = format!("Give this link to {name}; it opens once, until {ends}:\n{link}");
    Ok(report.done(invitation, &told)?)
}

fn columns() -> [Column<Kept>; 6] {
    [
        Column::text("name", |row| if row.is_you { format!("{} (you)", row.name) } else { row.name.clone() }),
        Column::text("role", |row| roles(row.role, &row.channels)),
        Column::text("since", |row| moment(row.created_at)),
        Column::text("last seen", |row| row.last_seen_at.map_or_else(|| "-".to_owned(), moment)),
        Column::text("second factor", |row| if row.has_second_factor { "yes" } else { "no" }.to_owned()),
        Column::text("invitation", |row| match (row.invited_until, row.has_password) {
            (Some(until), _) => format!("until {}", moment(until)),
            (None, true) => "-".to_owned(),
            (None, false) => "ended; invite again".to_owned(),
        }),
    ]
}
