//! What encoders send in which a key may stand, and what people write of hours: a key is found where it is, nothing else
//! opens, and hours that are read are written again as the same.
#![no_main]

use libfuzzer_sys::fuzz_target;
use time::OffsetDateTime;
use waverant_fuzz::within;
use waverant_relay::{Attempt, Comer, Gate, GateChannel, GateKey, KeyRight, KeyRules, OpenHours, Protocol};

const OWN: &str = "Boathouse_2019";

/// Stands for the keyed hash.
fn digest(text: &str) -> [u8; 32] {
    let mut digest = [0_u8; 32];
    for (at, byte) in text.bytes().enumerate() {
        let place: &mut u8 = &mut digest[at % 32];
        *place = place.wrapping_mul(31).wrapping_add(byte).wrapping_add(1);
    }
    digest
}

fn gate() -> Gate {
    let own = GateKey {
        id: 1,
        family: 1,
        channel_id: 1,
        right: KeyRight::Publish,
        rank: 0,
        label: "van".into(),
        prefix: "abcdefg".into(),
        is_own: true,
        digest: digest(OWN),
        rules: KeyRules::default(),
        retired: None,
    };
    Gate::new([GateChannel { id: 1, name: "finish-line".into() }], [own])
}

fuzz_target!(|text: &str| {
    within(8 * 1024 * 1024, || {
        let mut fields = text.splitn(5, '\n');
        let mut field = || fields.next().unwrap_or_default();
        let (app, name, tc_url, others) = (field(), field(), field(), [field(), field()]);
        let address = std::net::Ipv4Addr::LOCALHOST.into();
        let comer = Comer { address, right: KeyRight::Publish, protocol: Protocol::Rtmp };
        let attempt = Attempt { comer, app, name, tc_url, others: &others, is_guessing: false };
        let decided = gate().decide(&attempt, OffsetDateTime::UNIX_EPOCH, digest);
        assert!(decided.is_err() || text.contains(OWN));
        if let Ok(hours) = OpenHours::new(name, &[app]) {
            let told: Vec<String> = hours.windows().collect();
            assert_eq!(OpenHours::new(hours.zone(), &told).as_ref(), Ok(&hours));
            let turn = hours.opens_after(OffsetDateTime::UNIX_EPOCH);
            assert!(turn.is_none_or(|turn| hours.is_open(turn)));
        }
    });
});
