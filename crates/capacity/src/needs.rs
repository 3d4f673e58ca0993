use crate::Costs;

/// Of each resource so much is left alone: bitrates swing, and machines have other things to do.
const HEADROOM: f64 = 0.8;

/// Shows that are to run at the same time, all alike.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Plan {
    /// How many.
    pub shows: f64,
    /// Bits per second of each.
    pub bitrate_bps: f64,
    /// Destinations of each.
    pub destinations: f64,
    /// Viewers of each.
    pub viewers: f64,
    /// Tracks of sound that are listened to, of each.
    pub sounds: f64,
    /// True if they are recorded.
    pub is_recorded: bool,
    /// How long each lasts, in hours.
    pub hours: f64,
    /// How many there are in a month.
    pub shows_a_month: f64,
}

/// What a machine has. None is not known.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Machine {
    /// Bits per second out, and in.
    pub uplink_bps: Option<f64>,
    /// See `uplink_bps`.
    pub downlink_bps: Option<f64>,
    /// Processors.
    pub processors: Option<f64>,
    /// Bytes of memory that are free or can be.
    pub memory_bytes: Option<f64>,
    /// Bytes that recordings may take.
    pub disk_bytes: Option<f64>,
}

/// What the house pays, in whatever money.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Prices {
    /// For a terabyte sent.
    pub sent_tb: f64,
    /// For a terabyte kept for a month.
    pub kept_tb_month: f64,
}

/// What can run out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Resource {
    /// What is sent, in bits per second.
    Uplink,
    /// What comes in, in bits per second.
    Downlink,
    /// Processors.
    Processor,
    /// Bytes of memory.
    Memory,
    /// Bytes of disk.
    Disk,
}

/// Whether there is enough.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// There is.
    Enough,
    /// It goes, without the fifth that should be left.
    Tight,
    /// There is not.
    TooLittle,
    /// What there is, is not known.
    NotKnown,
}

/// What is needed of one resource.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct ResourceNeed {
    /// Of which.
    pub resource: Resource,
    /// What the plan needs.
    pub needed: f64,
    /// What there is.
    pub available: Option<f64>,
    /// Whether that is enough.
    pub verdict: Verdict,
    /// How many shows like these it would carry, with a fifth left.
    pub shows: Option<f64>,
}

/// What a plan adds up to in a month.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Month {
    /// Bytes sent to destinations and viewers.
    pub sent_bytes: f64,
    /// Bytes recorded.
    pub recorded_bytes: f64,
    /// What both cost at the house's prices, with all recordings kept.
    pub money: f64,
}

/// What a plan needs.
#[derive(Clone, Debug, PartialEq)]
pub struct Needs {
    /// Of each resource.
    pub resources: Vec<ResourceNeed>,
    /// What gives first: the resource of which the plan needs the largest part. None if nothing is known of the machine.
    pub first: Option<Resource>,
    /// A month of it.
    pub month: Month,
}

impl Plan {
    /// What it sends, in bits per second: of all shows to destinations, and to viewers.
    fn sent_bps(&self) -> (f64, f64) {
        let rate = self.shows * self.bitrate_bps;
        (rate * self.destinations, rate * self.viewers)
    }

    /// The share of one processor that it takes.
    pub fn processor(&self, costs: &Costs) -> f64 {
        let (received, (legs, viewers)) = (self.shows * self.bitrate_bps, self.sent_bps());
        let recorded = if self.is_recorded { received } else { 0.0 };
        Costs::share(received, costs.received_gb)
            + Costs::share(legs, costs.sent_gb)
            + Costs::share(viewers, costs.viewed_gb)
            + Costs::share(recorded, costs.recorded_gb)
            + self.shows * self.sounds * costs.heard_track
    }

    fn memory(&self, costs: &Costs) -> f64 {
        let ring = self.shows * self.bitrate_bps / 8.0 * costs.ring_seconds;
        let each = self.destinations * costs.leg_bytes + self.viewers * costs.viewer_bytes;
        ring + self.shows * each
    }

    /// Bytes that one show records.
    fn recorded(&self) -> f64 {
        if self.is_recorded { self.bitrate_bps / 8.0 * self.hours * 3600.0 } else { 0.0 }
    }

    /// What it needs of a machine that has nothing else to do but to run the service.
    pub fn needs(&self, machine: &Machine, costs: &Costs, prices: &Prices) -> Needs {
        let (legs, viewers) = self.sent_bps();
        let of = |resource, needed, base, available: Option<f64>| need(resource, (needed, base), available, self.shows);
        let resources = vec![
            of(Resource::Uplink, legs + viewers, 0.0, machine.uplink_bps),
            of(Resource::Downlink, self.shows * self.bitrate_bps, 0.0, machine.downlink_bps),
            of(Resource::Processor, self.processor(costs), 0.0, machine.processors),
            of(Resource::Memory, self.memory(costs), costs.base_bytes, machine.memory_bytes),
            of(Resource::Disk, self.shows * self.recorded(), 0.0, machine.disk_bytes),
        ];
        let share = |need: &ResourceNeed| need.available.map(|available| need.needed / available.max(1.0));
        let known = resources.iter().filter(|need| need.available.is_some() && need.needed > 0.0);
        let first =
            known.max_by(|one, other| share(one).partial_cmp(&share(other)).unwrap_or(std::cmp::Ordering::Equal));
        Needs { first: first.map(|need| need.resource), month: self.month(prices), resources }
    }

    fn month(&self, prices: &Prices) -> Month {
        let seconds = self.shows_a_month * self.hours * 3600.0;
        let sent_bytes = self.bitrate_bps / 8.0 * (self.destinations + self.viewers) * seconds;
        let recorded_bytes = self.recorded() * self.shows_a_month;
        let money = sent_bytes / 1e12 * prices.sent_tb + recorded_bytes / 1e12 * prices.kept_tb_month;
        Month { sent_bytes, recorded_bytes, money }
    }
}

fn need(resource: Resource, (needed, base): (f64, f64), available: Option<f64>, shows: f64) -> ResourceNeed {
    let (each, needed) = (needed / shows.max(f64::MIN_POSITIVE), needed + base);
    let verdict = match available {
        None => Verdict::NotKnown,
        Some(available) if needed <= available * HEADROOM => Verdict::Enough,
        Some(available) if needed <= available => Verdict::Tight,
        Some(_) => Verdict::TooLittle,
    };
    let carried =
        available.filter(|_| each > 0.0).map(|available| ((available * HEADROOM - base) / each).max(0.0).floor());
    ResourceNeed { resource, needed, available, verdict, shows: carried }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn plan() -> Plan {
        Plan {
            shows: 1.0,
            bitrate_bps: 6e6,
            destinations: 3.0,
            viewers: 10.0,
            sounds: 1.0,
            is_recorded: true,
            hours: 2.0,
            shows_a_month: 10.0,
        }
    }

    fn machine() -> Machine {
        Machine {
            uplink_bps: Some(100e6),
            downlink_bps: Some(100e6),
            processors: Some(1.0),
            memory_bytes: Some(1e9),
            disk_bytes: Some(20e9),
        }
    }

    fn of(needs: &Needs, resource: Resource) -> ResourceNeed {
        *needs.resources.iter().find(|need| need.resource == resource).unwrap()
    }

    #[test]
    fn the_sum_is_that_of_paper() {
        let needs = plan().needs(&machine(), &Costs::default(), &Prices { sent_tb: 10.0, kept_tb_month: 5.0 });
        assert_eq!(of(&needs, Resource::Uplink).needed, 78e6, "3 destinations and 10 viewers of 6 Mbit/s");
        assert_eq!(of(&needs, Resource::Disk).needed, 5.4e9, "6 Mbit/s for two hours");
        assert_eq!(of(&needs, Resource::Disk).shows, Some(2.0));
        assert_eq!(needs.first, Some(Resource::Uplink));
        assert!((needs.month.sent_bytes - 702e9).abs() < 1.0 && (needs.month.recorded_bytes - 54e9).abs() < 1.0);
        assert!((needs.month.money - 7.29).abs() < 1e-9, "{:?}", needs.month);
    }

    #[rstest]
    #[case::enough(97.5e6, Verdict::Enough)]
    #[case::tight(90e6, Verdict::Tight)]
    #[case::too_little(70e6, Verdict::TooLittle)]
    fn a_fifth_is_to_be_left(#[case] uplink: f64, #[case] verdict: Verdict) {
        let machine = Machine { uplink_bps: Some(uplink), ..Machine::default() };
        let needs = plan().needs(&machine, &Costs::default(), &Prices::default());
        assert_eq!(of(&needs, Resource::Uplink).verdict, verdict);
        assert_eq!(of(&needs, Resource::Memory).verdict, Verdict::NotKnown);
    }

    #[test]
    fn a_machine_corrects_the_processor_and_not_beyond_belief() {
        let (plain, twice) = (plan().processor(&Costs::default()), plan().processor(&Costs::default().corrected(2.0)));
        assert!((twice - plain * 2.0).abs() < 1e-12);
        assert_eq!(Costs::default().corrected(f64::NAN), Costs::default());
        assert_eq!(Costs::default().corrected(1e9), Costs::default().corrected(8.0));
    }

    proptest! {
        #[test]
        fn no_plan_breaks_it(numbers in proptest::collection::vec(any::<f64>(), 7), available: f64) {
            let [shows, bitrate_bps, destinations, viewers, sounds, hours, shows_a_month] = numbers[..] else { return Ok(()) };
            let plan = Plan { shows, bitrate_bps, destinations, viewers, sounds, is_recorded: true, hours, shows_a_month };
            let machine = Machine { uplink_bps: Some(available), ..Machine::default() };
            prop_assert_eq!(plan.needs(&machine, &Costs::default(), &Prices::default()).resources.len(), 5);
        }
    }
}
