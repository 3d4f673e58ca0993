use clap::Subcommand;
use waverant_model::{AddToken, MadeToken, Token as Kept, Withdrawn};

use super::person::Role;
use super::{dash, word};
use crate::client::Client;
use crate::error::Failure;
use crate::output::{Column, Report, moment};

#[derive(Subcommand, Debug)]
pub(super) enum Token {
    /// List your tokens and signed-in consoles.
    List,
    /// Make a token for a program, and print it; it is shown once.
    Add {
        /// Who or what is to have it.
        label: String,
        /// The most that it may do, within what you may.
        #[arg(long)]
        role: Role,
        /// Let it do that on this channel only; can be given several times.
        #[arg(long = "channel", value_name = "NAME")]
        channels: Vec<String>,
        /// Let it open nothing from elsewhere: an address or a network; can be given several times.
        #[arg(long = "from", value_name = "ADDRESS")]
        addresses: Vec<String>,
        /// Days after which it ends; it does not end by itself if left out.
        #[arg(long)]
        days: Option<u32>,
    },
    /// Withdraw a token; what it opened is closed within five seconds.
    Withdraw {
        /// The token's number.
        #[arg(required_unless_present = "others", conflicts_with = "others")]
        token: Option<u64>,
        /// All of them, consoles included, but the one of this command line.
        #[arg(long)]
        others: bool,
    },
}

impl Token {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List => {
                let tokens: Vec<Kept> = client.get("/tokens")?;
                Ok(report.rows(&tokens, &tokens, &columns(), "No tokens.")?)
            }
            Self::Add { label, role, channels, addresses, days } => {
                let (role, channels) = (Some(role.meant()), (!channels.is_empty()).then_some(channels));
                let form = AddToken { label, days, role, channels, addresses };
                let made: MadeToken = client.call("POST", "/tokens", &form)?;
                Ok(report.done(&made, &made.token)?)
            }
            Self::Withdraw { token: None, .. } => {
                let withdrawn: Withdrawn = client.order("DELETE", "/tokens")?;
                let told = format!("{} tokens and consoles open nothing any more.", withdrawn.count);
                Ok(report.done(&withdrawn, &told)?)
            }
            Self::Withdraw { token: Some(token), .. } => {
                client.order::<()>("DELETE", &format!("/tokens/{token}"))?;
                Ok(report.done(&(), &format!("Token {token} opens nothing any more."))?)
            }
        }
    }
}

/// What a token may do, and from where.
fn may(token: &Kept) -> String {
    let most = token.role.map_or_else(|| "all that you may".to_owned(), word);
    let on = token.channels.as_ref().map(|channels| format!(" on {}", channels.join(", "))).unwrap_or_default();
    let from = if token.addresses.is_empty() { String::new() } else { format!(" from {}", token.addresses.join(", ")) };
    format!("{most}{on}{from}")
}

fn columns() -> [Column<Kept>; 8] {
    [
        Column::number("token", |token| token.id.to_string()),
        Column::text(
            "label",
            |token| if token.is_this { format!("{} (this one)", token.label) } else { token.label.clone() },
        ),
        Column::text("may", may),
        Column::text("since", |token| moment(token.created_at)),
        Column::text("ends", |token| token.expires_at.map_or_else(|| "never".to_owned(), moment)),
        Column::text("last used", |token| token.last_used_at.map_or_else(|| "-".to_owned(), moment)),
        Column::text("from", |token| dash(Some(&token.address))),
        Column::text("by", |token| dash(Some(&token.device))),
    ]
}
