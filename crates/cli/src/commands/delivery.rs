use clap::{Args, Subcommand, ValueEnum};
use waverant_model::{CallRequest, Delivery as Kept, DeliveryDetail, DeliveryState, Listed};

use super::dash;
use crate::client::{Client, with_query};
use crate::error::Failure;
use crate::output::{Column, Report, moment, word};

#[derive(Subcommand, Debug)]
pub(super) enum Delivery {
    /// What others were told, or are to be, the newest first.
    List(Which),
    /// One of them: the call, and what came back.
    Show {
        /// Its number in the list.
        delivery: u64,
    },
    /// Tell it once more, or at once if it waits.
    Again {
        /// Its number in the list.
        delivery: u64,
    },
}

#[derive(Args, Debug)]
pub(super) struct Which {
    /// Only to this target.
    #[arg(long)]
    target: Option<String>,
    /// Only those that stand so.
    #[arg(long, value_enum)]
    state: Option<Stands>,
    /// Only of what happened in this channel.
    #[arg(long)]
    channel: Option<String>,
    /// Only those with a smaller number.
    #[arg(long, value_name = "NUMBER")]
    before: Option<u64>,
    /// At most so many.
    #[arg(long, default_value = "50", value_parser = clap::value_parser!(u32).range(1..=500))]
    limit: u32,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
enum Stands {
    /// Not taken yet, and tried again.
    Waiting,
    /// Taken.
    Delivered,
    /// Not tried any more.
    GivenUp,
}

impl Delivery {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List(which) => list(&client, which, report),
            Self::Show { delivery } => show(&client, delivery, report),
            Self::Again { delivery } => {
                client.order::<()>("POST", &format!("/deliveries/{delivery}/again"))?;
                Ok(report.done(&(), &format!("Delivery {delivery} is told again."))?)
            }
        }
    }
}

fn list(client: &Client, which: Which, report: &mut Report<'_>) -> Result<(), Failure> {
    let state = which.state.map(|state| match state {
        Stands::Waiting => DeliveryState::Waiting,
        Stands::Delivered => DeliveryState::Delivered,
        Stands::GivenUp => DeliveryState::GivenUp,
    });
    let query = vec![
        ("target", which.target),
        ("state", state.map(word)),
        ("channel", which.channel),
        ("before", which.before.map(|before| before.to_string())),
        ("limit", Some(which.limit.to_string())),
    ];
    let found: Listed<Kept> = client.get(&with_query("/deliveries", query))?;
    let columns = [
        Column::text("number", |one: &Kept| one.id.to_string()),
        Column::text("happened", |one: &Kept| moment(one.happened_at)),
        Column::text("target", |one: &Kept| one.target.clone()),
        Column::text("what", |one: &Kept| one.text.clone()),
        Column::text("stands", stands),
    ];
    Ok(report.rows(&found, &found.items, &columns, "Nothing was told.")?)
}

fn stands(one: &Kept) -> String {
    let took = one.took_ms.map_or_else(String::new, |took| format!(" in {took} ms"));
    match one.state {
        DeliveryState::Delivered => format!("taken{took}"),
        DeliveryState::GivenUp => format!("given up after {} tries: {}", one.tries, dash(one.fault.as_deref())),
        DeliveryState::Waiting if one.tries == 0 => "waiting".to_owned(),
        DeliveryState::Waiting => {
            let next = one.next_at.map_or_else(|| "-".to_owned(), moment);
            format!("tried {} times, next at {next}: {}", one.tries, dash(one.fault.as_deref()))
        }
    }
}

/// A call as it is made.
pub(super) fn call_of(request: &CallRequest) -> String {
    let mut told = format!("POST {}\n", request.address);
    for header in &request.headers {
        told.push_str(&format!("{}: {}\n", header.name, header.value));
    }
    told.push_str(&format!("\n{}\n\n", request.body));
    told
}

fn show(client: &Client, delivery: u64, report: &mut Report<'_>) -> Result<(), Failure> {
    let seen: DeliveryDetail = client.get(&format!("/deliveries/{delivery}"))?;
    let one = &seen.delivery;
    let mut told = format!("{}  {}\n{}\n\n", moment(one.happened_at), one.kind, one.text);
    told.push_str(&seen.request.as_ref().map(call_of).unwrap_or_default());
    if let Some(status) = one.status {
        told.push_str(&format!("{status} after {} ms\n", one.took_ms.unwrap_or(0)));
    }
    if let Some(answer) = &seen.answer {
        told.push_str(&format!("\n{}\n\n", answer.trim()));
    }
    told.push_str(&format!("To {}: {}.", one.target, stands(one)));
    Ok(report.done(&seen, &told)?)
}
