//! docs/timeline.md tells every figure with its unit and its step.

use waverant_relay::Figure;

#[test]
fn every_figure_is_told() {
    let text = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/timeline.md")).unwrap();
    for figure in Figure::all() {
        let (word, unit, quantum) = (figure.word(), figure.unit(), figure.quantum());
        let row = text.lines().find(|line| line.starts_with(&format!("| `{word}` | {unit} |")));
        let kept = format!(" | {quantum} | ");
        assert!(row.is_some_and(|row| row.contains(&kept)), "`{word}` in {unit}, kept to {quantum}: {row:?}");
    }
}
