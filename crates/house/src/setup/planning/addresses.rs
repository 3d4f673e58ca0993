use waverant_relay::{AddressRange, AddressRule, printable};
use waverant_setup::{AddressForm, Path};

use super::{Planner, Secrets, Step, thing};
use crate::HouseError;
use crate::changes::addresses::{MAX_NOTE, reception_of};
use crate::setup::describing;

impl Planner<'_> {
    pub(super) fn plan_addresses(&mut self, forms: Option<Vec<AddressForm>>) {
        let Some(forms) = forms else { return };
        let present = self.present;
        let mut left: Vec<&AddressRule> = present.addresses.iter().collect();
        let mut seen: Vec<AddressRange> = Vec::new();
        for (place, form) in forms.into_iter().enumerate() {
            let at = Path::of(&["addresses"]).at(place);
            let range = form.range.parse().map_err(|error| HouseError::invalid("range", error));
            let Some(range) = self.checked(&at, "", range) else { continue };
            if seen.contains(&range) {
                self.document.fault(at.with("range"), "these addresses were listed above");
                continue;
            }
            seen.push(range);
            let found = left.iter().position(|rule| rule.range == range);
            let before = found.map(|found| left.remove(found));
            self.plan_address(&at, range, form, before);
        }
        for rule in left {
            if self.unlisted(thing("address rule", &rule.range.to_string())) {
                self.plan.removals.push(Step::RemoveAddress(rule.id));
            }
        }
    }

    fn plan_address(&mut self, at: &Path, range: AddressRange, form: AddressForm, before: Option<&AddressRule>) {
        let now = self.present.now;
        if form.until.is_some_and(|until| until.0 <= now) {
            self.remark(at, "its time is over, and it is left alone");
            return;
        }
        let after = AddressRule {
            id: 0,
            range,
            reception: reception_of(form.reception),
            until: form.until.map(|until| until.0),
            note: printable(form.note.trim(), MAX_NOTE).into_owned(),
            made_at: now,
            made_by: self.by.to_owned(),
        };
        let tables = (before.map(describing::address), describing::address(&after));
        let thing = thing("address rule", &range.to_string());
        if self.note(thing, Some(at), (tables.0.as_ref(), Some(&tables.1)), Secrets::default()) {
            self.plan.steps.push(Step::SetAddress(after));
        }
    }
}
