use std::sync::Arc;

use waverant_house::House;
use waverant_relay::{Audience, ChannelRules};
use waverant_show::Show;

use crate::Fault;

/// The channel, if the caller may watch it now.
pub(crate) fn open_channel(house: &House, name: &str) -> Result<Arc<ChannelRules>, Fault> {
    let directory = house.directory();
    let rules = directory.channel_named(name).ok_or(Fault::NotOpen)?;
    match rules.viewing.audience {
        Audience::Everybody => Ok(rules.clone()),
        Audience::Nobody => Err(Fault::NotOpen),
    }
}

/// Whether who watches a channel may go on.
pub(crate) fn is_still_open(house: &House, id: u64) -> bool {
    house.directory().channel(id).is_some_and(|rules| rules.viewing.audience == Audience::Everybody)
}

/// The show of a channel, while packets come. A rehearsal is for the house alone.
pub(crate) fn show_on_air(house: &House, rules: &ChannelRules) -> Option<Arc<Show>> {
    house.show(rules.id).filter(|show| !show.live().has_ended() && !show.is_rehearsal())
}
