use waverant_model::{AddKey, KeyRules};
use waverant_relay::{KeyRight, Secret};
use waverant_setup::{KeyForm, Path, SecretText};
use waverant_store::{NewStreamKey, StreamKey};

use super::destinations::hidden;
use super::{Planner, Secrets, Step, thing_of};
use crate::changes::keys::terms;
use crate::setup::describing;
use crate::words::right_of;

impl Planner<'_> {
    pub(super) fn plan_keys(&mut self, channel: &str, id: Option<u64>, forms: Option<Vec<KeyForm>>) {
        let Some(forms) = forms else { return };
        let present = self.present;
        let mut left: Vec<&StreamKey> = present.keys.iter().filter(|key| Some(key.channel_id) == id).collect();
        let mut new = Vec::new();
        for (place, form) in forms.into_iter().enumerate() {
            let at = Path::of(&["channels", channel, "keys"]).at(place);
            let own = self.secret(&at.with("key"), form.key.as_ref(), None);
            let digest = own.as_ref().map(|own| self.house.store.keychain().digest(own.reveal()));
            if let Some(first) = digest.and_then(|digest| self.brought.insert(digest, at.clone())) {
                self.document.fault(at.with("key"), format!("the key of {first} is the same"));
            }
            let found = self.present_key(&left, &form, own.as_ref());
            let before = found.map(|found| left.remove(found));
            self.plan_key(channel, &at, (form, own), before, &mut new);
        }
        for key in left.into_iter().filter(|key| key.terms.rules.expires_at.is_none_or(|end| end > present.now)) {
            if self.unlisted(thing_of(channel, "key", &key.terms.label)) {
                self.plan.removals.push(Step::RetireKey { channel: channel.to_owned(), id: key.id });
            }
        }
        if !new.is_empty() {
            self.plan.steps.push(Step::AddKeys { channel: channel.to_owned(), keys: new });
        }
    }

    /// The key that a form is about: the one that it brings along, or else the first of its label.
    fn present_key(&self, among: &[&StreamKey], form: &KeyForm, own: Option<&Secret>) -> Option<usize> {
        let right = right_of(form.right);
        match own {
            Some(own) => {
                let digest = self.house.store.keychain().digest(own.reveal());
                among.iter().position(|key| key.digest == digest)
            }
            None => among.iter().position(|key| key.terms.label == form.label.trim() && key.right == right),
        }
    }

    fn plan_key(
        &mut self,
        channel: &str,
        at: &Path,
        (form, own): (KeyForm, Option<Secret>),
        before: Option<&StreamKey>,
        new: &mut Vec<(NewStreamKey, Option<String>)>,
    ) {
        let now = self.present.now;
        if form.expires_at.is_some_and(|end| end.0 <= now) {
            self.remark(at, "its time is over, and it is left alone");
            return;
        }
        let right = right_of(form.right);
        if before.is_some_and(|key| key.right != right) {
            self.document.fault(at.with("right"), "a key keeps what it opens for; make another one");
            return;
        }
        let before_passphrase = before.and_then(|key| key.terms.passphrase.as_ref());
        let passphrase = match &form.passphrase {
            None => None,
            given => self.needed_secret(&at.with("passphrase"), given.as_ref(), before_passphrase),
        };
        let (label, key_form) = (form.label.trim().to_owned(), form.key.clone());
        let asked = asked(form, passphrase.as_ref());
        let Some(after) = self.checked(at, "", terms::made(asked, right, now)) else { return };
        if before.is_none() && !self.can_be_made(at, key_form.as_ref(), own.as_ref()) {
            return;
        }
        let warning = match (&own, before) {
            (Some(own), None) => match self.checked(at, "", self.house.own_key_warning(own, &label)) {
                Some(warning) => warning,
                None => return,
            },
            _ => None,
        };
        if let Some(warning) = &warning {
            self.remark(at, warning);
        }
        let describe =
            |right: KeyRight, terms| describing::key(channel, right, terms, &mut describing::Secrets::default());
        let tables = (before.map(|key| describe(key.right, &key.terms)), describe(right, &after));
        let secrets = Secrets::default().with("passphrase", before_passphrase, after.passphrase.as_ref());
        let thing = thing_of(channel, "key", &label);
        if self.note(thing, Some(at), (tables.0.as_ref(), Some(&tables.1)), secrets) {
            match before {
                Some(key) => self.plan.steps.push(Step::ChangeKey {
                    channel: channel.to_owned(),
                    id: key.id,
                    terms: Box::new(after),
                }),
                None => new.push((NewStreamKey { right, terms: after, own, guest_until: None }, warning)),
            }
        }
    }
}

impl Planner<'_> {
    /// A key that was not given is not made up, and one that opens something does not open another thing.
    fn can_be_made(&mut self, at: &Path, form: Option<&SecretText>, own: Option<&Secret>) -> bool {
        let told = match (form, own) {
            (Some(SecretText::Kept(reference)), None) => format!("it was not given: {}", reference.advice()),
            (_, Some(own)) => {
                let digest = self.house.store.keychain().digest(own.reveal());
                if !self.house.directory().gate().has_own_key(&digest) {
                    return true;
                }
                "it opens something already; choose another one".to_owned()
            }
            _ => return true,
        };
        self.document.fault(at.with("key"), told);
        false
    }
}

fn asked(form: KeyForm, passphrase: Option<&Secret>) -> AddKey {
    AddKey {
        label: form.label,
        right: form.right,
        rank: form.rank,
        key: None,
        rules: KeyRules {
            starts_at: form.starts_at.map(|at| at.0),
            expires_at: form.expires_at.map(|at| at.0),
            hours: form.hours,
            allowed_from: form.allowed_from,
            protocols: form.protocols,
            most_connections: form.most_connections,
            show_when_over: form.show_when_over,
        },
        passphrase: hidden(passphrase),
        makes_passphrase: false,
        guest_link_until: None,
    }
}
