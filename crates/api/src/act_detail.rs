//! What a handler adds to the record of who did what.

use axum::response::{IntoResponse, IntoResponseParts, Response, ResponseParts};
use serde::Serialize;
use serde_json::{Map, Value};

/// The longest account of what changed, in bytes.
const LONGEST: usize = 16 * 1024;

/// What a handler adds to the record of what was done: it goes along with its answer.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Detail {
    /// Who, where that is not the caller.
    pub(crate) person: Option<String>,
    /// On which channel, where the address does not say.
    pub(crate) channel: Option<String>,
    /// On what, where the address does not say.
    pub(crate) subject: Option<String>,
    pub(crate) before: Option<String>,
    pub(crate) after: Option<String>,
}

impl Detail {
    /// By somebody who is not signed in, and gives this name.
    pub(crate) fn by(person: &str) -> Self {
        Self { person: Some(person.to_owned()), ..Self::default() }
    }

    /// Something of this name was made, or asked for.
    pub(crate) fn named(subject: impl Into<String>) -> Self {
        Self { subject: Some(subject.into()), ..Self::default() }
    }

    /// Something was made that did not exist.
    pub(crate) fn made(subject: impl Into<String>, after: &impl Serialize) -> Self {
        Self { after: text(&value(after)), ..Self::named(subject) }
    }

    /// A channel was made.
    pub(crate) fn on_channel(channel: &str, after: &impl Serialize) -> Self {
        Self { channel: Some(channel.to_owned()), after: text(&value(after)), ..Self::default() }
    }

    /// Something is what it was, but for a few fields: those are kept. What is told to callers holds no secret, and so
    /// neither does this.
    pub(crate) fn changed(before: &impl Serialize, after: &impl Serialize) -> Self {
        let (before, after) = differences(&value(before), &value(after));
        Self { before: text(&before), after: text(&after), ..Self::default() }
    }

    /// Something is not there any more.
    pub(crate) fn removed(before: &impl Serialize) -> Self {
        Self { before: text(&value(before)), ..Self::default() }
    }

    /// Says besides that a secret was put in another one's place, if it was.
    pub(crate) fn with_new_secret(mut self, name: &str, is_new: bool) -> Self {
        if is_new {
            let mut after: Map<String, Value> =
                self.after.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
            after.insert(name.to_owned(), Value::from("(another one)"));
            self.after = text(&Value::Object(after));
        }
        self
    }
}

impl IntoResponseParts for Detail {
    type Error = std::convert::Infallible;

    fn into_response_parts(self, mut parts: ResponseParts) -> Result<ResponseParts, Self::Error> {
        parts.extensions_mut().insert(self);
        Ok(parts)
    }
}

/// Of a call that answers nothing else.
impl IntoResponse for Detail {
    fn into_response(self) -> Response {
        (self, ()).into_response()
    }
}

fn value(of: &impl Serialize) -> Value {
    serde_json::to_value(of).unwrap_or_default()
}

/// What is too long is left out, so that what is kept can be read.
fn text(value: &Value) -> Option<String> {
    let is_empty = value.is_null() || value.as_object().is_some_and(Map::is_empty);
    let text = (!is_empty).then(|| value.to_string())?;
    Some(if text.len() > LONGEST { r#"{"left_out":"it is too long"}"#.to_owned() } else { text })
}

/// The fields that are not alike in both, as they are in each.
fn differences(before: &Value, after: &Value) -> (Value, Value) {
    let (Value::Object(one), Value::Object(other)) = (before, after) else {
        return (before.clone(), after.clone());
    };
    let (mut was, mut became) = (Map::new(), Map::new());
    let names = one.keys().chain(other.keys().filter(|name| !one.contains_key(*name)));
    for name in names {
        let field = |of: &Map<String, Value>| of.get(name).cloned().unwrap_or_default();
        let (from, to) = (field(one), field(other));
        if from != to {
            let (from, to) = if from.is_object() && to.is_object() { differences(&from, &to) } else { (from, to) };
            was.insert(name.clone(), from);
            became.insert(name.clone(), to);
        }
    }
    (Value::Object(was), Value::Object(became))
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn what_stayed_is_left_out() {
        let before = json!({"title": "Weir", "hold_ms": 500, "srt": {"latency_ms": 120, "port": 7}, "gone": 1});
        let after = json!({"title": "Weir", "hold_ms": 900, "srt": {"latency_ms": 200, "port": 7}});
        let detail = Detail::changed(&before, &after);
        assert_eq!(detail.before.unwrap(), r#"{"gone":1,"hold_ms":500,"srt":{"latency_ms":120}}"#);
        assert_eq!(detail.after.unwrap(), r#"{"gone":null,"hold_ms":900,"srt":{"latency_ms":200}}"#);
        assert_eq!(Detail::changed(&after, &after), Detail::default());
    }

    #[test]
    fn a_new_secret_is_told_without_it() {
        let detail = Detail::changed(&json!({}), &json!({})).with_new_secret("key", true);
        assert_eq!(detail.after.unwrap(), r#"{"key":"(another one)"}"#);
        assert_eq!(Detail::default().with_new_secret("key", false), Detail::default());
    }

    #[test]
    fn what_is_kept_has_an_end() {
        let detail = Detail::removed(&json!({"note": "x".repeat(100_000)}));
        assert!(detail.before.unwrap().len() < 100);
    }
}
