use std::collections::BTreeMap;

use toml::Table;
use waverant_model as model;
use waverant_relay::{AddressRule, AskingRules, CallForm, CallTarget, Reception, Secret, UnknownKeys, WhenSilent};
use waverant_setup::{
    AddressForm, DepotForm, DestinationForm, Moment, PersonForm, SrtForm, SystemForm, TargetForm, without,
};
use waverant_store::{Depot, DestinationSettings};

use super::channel::millis;
use super::{Secrets, table_of};
use crate::changes::destinations::DEFAULT_BATCH_MS;
use crate::orders::read_sheet;

/// What is said of a depot.
pub(in crate::setup) fn depot(depot: &Depot, secrets: &mut Secrets) -> Table {
    table_of(&DepotForm {
        endpoint: depot.endpoint.clone(),
        region: Some(depot.region.clone()),
        bucket: depot.bucket.clone(),
        prefix: depot.prefix.clone(),
        access_key: depot.access_key.clone(),
        secret_key: secrets.keep(&["depots", &depot.name, "secret_key"], &depot.secret_key),
        public_address: depot.public_address.clone(),
    })
}

/// What is said of a destination.
pub(in crate::setup) fn destination(
    name: &str,
    settings: &DestinationSettings,
    key: &Secret,
    secrets: &mut Secrets,
) -> Table {
    let mut keep = |what: &str, secret: &Secret| secrets.keep(&["destinations", name, what], secret);
    let otherwise = if settings.or_no_audio { model::AudioOtherwise::None } else { model::AudioOtherwise::First };
    let form = DestinationForm {
        address: settings.address.clone(),
        key: (!key.reveal().is_empty()).then(|| keep("key", key)).flatten(),
        authority: settings.authority.clone(),
        batch_ms: Some(settings.batch_ms),
        audio: settings.audio_pick.clone(),
        audio_otherwise: Some(otherwise),
        video_track: settings.video_track,
        limits: read_sheet(settings.limits_sheet.as_deref()),
        srt: SrtForm {
            latency_ms: Some(settings.srt.latency_ms),
            passphrase: settings.srt.passphrase.as_ref().and_then(|secret| keep("passphrase", secret)),
        },
    };
    let usual = DestinationForm {
        address: String::new(),
        key: None,
        authority: None,
        batch_ms: Some(DEFAULT_BATCH_MS),
        audio: None,
        audio_otherwise: Some(model::AudioOtherwise::First),
        video_track: None,
        limits: model::SheetForm::default(),
        srt: SrtForm { latency_ms: Some(waverant_store::SrtTerms::default().latency_ms), passphrase: None },
    };
    without(table_of(&form), &table_of(&usual))
}

/// What is said of a system that is asked; `path` leads to its secret.
pub(in crate::setup) fn system(rules: &AskingRules, secret: (&[&str], &Secret), secrets: &mut Secrets) -> Table {
    let unknown_keys = match rules.unknown_keys {
        UnknownKeys::NotAsked => model::UnknownKeys::NotAsked,
        UnknownKeys::Prefix => model::UnknownKeys::Prefix,
        UnknownKeys::Digest => model::UnknownKeys::Digest,
        UnknownKeys::Whole => model::UnknownKeys::Whole,
    };
    let when_silent = match rules.when_silent {
        WhenSilent::Closed => model::WhenSilent::Closed,
        WhenSilent::KnownKeys => model::WhenSilent::KnownKeys,
    };
    let form = SystemForm {
        address: rules.address.clone(),
        secret: secrets.keep(secret.0, secret.1),
        is_on: Some(rules.is_on),
        publishers: Some(rules.publishers),
        players: Some(rules.players),
        unknown_keys: Some(unknown_keys),
        when_silent: Some(when_silent),
        time_limit_ms: Some(millis(rules.time_limit)),
        retries: Some(rules.retries),
        again_s: rules.again.map(|again| millis(again) / 1000),
    };
    let usual = model::HouseSystemRules::usual(String::new());
    let usual = SystemForm {
        address: String::new(),
        secret: None,
        is_on: Some(usual.is_on),
        publishers: Some(usual.publishers),
        players: Some(usual.players),
        unknown_keys: Some(usual.unknown_keys),
        when_silent: Some(usual.when_silent),
        time_limit_ms: Some(usual.time_limit_ms),
        retries: Some(usual.retries),
        again_s: None,
    };
    without(table_of(&form), &table_of(&usual))
}

/// What is said of a target; people who get mail are no secret, other addresses may hold one.
pub(in crate::setup) fn target(target: &CallTarget, channel: Option<String>, secrets: &mut Secrets) -> Table {
    let (content_type, template) = match &target.rules.form {
        CallForm::Event => (None, None),
        CallForm::Text { content_type, template } => (Some(content_type.clone()), Some(template.clone())),
    };
    let is_mail = target.mailboxes().is_some();
    let mut keep = |what: &str, secret: &Secret| secrets.keep(&["call_targets", &target.name, what], secret);
    let kinds: Vec<String> = target.rules.kinds.iter().map(|kind| kind.word().to_owned()).collect();
    let mut table = table_of(&TargetForm {
        address: if is_mail { None } else { keep("address", &target.address) },
        secret: if is_mail { None } else { keep("secret", &target.secret) },
        channel,
        kinds,
        is_on: (!target.rules.is_on).then_some(false),
        content_type,
        template,
    });
    if is_mail {
        table.insert("address".to_owned(), target.address.reveal().into());
    }
    table
}

/// What is said of somebody, with the names of channels.
pub(in crate::setup) fn person(role: Option<model::Role>, channels: BTreeMap<String, model::Role>) -> Table {
    let is_empty = channels.is_empty();
    let mut table = table_of(&PersonForm { role, channels });
    if is_empty {
        table.remove("channels");
    }
    table
}

/// What is said of addresses.
pub(in crate::setup) fn address(rule: &AddressRule) -> Table {
    let reception = match rule.reception {
        Reception::Blocked => model::Reception::Blocked,
        Reception::Welcome => model::Reception::Welcome,
    };
    let mut table = table_of(&AddressForm {
        range: rule.range.to_string(),
        reception,
        until: rule.until.map(Moment),
        note: rule.note.clone(),
    });
    if rule.note.is_empty() {
        table.remove("note");
    }
    table
}
