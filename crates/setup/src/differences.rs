use std::collections::BTreeMap;

use toml::{Table, Value};

/// That a field is other than it was.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// Which, with dots.
    pub field: String,
    /// What it was, as TOML writes it; none if it had its usual value.
    pub before: Option<String>,
    /// What it is to be; none for its usual value.
    pub after: Option<String>,
}

/// Fields of a table and of those in it, with dots, and what they are, as TOML writes it.
pub fn flat(table: &Table) -> BTreeMap<String, String> {
    fn walk(prefix: &str, table: &Table, found: &mut BTreeMap<String, String>) {
        for (name, value) in table {
            let field = if prefix.is_empty() { name.clone() } else { format!("{prefix}.{name}") };
            match value {
                Value::Table(inner) => walk(&field, inner, found),
                other => drop(found.insert(field, other.to_string())),
            }
        }
    }
    let mut found = BTreeMap::new();
    walk("", table, &mut found);
    found
}

/// What is other in `after` than in `before`.
pub fn differences(before: &Table, after: &Table) -> Vec<Difference> {
    let (mut before, after) = (flat(before), flat(after));
    let mut found = Vec::new();
    for (field, value) in after {
        let was = before.remove(&field);
        if was.as_ref() != Some(&value) {
            found.push(Difference { field, before: was, after: Some(value) });
        }
    }
    found.extend(before.into_iter().map(|(field, was)| Difference { field, before: Some(was), after: None }));
    found.sort_by(|one, other| one.field.cmp(&other.field));
    found
}

/// A table without the fields that are as in `usual`, and without tables of which nothing is left.
pub fn without(table: Table, usual: &Table) -> Table {
    let mut left = Table::new();
    for (name, value) in table {
        let same = usual.get(&name);
        match (value, same) {
            (Value::Table(inner), Some(Value::Table(usual))) => {
                let inner = without(inner, usual);
                if !inner.is_empty() {
                    left.insert(name, Value::Table(inner));
                }
            }
            (value, same) if same == Some(&value) => {}
            (value, _) => drop(left.insert(name, value)),
        }
    }
    left
}

#[cfg(test)]
mod tests {
    use super::*;

    fn table(text: &str) -> Table {
        text.parse().unwrap()
    }

    #[test]
    fn what_is_other_is_told_field_by_field() {
        let before = table("title = 'Weir'\nhold_ms = 1000\n[srt]\nlatency_ms = 500");
        let after = table("title = 'Weir'\n[srt]\nlatency_ms = 200\n[viewing]\nsites = ['a', 'b']");
        let told: Vec<String> = differences(&before, &after)
            .into_iter()
            .map(|one| format!("{} {:?} {:?}", one.field, one.before, one.after))
            .collect();
        let expected = [
            r#"hold_ms Some("1000") None"#,
            r#"srt.latency_ms Some("500") Some("200")"#,
            r#"viewing.sites None Some("[\"a\", \"b\"]")"#,
        ];
        assert_eq!(told, expected);
        assert_eq!(differences(&before, &before), []);
    }

    #[test]
    fn what_is_usual_is_left_out() {
        let usual = table("hold_ms = 10000\ntitle = ''\n[srt]\nlatency_ms = 500\n[viewing]\nback_ms = 1");
        let whole = table("hold_ms = 10000\ntitle = 'Weir'\n[srt]\nlatency_ms = 500\n[viewing]\nback_ms = 2");
        assert_eq!(without(whole, &usual), table("title = 'Weir'\n[viewing]\nback_ms = 2"));
    }
}
