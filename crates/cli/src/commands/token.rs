use clap::Subcommand;
use waverant_model::Token as Kept;

use crate::client::Client;
use crate::error::Failure;
use crate::output::{Column, Report, moment};

#[derive(Subcommand, Debug)]
pub(super) enum Token {
    /// List your tokens and signed-in consoles.
    List,
    /// Withdraw a token; what it opened is closed within five seconds.
    Withdraw {
        /// The token's number.
        token: u64,
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
            Self::Withdraw { token } => {
                client.order::<()>("DELETE", &format!("/tokens/{token}"))?;
                Ok(report.done(&(), &format!("Token {token} opens nothing any more."))?)
            }
        }
    }
}

fn columns() -> [Column<Kept>; 4] {
    [
        Column::number("token", |token| token.id.to_string()),
        Column::text("label", |token| token.label.clone()),
        Column::text("since", |token| moment(token.created_at)),
        Column::text("ends", |token| token.expires_at.map_or_else(|| "never".to_owned(), moment)),
    ]
}
