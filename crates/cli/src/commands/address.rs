use clap::{Args, Subcommand};
use time::OffsetDateTime;
use waverant_model::{AddAddressRule, AddressRule, Addresses, Reception, ReleaseAddress};

use super::dash;
use crate::client::Client;
use crate::error::Failure;
use crate::output::{Column, Report};

#[derive(Subcommand, Debug)]
pub(super) enum Address {
    /// Addresses that are blocked or welcome.
    List,
    /// Hold callers from an address or network off: nothing but a right key, token or sign-in opens.
    Block(Rule),
    /// Make an address or network welcome, as the crew's: it is never slowed and never blocked.
    Welcome(Rule),
    /// Let an address be heard again that is blocked for what came from there.
    Release {
        /// The address.
        address: String,
    },
    /// Take a rule away.
    Remove {
        /// The rule's number in the list.
        rule: u64,
    },
}

#[derive(Args, Debug)]
pub(super) struct Rule {
    /// An address, or a network as in 192.0.2.0/24.
    range: String,
    /// For how long; for ever if left out.
    #[arg(long, value_name = "MINUTES")]
    minutes: Option<u32>,
    /// Why.
    #[arg(long)]
    note: Option<String>,
}

/// A line of the list.
struct Row {
    rule: Option<u64>,
    range: String,
    reception: &'static str,
    until: Option<OffsetDateTime>,
    why: String,
}

impl Address {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List => list(&client, report),
            Self::Block(rule) => rule.make(&client, Reception::Blocked, report),
            Self::Welcome(rule) => rule.make(&client, Reception::Welcome, report),
            Self::Release { address } => {
                client.call::<()>("POST", "/addresses/release", &ReleaseAddress { address: address.clone() })?;
                Ok(report.done(&(), &format!("{address} is heard again."))?)
            }
            Self::Remove { rule } => {
                client.order::<()>("DELETE", &format!("/addresses/{rule}"))?;
                Ok(report.done(&(), &format!("Rule {rule} is taken away."))?)
            }
        }
    }
}

impl Rule {
    fn make(self, client: &Client, reception: Reception, report: &mut Report<'_>) -> Result<(), Failure> {
        let Self { range, minutes, note } = self;
        let made: AddressRule =
            client.call("POST", "/addresses", &AddAddressRule { range, reception, minutes, note })?;
        let how = if reception == Reception::Blocked { "blocked" } else { "welcome" };
        Ok(report.done(&made, &format!("{} is {how} (rule {}).", made.range, made.id))?)
    }
}

fn list(client: &Client, report: &mut Report<'_>) -> Result<(), Failure> {
    let all: Addresses = client.get("/addresses")?;
    let rules = all.rules.iter().map(|rule| Row {
        rule: Some(rule.id),
        range: rule.range.clone(),
        reception: if rule.reception == Reception::Blocked { "blocked" } else { "welcome" },
        until: rule.until,
        why: format!("{} ({})", dash(Some(&rule.note)), rule.made_by),
    });
    let blocked = all.blocked.iter().map(|blocked| Row {
        rule: None,
        range: blocked.address.clone(),
        reception: "blocked",
        until: Some(blocked.until),
        why: format!("too many wrong tries; {} more since", blocked.tries),
    });
    let rows: Vec<Row> = blocked.chain(rules).collect();
    let columns = [
        Column::text("rule", |row: &Row| super::number(row.rule)),
        Column::text("from", |row: &Row| row.range.clone()),
        Column::text("is", |row: &Row| row.reception.to_owned()),
        Column::text("until", |row: &Row| row.until.map_or_else(|| "-".to_owned(), crate::output::moment)),
        Column::text("why", |row: &Row| row.why.clone()),
    ];
    Ok(report.rows(&all, &rows, &columns, "All addresses are received alike.")?)
}
