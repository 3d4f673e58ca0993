use std::collections::BTreeMap;

use waverant_model::{AddDestination, AudioOtherwise, ChangeSrt, Hidden};
use waverant_relay::{LegAddress, Secret};
use waverant_setup::{DestinationForm, Path};

use super::{Planner, Secrets, Step, thing};
use crate::changes::destinations::{checked_name, new_settings};
use crate::setup::describing;

pub(super) fn hidden(secret: Option<&Secret>) -> Option<Hidden> {
    secret.map(|secret| Hidden::from(secret.reveal().to_owned()))
}

impl Planner<'_> {
    pub(super) fn plan_destinations(&mut self, forms: Option<BTreeMap<String, DestinationForm>>) {
        self.destinations = self.present.destinations.iter().map(|one| one.name.clone()).collect();
        let Some(forms) = forms else { return };
        for one in self.present.destinations.iter().filter(|one| !forms.contains_key(&one.name)) {
            if self.unlisted(thing("destination", &one.name)) {
                self.destinations.remove(&one.name);
                self.plan.removals.push(Step::RemoveDestination { id: one.id, name: one.name.clone() });
            }
        }
        for (name, form) in forms {
            self.destinations.insert(name.clone());
            self.plan_destination(&name, form);
        }
    }

    fn plan_destination(&mut self, name: &str, form: DestinationForm) {
        let at = Path::of(&["destinations", name]);
        let before = self.present.destinations.iter().find(|one| one.name == name).cloned();
        let before_key = before.as_ref().map(|one| &one.key).filter(|key| !key.reveal().is_empty());
        let before_passphrase = before.as_ref().and_then(|one| one.settings.srt.passphrase.as_ref());
        // Listeners of SRT may do without a stream id; that a platform of RTMP has no key is told.
        let is_srt = form.address.parse::<LegAddress>().is_ok_and(|address| address.is_srt());
        let key_at = at.with("key");
        let key = if is_srt {
            self.secret(&key_at, form.key.as_ref(), before_key)
        } else {
            self.needed_secret(&key_at, form.key.as_ref(), before_key)
        };
        let passphrase_at = at.with("srt").with("passphrase");
        let passphrase = match &form.srt.passphrase {
            None => None,
            given => self.needed_secret(&passphrase_at, given.as_ref(), before_passphrase),
        };
        // That it is missing is told already.
        let stand_in = if is_srt { "" } else { "-" };
        let asked = AddDestination {
            name: name.to_owned(),
            address: form.address,
            authority: form.authority,
            key: hidden(key.as_ref()).unwrap_or_else(|| Hidden::from(stand_in.to_owned())),
            batch_ms: form.batch_ms,
            limits: form.limits,
            audio: form.audio,
            audio_otherwise: form.audio_otherwise.unwrap_or(AudioOtherwise::First),
            video_track: form.video_track,
            srt: ChangeSrt { latency_ms: form.srt.latency_ms, passphrase: hidden(passphrase.as_ref()) },
        };
        let checked = checked_name(name).map(drop).and_then(|()| new_settings(asked));
        let Some((settings, key)) = self.checked(&at, "", checked) else { return };
        let mut left_out = describing::Secrets::default();
        let mut describe = |settings, key| describing::destination(name, settings, key, &mut left_out);
        let tables = (before.as_ref().map(|one| describe(&one.settings, &one.key)), describe(&settings, &key));
        let after_key = Some(&key).filter(|key| !key.reveal().is_empty());
        let secrets = Secrets::default().with("key", before_key, after_key).with(
            "srt.passphrase",
            before_passphrase,
            settings.srt.passphrase.as_ref(),
        );
        if self.note(thing("destination", name), Some(&at), (tables.0.as_ref(), Some(&tables.1)), secrets) {
            self.plan.steps.push(match before {
                Some(one) => Step::ChangeDestination { id: one.id, settings, key },
                None => Step::AddDestination { name: name.to_owned(), settings, key },
            });
        }
    }
}
