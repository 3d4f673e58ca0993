//! A set-up file is read whole, and all that is wrong in it is told with its place.

use proptest::prelude::*;
use waverant_setup::{Document, Fault, Path, SecretText, Setup};

fn read(text: &str) -> (Setup, Vec<String>) {
    let told = |fault: &Fault| format!("{}:{} {}: {}", fault.place.line, fault.place.column, fault.at, fault.text);
    match Document::read(text) {
        Err(faults) => (Setup::default(), faults.iter().map(told).collect()),
        Ok(mut document) => {
            let setup = Setup::read(&mut document);
            (setup, document.take_faults().iter().map(told).collect())
        }
    }
}

const WHOLE: &str = r#"
form = 1

[destinations.plovio]
address = "rtmps://live.plovio.example/in"
key = { env = "PLOVIO_KEY" }
limits = { video_codecs = ["H.264"], max_bitrate_bps = 6000000 }

[destinations."mixer, clubhouse"]
address = "srt://192.0.2.7:9000"
[destinations."mixer, clubhouse".srt]
latency_ms = 200
passphrase = { file = "destinations/mixer/passphrase" }

[channels.finish-line]
title = "Finish line"
hold_ms = 20000
recording.format = "matroska"
[channels.finish-line.viewing]
audience = "everybody"
[channels.finish-line.destinations]
plovio = { is_on = true, delay_ms = 30000 }
[[channels.finish-line.keys]]
label = "van"
expires_at = 2026-06-01T12:00:00Z
[[channels.finish-line.keys]]
label = "bus"
key = "Wexcombe2019"
expires_at = "2026-06-01T14:00:00+02:00"
hours = { zone = "UTC", windows = ["mon-fri 08:00-18:00"] }

[people.cox]
channels = { finish-line = "operator" }

[[addresses]]
range = "192.0.2.0/24"
reception = "welcome"
"#;

#[test]
fn all_kinds_are_read() {
    let (setup, faults) = read(WHOLE);
    assert_eq!(faults, Vec::<String>::new());
    let channel = &setup.channels.unwrap()["finish-line"];
    let keys = channel.keys.as_ref().unwrap();
    assert_eq!(keys[0].expires_at, keys[1].expires_at);
    assert!(matches!(&keys[1].key, Some(SecretText::Given(key)) if key.reveal() == "Wexcombe2019"));
    assert_eq!(channel.destinations.as_ref().unwrap()["plovio"].delay_ms, Some(30_000));
    let destinations = setup.destinations.unwrap();
    assert!(format!("{:?}", destinations["plovio"].key).contains("env:PLOVIO_KEY"));
    assert_eq!(destinations["mixer, clubhouse"].srt.latency_ms, Some(200));
    assert_eq!(setup.addresses.unwrap().len(), 1);
    assert!(setup.depots.is_none() && setup.call_targets.is_none());
}

#[test]
fn each_fault_is_told_with_its_place() {
    let text = r#"form = 1
[destinations.plovio]
address = 7
keys = "x"
key = { file = "../key" }
[destinations.tindrel]
batch_ms = 20
[channels.weir]
hold_ms = "long"
tittle = "Weir"
recording = { when = "sometimes", form = "mp4" }
[[channels.weir.keys]]
label = "van"
rank = 1
[[channels.weir.keys]]
label = "bus"
expires_at = 2026-06-01
[channles.weir]
"#;
    let (setup, faults) = read(text);
    let begins: Vec<&str> = faults.iter().map(|fault| fault.split(": ").next().unwrap()).collect();
    let expected = [
        "3:11 destinations.plovio.address",
        "4:1 destinations.plovio.keys",
        "5:7 destinations.plovio.key",
        "6:1 destinations.tindrel",
        "9:11 channels.weir.hold_ms",
        "10:1 channels.weir.tittle",
        "11:22 channels.weir.recording.when",
        "11:35 channels.weir.recording.form",
        "17:14 channels.weir.keys[2].expires_at",
        "18:2 channles",
    ];
    assert_eq!(begins, expected, "{faults:#?}");
    assert!(faults[0].contains("invalid type: integer `7`, expected a string"), "{}", faults[0]);
    assert!(faults[4].contains("string \"long\" stands where a whole number was expected"), "{}", faults[4]);
    assert!(faults[2].contains("below the folder of secrets"), "{}", faults[2]);
    assert!(faults[3].contains("missing field `address`"), "{}", faults[3]);
    assert!(faults[8].contains("2026-05-17T18:00:00Z"), "{}", faults[8]);
    // What can be is there all the same, so that what it says can be judged as well.
    assert_eq!(setup.channels.unwrap()["weir"].keys.as_ref().unwrap()[0].rank, 1);
}

#[test]
fn what_is_no_toml_is_told_with_all_places() {
    let (_, faults) = read("form = 1\n[channels.weir\ntitle = \"Weir\nhold_ms = 7\n");
    assert!(faults[0].starts_with("2:15"), "{faults:#?}");
    let (_, faults) = read("[channels.weir]\ntitle = \nhold_ms = 7x\nhold_ms = 1\n");
    assert!(faults.len() >= 2 && faults[0].starts_with("2:") && faults[1].starts_with("3:"), "{faults:#?}");
    let (_, faults) = read("form = 2\n");
    assert!(faults[0].starts_with("1:1 form") && faults[0].contains("newer version"), "{faults:#?}");
    let (_, faults) = read("channels = 3\npeople = []\naddresses = {}\n");
    assert_eq!(faults.len(), 3, "{faults:#?}");
}

#[test]
fn a_place_is_that_of_the_nearest_thing() {
    let document = Document::read(WHOLE).unwrap();
    let keys = Path::of(&["channels", "finish-line", "keys"]);
    let place = |path: &Path| (document.place_of(path).line, document.place_of(path).column);
    assert_eq!(place(&keys.at(1).field("hours.windows")), (30, 25));
    assert_eq!(place(&keys.at(1).field("rank")), place(&keys.at(1)));
    assert_eq!(place(&Path::of(&["channels", "finish-line", "recording", "format"])), (18, 11));
    assert_eq!(place(&Path::of(&["depots", "none"])), (1, 1));
}

/// A text as long as one may be costs no more than its length.
#[test]
fn more_than_a_house_has_is_not_read() {
    let many: String = (0..5001).map(|weir| format!("[channels.weir-{weir}]\n")).collect();
    let (setup, faults) = read(&many);
    assert!(setup.channels.is_none() && faults[0].contains("5001 are listed"), "{faults:?}");
    let (setup, faults) = read(&many.replace("[channels.weir-5000]\n", ""));
    assert_eq!((setup.channels.map(|channels| channels.len()), faults.len()), (Some(5000), 0));
}

proptest! {
    /// Whatever stands in a file, its reading ends, with places that are in the text.
    #[test]
    fn any_text_is_read(text in "\\PC{0,300}") {
        let _ = read(&text);
    }

    /// Any change of a good file is a good file or one with faults that have places.
    #[test]
    fn any_change_of_a_file_is_read(at in 0..WHOLE.len(), with in "[\\[\\]{}=.,\"'a-z0-9\n]{0,4}", cut in 0..6usize) {
        let end = (at + cut).min(WHOLE.len());
        let text = format!("{}{with}{}", &WHOLE[..at], &WHOLE[end..]);
        let lines = text.lines().count() + 1;
        if let Ok(mut document) = Document::read(&text) {
            let _ = Setup::read(&mut document);
            prop_assert!(document.take_faults().iter().all(|fault| (1..=lines).contains(&fault.place.line)));
        }
    }
}
