use std::time::Duration;

use super::{LegAddress, LegAddressError, LimitsSheet, SinkRules};
use crate::Secret;

/// A destination as legs need it.
#[derive(Clone, Debug, PartialEq)]
pub struct LegDestination {
    /// The destination's number.
    pub id: u64,
    /// Its name.
    pub name: String,
    /// Where it is: `rtmp://host/app`, `rtmps://` for TLS, or `srt://host:port`.
    pub address: String,
    /// The only authority (PEM) that may sign its certificate; none: those of this machine.
    pub authority: Option<String>,
    /// The key for it; over SRT the stream id.
    pub key: Secret,
    /// How long what is lost over SRT is waited for.
    pub srt_latency: Duration,
    /// What both ends must know over SRT.
    pub passphrase: Option<Secret>,
}

impl LegDestination {
    /// Where the leg goes.
    ///
    /// # Errors
    /// [`LegAddressError`] that says what was expected.
    pub fn address(&self) -> Result<LegAddress, LegAddressError> {
        self.address.parse()
    }

    /// True if what is sent there is encrypted.
    pub fn is_secure(&self) -> bool {
        match self.address() {
            Ok(LegAddress::Rtmp(address)) => address.is_secure(),
            Ok(LegAddress::Srt(_)) => self.passphrase.is_some(),
            Err(_) => false,
        }
    }

    /// True if a connection to this one is of no use for the other.
    fn is_elsewhere(&self, other: &Self) -> bool {
        let place = |of: &Self| (of.address.clone(), of.authority.clone(), of.key.clone());
        let terms = |of: &Self| (of.srt_latency, of.passphrase.clone());
        place(self) != place(other) || terms(self) != terms(other)
    }
}

/// What a leg is to do.
#[derive(Clone, Debug, PartialEq)]
pub struct LegOrder {
    /// Where it goes.
    pub destination: LegDestination,
    /// Whether it is to send.
    pub is_on: bool,
    /// How long packets are collected before they are sent.
    pub batch: Duration,
    /// How much later than the source it sends.
    pub delay: Duration,
    /// How much later than the show it starts.
    pub start_after: Duration,
    /// What the destination accepts.
    pub limits: LimitsSheet,
    /// Which tracks it gets.
    pub sink: SinkRules,
    /// Why nothing is to be sent for now, though it is switched on.
    pub held_back: Option<String>,
    /// Why nothing is to be sent in this session, though it is switched on.
    pub set_aside: Option<String>,
}

impl LegOrder {
    /// An order to send at once, all that the destination takes.
    pub fn at_once(destination: LegDestination, batch: Duration) -> Self {
        let (delay, start_after) = (Duration::ZERO, Duration::ZERO);
        let (limits, sink) = (LimitsSheet::default(), SinkRules::default());
        Self { destination, is_on: true, batch, delay, start_after, limits, sink, held_back: None, set_aside: None }
    }

    /// Why it does not start with the show.
    pub fn start_reason(&self) -> String {
        match (self.delay, self.start_after) {
            (Duration::ZERO, after) => format!("it starts {} s after the show", after.as_secs_f64()),
            (delay, Duration::ZERO) => format!("it is {} s behind the show", delay.as_secs_f64()),
            (delay, after) => {
                let (after, delay) = (after.as_secs_f64(), delay.as_secs_f64());
                format!("it starts {after} s after the show and is {delay} s behind it")
            }
        }
    }

    /// True if a connection that was made by this order is of no use for the other.
    pub fn needs_new_connection(&self, other: &Self) -> bool {
        self.destination.is_elsewhere(&other.destination)
            || self.is_on != other.is_on
            || self.delay != other.delay
            || self.held_back != other.held_back
            || self.set_aside != other.set_aside
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::{AudioChoice, OnBreach};

    fn order(change: impl FnOnce(&mut LegOrder)) -> LegOrder {
        let destination = LegDestination {
            id: 1,
            name: "plovio".to_owned(),
            address: "rtmps://plovio.test/in".to_owned(),
            authority: None,
            key: Secret::new("key"),
            srt_latency: Duration::from_millis(500),
            passphrase: None,
        };
        let mut order = LegOrder::at_once(destination, Duration::from_millis(20));
        change(&mut order);
        order
    }

    /// In mid-show only what cannot be done on the same connection costs one.
    #[rstest]
    #[case::batch(|order: &mut LegOrder| order.batch = Duration::ZERO, false)]
    #[case::sound(|order: &mut LegOrder| order.sink.audio = AudioChoice { pick: "number:2".parse().ok(), ..AudioChoice::default() }, false)]
    #[case::limits(|order: &mut LegOrder| order.limits.on_breach = OnBreach::DoNotSend, false)]
    #[case::start(|order: &mut LegOrder| order.start_after = Duration::from_millis(5), false)]
    #[case::address(|order: &mut LegOrder| order.destination.address = "rtmp://b.test/in".into(), true)]
    #[case::key(|order: &mut LegOrder| order.destination.key = Secret::new("other"), true)]
    #[case::authority(|order: &mut LegOrder| order.destination.authority = Some("PEM".into()), true)]
    #[case::latency(|order: &mut LegOrder| order.destination.srt_latency = Duration::from_millis(800), true)]
    #[case::passphrase(|order: &mut LegOrder| order.destination.passphrase = Some(Secret::new("wexcombe reach")), true)]
    #[case::delay(|order: &mut LegOrder| order.delay = Duration::from_millis(5), true)]
    #[case::switch(|order: &mut LegOrder| order.is_on = false, true)]
    #[case::set_aside(|order: &mut LegOrder| order.set_aside = Some("not today".into()), true)]
    #[case::held_back(|order: &mut LegOrder| order.held_back = Some("too fast".into()), true)]
    fn a_new_connection_only_where_one_is_needed(#[case] change: fn(&mut LegOrder), #[case] expected: bool) {
        assert_eq!(order(|_| {}).needs_new_connection(&order(change)), expected);
    }

    #[rstest]
    #[case("rtmps://plovio.test/in", None, true)]
    #[case("rtmp://plovio.test/in", Some("wexcombe reach"), false)]
    #[case("srt://plovio.test:9000", Some("wexcombe reach"), true)]
    #[case("srt://plovio.test:9000", None, false)]
    #[case("no address", None, false)]
    fn what_is_encrypted_is_known(#[case] address: &str, #[case] passphrase: Option<&str>, #[case] expected: bool) {
        let order = order(|order| {
            order.destination.address = address.to_owned();
            order.destination.passphrase = passphrase.map(Secret::new);
        });
        assert_eq!(order.destination.is_secure(), expected);
    }
}
