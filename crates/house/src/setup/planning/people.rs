use std::collections::BTreeMap;

use waverant_model::Role;
use waverant_setup::{Path, PersonForm};

use super::{Planner, Secrets, Step, thing};
use crate::check_user_name;
use crate::setup::describing;
use crate::words::role_of;

impl Planner<'_> {
    pub(super) fn plan_people(&mut self, forms: Option<BTreeMap<String, PersonForm>>) {
        let Some(forms) = forms else { return };
        let is_listed = |name: &str| forms.keys().any(|listed| listed.eq_ignore_ascii_case(name));
        for person in self.present.people.iter().filter(|person| !is_listed(&person.user.name)) {
            if self.unlisted(thing("person", &person.user.name)) {
                self.plan.removals.push(Step::RemovePerson(person.user.name.clone()));
            }
        }
        for (name, form) in forms {
            self.plan_person(&name, form);
        }
        self.look_for_administrator();
    }

    fn plan_person(&mut self, name: &str, form: PersonForm) {
        let at = Path::of(&["people", name]);
        if self.checked(&at, "", check_user_name(name)).is_none() {
            return;
        }
        if form.role.is_none() && form.channels.is_empty() {
            self.document.fault(at, "a role in the house, or on a channel, is needed");
            return;
        }
        for (channel, role) in &form.channels {
            let at = at.with("channels").with(channel);
            if !self.channels.contains(channel) {
                let told = format!("there is no channel `{channel}`, neither in the file nor in the house");
                self.document.fault(at, told);
            } else if *role == Role::Administrator {
                self.document.fault(at, "administrator is a role in the house, not on a channel");
            }
        }
        let present = self.present;
        let before = present.people.iter().find(|person| person.user.name.eq_ignore_ascii_case(name));
        let tables =
            (before.map(|person| present.roles_of(person)), describing::person(form.role, form.channels.clone()));
        if self.note(thing("person", name), Some(&at), (tables.0.as_ref(), Some(&tables.1)), Secrets::default()) {
            self.plan.steps.push(Step::SetPerson {
                name: before.map_or(name, |person| &person.user.name).to_owned(),
                is_new: before.is_none(),
                role: form.role.map(role_of),
                channels: form.channels.into_iter().map(|(name, role)| (name, role_of(role))).collect(),
            });
        }
    }

    /// Somebody has to be left who can let people in; of those who are only invited nobody knows. Where nobody was yet,
    /// somebody is to be invited.
    fn look_for_administrator(&mut self) {
        let administrator = Some(waverant_relay::Role::Administrator);
        let mut left: Vec<&str> = self
            .present
            .people
            .iter()
            .filter(|person| person.has_password && person.user.grants.house() == administrator)
            .map(|person| person.user.name.as_str())
            .collect();
        if left.is_empty() {
            let invites = |step: &Step| matches!(step, Step::SetPerson { role, .. } if *role == administrator);
            if !self.plan.steps.iter().any(invites) {
                self.document.fault(Path::of(&["people"]), "nobody would be there who may let people in: name one");
            }
            return;
        }
        for step in self.plan.steps.iter().chain(&self.plan.removals) {
            match step {
                Step::SetPerson { name, role, .. } if *role != administrator => left.retain(|one| one != name),
                Step::RemovePerson(name) => left.retain(|one| one != name),
                _ => {}
            }
        }
        if left.is_empty() {
            let told = "nobody with a password would be left who may let people in: keep one administrator";
            self.document.fault(Path::of(&["people"]), told);
        }
    }
}
