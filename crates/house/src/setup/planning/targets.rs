use std::collections::BTreeMap;

use waverant_calls::SigningSecret;
use waverant_model::CallFormat;
use waverant_relay::{CallRules, CallTarget, Secret};
use waverant_setup::{Path, TargetForm};

use super::{Planner, Secrets, Step, thing};
use crate::HouseError;
use crate::changes::call_targets::{MAX_NAME, checked_form, checked_kinds, checked_secret};
use crate::changes::checked_text;
use crate::setup::describing;

/// What a text is where nobody says: chats take JSON.
const USUAL_TYPE: &str = "application/json";

impl Planner<'_> {
    pub(super) fn plan_targets(&mut self, forms: Option<BTreeMap<String, TargetForm>>) {
        let Some(forms) = forms else { return };
        for target in self.present.targets.iter().filter(|target| !forms.contains_key(&target.name)) {
            if self.unlisted(thing("call target", &target.name)) {
                self.plan.removals.push(Step::RemoveTarget { id: target.id, name: target.name.clone() });
            }
        }
        for (name, form) in forms {
            self.plan_target(&name, &form);
        }
    }

    fn plan_target(&mut self, name: &str, form: &TargetForm) {
        let at = Path::of(&["call_targets", name]);
        let before = self.present.targets.iter().find(|target| target.name == name).cloned();
        let (before_address, before_secret) =
            (before.as_ref().map(|target| &target.address), before.as_ref().map(|target| &target.secret));
        let address = self.needed_secret(&at.with("address"), form.address.as_ref(), before_address);
        let secret = self.secret(&at.with("secret"), form.secret.as_ref(), before_secret);
        let secret = secret.or_else(|| before_secret.cloned());
        let is_made = secret.is_none();
        let secret = secret.unwrap_or_else(SigningSecret::make);
        let channel = form.channel.clone();
        if let Some(channel) = channel.as_ref().filter(|channel| !self.channels.contains(*channel)) {
            let told = format!("there is no channel `{channel}`, neither in the file nor in the house");
            self.document.fault(at.with("channel"), told);
            return;
        }
        let Some(address) = address else { return };
        let checked = self.checked_target(name, form, &address, &secret);
        let Some(after) = self.checked(&at, "format.", checked) else { return };
        let id = before.as_ref().map_or(0, |target| target.id);
        let after = CallTarget { id, ..after };
        let mut left_out = describing::Secrets::default();
        let of =
            |target: &CallTarget| target.rules.channel.and_then(|id| self.present.channel_name(id)).map(str::to_owned);
        let before_table = before.as_ref().map(|target| describing::target(target, of(target), &mut left_out));
        let after_table = describing::target(&after, channel.clone(), &mut left_out);
        // Where mail goes is no secret.
        let open = |address: &Secret| address.reveal().starts_with("mailto:");
        let mut secrets = Secrets::default().with("secret", before_secret, Some(&after.secret));
        if !open(&after.address) {
            secrets = secrets.with("address", before_address, Some(&after.address));
        }
        let is_mail = open(&after.address);
        if self.note(thing("call target", name), Some(&at), (before_table.as_ref(), Some(&after_table)), secrets) {
            let is_made = is_made && !is_mail;
            self.plan.steps.push(Step::SetTarget { target: Box::new(after), channel, is_made });
        }
    }

    fn checked_target(
        &self,
        name: &str,
        form: &TargetForm,
        address: &Secret,
        secret: &Secret,
    ) -> Result<CallTarget, HouseError> {
        let format = match (&form.template, &form.content_type) {
            (None, None) => CallFormat::Event,
            (None, Some(_)) => {
                return Err(HouseError::invalid("content_type", "it is of a text, and there is no `template`"));
            }
            (Some(template), content_type) => CallFormat::Text {
                content_type: content_type.clone().unwrap_or_else(|| USUAL_TYPE.to_owned()),
                template: template.clone(),
            },
        };
        Ok(CallTarget {
            id: 0,
            name: checked_text("name", name, MAX_NAME)?,
            address: self.house.checked_address(address.reveal())?,
            secret: checked_secret(secret.reveal())?,
            rules: CallRules {
                is_on: form.is_on.unwrap_or(true),
                channel: None,
                kinds: checked_kinds(&form.kinds)?,
                form: checked_form(&format)?,
            },
        })
    }
}
