use std::collections::BTreeMap;

use waverant_model::{AddDepot, Hidden};
use waverant_setup::{DepotForm, Path};
use waverant_store::Depot;

use super::{Planner, Secrets, Step, thing};
use crate::HouseError;
use crate::changes::depots::checked;
use crate::setup::describing;

/// The region that requests are signed for where nobody says.
const USUAL_REGION: &str = "us-east-1";

impl Planner<'_> {
    pub(super) fn plan_depots(&mut self, forms: Option<BTreeMap<String, DepotForm>>) {
        self.depots = self.present.depots.iter().map(|depot| (depot.name.clone(), depot.clone())).collect();
        let Some(forms) = forms else { return };
        for depot in self.present.depots.iter().filter(|depot| !forms.contains_key(&depot.name)) {
            if self.unlisted(thing("depot", &depot.name)) {
                self.depots.remove(&depot.name);
                self.plan.removals.push(Step::RemoveDepot(depot.name.clone()));
            }
        }
        for (name, form) in forms {
            self.plan_depot(&name, form);
        }
    }

    fn plan_depot(&mut self, name: &str, form: DepotForm) {
        let at = Path::of(&["depots", name]);
        let before = self.present.depots.iter().find(|depot| depot.name == name).cloned();
        let before_secret = before.as_ref().map(|depot| &depot.secret_key);
        let secret = self.needed_secret(&at.with("secret_key"), form.secret_key.as_ref(), before_secret);
        let asked = AddDepot {
            name: name.to_owned(),
            endpoint: form.endpoint,
            region: form.region.unwrap_or_else(|| USUAL_REGION.to_owned()),
            bucket: form.bucket,
            prefix: form.prefix,
            access_key: form.access_key,
            secret_key: Hidden::from(secret.as_ref().map(|secret| secret.reveal().to_owned()).unwrap_or_default()),
            public_address: form.public_address,
        };
        let checked = checked(asked).and_then(|depot| stays_where_it_is(before.as_ref(), depot));
        let Some(after) = self.checked(&at, "", checked) else { return };
        self.depots.insert(name.to_owned(), after.clone());
        let describe = |depot: &Depot| describing::depot(depot, &mut describing::Secrets::default());
        let secrets = Secrets::default().with("secret_key", before_secret, secret.as_ref());
        let tables = (before.as_ref().map(describe), describe(&after));
        if self.note(thing("depot", name), Some(&at), (tables.0.as_ref(), Some(&tables.1)), secrets) {
            let step = if before.is_some() { Step::ChangeDepot(after) } else { Step::AddDepot(after) };
            self.plan.steps.push(step);
        }
    }
}

/// Copies are known by the depot's name and what they are called there.
fn stays_where_it_is(before: Option<&Depot>, after: Depot) -> Result<Depot, HouseError> {
    let Some(before) = before else { return Ok(after) };
    for (field, was, is) in [
        ("endpoint", &before.endpoint, &after.endpoint),
        ("bucket", &before.bucket, &after.bucket),
        ("prefix", &before.prefix, &after.prefix),
    ] {
        if was != is {
            let told = format!("`{is}` stands where `{was}` was: takes lie there; add another depot for the new place");
            return Err(HouseError::invalid(field, told));
        }
    }
    Ok(Depot { created_at: before.created_at, ..after })
}
