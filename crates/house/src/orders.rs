use std::time::Duration;

use waverant_relay::{AudioChoice, LegAddress, LegAddressError, LimitsSheet, Otherwise, SinkRules};
use waverant_store::{Destination, DestinationSettings, Sending};

use super::SheetForm;

/// What a leg is to do.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct LegOrder {
    pub(crate) destination: Destination,
    pub(crate) sending: Sending,
    pub(crate) limits: LimitsSheet,
    pub(crate) sink: SinkRules,
    /// Why nothing is to be sent for now, though it is switched on.
    pub(crate) held_back: Option<String>,
}

impl LegOrder {
    pub(crate) fn new(destination: Destination, sending: Sending) -> Self {
        let form = SheetForm::read(destination.settings.limits_sheet.as_deref());
        let limits = form.to_sheet();
        let takes = limits.video_codecs.iter().chain(&limits.audio_codecs).cloned().collect();
        let sink = SinkRules { audio: audio_choice(&destination.settings), takes };
        Self { destination, sending, limits, sink, held_back: None }
    }

    pub(crate) fn batch(&self) -> Duration {
        Duration::from_millis(self.destination.settings.batch_ms.into())
    }

    pub(crate) fn delay(&self) -> Duration {
        Duration::from_millis(self.sending.delay_ms.into())
    }

    /// How much later than the show it starts.
    pub(crate) fn start_after(&self) -> Duration {
        Duration::from_millis(self.sending.start_after_ms.into())
    }

    /// Why it does not start with the show.
    pub(crate) fn start_reason(&self) -> String {
        match (self.delay(), self.start_after()) {
            (Duration::ZERO, after) => format!("it starts {} s after the show", after.as_secs_f64()),
            (delay, Duration::ZERO) => format!("it is {} s behind the show", delay.as_secs_f64()),
            (delay, after) => {
                let (after, delay) = (after.as_secs_f64(), delay.as_secs_f64());
                format!("it starts {after} s after the show and is {delay} s behind it")
            }
        }
    }

    /// Where the leg goes.
    ///
    /// # Errors
    /// In words.
    pub(crate) fn address(&self) -> Result<LegAddress, LegAddressError> {
        self.destination.settings.address.parse()
    }

    /// True if what is sent is encrypted.
    pub(crate) fn is_secure(&self) -> bool {
        match self.address() {
            Ok(LegAddress::Rtmp(address)) => address.is_secure(),
            Ok(LegAddress::Srt(_)) => self.destination.settings.srt.passphrase.is_some(),
            Err(_) => false,
        }
    }

    /// True if a connection that was made by this order is of no use for the other.
    pub(crate) fn needs_new_connection(&self, other: &Self) -> bool {
        let place = |order: &Self| {
            let settings = &order.destination.settings;
            let (key, srt) = (order.destination.key.clone(), settings.srt.clone());
            (settings.address.clone(), settings.authority.clone(), key, srt)
        };
        place(self) != place(other)
            || self.sending.switched_on != other.sending.switched_on
            || self.sending.delay_ms != other.sending.delay_ms
            || self.held_back != other.held_back
    }
}

/// What was written by a version that knew more is as good as not chosen.
fn audio_choice(settings: &DestinationSettings) -> AudioChoice {
    let pick = settings.audio_pick.as_deref().and_then(|pick| pick.parse().ok());
    AudioChoice { pick, otherwise: if settings.or_no_audio { Otherwise::Nothing } else { Otherwise::First } }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use time::OffsetDateTime;
    use waverant_store::Secret;

    use super::*;

    fn order(change: impl FnOnce(&mut Destination, &mut Sending)) -> LegOrder {
        let mut destination = Destination {
            id: 1,
            name: "plovio".to_owned(),
            settings: DestinationSettings {
                address: "rtmps://plovio.test/in".to_owned(),
                batch_ms: 20,
                ..DestinationSettings::default()
            },
            key: Secret::new("key"),
            created_at: OffsetDateTime::UNIX_EPOCH,
        };
        let mut sending = Sending { switched_on: true, ..Sending::default() };
        change(&mut destination, &mut sending);
        LegOrder::new(destination, sending)
    }

    /// In mid-show only what cannot be done on the same connection costs one.
    #[rstest]
    #[case::batch(|destination: &mut Destination, _: &mut Sending| destination.settings.batch_ms = 0, false)]
    #[case::sound(|destination: &mut Destination, _: &mut Sending| destination.settings.audio_pick = Some("number:2".into()), false)]
    #[case::limits(|destination: &mut Destination, _: &mut Sending| destination.settings.limits_sheet = Some("{}".into()), false)]
    #[case::start(|_: &mut Destination, sending: &mut Sending| sending.start_after_ms = 5, false)]
    #[case::address(|destination: &mut Destination, _: &mut Sending| destination.settings.address = "rtmp://b.test/in".into(), true)]
    #[case::key(|destination: &mut Destination, _: &mut Sending| destination.key = Secret::new("other"), true)]
    #[case::latency(|destination: &mut Destination, _: &mut Sending| destination.settings.srt.latency_ms = 800, true)]
    #[case::passphrase(|destination: &mut Destination, _: &mut Sending| destination.settings.srt.passphrase = Some(Secret::new("wexcombe reach")), true)]
    #[case::delay(|_: &mut Destination, sending: &mut Sending| sending.delay_ms = 5, true)]
    #[case::switch(|_: &mut Destination, sending: &mut Sending| sending.switched_on = false, true)]
    fn a_new_connection_only_where_one_is_needed(
        #[case] change: fn(&mut Destination, &mut Sending),
        #[case] expected: bool,
    ) {
        let (before, after) = (order(|_, _| {}), order(change));
        assert_eq!(before.needs_new_connection(&after), expected);
    }

    #[rstest]
    #[case("rtmps://plovio.test/in", None, true)]
    #[case("rtmp://plovio.test/in", Some("wexcombe reach"), false)]
    #[case("srt://plovio.test:9000", Some("wexcombe reach"), true)]
    #[case("srt://plovio.test:9000", None, false)]
    fn what_is_encrypted_is_known(#[case] address: &str, #[case] passphrase: Option<&str>, #[case] expected: bool) {
        let order = order(|destination, _| {
            destination.settings.address = address.to_owned();
            destination.settings.srt.passphrase = passphrase.map(Secret::new);
        });
        assert_eq!(order.is_secure(), expected);
    }
}
