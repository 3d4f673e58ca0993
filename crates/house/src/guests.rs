//! What a guest's link shows: a key to somebody without an account, and whether the encoder is seen.

use std::sync::Arc;

use time::OffsetDateTime;
use waverant_relay::{ChannelRules, GateKey, KeyRight, KeyStanding, Opener, Secret};
use waverant_show::SeenPublisher;

use crate::House;
use crate::key_watch::Refusal;

/// What a guest's link shows.
#[derive(Debug)]
pub struct GuestView {
    /// The channel.
    pub rules: Arc<ChannelRules>,
    /// What is known of the key.
    pub key: Arc<GateKey>,
    /// The key itself.
    pub secret: Secret,
    /// What is to be known over SRT, if something is.
    pub passphrase: Option<Secret>,
    /// When the link ends.
    pub until: OffsetDateTime,
    /// Whether the key opens now, and when that changes by itself.
    pub standing: (KeyStanding, Option<OffsetDateTime>),
    /// The guest's encoder, while it is there.
    pub seen: Option<SeenPublisher>,
    /// Players that came by the key.
    pub players: usize,
    /// Why it was turned away last.
    pub refusal: Option<Refusal>,
}

impl House {
    /// What a guest's link shows; none if there is no such link, or it is over. It asks no database.
    pub fn guest_view(&self, token: &Secret) -> Option<GuestView> {
        let (directory, now) = (self.directory(), OffsetDateTime::now_utc());
        let guest = directory.guest(&self.store.keychain().digest(token.reveal()))?;
        let key = directory.gate().key(guest.key_id)?;
        let standing = key.standing(now);
        if guest.link.until <= now || matches!(standing.0, KeyStanding::Expired | KeyStanding::Retired) {
            return None;
        }
        let rules = directory.channel(key.channel_id)?.clone();
        let show = self.shows.lock().get(&key.channel_id).cloned();
        let passphrase = directory.key_passphrase(key.id).or(rules.passphrase.as_ref());
        Some(GuestView {
            secret: self.store.open_guest_link(token, &guest.link).ok()?,
            passphrase: passphrase.map(|passphrase| Secret::new(passphrase.reveal())),
            until: guest.link.until,
            standing,
            seen: show.filter(|_| key.right == KeyRight::Publish).and_then(|show| show.seen(Opener::Key(key.family))),
            players: self.audience.players_by_key(key.id),
            refusal: self.key_watch.refusal(key.id, now),
            key: key.clone(),
            rules,
        })
    }
}
