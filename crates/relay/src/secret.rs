use std::fmt;

use zeroize::Zeroizing;

/// A text that must not be seen: stream keys, tokens, passphrases, passwords. `Debug` and
/// `Display` print a mask, and what it held is overwritten when it is dropped.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(Zeroizing<String>);

impl Secret {
    /// Takes a text into keeping.
    pub fn new(text: impl Into<String>) -> Self {
        Self(Zeroizing::new(text.into()))
    }

    /// The text itself, for whoever has a right to it.
    pub fn reveal(&self) -> &str {
        &self.0
    }

    /// The part before the first hyphen: of a stream key the one that may be seen.
    pub fn prefix(&self) -> &str {
        self.0.split('-').next().unwrap_or_default()
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str("Secret(…)")
    }
}

impl fmt::Display for Secret {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str("…")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_is_never_printed() {
        let key = Secret::new("abcdefg-secret");
        assert_eq!((key.prefix(), key.reveal()), ("abcdefg", "abcdefg-secret"));
        assert!(!format!("{key} {key:?}").contains("secret"));
    }
}
