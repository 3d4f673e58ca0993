use minijinja::{AutoEscape, Environment, UndefinedBehavior, context};
use serde_json::{Map, Value};
use thiserror::Error;
use waverant_relay::printable;

/// The longest template, in bytes.
const MAX_TEMPLATE: usize = 8 * 1024;

/// The longest text that one makes, in bytes.
const MAX_TEXT: usize = 64 * 1024;

/// Steps that one may take.
const FUEL: u64 = 20_000;

/// What texts may say they are.
pub const CONTENT_TYPES: [&str; 2] = ["text/plain", "application/json"];

const NAME: &str = "template";

/// The template makes no text.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct TemplateError(String);

/// What the places of a template are filled with.
#[derive(Clone, Debug, PartialEq)]
pub struct TemplateFacts {
    /// The number of the event.
    pub id: String,
    /// Its kind.
    pub kind: String,
    /// When it happened, as in RFC 3339.
    pub time: String,
    /// To what it happened.
    pub subject: String,
    /// What is told of it: `text`, `channel` and what belongs to its kind.
    pub data: Map<String, Value>,
}

/// Fills a template in. In JSON each place is written as JSON, a text with its quotes.
///
/// # Errors
/// [`TemplateError`] with the line, if it cannot be filled in, or what comes of it is not what it says it is.
pub fn fill_in(template: &str, content_type: &str, facts: &TemplateFacts) -> Result<String, TemplateError> {
    if template.len() > MAX_TEMPLATE {
        return Err(TemplateError(format!("it has {} bytes; at most {MAX_TEMPLATE} are allowed", template.len())));
    }
    let is_json = content_type == CONTENT_TYPES[1];
    let mut environment = Environment::new();
    environment.set_auto_escape_callback(move |_| if is_json { AutoEscape::Json } else { AutoEscape::None });
    environment.set_undefined_behavior(UndefinedBehavior::Lenient);
    environment.set_fuel(Some(FUEL));
    let told = |key: &str| facts.data.get(key).cloned().unwrap_or_default();
    let places = context! {
        id => facts.id,
        kind => facts.kind,
        time => facts.time,
        subject => facts.subject,
        text => told("text"),
        channel => told("channel"),
        data => facts.data,
    };
    let text = environment.render_named_str(NAME, template, places).map_err(|error| wrong(&error))?;
    if text.len() > MAX_TEXT {
        return Err(TemplateError(format!("it makes {} bytes; at most {MAX_TEXT} are allowed", text.len())));
    }
    if is_json {
        serde_json::from_str::<serde::de::IgnoredAny>(&text).map_err(|error| {
            let told = "what it makes is no JSON; write a text place without quotes, as in {\"text\": {{ text }}}";
            TemplateError(format!("{told} ({error})"))
        })?;
    }
    Ok(text)
}

fn wrong(error: &minijinja::Error) -> TemplateError {
    let line = error.line().map_or_else(String::new, |line| format!("line {line}: "));
    let told = error.detail().map_or_else(|| error.kind().to_string(), |detail| format!("{}: {detail}", error.kind()));
    TemplateError(printable(&format!("{line}{told}"), 300).into_owned())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::json;

    use super::*;

    fn facts(text: &str) -> TemplateFacts {
        let Value::Object(data) = json!({ "text": text, "channel": "finish-line", "session": 12 }) else {
            unreachable!()
        };
        let (id, subject, time) = ("evt_1".to_owned(), "session/12".to_owned(), "2026-05-17T12:00:00Z".to_owned());
        TemplateFacts { id, kind: "session.begins".to_owned(), time, subject, data }
    }

    #[rstest]
    #[case::plain("{{ channel }}: {{ text }} ({{ data.session }})", "text/plain", "finish-line: he said \"go\" (12)")]
    #[case::json("{\"text\": {{ text }}}", "application/json", "{\"text\": \"he said \\\"go\\\"\"}")]
    #[case::number("[{{ data.session }}]", "application/json", "[12]")]
    #[case::if_there("{% if data.reason %}{{ data.reason }}{% else %}-{% endif %}", "text/plain", "-")]
    #[case::kind(
        "{{ kind }} {{ id }} {{ time }} {{ subject }}",
        "text/plain",
        "session.begins evt_1 2026-05-17T12:00:00Z session/12"
    )]
    fn places_are_filled_in(#[case] template: &str, #[case] content_type: &str, #[case] expected: &str) {
        assert_eq!(fill_in(template, content_type, &facts("he said \"go\"")).unwrap(), expected);
    }

    #[rstest]
    #[case::open("{{ text", "text/plain", "line 1: syntax error")]
    #[case::no_json("text: {{ text }}", "application/json", "no JSON")]
    #[case::quotes_twice("{\"text\": \"{{ text }}\"}", "application/json", "without quotes")]
    #[case::unknown_filter("\n{{ text|shout }}", "text/plain", "line 2: unknown filter")]
    #[case::endless(
        "{% for a in range(9999) %}{% for b in range(9999) %}x{% endfor %}{% endfor %}",
        "text/plain",
        "fuel"
    )]
    #[case::include("{% include 'secrets' %}", "text/plain", "line 1")]
    fn others_are_told_with_their_line(#[case] template: &str, #[case] content_type: &str, #[case] told: &str) {
        let error = fill_in(template, content_type, &facts("go")).unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }

    #[rstest]
    #[case::long("x".repeat(MAX_TEMPLATE + 1))]
    #[case::times("{{ 'x' * 100000000 }}".to_owned())]
    #[case::much(format!("{{% for a in range(5000) %}}{}{{% endfor %}}", "x".repeat(1000)))]
    fn none_makes_much(#[case] template: String) {
        assert!(fill_in(&template, "text/plain", &facts("go")).is_err());
    }

    proptest! {
        #[test]
        fn no_template_is_a_fault_of_ours(template in ".{0,80}", text in ".{0,80}") {
            let _ = fill_in(&template, "text/plain", &facts(&text));
        }

        #[test]
        fn any_text_is_json_in_json(text in ".{0,80}") {
            let made = fill_in("{\"text\": {{ text }}}", "application/json", &facts(&text)).unwrap();
            prop_assert_eq!(serde_json::from_str::<Value>(&made).unwrap(), json!({ "text": text }));
        }
    }
}
