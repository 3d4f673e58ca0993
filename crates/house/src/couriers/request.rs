use std::time::Duration;

use serde_json::{Map, Value, json};
use time::OffsetDateTime;
use waverant_calls::{Call, CallAddress, Reply, SigningSecret, TemplateFacts, fill_in};
use waverant_relay::{CLOUD_EVENT, CallForm, CallTarget, printable};

/// How long a call may take with all that comes back. Source: Standard Webhooks, "Operational considerations"
const LIMIT: Duration = Duration::from_secs(15);

/// How much of an answer is looked at, in bytes.
const MOST_ANSWER: usize = 2000;

/// How often a target may send on elsewhere.
pub(super) const MOST_HOPS: usize = 3;

/// A call as it is made.
#[derive(Clone, Debug)]
pub(crate) struct Request {
    /// Where to.
    pub(crate) address: CallAddress,
    /// The headers of its own.
    pub(crate) headers: Vec<(&'static str, String)>,
    /// What is sent.
    pub(crate) body: String,
}

/// What is sent of an event to a target: its body, and what that says it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Sent {
    pub(crate) content_type: String,
    pub(crate) body: String,
}

impl Sent {
    /// An event in the form that a target wants. Those of a target rise by `sequence`.
    ///
    /// # Errors
    /// Why its template makes nothing.
    pub(crate) fn new(form: &CallForm, event: &str, sequence: Option<u64>) -> Result<Self, String> {
        let mut event: Map<String, Value> = serde_json::from_str(event).map_err(|error| error.to_string())?;
        match form {
            CallForm::Event => {
                // Source: CloudEvents 1.0, documented extensions, "Sequence"
                if let Some(sequence) = sequence {
                    event.insert("sequence".to_owned(), json!(format!("{sequence:020}")));
                }
                Ok(Self { content_type: CLOUD_EVENT.to_owned(), body: Value::Object(event).to_string() })
            }
            CallForm::Text { content_type, template } => {
                let body = fill_in(template, content_type, &facts(&event)).map_err(|error| error.to_string())?;
                Ok(Self { content_type: content_type.clone(), body })
            }
        }
    }
}

/// What a template is filled in with.
fn facts(event: &Map<String, Value>) -> TemplateFacts {
    let text = |name: &str| event.get(name).and_then(Value::as_str).unwrap_or_default().to_owned();
    let kind = text("type");
    TemplateFacts {
        id: text("id"),
        kind: kind.split_once('.').map_or_else(|| kind.clone(), |(_, kind)| kind.to_owned()),
        time: text("time"),
        subject: text("subject"),
        data: event.get("data").and_then(Value::as_object).cloned().unwrap_or_default(),
    }
}

impl Request {
    /// The call that tells a target of an event. Source: Standard Webhooks, "Webhook headers"
    ///
    /// # Errors
    /// Why it cannot be made.
    pub(crate) fn new(target: &CallTarget, event_id: &str, sent: Sent, at: OffsetDateTime) -> Result<Self, String> {
        let address: CallAddress =
            target.address.reveal().parse().map_err(|_| "its address cannot be called".to_owned())?;
        let secret = SigningSecret::read(&target.secret).map_err(|error| error.to_string())?;
        let timestamp = at.unix_timestamp();
        let signature = secret.sign(event_id, timestamp, sent.body.as_bytes());
        let headers = vec![
            ("content-type", sent.content_type),
            ("webhook-id", event_id.to_owned()),
            ("webhook-timestamp", timestamp.to_string()),
            ("webhook-signature", signature),
        ];
        Ok(Self { address, headers, body: sent.body })
    }

    pub(super) fn call(&self) -> Call {
        let (headers, body) = (self.headers.clone(), self.body.clone().into());
        Call { headers, body, limit: LIMIT, most: MOST_ANSWER, takes_begin: true }
    }
}

/// The begin of an answer, as it is kept.
pub(super) fn answer_of(reply: &Reply) -> String {
    printable(&String::from_utf8_lossy(&reply.body), MOST_ANSWER).into_owned()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const EVENT: &str = r#"{"id":"evt_1","type":"waverant.session.begins","data":{"text":"go","channel":"weir"}}"#;

    #[rstest]
    #[case::event(CallForm::Event, Ok((CLOUD_EVENT, r#""sequence":"00000000000000000012""#)))]
    #[case::text(text("{{ kind }} {{ channel }}"), Ok(("text/plain", "session.begins weir")))]
    #[case::wrong(text("{{ kind"), Err("syntax error"))]
    fn events_take_the_form_that_is_wanted(#[case] form: CallForm, #[case] expected: Result<(&str, &str), &str>) {
        let sent = Sent::new(&form, EVENT, Some(12));
        match expected {
            Ok((content_type, part)) => {
                let sent = sent.unwrap();
                assert!(sent.content_type == content_type && sent.body.contains(part), "{sent:?}");
            }
            Err(part) => assert!(sent.unwrap_err().contains(part)),
        }
    }

    fn text(template: &str) -> CallForm {
        CallForm::Text { content_type: "text/plain".to_owned(), template: template.to_owned() }
    }
}
