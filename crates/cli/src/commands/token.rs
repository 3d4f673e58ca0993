use clap::Subcommand;
use serde_json::Value;

use super::{rows, text};
use crate::client::Client;
use crate::error::Failure;
use crate::output::{Column, Report, ago};

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
                let answer = client.get("/tokens")?;
                Ok(report.rows(&answer, rows(&answer), &columns(), "No tokens.")?)
            }
            Self::Withdraw { token } => {
                let answer = client.call("DELETE", &format!("/tokens/{token}"), None)?;
                Ok(report.done(&answer, &format!("Token {token} opens nothing any more."))?)
            }
        }
    }
}

fn columns() -> [Column; 4] {
    [
        Column::number("token", |token| text(token, "id")),
        Column::text("label", |token| text(token, "label")),
        Column::text("since", |token| ago(&text(token, "created_at"))),
        Column::text("ends", |token| match &token["expires_at"] {
            Value::String(end) => ago(end),
            _ => "never".to_owned(),
        }),
    ]
}
