use totp_rs::{Builder, Secret as Key, Totp};

use super::{Grants, Role};
use crate::Secret;

/// Bytes of a key; RFC 4226, 4 (R6) recommends 160 bits.
pub const TIME_CODE_KEY: usize = 20;

/// Codes that are good before and after the one of now, so that clocks may differ by half a minute.
const SKEW: u16 = 1;

/// The codes of an authenticator: six digits, a new one every 30 s.
///
/// Source: RFC 6238, with SHA-1, which all authenticators know
#[derive(Clone)]
pub struct TimeCodes(Totp);

impl std::fmt::Debug for TimeCodes {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("TimeCodes(…)")
    }
}

impl TimeCodes {
    /// Those of a key of 20 random bytes, for somebody.
    pub fn new(key: [u8; TIME_CODE_KEY], person: &str) -> Option<Self> {
        Self::of(Key::from(key), person)
    }

    /// Those of a key as it is typed; none if it is no key.
    pub fn typed(key: &Secret, person: &str) -> Option<Self> {
        Self::of(Key::try_from_base32(key.reveal()).ok()?, person)
    }

    fn of(key: Key, person: &str) -> Option<Self> {
        // A colon would end the name of the issuer in the address.
        let person = person.replace(':', " ");
        let builder = Builder::new().with_secret(key).with_skew(SKEW).with_issuer(Some("Waverant"));
        builder.with_account_name(person).build().ok().map(Self)
    }

    /// The key, to be typed: 32 letters and digits (RFC 4648, 6).
    pub fn key(&self) -> Secret {
        Secret::new(self.0.secret().to_base32())
    }

    /// The key as an address that authenticators read from a picture of it; none if the name is too odd.
    pub fn address(&self) -> Option<Secret> {
        self.0.to_url().ok().map(Secret::new)
    }

    /// The step of time that `code` belongs to, if it is good at `now`, in seconds since 1970. Whoever takes it remembers
    /// the step, and takes no code of that step or one before again (RFC 6238, 5.2).
    pub fn step_of(&self, code: &str, now: u64) -> Option<u64> {
        let code: String = code.chars().filter(|letter| !letter.is_whitespace()).take(16).collect();
        self.0.check(&code, now)
    }

    /// The code of a moment, in seconds since 1970.
    pub fn code_at(&self, now: u64) -> String {
        self.0.generate(now).to_string()
    }
}

/// True if who may this must have a second factor, where it is asked for from a role on.
pub fn needs_second_factor(least: Option<Role>, grants: &Grants) -> bool {
    least.is_some_and(|least| {
        let channels = grants.channels().map(|(_, role)| role);
        grants.house().into_iter().chain(channels).any(|role| role >= least)
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    /// RFC 6238, appendix B, cut to six digits.
    #[rstest]
    #[case(59, "287082")]
    #[case(1_111_111_109, "081804")]
    #[case(1_111_111_111, "050471")]
    #[case(1_234_567_890, "005924")]
    #[case(2_000_000_000, "279037")]
    #[case(20_000_000_000, "353130")]
    fn codes_are_those_of_the_standard(#[case] now: u64, #[case] code: &str) {
        let codes = TimeCodes::new(*b"12345678901234567890", "cox").unwrap();
        assert_eq!(codes.code_at(now), code);
        assert_eq!(codes.step_of(code, now), Some(now / 30));
        let spaced = format!(" {} {} ", &code[..3], &code[3..]);
        assert_eq!(codes.step_of(&spaced, now + 30), Some(now / 30), "the one before is good for a while");
        assert_eq!(codes.step_of(code, now + 61), None);
        assert_eq!(codes.step_of(code, (now + 3600).saturating_sub(3661)), if now < 61 { Some(1) } else { None });
    }

    #[test]
    fn a_key_is_told_as_text_and_as_address() {
        let codes = TimeCodes::new(*b"12345678901234567890", "cox: the 2nd").unwrap();
        assert_eq!(codes.key().reveal(), "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ");
        let address = codes.address().unwrap();
        assert!(address.reveal().starts_with("otpauth://totp/Waverant:cox%20%20the%202nd?"), "{}", address.reveal());
        let again = TimeCodes::typed(&codes.key(), "cox").unwrap();
        assert_eq!(again.code_at(59), "287082");
        assert!(TimeCodes::typed(&Secret::new("no key"), "cox").is_none());
        assert!(!format!("{codes:?}").contains("GEZ"));
    }

    #[rstest]
    #[case(None, Some(Role::Administrator), &[], false)]
    #[case(Some(Role::Engineer), Some(Role::Administrator), &[], true)]
    #[case(Some(Role::Engineer), Some(Role::Operator), &[], false)]
    #[case(Some(Role::Engineer), None, &[(3, Role::Engineer)], true)]
    #[case(Some(Role::Observer), None, &[], false)]
    fn who_may_much_needs_one(
        #[case] least: Option<Role>,
        #[case] house: Option<Role>,
        #[case] channels: &[(u64, Role)],
        #[case] expected: bool,
    ) {
        assert_eq!(needs_second_factor(least, &Grants::new(house, channels.iter().copied())), expected);
    }

    proptest! {
        #[test]
        fn whatever_is_typed_is_no_harm(code in "\\PC{0,40}", now in any::<u32>()) {
            let codes = TimeCodes::new([7; TIME_CODE_KEY], "cox").unwrap();
            let is_good = (-1..=1).any(|step| codes.code_at((i64::from(now) + 30 * step).max(0).unsigned_abs()) == code.trim());
            prop_assert!(is_good || codes.step_of(&code, u64::from(now)).is_none() || code.contains(char::is_whitespace));
        }
    }
}
