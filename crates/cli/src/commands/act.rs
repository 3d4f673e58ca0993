use std::io::Write;

use clap::{Args, Subcommand, ValueEnum};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use waverant_model::{Act as Kept, ActBy, Listed};

use super::{dash, time_of, word};
use crate::client::{Client, piece, with_query};
use crate::error::Failure;
use crate::output::{Column, Report, moment};

#[derive(Subcommand, Debug)]
pub(super) enum Act {
    /// List what people did, the newest first.
    List {
        #[command(flatten)]
        which: Which,
        /// At most so many.
        #[arg(long, default_value = "50", value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
    /// Print all of it as JSON lines, the newest first.
    Export {
        #[command(flatten)]
        which: Which,
    },
}

/// What to tell; everything that is left out does not matter.
#[derive(Args, Debug)]
pub(super) struct Which {
    /// Only by this person.
    #[arg(long)]
    person: Option<String>,
    /// Only on this channel.
    #[arg(long)]
    channel: Option<String>,
    /// Only this, as in change_channel.
    #[arg(long)]
    what: Option<String>,
    /// Only those that ended so.
    #[arg(long)]
    outcome: Option<Outcome>,
    /// Only those then or later.
    #[arg(long, value_parser = time_of)]
    from: Option<OffsetDateTime>,
    /// Only those before.
    #[arg(long, value_parser = time_of)]
    until: Option<OffsetDateTime>,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
enum Outcome {
    Done,
    Refused,
    Failed,
}

impl Which {
    fn query(&self) -> Vec<(&'static str, Option<String>)> {
        let at = |time: Option<OffsetDateTime>| time.and_then(|time| time.format(&Rfc3339).ok());
        let outcome = self.outcome.and_then(|outcome| Some(outcome.to_possible_value()?.get_name().to_owned()));
        vec![
            ("person", self.person.clone()),
            ("channel", self.channel.clone()),
            ("what", self.what.clone()),
            ("outcome", outcome),
            ("from", at(self.from)),
            ("until", at(self.until)),
        ]
    }
}

impl Act {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List { which, limit } => {
                // What was done on a channel may be seen by who sets that channel up.
                let place = match &which.channel {
                    Some(channel) => format!("/channels/{}/acts", piece(channel)),
                    None => "/acts".to_owned(),
                };
                let mut query = which.query();
                query.push(("limit", Some(limit.to_string())));
                let acts: Listed<Kept> = client.get(&with_query(&place, query))?;
                Ok(report.rows(&acts, &acts.items, &columns(), "Nothing.")?)
            }
            Self::Export { which } => {
                let mut response = client.fetch(&with_query("/acts.jsonl", which.query()), None)?;
                let mut out = std::io::stdout().lock();
                std::io::copy(&mut response.body_mut().as_reader(), &mut out)?;
                Ok(out.flush()?)
            }
        }
    }
}

/// An operation in words.
fn what(act: &Kept) -> String {
    act.what.replace('_', " ")
}

fn by(act: &Kept) -> String {
    match act.by {
        ActBy::Program => format!("token {}", act.token),
        by => word(by).replace('_', " "),
    }
}

fn changed(act: &Kept) -> String {
    match (&act.before, &act.after) {
        (None, None) => "-".to_owned(),
        (Some(before), None) => format!("was {before}"),
        (None, Some(after)) => after.to_string(),
        (Some(before), Some(after)) => format!("{before} -> {after}"),
    }
}

fn columns() -> [Column<Kept>; 8] {
    [
        Column::text("when", |act| moment(act.at)),
        Column::text("who", |act| dash(Some(&act.person))),
        Column::text("by", by),
        Column::text("from", |act| dash(Some(&act.address))),
        Column::text("what", what),
        Column::text("on", |act| {
            let on = [act.channel.as_deref().unwrap_or_default(), &act.subject];
            dash(Some(on.iter().filter(|part| !part.is_empty()).copied().collect::<Vec<_>>().join(", ").as_str()))
        }),
        Column::text("outcome", |act| match &act.reason {
            Some(reason) => format!("{}: {reason}", word(act.outcome)),
            None => word(act.outcome),
        }),
        Column::text("changed", changed),
    ]
}
