//! What viewers write into addresses and headers: names of pieces, sites, tokens of links, wishes for a sound. What is
//! read is written again as the same.
#![no_main]

use libfuzzer_sys::fuzz_target;
use waverant_container::PieceName;
use waverant_fuzz::within;
use waverant_relay::{AudioPick, Site, ViewingLink};

fuzz_target!(|text: &str| {
    within(8 * 1024 * 1024, || {
        if let Ok(piece) = text.parse::<PieceName>() {
            assert_eq!(piece.to_string(), text);
        }
        if let Ok(site) = text.parse::<Site>() {
            assert_eq!(site.to_string().parse::<Site>().as_ref(), Ok(&site));
        }
        if let Some(site) = Site::of_address(text) {
            assert!(!site.as_str().contains(['/', ' ', ';']) || site.as_str().matches('/').count() == 2);
        }
        let _ = ViewingLink::id_in(text);
        let _ = text.parse::<AudioPick>();
    });
});
