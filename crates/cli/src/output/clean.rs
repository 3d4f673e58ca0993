use std::io::{self, Write};

/// Writes text without the control characters that a terminal would obey: what others named, sent or
/// answered is to be read, not to be done. Line ends stay; in JSON the rest is escaped, elsewhere `�` stands
/// for it.
pub(crate) struct Clean<'a> {
    out: &'a mut dyn Write,
    is_json: bool,
}

impl<'a> Clean<'a> {
    pub(crate) fn new(out: &'a mut dyn Write, is_json: bool) -> Self {
        Self { out, is_json }
    }
}

impl Write for Clean<'_> {
    /// Texts come whole: a letter is never cut between two calls.
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let text = String::from_utf8_lossy(bytes);
        if text.chars().all(|letter| letter == '\n' || !letter.is_control()) {
            self.out.write_all(text.as_bytes())?;
        } else if self.is_json {
            self.out.write_all(escaped(&text).as_bytes())?;
        } else {
            self.out.write_all(cleaned(&text, |letter| letter == '\n').as_bytes())?;
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

/// Text of one line.
pub(crate) fn clean_line(text: &str) -> String {
    cleaned(text, |_| false)
}

fn cleaned(text: &str, stays: impl Fn(char) -> bool) -> String {
    let safe = |letter: char| if letter.is_control() && !stays(letter) { char::REPLACEMENT_CHARACTER } else { letter };
    text.chars().map(safe).collect()
}

/// Inside strings of JSON only DEL and C1 are left to be escaped.
///
/// Source: RFC 8259, 7
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 16);
    for letter in text.chars() {
        if letter.is_control() && letter != '\n' {
            out.push_str(&format!("\\u{:04x}", u32::from(letter)));
        } else {
            out.push(letter);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written(text: &str, is_json: bool) -> String {
        let mut out = Vec::new();
        write!(Clean::new(&mut out, is_json), "{text}").unwrap();
        String::from_utf8(out).unwrap()
    }

    #[test]
    fn no_terminal_obeys_what_others_wrote() {
        assert_eq!(written("a\u{1b}[2J\r\u{7f}\u{9b}1m\nMöwe", false), "a�[2J���1m\nMöwe");
        assert_eq!(clean_line("a\nb\u{9d}"), "a�b�");
    }

    #[test]
    fn json_says_the_same_without_them() {
        let value = serde_json::json!({"name": "a\u{1b}[2J\u{7f}\u{9b}1m\n"});
        let text = written(&serde_json::to_string_pretty(&value).unwrap(), true);
        assert!(!text.chars().any(|letter| letter.is_control() && letter != '\n'), "{text}");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&text).unwrap(), value);
    }
}
