use serde_json::{Map, Value, json};
use time::format_description::well_known::Rfc3339;

use super::{Announcement, Occurrence};

/// What an event in JSON says it is. Source: CloudEvents 1.0, JSON format, 3
pub const CLOUD_EVENT: &str = "application/cloudevents+json";

/// What the types of events begin with.
const TYPE: &str = "waverant.";

impl Occurrence {
    /// Where it happened, as events name it.
    pub fn source(&self) -> String {
        self.channel.as_ref().map_or_else(|| "/house".to_owned(), |channel| format!("/channels/{}", channel.name))
    }

    /// What is told of it beside its head: its text, and what belongs to its kind.
    pub fn told(&self) -> Map<String, Value> {
        let mut told = Map::new();
        told.insert("text".to_owned(), json!(self.text));
        if let Some(channel) = &self.channel {
            told.insert("channel".to_owned(), json!(channel.name));
        }
        told.extend(self.data.clone());
        told
    }
}

impl Announcement {
    /// The event as an object. Source: CloudEvents 1.0, 3.1
    pub fn event(&self) -> Value {
        let happened = &self.occurrence;
        let mut event = json!({
            "specversion": "1.0",
            "id": self.event_id,
            "source": happened.source(),
            "type": format!("{TYPE}{}", happened.kind.word()),
            "time": happened.happened_at.format(&Rfc3339).unwrap_or_default(),
            "datacontenttype": "application/json",
            "data": happened.told(),
        });
        // An attribute that is there is not empty.
        if !happened.subject.is_empty() {
            event["subject"] = json!(happened.subject);
        }
        event
    }
}

#[cfg(test)]
mod tests {
    use time::macros::datetime;

    use super::*;
    use crate::OccurrenceKind;

    #[test]
    fn an_event_is_as_the_standard_wants_it() {
        let occurrence =
            Occurrence::new(OccurrenceKind::LegCarries, datetime!(2026-05-17 12:00 UTC), "plovio takes it")
                .in_channel(7, "finish-line")
                .to("session/12/destination/plovio")
                .with("session", 12)
                .with("destination", "plovio");
        let mut announced = Announcement { event_id: "evt_1".to_owned(), targets: vec![1], occurrence };
        let expected = json!({
            "specversion": "1.0", "id": "evt_1", "source": "/channels/finish-line", "type": "waverant.leg.carries",
            "time": "2026-05-17T12:00:00Z", "datacontenttype": "application/json",
            "subject": "session/12/destination/plovio",
            "data": { "text": "plovio takes it", "channel": "finish-line", "session": 12, "destination": "plovio" },
        });
        assert_eq!(announced.event(), expected);
        let told = serde_json::to_string(&announced).unwrap();
        assert_eq!(serde_json::from_str::<Announcement>(&told).unwrap(), announced, "it lies on the disk");
        announced.occurrence.channel = None;
        announced.occurrence.subject.clear();
        let event = announced.event();
        assert_eq!((&event["source"], event.get("subject")), (&json!("/house"), None));
    }
}
