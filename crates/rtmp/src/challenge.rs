//! The challenge by user name and password that encoders offer: the user is named in the query of
//! the application name, and shows there, over three connections, that it knows the password. The
//! specification does not describe it.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use md5::{Digest, Md5};

/// How both sides call this kind of challenge.
const MODE: &str = "adobe";

/// What a client says about itself when it connects.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Credentials {
    /// Nothing, or in a way that is not offered here.
    None,
    /// Its name; it wants the challenge.
    Named { user: String },
    /// The answer to a challenge.
    Answered(CredentialsAnswer),
}

/// A client's answer to our challenge.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CredentialsAnswer {
    /// The user's name.
    pub user: String,
    /// What we sent, to be recognised.
    pub opaque: String,
    /// The client's own part of the challenge.
    pub challenge: String,
    /// What shows that it knows the password.
    pub response: String,
}

impl CredentialsAnswer {
    /// True if the answer shows the password with this digest, made by [`password_digest`]. The
    /// caller checks that `opaque` is one of its own.
    pub fn shows(&self, password_digest: &str) -> bool {
        let expected = hash(&[password_digest, &self.opaque, &self.challenge]);
        let pairs = expected.bytes().zip(self.response.bytes());
        let difference = pairs.fold(0, |difference, (one, other)| difference | (one ^ other));
        difference == 0 && expected.len() == self.response.len()
    }
}

/// What a server keeps of a password, to check answers by it.
pub fn password_digest(user: &str, salt: &str, password: &str) -> String {
    hash(&[user, salt, password])
}

fn hash(parts: &[&str]) -> String {
    let mut md5 = Md5::new();
    for part in parts {
        md5.update(part.as_bytes());
    }
    STANDARD.encode(md5.finalize())
}

impl Credentials {
    /// Reads the query of an application name.
    pub(crate) fn read(app: &str) -> Self {
        let query = app.split_once('?').map_or("", |(_, query)| query);
        let field = |name: &str| {
            // A value may end in `=`, as base64 does.
            let found = query.split('&').filter_map(|field| field.split_once('=')).find(|(key, _)| *key == name);
            found.map(|(_, value)| value.to_owned()).filter(|value| !value.is_empty())
        };
        if field("authmod").as_deref() != Some(MODE) {
            return Self::None;
        }
        let Some(user) = field("user") else { return Self::None };
        match (field("opaque"), field("challenge"), field("response")) {
            (Some(opaque), Some(challenge), Some(response)) => {
                Self::Answered(CredentialsAnswer { user, opaque, challenge, response })
            }
            _ => Self::Named { user },
        }
    }
}

/// What clients look for in the words of a refusal.
pub(crate) fn first_refusal() -> String {
    format!("[ AccessManager.Reject ] : [ code=403 need auth; authmod={MODE} ] : ")
}

/// The challenge, in the words of a refusal.
pub(crate) fn challenge(user: &str, salt: &str, opaque: &str) -> String {
    format!(
        "[ AccessManager.Reject ] : [ authmod={MODE} ] : \
         ?reason=needauth&user={user}&salt={salt}&challenge={opaque}&opaque={opaque}"
    )
}

/// The refusal of an answer.
pub(crate) fn failure() -> String {
    format!("[ AccessManager.Reject ] : [ authmod={MODE} ] : ?reason=authfailed&opaque=-")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::nothing("door", Credentials::None)]
    #[case::another_way("door?authmod=other&user=a", Credentials::None)]
    #[case::no_name("door?authmod=adobe", Credentials::None)]
    #[case::named("door?authmod=adobe&user=van", Credentials::Named { user: "van".into() })]
    #[case::half_an_answer("door?authmod=adobe&user=van&response=x", Credentials::Named { user: "van".into() })]
    fn reads_credentials(#[case] app: &str, #[case] expected: Credentials) {
        assert_eq!(Credentials::read(app), expected);
    }

    /// MD5 in base64, worked out with a tool of its own: of "van" + "salt" + "secret", and of that
    /// text + "opaque" + "mine".
    #[test]
    fn an_answer_shows_the_password() {
        let digest = password_digest("van", "salt", "secret");
        assert_eq!(digest, "Rc1Jf/UETFCePYaY6cwITg==");
        let app = "door?authmod=adobe&user=van&challenge=mine&response=Lc65e/BOHk/7MPdB/VUUqw==&opaque=opaque";
        let Credentials::Answered(answer) = Credentials::read(app) else { panic!("no answer") };
        assert!(answer.shows(&digest));
        assert!(!answer.shows(&password_digest("van", "salt", "other")));
        let shorter = CredentialsAnswer { response: answer.response[..20].to_owned(), ..answer };
        assert!(!shorter.shows(&digest));
    }
}
