//! docs/findings.md is made from the table of codes. `WAVERANT_WRITE_DOCS=1` writes it.

use std::fmt::Write;

use waverant_relay::{FindingCode, Severity};

const HEAD: &str = "# Findings

What is wrong or odd about a show or the house stands in one list: on the board, in `waverant finding list`, in the API (`findings` of a channel and of the house in `/live`), and with its times in the report of the show. Each finding has a stable code, a severity, since when it is so, its cause with the figures as they are now, what to do, and which destinations suffer.

- **note**: odd, and worth knowing. **warning**: something suffers, or soon will. **alarm**: the show does not get where it should.
- What is found has to last before it is told, and to be gone as long before it is forgiven; where a figure swings around its limit, a second, weaker one keeps the finding (\"until\"). So nothing flutters.
- A finding that is known can be muted for the rest of a show: `waverant finding mute CHANNEL CODE`, or the bell on the channel's page.
- What a platform complains of can be asked in its own words: `waverant finding ask \"keyframe interval too long\"`, or on the console's page *Findings*.

This file is made from the rules (`crates/relay/src/checkup/`); a test compares.

| code | severity | told when | after | until gone for | usually means | do |
| --- | --- | --- | --- | --- | --- | --- |
";

#[test]
fn the_document_of_findings_is_the_table_of_codes() {
    let mut expected = HEAD.to_owned();
    for code in FindingCode::ALL {
        let (about, patience) = (code.about(), code.patience());
        let severity = match code.severity() {
            Severity::Note => "note",
            Severity::Warning => "warning",
            Severity::Alarm => "alarm",
        };
        let (raised, cleared) = (patience.raised_after.as_secs(), patience.cleared_after.as_secs());
        let (word, when, means, advice) = (code.word(), about.when, about.means, about.advice);
        writeln!(expected, "| `{word}` | {severity} | {when} | {raised} s | {cleared} s | {means} | {advice} |")
            .unwrap();
    }
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/findings.md");
    if std::env::var_os("WAVERANT_WRITE_DOCS").is_some() {
        std::fs::write(path, &expected).unwrap();
    }
    let found = std::fs::read_to_string(path).unwrap_or_default();
    assert!(found == expected, "docs/findings.md is not what the rules say; run with WAVERANT_WRITE_DOCS=1");
}
