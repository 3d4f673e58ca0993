use std::collections::BTreeMap;

use waverant_model::{AddChannel, ChangeSending, ChangeSrt};
use waverant_relay::ChannelPage;
use waverant_setup::{ChannelForm, Path, SendingForm};
use waverant_store::{Channel, ChannelDestination, ChannelSettings, Sending};

use super::destinations::hidden;
use super::{Planner, Secrets, Step, thing, thing_of};
use crate::HouseError;
use crate::changes::channels::{new_settings, out_of_reach};
use crate::changes::sending;
use crate::setup::describing;

impl Planner<'_> {
    pub(super) fn plan_channels(&mut self, forms: Option<BTreeMap<String, ChannelForm>>) {
        self.channels = self.present.channels.iter().map(|channel| channel.name.clone()).collect();
        let Some(forms) = forms else { return };
        for channel in self.present.channels.iter().filter(|channel| !forms.contains_key(&channel.name)) {
            self.plan_unlisted_channel(channel);
        }
        for (name, mut form) in forms {
            let at = Path::of(&["channels", &name]);
            let (sendings, keys, links) = (form.destinations.take(), form.keys.take(), form.links.take());
            let system = form.house_system.take();
            let before = self.present.channels.iter().find(|channel| channel.name == name).cloned();
            self.channels.insert(name.clone());
            self.plan_channel(&name, &at, form, before.as_ref());
            let id = before.map(|channel| channel.id);
            self.plan_sendings(&name, id, sendings);
            self.plan_system(Some((&name, id)), system);
            self.plan_keys(&name, id, keys);
            self.plan_links(&name, id, links);
        }
    }

    fn plan_unlisted_channel(&mut self, channel: &Channel) {
        if !self.unlisted(thing("channel", &channel.name)) {
            return;
        }
        if self.house.show(channel.id).is_some() {
            let told = format!("`{}` is on air, and the file does not list it: end its session first", channel.name);
            self.document.fault(Path::of(&["channels"]), told);
        }
        self.channels.remove(&channel.name);
        self.plan.removals.push(Step::RemoveChannel { id: channel.id, name: channel.name.clone() });
    }

    fn plan_channel(&mut self, name: &str, at: &Path, form: ChannelForm, before: Option<&Channel>) {
        let before_passphrase = before.and_then(|channel| channel.settings.srt.passphrase.as_ref());
        let passphrase = match &form.srt.passphrase {
            None => None,
            given => self.needed_secret(&at.field("srt.passphrase"), given.as_ref(), before_passphrase),
        };
        let asked = AddChannel {
            name: name.to_owned(),
            title: form.title,
            hold_ms: form.hold_ms,
            recording: form.recording,
            takeover: form.takeover.unwrap_or_default(),
            slate: form.slate.unwrap_or_default(),
            loudness_lufs: form.loudness_lufs.unwrap_or(0),
            srt: ChangeSrt { latency_ms: form.srt.latency_ms, passphrase: hidden(passphrase.as_ref()) },
            viewing: form.viewing,
        };
        let checked = new_settings(asked, &self.house.slot_sites).and_then(|(parsed, settings)| {
            if parsed.as_str() != name {
                return Err(HouseError::invalid("name", format!("write it as it will be: `{parsed}`")));
            }
            if before.is_none() {
                self.house.check_name_is_no_key(&parsed)?;
            }
            self.with_planned_depots(settings)
        });
        let Some(mut after) = self.checked(at, "", checked) else { return };
        // Pictures are no part of a set-up file.
        let poster = before.and_then(|channel| channel.settings.viewing.page.poster.clone());
        after.viewing.page = ChannelPage { poster, ..after.viewing.page };
        let describe =
            |settings: &ChannelSettings| describing::channel(name, settings, &mut describing::Secrets::default());
        let tables = (before.map(|channel| describe(&channel.settings)), describe(&after));
        let secrets = Secrets::default().with("srt.passphrase", before_passphrase, after.srt.passphrase.as_ref());
        if self.note(thing("channel", name), Some(at), (tables.0.as_ref(), Some(&tables.1)), secrets) {
            let settings = Box::new(after);
            self.plan.steps.push(match before {
                Some(channel) => Step::ChangeChannel { id: channel.id, settings },
                None => Step::AddChannel { name: name.to_owned(), settings },
            });
        }
    }

    /// Depots of a channel, as they will be.
    fn with_planned_depots(&self, mut settings: ChannelSettings) -> Result<ChannelSettings, HouseError> {
        let missing = |depot: &str| format!("there is no depot `{depot}`, neither in the file nor in the house");
        if let Some(depot) = settings.recording.depot.as_ref().filter(|depot| !self.depots.contains_key(*depot)) {
            return Err(HouseError::invalid("recording.depot", missing(depot)));
        }
        if let Some(published) = settings.viewing.published_to.as_mut() {
            let Some(depot) = self.depots.get(&published.depot) else {
                return Err(HouseError::invalid("viewing.published_to", missing(&published.depot)));
            };
            published.public_address.clone_from(&depot.public_address);
            if published.public_address.is_none() {
                return Err(out_of_reach(&published.depot));
            }
        }
        Ok(settings)
    }

    fn plan_sendings(&mut self, channel: &str, id: Option<u64>, forms: Option<BTreeMap<String, SendingForm>>) {
        let Some(forms) = forms else { return };
        let of_channel = |one: &&ChannelDestination| Some(one.channel_id) == id;
        let present: BTreeMap<String, Sending> = self
            .present
            .sendings
            .iter()
            .filter(of_channel)
            .map(|one| (one.destination.name.clone(), one.sending))
            .collect();
        for destination in present.keys().filter(|name| !forms.contains_key(*name)) {
            if self.unlisted(thing_of(channel, "sending", destination)) {
                let (channel, destination) = (channel.to_owned(), destination.clone());
                self.plan.removals.push(Step::RemoveSending { channel, destination });
            }
        }
        for (destination, form) in forms {
            let at = Path::of(&["channels", channel, "destinations", &destination]);
            if !self.destinations.contains(&destination) {
                let told = format!("there is no destination `{destination}`, neither in the file nor in the house");
                self.document.fault(at, told);
                continue;
            }
            let asked = ChangeSending {
                is_on: Some(form.is_on.unwrap_or(true)),
                delay_ms: form.delay_ms,
                start_after_ms: form.start_after_ms,
            };
            let Some(after) = self.checked(&at, "", sending::changed(&asked, Sending::default())) else { continue };
            let before = present.get(&destination).map(|before| describing::sending(*before));
            let told = describing::sending(after);
            let thing = thing_of(channel, "sending", &destination);
            if self.note(thing, Some(&at), (before.as_ref(), Some(&told)), Secrets::default()) {
                self.plan.steps.push(Step::SetSending { channel: channel.to_owned(), destination, sending: after });
            }
        }
    }
}
