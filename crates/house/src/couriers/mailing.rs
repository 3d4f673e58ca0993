//! What happened, as mail: what came together is one.

use std::fmt::Write;
use std::time::Instant;

use serde_json::Value;
use time::OffsetDateTime;
use time::macros::format_description;
use waverant_relay::{Announcement, CallTarget, printable};
use waverant_store::{Delivery, DeliveryTry, StoreError};

use super::CourierDesk;
use super::errand::Tried;
use super::line::TargetLine;

/// What one mail tells of at most; what is beyond comes with the next.
const MOST_IN_ONE: u32 = 200;

/// The longest subject, in characters.
const MAX_SUBJECT: usize = 150;

impl CourierDesk {
    /// Sends a mail about what waits for a target; true if it was taken and there may be more.
    pub(super) async fn mail_next(&self, line: &TargetLine, target: &CallTarget) -> Result<bool, StoreError> {
        let waiting = self.store.next_deliveries(target.id, None, MOST_IN_ONE).await?;
        let now = OffsetDateTime::now_utc();
        let Some(first) = waiting.first().filter(|first| line.mail_due(first.next_at, self.digest) <= now) else {
            return Ok(false);
        };
        let to: Vec<String> = target.mailboxes().into_iter().flatten().map(str::to_owned).collect();
        let (subject, text) = mail_about(&waiting);
        let begun = Instant::now();
        let sent = tokio::select! {
            sent = self.postbox.send(&to, &subject, text, &first.event_id) => sent,
            () = self.out_of_time() => return Ok(false),
        };
        let tried = match sent {
            Ok(()) => {
                line.mailed(now);
                let seen =
                    DeliveryTry { at: now, took: begun.elapsed(), status: None, answer: String::new(), fault: None };
                Tried { seen, wish: None, is_final: false }
            }
            Err(fault) => Tried { is_final: fault.is_final, ..Tried::in_vain(now, begun.elapsed(), fault.told) },
        };
        self.settle(line, target, &waiting, &tried).await
    }

    /// Sends a mail about one event at once.
    pub(super) async fn try_mail(&self, target: &CallTarget, announced: &Announcement) -> DeliveryTry {
        let (at, begun) = (OffsetDateTime::now_utc(), Instant::now());
        let to: Vec<String> = target.mailboxes().into_iter().flatten().map(str::to_owned).collect();
        let text = &announced.occurrence.text;
        let sent = self.postbox.send(&to, text, format!("{text}\n"), &announced.event_id).await;
        let fault = sent.err().map(|fault| fault.told);
        DeliveryTry { at, took: begun.elapsed(), status: None, answer: String::new(), fault }
    }
}

/// Subject and text of a mail.
pub(super) fn mail_about(deliveries: &[Delivery]) -> (String, String) {
    let line = |delivery: &Delivery| {
        let event: Value = serde_json::from_str(&delivery.event).unwrap_or_default();
        event["data"]["text"].as_str().map_or_else(|| delivery.kind.clone(), |text| printable(text, 1000).into_owned())
    };
    let first = deliveries.first().map(line).unwrap_or_default();
    let subject = match deliveries.len() {
        0 | 1 => first,
        count => format!("{first} (and {} more)", count - 1),
    };
    let at = format_description!("[year]-[month]-[day] [hour]:[minute]:[second] UTC");
    let mut text = String::new();
    for delivery in deliveries {
        let happened = delivery.happened_at.to_offset(time::UtcOffset::UTC).format(at).unwrap_or_default();
        let _ = writeln!(text, "{happened}  {}", line(delivery));
    }
    (printable(&subject, MAX_SUBJECT).into_owned(), text)
}

#[cfg(test)]
mod tests {
    use time::macros::datetime;
    use waverant_store::DeliveryState;

    use super::*;

    fn delivery(text: &str) -> Delivery {
        Delivery {
            id: 1,
            target_id: 1,
            lane: 0,
            event_id: "evt_1".to_owned(),
            kind: "disk.low".to_owned(),
            channel: None,
            happened_at: datetime!(2026-05-17 14:00:07 +02:00),
            event: serde_json::json!({ "data": { "text": text } }).to_string(),
            state: DeliveryState::Waiting,
            tries: 0,
            next_at: datetime!(2026-05-17 12:00 UTC),
            last: None,
        }
    }

    #[test]
    fn what_came_together_is_one_mail() {
        let (subject, text) = mail_about(&[delivery("the disk is full\r\nBcc: all")]);
        assert!(subject.starts_with("the disk is full") && !subject.contains('\n'), "{subject:?}");
        assert!(text.starts_with("2026-05-17 12:00:07 UTC  the disk is full"), "{text}");
        let (subject, text) = mail_about(&[delivery("one"), delivery("two"), delivery("three")]);
        assert_eq!((subject.as_str(), text.lines().count()), ("one (and 2 more)", 3));
    }
}
