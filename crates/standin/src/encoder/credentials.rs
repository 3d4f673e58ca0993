use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use md5::{Digest, Md5};

/// The encoder's own part of a challenge.
const OWN_CHALLENGE: &str = "c0ffee11";

/// The query that goes behind the application name after a refusal with these words; none if the
/// words ask for no credentials, or say that they are wrong.
pub(super) fn answer(words: &str, user: &str, password: &str) -> Option<String> {
    if !words.contains("authmod=adobe") {
        return None;
    }
    let Some((_, query)) = words.split_once('?') else {
        return Some(format!("?authmod=adobe&user={user}"));
    };
    let field = |name: &str| query.split('&').find_map(|field| field.strip_prefix(name)?.strip_prefix('='));
    if field("reason") != Some("needauth") {
        return None;
    }
    let (salt, opaque) = (field("salt")?, field("opaque")?);
    let first = hash(&format!("{user}{salt}{password}"));
    let response = hash(&format!("{first}{opaque}{OWN_CHALLENGE}"));
    Some(format!("?authmod=adobe&user={user}&challenge={OWN_CHALLENGE}&response={response}&opaque={opaque}"))
}

fn hash(text: &str) -> String {
    STANDARD.encode(Md5::digest(text.as_bytes()))
}
