use std::collections::BTreeMap;
use std::process::Command;

use serde_json::Value;

/// Which of our crates each one uses; what its tests use is left out. Arrows run downwards only.
const ARROWS: &[(&str, &[&str])] = &[
    (
        "service",
        &[
            "acme", "api", "calls", "codec", "house", "library", "manual", "model", "net", "outside", "relay", "rtmp",
            "setup", "sources", "store", "viewing",
        ],
    ),
    (
        "api",
        &[
            "acme",
            "calls",
            "capacity",
            "container",
            "house",
            "library",
            "media",
            "model",
            "net",
            "outside",
            "relay",
            "show",
            "sources",
            "store",
            "viewing",
        ],
    ),
    ("viewing", &["container", "house", "library", "media", "net", "relay", "rtmp", "show", "store"]),
    ("sources", &["codec", "house", "media", "net", "relay", "rtmp", "show", "srt", "udp"]),
    (
        "house",
        &[
            "calls", "capacity", "codec", "library", "media", "model", "net", "relay", "rtmp", "setup", "show", "srt",
            "store",
        ],
    ),
    ("library", &["codec", "container", "media", "relay", "store"]),
    ("show", &["codec", "container", "media", "net", "relay", "rtmp", "srt", "udp"]),
    ("bench", &["codec", "container", "media", "relay", "rtmp", "srt", "standin", "store", "udp"]),
    ("outside", &["calls", "model", "net", "srt"]),
    ("store", &["relay"]),
    ("codec", &["container", "media"]),
    ("standin", &["container", "media", "rtmp", "srt", "udp"]),
    ("cli", &["capacity", "manual", "model", "setup"]),
    ("setup", &["model"]),
    ("model", &["capacity"]),
    ("capacity", &[]),
    ("manual", &[]),
    ("inventory", &[]),
    ("udp", &["srt"]),
    ("acme", &["net"]),
    ("calls", &["net", "relay"]),
    ("net", &["relay"]),
    ("relay", &["container", "media", "rtmp", "srt"]),
    ("container", &["media"]),
    ("rtmp", &["media"]),
    ("srt", &[]),
    ("media", &[]),
];

#[test]
fn arrows_are_as_drawn() {
    let arguments = ["metadata", "--no-deps", "--offline", "--format-version", "1"];
    let output = Command::new(env!("CARGO")).args(arguments).current_dir(super::crates_folder()).output().unwrap();
    let found: Value = serde_json::from_slice(&output.stdout).unwrap();
    let short = |name: &Value| name.as_str().unwrap().strip_prefix("waverant-").map(str::to_owned);
    let used = |package: &Value| {
        let normal = package["dependencies"].as_array().unwrap().iter().filter(|used| used["kind"].is_null());
        let mut used: Vec<String> = normal.filter_map(|used| short(&used["name"])).collect();
        used.sort();
        used
    };
    let packages = found["packages"].as_array().unwrap();
    let found: BTreeMap<_, _> =
        packages.iter().map(|package| (short(&package["name"]).unwrap(), used(package))).collect();
    let drawn = ARROWS.iter().map(|(name, used)| {
        let used: Vec<String> = used.iter().map(|used| (*used).to_owned()).collect();
        ((*name).to_owned(), used)
    });
    assert_eq!(found, drawn.collect());
}

#[test]
fn arrows_run_downwards() {
    for (place, (name, used)) in ARROWS.iter().enumerate() {
        for below in *used {
            let lower = ARROWS[place + 1..].iter().any(|(other, _)| other == below);
            assert!(lower, "`{name}` uses `{below}`, which is not below it");
        }
    }
}
