//! What of others is used stands in docs/dependencies.md with why, and nothing else does.

use std::collections::BTreeSet;
use std::fs;

use serde_json::Value;
use toml::Table;

fn read(path: &str) -> String {
    fs::read_to_string(super::crates_folder().parent().unwrap().join(path)).unwrap()
}

/// Names of the first column, of rows that say why.
fn explained() -> BTreeSet<String> {
    let text = read("docs/dependencies.md");
    let rows = text.lines().filter_map(|line| line.strip_prefix("| `"));
    let cells = rows.filter_map(|row| row.split_once(" | ")).filter(|(_, why)| why.len() > 4);
    let names = cells.flat_map(|(names, _)| names.split(',').map(|name| name.trim_matches([' ', '`']).to_owned()));
    names.collect()
}

#[test]
fn each_is_explained() {
    let workspace: Table = read("Cargo.toml").parse().unwrap();
    let crates = workspace["workspace"]["dependencies"].as_table().unwrap().keys().cloned();
    let mut used: BTreeSet<String> = crates.filter(|name| !name.starts_with("waverant-")).collect();
    let console: Value = serde_json::from_str(&read("console/package.json")).unwrap();
    for kind in ["dependencies", "devDependencies"] {
        used.extend(console[kind].as_object().unwrap().keys().cloned());
    }
    assert_eq!(explained(), used);
}
