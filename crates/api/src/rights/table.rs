use std::collections::HashMap;
use std::sync::LazyLock;

use axum::http::Method;
use waverant_relay::Deed;
use waverant_relay::Deed::{LetIn, Look, Reveal, Run, SetUp};

use crate::PREFIX;

/// What a caller needs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Right {
    /// Nothing.
    Anyone,
    /// A valid token or cookie.
    SignedIn,
    /// One that is for more than to look: the call changes the account of its person.
    Account,
    /// To be allowed this in the house.
    House(Deed),
    /// To be allowed this on the channel that the address names.
    Channel(Deed),
    /// To be allowed this on the channel of the session that the address names.
    Session(Deed),
    /// To be allowed this on any channel: what is answered is kept to those on which the caller is.
    Anywhere(Deed),
}

use Right::{Account, Anyone, Anywhere, Channel, House, Session, SignedIn};

/// Method, path below `/api/v1`, and what it takes to call it.
const RIGHTS: &[(&str, &str, Right)] = &[
    ("GET", "/openapi.json", Anyone),
    ("GET", "/health", Anyone),
    ("GET", "/first-run", Anyone),
    ("POST", "/first-run", Anyone),
    ("POST", "/sign-in", Anyone),
    ("POST", "/sign-in/passkey", Anyone),
    ("POST", "/sign-out", SignedIn),
    ("GET", "/me", SignedIn),
    ("PUT", "/me/password", Account),
    ("GET", "/me/second-factor", SignedIn),
    ("POST", "/me/second-factor", Account),
    ("POST", "/me/second-factor/confirm", Account),
    ("POST", "/me/second-factor/recovery-codes", Account),
    ("POST", "/me/second-factor/removal", Account),
    ("POST", "/me/second-factor/passkeys", Account),
    ("POST", "/me/second-factor/passkeys/confirm", Account),
    ("POST", "/me/second-factor/passkeys/{passkey}/removal", Account),
    ("POST", "/me/second-factor/challenge", Account),
    ("GET", "/tokens", SignedIn),
    ("POST", "/tokens", Account),
    ("DELETE", "/tokens", Account),
    ("DELETE", "/tokens/{token}", Account),
    ("GET", "/acts", House(LetIn)),
    ("GET", "/acts.jsonl", House(LetIn)),
    ("GET", "/channels/{channel}/acts", Channel(SetUp)),
    ("GET", "/people", House(LetIn)),
    ("POST", "/people", House(LetIn)),
    ("PATCH", "/people/{person}", House(LetIn)),
    ("DELETE", "/people/{person}", House(LetIn)),
    ("POST", "/people/{person}/invitation", House(LetIn)),
    ("POST", "/invitations/look", Anyone),
    ("POST", "/invitations/accept", Anyone),
    ("GET", "/setup", House(LetIn)),
    ("POST", "/setup/secrets", House(Reveal)),
    ("POST", "/setup/review", House(LetIn)),
    ("POST", "/setup/apply", House(LetIn)),
    ("GET", "/channels", Anywhere(Look)),
    ("POST", "/channels", House(SetUp)),
    ("GET", "/channels/{channel}", Channel(Look)),
    ("PATCH", "/channels/{channel}", Channel(SetUp)),
    ("DELETE", "/channels/{channel}", House(SetUp)),
    ("GET", "/channels/{channel}/keys", Channel(SetUp)),
    ("POST", "/channels/{channel}/keys", Channel(SetUp)),
    ("POST", "/channels/{channel}/keys/list", Channel(SetUp)),
    ("PATCH", "/channels/{channel}/keys/{key}", Channel(SetUp)),
    ("DELETE", "/channels/{channel}/keys/{key}", Channel(SetUp)),
    ("POST", "/channels/{channel}/keys/{key}/renewal", Channel(SetUp)),
    ("POST", "/channels/{channel}/keys/{key}/retirement", Channel(SetUp)),
    ("DELETE", "/channels/{channel}/keys/{key}/guest-link", Channel(SetUp)),
    ("POST", "/guests/look", Anyone),
    ("GET", "/call-targets", House(SetUp)),
    ("POST", "/call-targets", House(SetUp)),
    ("PATCH", "/call-targets/{target}", House(SetUp)),
    ("DELETE", "/call-targets/{target}", House(SetUp)),
    ("POST", "/call-targets/{target}/try", House(SetUp)),
    ("GET", "/deliveries", House(SetUp)),
    ("GET", "/deliveries/{delivery}", House(SetUp)),
    ("POST", "/deliveries/{delivery}/again", House(SetUp)),
    ("GET", "/house-system", House(SetUp)),
    ("PUT", "/house-system", House(SetUp)),
    ("DELETE", "/house-system", House(SetUp)),
    ("POST", "/house-system/try", House(SetUp)),
    ("GET", "/channels/{channel}/house-system", Channel(SetUp)),
    ("PUT", "/channels/{channel}/house-system", House(SetUp)),
    ("DELETE", "/channels/{channel}/house-system", House(SetUp)),
    ("POST", "/channels/{channel}/house-system/try", House(SetUp)),
    ("PUT", "/channels/{channel}/destinations/{destination}", Channel(Run)),
    ("DELETE", "/channels/{channel}/destinations/{destination}", Channel(SetUp)),
    ("POST", "/channels/{channel}/end-session", Channel(Run)),
    ("PUT", "/channels/{channel}/slate", Channel(SetUp)),
    ("GET", "/channels/{channel}/slate", Channel(Look)),
    ("DELETE", "/channels/{channel}/slate", Channel(SetUp)),
    ("POST", "/channels/{channel}/recording/start", Channel(Run)),
    ("POST", "/channels/{channel}/recording/stop", Channel(Run)),
    ("POST", "/channels/{channel}/recording/marks", Channel(Run)),
    ("GET", "/channels/{channel}/pictures", Channel(Look)),
    ("GET", "/channels/{channel}/still", Channel(Look)),
    ("GET", "/channels/{channel}/links", Channel(Run)),
    ("POST", "/channels/{channel}/links", Channel(Run)),
    ("DELETE", "/channels/{channel}/links/{link}", Channel(Run)),
    ("GET", "/channels/{channel}/viewers", Channel(Look)),
    ("PUT", "/channels/{channel}/poster", Channel(SetUp)),
    ("DELETE", "/channels/{channel}/poster", Channel(SetUp)),
    ("POST", "/channels/{channel}/rehearsals", Channel(Run)),
    ("GET", "/destinations", Anywhere(Look)),
    ("POST", "/destinations", House(SetUp)),
    ("PATCH", "/destinations/{destination}", House(SetUp)),
    ("DELETE", "/destinations/{destination}", House(SetUp)),
    ("POST", "/destinations/{destination}/try", House(Run)),
    ("POST", "/destinations/{destination}/reveal", House(Reveal)),
    ("GET", "/sessions", Anywhere(Look)),
    ("GET", "/sessions/{session}", Session(Look)),
    ("GET", "/sessions/{session}/report", Session(Look)),
    ("GET", "/sessions/{session}/timeline", Session(Look)),
    ("GET", "/sessions/{session}/timeline.csv", Session(Look)),
    ("GET", "/channels/{channel}/timeline", Channel(Look)),
    ("GET", "/machine/timeline", House(Look)),
    ("GET", "/machine/timeline.csv", House(Look)),
    ("GET", "/takes", Anywhere(Look)),
    ("GET", "/takes/{session}/{number}", Session(Look)),
    ("PATCH", "/takes/{session}/{number}", Session(Run)),
    ("DELETE", "/takes/{session}/{number}", Session(Run)),
    ("POST", "/takes/{session}/{number}/undo-removal", Session(Run)),
    ("GET", "/takes/{session}/{number}/file", Session(Look)),
    ("GET", "/takes/{session}/{number}/mp4", Session(Look)),
    ("GET", "/takes/{session}/{number}/sound/{place}", Session(Look)),
    ("GET", "/takes/{session}/{number}/strip", Session(Look)),
    ("GET", "/takes/{session}/{number}/still", Session(Look)),
    ("POST", "/takes/{session}/{number}/check", Session(Run)),
    ("POST", "/takes/{session}/{number}/mend", Session(Run)),
    ("POST", "/takes/{session}/{number}/cut", Session(Run)),
    ("POST", "/takes/{session}/{number}/copy", Session(Run)),
    ("POST", "/takes/{session}/{number}/restore", Session(Run)),
    ("GET", "/takes/{session}/{number}/link", Session(Run)),
    ("GET", "/jobs", Anywhere(Look)),
    ("GET", "/jobs/{job}", Anywhere(Look)),
    ("GET", "/depots", House(SetUp)),
    ("POST", "/depots", House(SetUp)),
    ("PATCH", "/depots/{depot}", House(SetUp)),
    ("DELETE", "/depots/{depot}", House(SetUp)),
    ("POST", "/depots/{depot}/try", House(SetUp)),
    ("GET", "/turned-away", House(Look)),
    ("GET", "/addresses", House(Look)),
    ("POST", "/addresses", House(Run)),
    ("DELETE", "/addresses/{rule}", House(Run)),
    ("POST", "/addresses/release", House(Run)),
    ("POST", "/capacity", Anywhere(Look)),
    ("GET", "/support-bundle", House(SetUp)),
    ("GET", "/certificate", House(SetUp)),
    ("POST", "/certificate/renewal", House(SetUp)),
    ("GET", "/outside", House(SetUp)),
    ("POST", "/outside/tries", House(SetUp)),
    ("GET", "/log", House(SetUp)),
    ("PUT", "/log/level", House(SetUp)),
    ("GET", "/findings/meanings", Anywhere(Look)),
    ("POST", "/findings/ask", Anywhere(Look)),
    ("POST", "/channels/{channel}/remedies", Channel(Run)),
    ("PUT", "/channels/{channel}/muted-findings/{code}", Channel(Run)),
    ("DELETE", "/channels/{channel}/muted-findings/{code}", Channel(Run)),
    ("GET", "/live", Anywhere(Look)),
    ("GET", "/live/events", Anywhere(Look)),
];

static BY_ROUTE: LazyLock<HashMap<(&str, &str), Right>> =
    LazyLock::new(|| RIGHTS.iter().map(|(method, path, right)| ((*method, *path), *right)).collect());

/// What a call of `method` to the route `path` needs; none if it does not stand in the table.
pub(super) fn right_for(method: &Method, path: &str) -> Option<Right> {
    // What can be got can be looked at.
    let method = if method == Method::HEAD { Method::GET } else { method.clone() };
    BY_ROUTE.get(&(method.as_str(), path.strip_prefix(PREFIX)?)).copied()
}

/// The methods that the route `path` takes, as in `GET, HEAD, PUT`; empty if it does not stand in the table.
pub(super) fn methods_of(path: &str) -> String {
    let path = path.strip_prefix(PREFIX).unwrap_or_default();
    let known = RIGHTS.iter().filter(|(_, known, _)| *known == path).map(|(method, ..)| *method);
    known
        .flat_map(|method| if method == "GET" { vec!["GET", "HEAD"] } else { vec![method] })
        .collect::<Vec<_>>()
        .join(", ")
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use serde_json::Value;

    use super::*;

    /// Every operation stands in the table, as open as the document says, and the table has nothing else.
    #[test]
    fn every_route_has_its_row() {
        let document: Value = serde_json::from_str(&crate::openapi_document()).unwrap();
        let mut seen = HashSet::new();
        for (path, operations) in document["paths"].as_object().unwrap() {
            for (method, operation) in operations.as_object().unwrap() {
                let method: Method = method.to_uppercase().parse().unwrap();
                let is_open =
                    operation["security"].as_array().is_some_and(|ways| ways.contains(&serde_json::json!({})));
                let right = right_for(&method, path);
                assert!(right.is_some_and(|right| (right == Anyone) == is_open), "{method} {path}: {right:?}");
                seen.insert((method.to_string(), path.strip_prefix(PREFIX).unwrap().to_owned()));
            }
        }
        let unknown: Vec<_> = RIGHTS
            .iter()
            .filter(|(method, path, _)| !seen.contains(&((*method).to_owned(), (*path).to_owned())))
            .map(|(_, path, _)| *path)
            .collect();
        assert_eq!(unknown, ["/openapi.json"], "rows without a route");
    }

    #[test]
    fn what_is_not_in_the_table_cannot_be_reached() {
        assert_eq!(right_for(&Method::GET, "/api/v1/secrets"), None);
        assert_eq!(right_for(&Method::DELETE, "/api/v1/channels"), None);
        assert_eq!(right_for(&Method::HEAD, "/api/v1/channels"), Some(Anywhere(Look)));
    }
}
