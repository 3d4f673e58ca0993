/// The shortest password; NIST SP 800-63B, 3.1.1.2, asks for at least 8, and for a list of those that are guessed first.
pub const MIN_PASSWORD: usize = 10;

/// The longest: a hash takes any length, and nobody types more.
const MAX_PASSWORD: usize = 1024;

/// What is guessed first, of those that are long enough: without capitals, and without digits and signs at the end.
const COMMON: &[&str] = &[
    "abcdefghij",
    "adminadmin",
    "administrator",
    "asdfghjkl",
    "changeme",
    "changemenow",
    "chocolate",
    "computer",
    "default",
    "defaultpassword",
    "football",
    "iloveyou",
    "iloveyouforever",
    "internet",
    "letmein",
    "letmeinnow",
    "liverpool",
    "livestream",
    "loveyou",
    "manchester",
    "masterpassword",
    "michael",
    "mypassword",
    "newpassword",
    "onetwothree",
    "p@ssw0rd",
    "p@ssword",
    "pass",
    "passpass",
    "passw0rd",
    "password",
    "passwordpassword",
    "princess",
    "qazwsxedc",
    "qazwsxedcrfv",
    "qwert",
    "qwerty",
    "qwertyqwerty",
    "qwertyuiop",
    "qwertyuiopasdfghjkl",
    "qwertz",
    "qwertzuiop",
    "regatta",
    "rootroot",
    "secret",
    "secretsecret",
    "streaming",
    "sunshine",
    "superman",
    "superuser",
    "test",
    "testtest",
    "testtesttest",
    "thisisapassword",
    "trustno",
    "waverant",
    "welcome",
    "welcomehome",
    "whatever",
    "zaqwsx",
    "zxcvbnm",
    "1q2w3e4r",
    "1q2w3e4r5t",
    "1q2w3e4r5t6y",
    "1qaz2wsx",
    "1qaz2wsx3edc",
    "q1w2e3r4",
    "q1w2e3r4t5",
];

/// What is wrong with a password that `name` wants, in words; none if it will do.
pub fn password_fault(password: &str, name: &str) -> Option<String> {
    let length = password.chars().count();
    if length < MIN_PASSWORD {
        return Some(format!("the password has {length} characters, at least {MIN_PASSWORD} are needed"));
    }
    if password.len() > MAX_PASSWORD {
        return Some(format!("the password has {} bytes, at most {MAX_PASSWORD} are taken", password.len()));
    }
    let small = password.to_lowercase();
    let bare = small.trim_end_matches(|letter: char| !letter.is_alphabetic());
    if is_run(&small) || COMMON.contains(&small.as_str()) || COMMON.contains(&bare) {
        return Some(
            "the password is one of those that are guessed first; take a few words that nobody says".to_owned(),
        );
    }
    let name = name.to_lowercase();
    // A name with some digits behind it is the first guess of who knows it.
    let is_name =
        !name.is_empty() && bare.trim_end_matches(name.as_str()).is_empty() && bare.starts_with(name.as_str());
    is_name.then(|| "the password is the user name with little else; take another one".to_owned())
}

/// True for one letter over and over, and for letters or digits in their order, up or down.
fn is_run(text: &str) -> bool {
    let step = |pair: &[u8]| match (pair[0], pair[1]) {
        // Behind 9 comes 0.
        (b'9', b'0') => 1,
        (b'0', b'9') => -1,
        (one, other) => i16::from(other) - i16::from(one),
    };
    let mut steps = text.as_bytes().windows(2).map(step);
    let Some(first) = steps.next() else { return true };
    (-1..=1).contains(&first) && steps.all(|step| step == first)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::short("weir lock", Some("9 characters"))]
    #[case::common("password123", Some("guessed first"))]
    #[case::common_capitals("QwertyUiop", Some("guessed first"))]
    #[case::common_with_signs("Welcome2026!!", Some("guessed first"))]
    #[case::digits("1234567890", Some("guessed first"))]
    #[case::digits_round("7890123456", Some("guessed first"))]
    #[case::down("9876543210", Some("guessed first"))]
    #[case::one_letter("aaaaaaaaaaaa", Some("guessed first"))]
    #[case::the_name("harbour2026", Some("user name"))]
    #[case::the_name_twice("Harbourharbour1", Some("user name"))]
    #[case::words("weir heron ferry", None)]
    #[case::a_common_word_among_others("password of the weir", None)]
    #[case::the_name_among_others("harbour heron ferry", None)]
    fn what_is_guessed_first_is_refused(#[case] password: &str, #[case] expected: Option<&str>) {
        let found = password_fault(password, "harbour");
        assert_eq!(found.is_some(), expected.is_some(), "{found:?}");
        assert!(expected.is_none_or(|part| found.as_ref().is_some_and(|found| found.contains(part))), "{found:?}");
    }

    #[test]
    fn common_ones_are_written_as_they_are_compared() {
        for password in COMMON {
            assert_eq!(*password, password.to_lowercase());
        }
        assert!(password_fault(&"x y".repeat(400), "").is_some_and(|told| told.contains("1200 bytes")));
    }

    proptest! {
        #[test]
        fn any_text_is_judged(password in "\\PC{0,40}", name in "\\PC{0,10}") {
            let fault = password_fault(&password, &name);
            prop_assert!(password.chars().count() >= MIN_PASSWORD || fault.is_some());
        }
    }
}
