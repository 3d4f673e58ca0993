use std::sync::Arc;

use waverant_house::House;
use waverant_relay::{Audience, ChannelRules};

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
