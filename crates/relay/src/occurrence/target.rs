use std::collections::BTreeSet;

use super::{Occurrence, OccurrenceKind};
use crate::Secret;

/// How a target is told.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CallForm {
    /// As an event in JSON. Source: CloudEvents 1.0, JSON format, 3
    Event,
    /// As a text of one's own making, for a chat that takes messages at an address.
    Text {
        /// What it says it is, as in `application/json`.
        content_type: String,
        /// The text, with places that are filled in.
        template: String,
    },
}

/// Who is told of what, and how.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CallRules {
    /// False while it is not to be told.
    pub is_on: bool,
    /// The channel whose occurrences it is told of; none: those of all, and of the house.
    pub channel: Option<u64>,
    /// Of what.
    pub kinds: BTreeSet<OccurrenceKind>,
    /// How.
    pub form: CallForm,
}

impl CallRules {
    /// True if it is told of this.
    pub fn wants(&self, occurrence: &Occurrence) -> bool {
        let is_of_channel = self.channel.is_none_or(|id| occurrence.lane() == id);
        self.is_on && is_of_channel && self.kinds.contains(&occurrence.kind)
    }
}

/// Another system, or people, that are told what happens.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CallTarget {
    /// Its number.
    pub id: u64,
    /// Its name.
    pub name: String,
    /// Where: `https://…`, `http://…` or `mailto:…`. Chats have a secret in it.
    pub address: Secret,
    /// What calls are signed with.
    pub secret: Secret,
    /// Of what it is told, and how.
    pub rules: CallRules,
}

impl CallTarget {
    /// The people who get mail, if it is told by mail.
    pub fn mailboxes(&self) -> Option<impl Iterator<Item = &str>> {
        self.address.reveal().strip_prefix("mailto:").map(|list| list.split(',').map(str::trim))
    }

    /// The address without what may be a secret in it.
    pub fn shown_address(&self) -> String {
        let address = self.address.reveal();
        if self.mailboxes().is_some() {
            return address.to_owned();
        }
        let Some((scheme, rest)) = address.split_once("://") else { return "…".to_owned() };
        let host = rest.split(['/', '?']).next().unwrap_or_default();
        let is_all = rest == host || rest.strip_prefix(host) == Some("/");
        format!("{scheme}://{host}/{}", if is_all { "" } else { "…" })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use time::OffsetDateTime;

    use super::*;

    fn target(address: &str, channel: Option<u64>) -> CallTarget {
        let kinds = [OccurrenceKind::SessionBegins].into();
        let rules = CallRules { is_on: true, channel, kinds, form: CallForm::Event };
        CallTarget { id: 1, name: "club".to_owned(), address: Secret::new(address), secret: Secret::new(""), rules }
    }

    #[rstest]
    #[case::chat("https://chat.wexcombe.example/in/oarlock?x=1", "https://chat.wexcombe.example/…")]
    #[case::plain("http://127.0.0.1:8000/", "http://127.0.0.1:8000/")]
    #[case::bare("https://a.example", "https://a.example/")]
    #[case::query("https://a.example?token=1", "https://a.example/…")]
    #[case::mail("mailto:crew@wexcombe.example", "mailto:crew@wexcombe.example")]
    fn an_address_is_shown_without_its_secret(#[case] address: &str, #[case] expected: &str) {
        assert_eq!(target(address, None).shown_address(), expected);
    }

    #[test]
    fn mail_has_people() {
        let people = target("mailto:a@wexcombe.example, b@wexcombe.example", None);
        assert_eq!(people.mailboxes().unwrap().collect::<Vec<_>>(), ["a@wexcombe.example", "b@wexcombe.example"]);
        assert!(target("https://a.example", None).mailboxes().is_none());
    }

    #[rstest]
    #[case::of_all(None, Some(7), OccurrenceKind::SessionBegins, true)]
    #[case::of_house(None, None, OccurrenceKind::SessionBegins, true)]
    #[case::of_its_channel(Some(7), Some(7), OccurrenceKind::SessionBegins, true)]
    #[case::of_another(Some(7), Some(8), OccurrenceKind::SessionBegins, false)]
    #[case::of_house_to_a_channel(Some(7), None, OccurrenceKind::SessionBegins, false)]
    #[case::another_kind(None, None, OccurrenceKind::DiskLow, false)]
    fn it_is_told_of_what_it_wants(
        #[case] of: Option<u64>,
        #[case] channel: Option<u64>,
        #[case] kind: OccurrenceKind,
        #[case] expected: bool,
    ) {
        let occurrence = Occurrence::new(kind, OffsetDateTime::UNIX_EPOCH, "");
        let occurrence = channel.into_iter().fold(occurrence, |one, id| one.in_channel(id, "finish-line"));
        assert_eq!(target("https://a.example", of).rules.wants(&occurrence), expected);
        let mut off = target("https://a.example", of);
        off.rules.is_on = false;
        assert!(!off.rules.wants(&occurrence));
    }
}
