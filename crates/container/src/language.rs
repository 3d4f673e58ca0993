//! Languages as the containers write them.

use isolang::Language;

/// Where ISO 639-2 has another code for bibliographies, which Matroska uses.
const BIBLIOGRAPHIC: [(&str, &str); 20] = [
    ("bod", "tib"),
    ("ces", "cze"),
    ("cym", "wel"),
    ("deu", "ger"),
    ("ell", "gre"),
    ("eus", "baq"),
    ("fas", "per"),
    ("fra", "fre"),
    ("hye", "arm"),
    ("isl", "ice"),
    ("kat", "geo"),
    ("mkd", "mac"),
    ("mri", "mao"),
    ("msa", "may"),
    ("mya", "bur"),
    ("nld", "dut"),
    ("ron", "rum"),
    ("slk", "slo"),
    ("sqi", "alb"),
    ("zho", "chi"),
];

/// The three letters of a language tag (RFC 5646): `und` if its first part is no known language.
pub(crate) fn three_letters(tag: Option<&str>) -> &'static str {
    let first = tag.and_then(|tag| tag.split(['-', '_']).next()).unwrap_or_default().to_ascii_lowercase();
    let found = match first.len() {
        2 => Language::from_639_1(&first),
        3 => Language::from_639_3(terminological(&first)),
        _ => None,
    };
    found.map_or("und", |language| language.to_639_3())
}

/// The same in the bibliographic form.
pub(crate) fn bibliographic(tag: Option<&str>) -> &'static str {
    let letters = three_letters(tag);
    BIBLIOGRAPHIC.iter().find(|(terminological, _)| *terminological == letters).map_or(letters, |(_, other)| other)
}

/// The language tag of three letters of either form; none if they say that nobody knows.
pub(crate) fn tag(letters: &str) -> Option<String> {
    let letters = terminological(letters);
    if letters == "und" {
        return None;
    }
    let language = Language::from_639_3(letters)?;
    Some(language.to_639_1().unwrap_or(language.to_639_3()).to_owned())
}

fn terminological(letters: &str) -> &str {
    BIBLIOGRAPHIC.iter().find(|(_, other)| *other == letters).map_or(letters, |(terminological, _)| terminological)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::two_letters(Some("de"), "deu", "ger")]
    #[case::with_a_region(Some("pt-BR"), "por", "por")]
    #[case::three_letters(Some("fra"), "fra", "fre")]
    #[case::of_the_other_form(Some("fre"), "fra", "fre")]
    #[case::unknown(Some("x1"), "und", "und")]
    #[case::none(None, "und", "und")]
    fn tags_become_letters(#[case] from: Option<&str>, #[case] expected: &str, #[case] other: &str) {
        assert_eq!((three_letters(from), bibliographic(from)), (expected, other));
    }

    #[rstest]
    #[case("ger", Some("de"))]
    #[case("deu", Some("de"))]
    #[case("und", None)]
    #[case("gsw", Some("gsw"))]
    #[case("", None)]
    fn letters_become_tags(#[case] letters: &str, #[case] expected: Option<&str>) {
        assert_eq!(tag(letters).as_deref(), expected);
    }
}
