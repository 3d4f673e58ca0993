use std::fmt::Write;

use toml::{Table, Value};

/// A table of plain values that fits into a line, at this depth or below, is written as one.
const INLINE_FROM: usize = 3;
const LINE: usize = 100;

/// A set-up as text: values before tables, in the order in which they are.
pub fn write(table: &Table) -> String {
    let mut out = String::new();
    write_table(&mut out, &mut Vec::new(), table);
    out
}

/// A name as a key of TOML.
pub(crate) fn key(name: &str) -> String {
    let is_bare = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'_';
    if !name.is_empty() && name.bytes().all(is_bare) {
        return name.to_owned();
    }
    // A text of JSON is one of TOML, but for one character.
    serde_json::Value::from(name).to_string().replace('\u{7f}', "\\u007F")
}

fn write_table(out: &mut String, path: &mut Vec<String>, table: &Table) {
    let is_line = |name: &str, value: &Value| match value {
        Value::Table(inner) => path.len() + 1 >= INLINE_FROM && is_short(name, inner) || is_reference(inner),
        Value::Array(items) => !items.iter().any(Value::is_table),
        _ => true,
    };
    let (lines, blocks): (Vec<_>, Vec<_>) = table.iter().partition(|(name, value)| is_line(name, value));
    for (name, value) in lines {
        let _ = writeln!(out, "{} = {}", key(name), inline(value));
    }
    for (name, value) in blocks {
        path.push(key(name));
        match value {
            Value::Table(inner) => write_block(out, path, inner),
            Value::Array(items) => {
                for inner in items.iter().filter_map(Value::as_table) {
                    let _ = write!(out, "\n[[{}]]\n", path.join("."));
                    write_table(out, path, inner);
                }
            }
            _ => {}
        }
        path.pop();
    }
}

/// A header only where something stands below it, or nothing at all.
fn write_block(out: &mut String, path: &mut Vec<String>, inner: &Table) {
    let holds_things = !inner.is_empty() && inner.values().all(|value| value.is_table() && path.len() < 2);
    if !holds_things {
        let _ = write!(out, "\n[{}]\n", path.join("."));
    }
    write_table(out, path, inner);
}

fn is_reference(table: &Table) -> bool {
    table.len() == 1 && table.keys().all(|name| name == "file" || name == "env")
}

fn is_short(name: &str, table: &Table) -> bool {
    let is_plain = |value: &Value| match value {
        Value::Table(inner) => is_reference(inner),
        Value::Array(_) => false,
        Value::String(text) => !text.contains('\n'),
        _ => true,
    };
    table.len() <= 3 && table.values().all(is_plain) && name.len() + inline(&Value::Table(table.clone())).len() < LINE
}

/// A value in a line; a text with lines of its own keeps them.
fn inline(value: &Value) -> String {
    match value {
        Value::Table(table) => {
            let fields: Vec<String> =
                table.iter().map(|(name, value)| format!("{} = {}", key(name), inline(value))).collect();
            if fields.is_empty() { "{}".to_owned() } else { format!("{{ {} }}", fields.join(", ")) }
        }
        Value::Array(items) => {
            let items: Vec<String> = items.iter().map(inline).collect();
            let whole = format!("[{}]", items.join(", "));
            if whole.len() <= LINE || items.len() < 2 { whole } else { format!("[\n  {},\n]", items.join(",\n  ")) }
        }
        other => other.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_set_up_is_written_to_be_read() {
        let text = r#"form = 1

[destinations.plovio]
address = "rtmp://127.0.0.1/live"
key = { file = "destinations/plovio/key" }

[destinations.plovio.limits]
video_codecs = ["H.264"]
on_breach = "warn"

[channels.finish-line]
title = "Finish line"

[channels.finish-line.destinations]
plovio = { is_on = true, delay_ms = 30000 }

[[channels.finish-line.keys]]
label = "van"
expires_at = 2026-06-01T12:00:00Z

[people."the cox"]
role = "operator"
"#;
        let table: Table = text.parse().unwrap();
        assert_eq!(write(&table), text);
    }

    #[test]
    fn what_is_long_or_has_lines_is_read_back() {
        let mut page = Table::new();
        page.insert("description".into(), Value::from("# Regatta\n\nIt \"begins\" at 9.\\\n'''\"\"\""));
        page.insert("kinds".into(), Value::Array((0..40).map(|n| Value::from(format!("kind.{n}"))).collect()));
        page.insert("odd \"name\"\u{7f}".into(), Value::from(1));
        let mut table = Table::new();
        table.insert("page".into(), Value::Table(page));
        let written = write(&table);
        assert_eq!(written.parse::<Table>().unwrap(), table, "{written}");
    }
}
