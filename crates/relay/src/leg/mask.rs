use std::fmt;

/// Pieces of a secret as short as this are masked as well.
const PIECE: usize = 6;

/// Stands for what is masked.
const MASK: &str = "•••";

/// Hides the secrets of a leg in texts of its peer: whole, cut, percent-encoded, in other letters, and in
/// pieces with anything but letters and digits between them.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct Mask {
    /// Letters and digits of each secret, small.
    secrets: Vec<Vec<char>>,
}

impl Mask {
    /// A mask for `secrets`; empty ones are none.
    pub fn new<'a>(secrets: impl IntoIterator<Item = &'a str>) -> Self {
        let bare =
            |secret: &str| letters(secret, encoded).into_iter().map(|(letter, _, _)| letter).collect::<Vec<char>>();
        Self { secrets: secrets.into_iter().map(bare).filter(|secret| !secret.is_empty()).collect() }
    }

    /// The text without the secrets.
    pub fn apply(&self, text: &str) -> String {
        let mut hidden = self.pieces(&letters(text, encoded));
        if text.contains('%') {
            // The percent sign may be the peer's own and stand before the secret by chance.
            hidden.extend(self.pieces(&letters(text, |_, _| None)));
        }
        hidden.sort_unstable();
        let (mut out, mut end) = (String::with_capacity(text.len()), 0);
        for (from, to) in hidden {
            if from >= end {
                out.push_str(&text[end..from]);
                out.push_str(MASK);
            }
            end = end.max(to);
        }
        out.push_str(&text[end..]);
        out
    }

    /// Where pieces of the secrets begin and end in what was read.
    fn pieces(&self, read: &[(char, usize, usize)]) -> Vec<(usize, usize)> {
        let mut pieces = Vec::new();
        for secret in &self.secrets {
            let least = PIECE.min(secret.len());
            let mut at = 0;
            while at + least <= read.len() {
                let length = longest_piece(secret, &read[at..]);
                if length < least {
                    at += 1;
                    continue;
                }
                pieces.push((read[at].1, read[at + length - 1].2));
                at += length;
            }
        }
        pieces
    }
}

impl fmt::Debug for Mask {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str("Mask(…)")
    }
}

/// Letters and digits, small and with what `decode` takes for an encoded letter decoded, each with where it
/// begins and ends.
fn letters(text: &str, decode: impl Fn(&str, usize) -> Option<char>) -> Vec<(char, usize, usize)> {
    let mut found = Vec::new();
    let mut rest = text.char_indices();
    while let Some((at, letter)) = rest.next() {
        let (letter, end) = match decode(text, at) {
            Some(letter) => {
                rest.next();
                rest.next();
                (letter, at + 3)
            }
            None => (letter, at + letter.len_utf8()),
        };
        if letter.is_alphanumeric() {
            found.extend(letter.to_lowercase().map(|letter| (letter, at, end)));
        }
    }
    found
}

fn encoded(text: &str, at: usize) -> Option<char> {
    let digits = text.get(at..at + 3)?.strip_prefix('%')?;
    let byte = u8::from_str_radix(digits, 16).ok()?;
    byte.is_ascii().then_some(char::from(byte))
}

/// How many letters from the start of `text` on stand together anywhere in `secret`.
fn longest_piece(secret: &[char], text: &[(char, usize, usize)]) -> usize {
    let common = |from: usize| secret[from..].iter().zip(text).take_while(|(one, (other, _, _))| *one == other).count();
    (0..secret.len()).map(common).max().unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    const KEY: &str = "live_8841-kd9x2PqW7zR?x=1";

    #[rstest]
    #[case::whole("no such stream: live_8841-kd9x2PqW7zR?x=1.", "no such stream: •••.")]
    #[case::cut("bad key kd9x2PqW…", "bad key •••…")]
    #[case::encoded("bad live%5F8841%2Dkd9x2PqW7zR%3Fx%3D1!", "bad •••!")]
    #[case::every_letter_encoded("%6b%64%39%78%32%50%71%57", "•••")]
    #[case::other_letters("LIVE_8841-KD9X2PQW7ZR", "•••")]
    #[case::in_pieces("live_8841 and then kd9x2PqW7zR", "••• and then •••")]
    #[case::spaced("k d 9 x 2 P q W 7 z R", "•••")]
    #[case::backed("the code is NetStream.Publish.BadName", "the code is NetStream.Publish.BadName")]
    #[case::behind_a_percent_sign("100%8841-kd9x2 %41 live_8841", "100%••• %41 •••")]
    #[case::short_piece("kd9x2", "kd9x2")]
    fn secrets_are_hidden(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(Mask::new([KEY, ""]).apply(text), expected);
    }

    #[test]
    fn a_short_secret_is_hidden_whole() {
        assert_eq!(Mask::new(["x1y"]).apply("key x1y, X-1-Y"), "key •••, •••");
    }

    proptest! {
        #[test]
        fn no_piece_is_left(text in "\\PC{0,40}", secret in "[a-zA-Z0-9]{8,30}", from in 0usize..24, more in "\\PC{0,20}") {
            let piece = &secret[from.min(secret.len() - 7)..];
            let out = Mask::new([secret.as_str()]).apply(&format!("{text}{piece}{more}"));
            prop_assert!(!out.contains(piece), "{out}");
        }
    }
}
