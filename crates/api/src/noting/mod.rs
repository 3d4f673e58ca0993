//! Who did what, noted where calls are let through.

mod refusals;

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::LazyLock;

use axum::extract::{ConnectInfo, FromRequestParts, MatchedPath, RawPathParams};
use axum::http::request::Parts;
use axum::http::{Method, StatusCode, header};
use axum::response::Response;
use serde_json::Value;
use time::OffsetDateTime;
use waverant_net::caller_of;
use waverant_relay::{Act, ActBy, ActOutcome, Actor, printable};

use crate::ApiState;
use crate::act_detail::Detail;
use crate::course::changes;
use crate::credentials::has_bearer;
use crate::error::ProblemCode;
pub(crate) use refusals::Refusals;

/// What is kept of a name that somebody gives, in characters.
const MAX_NAME: usize = 64;

/// Calls that only ask, whatever their method.
const ASKING: [&str; 12] = [
    "capacity",
    "ask",
    "ask_passkey",
    "ask_own_passkey",
    "look_at_invitation",
    "look_as_guest",
    "review_setup",
    "try_depot",
    "try_call_target",
    "try_house_system",
    "try_channel_house_system",
    "try_from_outside",
];

/// Calls that read what is not to be read unnoticed.
const REVEALING: [&str; 2] = ["link_take", "support_bundle"];

/// The names of operations by method and path, as the document has them.
static OPERATIONS: LazyLock<HashMap<(String, String), String>> = LazyLock::new(|| {
    let document: Value = serde_json::from_str(&crate::openapi_document()).unwrap_or_default();
    let mut operations = HashMap::new();
    for (path, of_path) in document["paths"].as_object().into_iter().flatten() {
        for (method, operation) in of_path.as_object().into_iter().flatten() {
            if let Some(name) = operation["operationId"].as_str() {
                operations.insert((method.to_uppercase(), path.clone()), name.to_owned());
            }
        }
    }
    operations
});

/// A call, as far as the record of who did what and the table of rights need it.
#[derive(Clone, Debug)]
pub(crate) struct Call {
    pub(crate) method: Method,
    /// The route, with names in place of values.
    pub(crate) path: String,
    pub(crate) address: Option<SocketAddr>,
    named: Vec<(String, String)>,
    has_bearer: bool,
    is_command_line: bool,
}

impl Call {
    pub(crate) async fn of(parts: &mut Parts) -> Self {
        let named = RawPathParams::from_request_parts(parts, &()).await.ok();
        let agent = parts.headers.get(header::USER_AGENT).and_then(|agent| agent.to_str().ok()).unwrap_or_default();
        Self {
            method: parts.method.clone(),
            path: parts.extensions.get::<MatchedPath>().map(|path| path.as_str().to_owned()).unwrap_or_default(),
            address: parts.extensions.get::<ConnectInfo<SocketAddr>>().map(|peer| peer.0),
            named: named.iter().flatten().map(|(name, value)| (name.to_owned(), value.to_owned())).collect(),
            has_bearer: has_bearer(&parts.headers),
            is_command_line: agent.starts_with("waverant/"),
        }
    }

    /// What stands in the address in the place of this name.
    pub(crate) fn value(&self, name: &str) -> Option<&str> {
        self.named.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }

    fn operation(&self) -> Option<&'static str> {
        OPERATIONS.get(&(self.method.to_string(), self.path.clone())).map(String::as_str)
    }

    /// All that the address names but the channel.
    fn subject(&self) -> String {
        let others = self.named.iter().filter(|(name, _)| name != "channel");
        others.map(|(name, value)| format!("{name} {value}")).collect::<Vec<_>>().join(", ")
    }
}

/// Writes down a call that changed something, revealed something, or was refused. Nobody waits for it.
pub(crate) fn note(state: &ApiState, call: &Call, caller: Option<&Actor>, response: &Response) {
    let Some(what) = call.operation() else { return };
    let reason = response.extensions().get::<ProblemCode>().map(|code| code.0);
    let outcome = match response.status() {
        // Who is not signed in at all is a stranger at the door, of whom there may be many.
        StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN
            if !matches!(reason, Some("not_signed_in" | "second_factor_needed")) =>
        {
            ActOutcome::Refused
        }
        status if !is_kept(call, what) || status.is_client_error() => return,
        status if status.is_server_error() => ActOutcome::Failed,
        _ => ActOutcome::Done,
    };
    let detail = response.extensions().get::<Detail>().cloned().unwrap_or_default();
    let (person, token) = match caller {
        Some(Actor::Person { name, .. }) => (name.clone(), String::new()),
        Some(Actor::Token { person, label, .. }) => (person.clone(), label.clone()),
        Some(Actor::House) | None => (String::new(), String::new()),
    };
    let is_stranger = caller.is_none() && outcome != ActOutcome::Done;
    if outcome == ActOutcome::Refused && !state.refusals.is_noted(&person, call.address) {
        return;
    }
    let act = Act {
        at: OffsetDateTime::now_utc(),
        person: detail.person.map_or(person, |name| printable(&name, MAX_NAME).into_owned()),
        by: match (is_stranger, call.is_command_line, call.has_bearer) {
            (true, ..) => ActBy::Stranger,
            (_, true, _) => ActBy::CommandLine,
            (_, _, true) => ActBy::Program,
            _ => ActBy::Console,
        },
        token,
        address: call.address.map(|peer| caller_of(peer.ip()).to_string()).unwrap_or_default(),
        what: what.to_owned(),
        channel: detail.channel.or_else(|| call.value("channel").map(str::to_owned)),
        subject: detail.subject.unwrap_or_else(|| call.subject()),
        outcome,
        reason: reason.filter(|_| outcome != ActOutcome::Done).map(str::to_owned),
        before: detail.before,
        after: detail.after,
        mark: String::new(),
    };
    state.house.write_act(act);
}

fn is_kept(call: &Call, what: &str) -> bool {
    REVEALING.contains(&what) || changes(&call.method) && !ASKING.contains(&what)
}
