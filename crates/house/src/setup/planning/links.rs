use waverant_model::AddViewingLink;
use waverant_relay::{Secret, ViewingLink};
use waverant_setup::{LinkForm, Path};
use waverant_store::NewViewingLink;

use super::{Planner, Secrets, Step, thing_of};
use crate::changes::viewing::new_link;
use crate::setup::describing;

impl Planner<'_> {
    pub(super) fn plan_links(&mut self, channel: &str, id: Option<u64>, forms: Option<Vec<LinkForm>>) {
        let Some(forms) = forms else { return };
        let present = self.present;
        let mut left: Vec<&ViewingLink> = present.links.iter().filter(|link| Some(link.channel_id) == id).collect();
        for (place, form) in forms.into_iter().enumerate() {
            let at = Path::of(&["channels", channel, "links"]).at(place);
            let found = left.iter().position(|link| link.label == form.label.trim());
            let before = found.map(|found| left.remove(found));
            self.plan_link(channel, &at, form, before);
        }
        for link in left {
            if self.unlisted(thing_of(channel, "link", &link.label)) {
                self.plan.removals.push(Step::RemoveLink { channel: channel.to_owned(), id: link.id });
            }
        }
    }

    fn plan_link(&mut self, channel: &str, at: &Path, form: LinkForm, before: Option<&ViewingLink>) {
        let now = self.present.now;
        if form.ends_at.is_some_and(|end| end.0 <= now) {
            self.remark(at, "its time is over, and it is left alone");
            return;
        }
        let asked = AddViewingLink {
            label: form.label.clone(),
            ends_at: form.ends_at.map(|end| end.0).or(before.map(|link| link.ends_at)),
            most_viewers: form.most_viewers,
            sites: form.sites,
            shows_rehearsals: form.shows_rehearsals,
            take: None,
        };
        let Some(after) = self.checked(at, "", new_link(&asked, now)) else { return };
        let tables = (before.map(describing::link), describing::link(&as_link(&after)));
        let thing = thing_of(channel, "link", &after.label);
        if self.note(thing, Some(at), (tables.0.as_ref(), Some(&tables.1)), Secrets::default()) {
            let channel = channel.to_owned();
            self.plan.steps.push(match before {
                Some(link) => Step::ChangeLink { channel, id: link.id, link: after },
                None => Step::AddLink { channel, link: after },
            });
        }
    }
}

/// A link as it would be, to be told.
fn as_link(new: &NewViewingLink) -> ViewingLink {
    ViewingLink {
        id: 0,
        channel_id: 0,
        label: new.label.clone(),
        token: Secret::new(""),
        created_at: new.ends_at,
        ends_at: new.ends_at,
        most_viewers: new.most_viewers,
        sites: new.sites.clone(),
        shows_rehearsals: new.shows_rehearsals,
        take: None,
    }
}
