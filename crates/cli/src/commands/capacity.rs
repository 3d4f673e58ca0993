use clap::Args;
use waverant_capacity::{Costs, Machine, Plan, Prices};
use waverant_model::{CapacityAnswer, PlannedShows, ResourceAnswer};

use super::word;
use crate::client::Client;
use crate::error::Failure;
use crate::output::{Column, Report, bitrate, size};

/// What a megabit, a gigabyte and a terabyte are.
const MEGA: f64 = 1e6;
const GIGA: f64 = 1e9;

#[derive(Args, Debug)]
pub(super) struct Capacity {
    /// Bitrate of each show, in Mbit/s.
    #[arg(long, default_value_t = 6.0, value_name = "MBIT")]
    bitrate: f64,
    /// Destinations of each.
    #[arg(long, default_value_t = 3)]
    destinations: u32,
    /// Viewers of each.
    #[arg(long, default_value_t = 0)]
    viewers: u32,
    /// Tracks of sound of each that are listened to.
    #[arg(long, default_value_t = 1)]
    sounds: u32,
    /// They are not recorded.
    #[arg(long)]
    unrecorded: bool,
    /// How long each lasts, in hours.
    #[arg(long, default_value_t = 2.0)]
    hours: f64,
    /// How many run at the same time.
    #[arg(long, default_value_t = 1)]
    shows: u32,
    /// How many there are in a month.
    #[arg(long, default_value_t = 4)]
    shows_a_month: u32,
    /// What the uplink carries, in Mbit/s.
    #[arg(long, value_name = "MBIT")]
    uplink: Option<f64>,
    /// What the downlink carries, in Mbit/s.
    #[arg(long, value_name = "MBIT")]
    downlink: Option<f64>,
    /// What a terabyte sent costs, in your money.
    #[arg(long, default_value_t = 0.0, value_name = "MONEY")]
    price_sent_tb: f64,
    /// What a terabyte kept for a month costs.
    #[arg(long, default_value_t = 0.0, value_name = "MONEY")]
    price_kept_tb: f64,
    /// Ask no service: reckon for a machine of its own, with what the next options say of it.
    #[arg(long)]
    alone: bool,
    /// Its processors.
    #[arg(long, requires = "alone")]
    processors: Option<f64>,
    /// Its memory, in GB.
    #[arg(long, requires = "alone", value_name = "GB")]
    memory: Option<f64>,
    /// Its disk for recordings, in GB.
    #[arg(long, requires = "alone", value_name = "GB")]
    disk: Option<f64>,
}

impl Capacity {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let amounts = [self.bitrate, self.hours, self.price_sent_tb, self.price_kept_tb];
        if amounts.iter().any(|amount| !amount.is_finite() || *amount < 0.0) {
            return Err(Failure::Usage("bitrate, hours and prices are numbers of 0 or more".to_owned()));
        }
        let answer = if self.alone { self.reckon() } else { self.ask()? };
        report.rows(&answer, &answer.resources, &columns(), "")?;
        if report.json {
            return Ok(());
        }
        writeln!(report.out)?;
        if let Some(first) = answer.first {
            writeln!(report.out, "What gives first: {}.", word(first))?;
        }
        let (sent, kept) = (size(answer.month_sent_bytes), size(answer.month_recorded_bytes));
        write!(report.out, "In a month: {sent} sent, {kept} recorded")?;
        match answer.month_money > 0.0 {
            true => writeln!(report.out, ", {:.2} in money.", answer.month_money)?,
            false => writeln!(report.out, ".")?,
        }
        Ok(())
    }

    fn ask(&self) -> Result<CapacityAnswer, Failure> {
        let rate = |megabits: f64| whole(megabits * MEGA);
        let form = PlannedShows {
            shows: Some(self.shows),
            bitrate_bps: rate(self.bitrate),
            destinations: self.destinations,
            viewers: self.viewers,
            sounds: Some(self.sounds),
            is_recorded: Some(!self.unrecorded),
            hours: Some(self.hours),
            shows_a_month: Some(self.shows_a_month),
            uplink_bps: self.uplink.map(rate),
            downlink_bps: self.downlink.map(rate),
            price_sent_tb: self.price_sent_tb,
            price_kept_tb_month: self.price_kept_tb,
        };
        Client::signed_in()?.call("POST", "/capacity", &form)
    }

    fn reckon(&self) -> CapacityAnswer {
        let plan = Plan {
            shows: self.shows.into(),
            bitrate_bps: self.bitrate * MEGA,
            destinations: self.destinations.into(),
            viewers: self.viewers.into(),
            sounds: self.sounds.into(),
            is_recorded: !self.unrecorded,
            hours: self.hours,
            shows_a_month: self.shows_a_month.into(),
        };
        let machine = Machine {
            uplink_bps: self.uplink.map(|rate| rate * MEGA),
            downlink_bps: self.downlink.map(|rate| rate * MEGA),
            processors: self.processors,
            memory_bytes: self.memory.map(|memory| memory * GIGA),
            disk_bytes: self.disk.map(|disk| disk * GIGA),
        };
        let prices = Prices { sent_tb: self.price_sent_tb, kept_tb_month: self.price_kept_tb };
        CapacityAnswer::new(&plan.needs(&machine, &Costs::default(), &prices), |_| 0.0, 1.0)
    }
}

#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "checked to be 0 or more; saturates")]
fn whole(amount: f64) -> u64 {
    amount as u64
}

fn columns() -> [Column<ResourceAnswer>; 6] {
    [
        Column::text("of", |row| word(row.resource)),
        Column::number("used now", |row| amount(row, Some(row.used))),
        Column::number("left", |row| amount(row, row.left)),
        Column::number("plan needs", |row| amount(row, Some(row.needed))),
        Column::text("enough", |row| word(row.verdict).replace('_', " ")),
        Column::number("shows like that", |row| super::number(row.shows)),
    ]
}

fn amount(row: &ResourceAnswer, amount: Option<f64>) -> String {
    let Some(amount) = amount else { return "not known".to_owned() };
    match row.unit.as_str() {
        "bps" => bitrate(amount),
        "bytes" => size(whole(amount)),
        _ => format!("{amount:.2}"),
    }
}
