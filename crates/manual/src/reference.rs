/// The settings file as it is shipped: every key with its default, and what it means in the lines before it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Reference {
    /// What stands before the first section.
    pub preface: Vec<String>,
    /// In the order of the file.
    pub sections: Vec<Section>,
}

/// What stands under one heading.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Section {
    /// Without the brackets.
    pub name: String,
    /// In the order of the file.
    pub entries: Vec<Entry>,
}

/// Keys that are described together, mostly one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Lines such as `rtmp = "0.0.0.0:1935"`.
    pub keys: Vec<String>,
    /// What the lines before say; a line that begins with spaces is an example.
    pub told: Vec<String>,
}

impl Reference {
    /// Reads it line by line. A key that stands under another without a comment is described by the same; a comment that
    /// looks like a key (`# port = 465`) is one that has no fixed default.
    pub fn read(text: &str) -> Self {
        let mut read = Self::default();
        let mut told: Vec<String> = Vec::new();
        for line in text.lines().map(str::trim_end) {
            let comment = line.strip_prefix('#').map(|rest| rest.strip_prefix(' ').unwrap_or(rest));
            match comment {
                Some(key) if is_key(key) => read.add(key, &mut told),
                Some(text) => told.push(text.to_owned()),
                None if line.starts_with('[') => {
                    if read.sections.is_empty() {
                        read.preface = std::mem::take(&mut told);
                    }
                    let name = line.trim_matches(['[', ']']).to_owned();
                    read.sections.push(Section { name, entries: Vec::new() });
                }
                None if is_key(line) => read.add(line, &mut told),
                None => {}
            }
        }
        read
    }

    fn add(&mut self, key: &str, told: &mut Vec<String>) {
        let Some(section) = self.sections.last_mut() else { return };
        match section.entries.last_mut() {
            Some(before) if told.is_empty() => before.keys.push(key.to_owned()),
            _ => section.entries.push(Entry { keys: vec![key.to_owned()], told: std::mem::take(told) }),
        }
    }
}

/// A word, an equals sign, a value.
fn is_key(line: &str) -> bool {
    line.split_once(" = ").is_some_and(|(name, _)| {
        !name.is_empty()
            && name.chars().all(|letter| letter.is_ascii_lowercase() || letter.is_ascii_digit() || letter == '_')
    })
}

#[cfg(test)]
mod tests {
    use super::{Entry, Reference};

    const SHIPPED: &str = include_str!("../../../waverant.toml");

    fn entry(keys: &[&str], told: &[&str]) -> Entry {
        let owned = |all: &[&str]| all.iter().map(|one| (*one).to_owned()).collect();
        Entry { keys: owned(keys), told: owned(told) }
    }

    #[test]
    fn keys_are_told_by_the_lines_before_them() {
        let read = Reference::read(
            "# Settings.\n\n[listen]\n# Where boats land.\n# Any pier.\npier = 1\nquay = 2\n# Left out: none.\n# port = 465\n\
             \n[crew]\n# As in:\n#   name = \"harbour\"\nfile = \"\"\n",
        );
        assert_eq!(read.preface, ["Settings."]);
        assert_eq!(read.sections[0].name, "listen");
        assert_eq!(
            read.sections[0].entries,
            [
                entry(&["pier = 1", "quay = 2"], &["Where boats land.", "Any pier."]),
                entry(&["port = 465"], &["Left out: none."])
            ]
        );
        assert_eq!(read.sections[1].entries, [entry(&["file = \"\""], &["As in:", "  name = \"harbour\""])]);
    }

    #[test]
    fn every_key_that_is_shipped_is_read_and_told() {
        let read = Reference::read(SHIPPED);
        let keys: usize = read.sections.iter().flat_map(|section| &section.entries).map(|entry| entry.keys.len()).sum();
        let in_file = SHIPPED.lines().filter(|line| !line.starts_with('#') && line.contains(" = ")).count();
        assert_eq!(keys, in_file + 1, "and `port` of mail, which has no fixed default");
        assert!(read.sections.iter().flat_map(|section| &section.entries).all(|entry| !entry.told.is_empty()));
        assert!(!read.preface.is_empty());
    }
}
