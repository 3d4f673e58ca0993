//! What a system of the house answers: read within bounds; nothing but a status of 200 to 299 lets anybody in.
#![no_main]

use libfuzzer_sys::fuzz_target;
use waverant_fuzz::within;
use waverant_relay::{Answer, MAX_ANSWER};

fuzz_target!(|bytes: &[u8]| {
    let [high, low, body @ ..] = bytes else { return };
    let (status, body) = (u16::from_be_bytes([*high, *low]) % 700, &body[..body.len().min(MAX_ANSWER)]);
    within(512 * 1024, || {
        if let Ok((answer, keep)) = Answer::read(status, body) {
            assert!(keep.as_secs() <= 24 * 3600);
            match answer {
                Answer::LetIn(grant) => {
                    assert!((200..300).contains(&status));
                    assert!(grant.destinations.len() <= 100);
                    assert!(grant.label.is_none_or(|label| label.chars().count() <= 81));
                }
                Answer::Refused(words) => assert!(words.is_none_or(|words| words.chars().count() <= 201)),
            }
        }
    });
});
