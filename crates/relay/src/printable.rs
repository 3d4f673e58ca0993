use std::borrow::Cow;

/// Text from outside as it may be written to a log, a record or a terminal: at most `limit`
/// characters, and no control characters (C0, DEL, C1) or marks that turn the direction of what
/// stands beside them; `�` stands for each.
pub fn printable(text: &str, limit: usize) -> Cow<'_, str> {
    let is_short = text.len() <= limit || text.chars().nth(limit).is_none();
    if is_short && !text.chars().any(is_harmful) {
        return Cow::Borrowed(text);
    }
    let safe = |letter: char| if is_harmful(letter) { char::REPLACEMENT_CHARACTER } else { letter };
    let mut out: String = text.chars().take(limit).map(safe).collect();
    if !is_short {
        out.push('…');
    }
    Cow::Owned(out)
}

/// Source: Unicode, 23.1 (control codes) and UAX 9, 2 (directional formatting characters)
fn is_harmful(letter: char) -> bool {
    letter.is_control() || matches!(letter, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::plain("Hafen, Möwe 7", "Hafen, Möwe 7")]
    #[case::escape("a\u{1b}[2Jb", "a�[2Jb")]
    #[case::c1_and_del("\u{9b}31m\u{7f}", "�31m�")]
    #[case::lines("a\r\nb", "a��b")]
    #[case::turned("\u{202e}abc", "�abc")]
    #[case::long("wwwwwwwwwwwwwwwwwwwwwww", "wwwwwwwwwwwwwwwwwwww…")]
    #[case::just_fits("ööööööööööööööööööö7", "ööööööööööööööööööö7")]
    fn only_letters_go_through(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(printable(text, 20), expected);
    }

    proptest! {
        #[test]
        fn nothing_harmful_is_left(text in "\\PC*|[\u{0}-\u{ff}]*", limit in 0usize..50) {
            let out = printable(&text, limit);
            prop_assert!(!out.chars().any(is_harmful));
            prop_assert!(out.chars().count() <= limit + 1);
        }
    }
}
