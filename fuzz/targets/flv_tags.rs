//! Bodies of audio and video messages.
#![no_main]

use bytes::Bytes;
use libfuzzer_sys::fuzz_target;
use waverant_container::{parse_audio_tag, parse_video_tag};

fuzz_target!(|input: &[u8]| {
    let body = Bytes::copy_from_slice(input);
    let _ = parse_audio_tag(&body);
    let _ = parse_video_tag(&body);
});
