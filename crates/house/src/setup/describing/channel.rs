use std::time::Duration;

use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use toml::Table;
use waverant_model as model;
use waverant_relay::{ChannelPage, KeyRight, ViewingLink, ViewingRules};
use waverant_setup::{ChannelForm, KeyForm, LinkForm, Moment, SendingForm, SrtForm, without};
use waverant_store::{ChannelSettings, KeyTerms, RecordingSettings, Sending, SrtTerms};

use super::{Secrets, table_of};
use crate::words::{
    audience_word, between_word, mode_word, nearness_word, protocol_word, right_word, slate_of, slate_word,
    takeover_of, takeover_word, way_word, when_over_word,
};

/// What is said of a channel, but for its keys and the like.
pub(in crate::setup) fn channel(name: &str, settings: &ChannelSettings, secrets: &mut Secrets) -> Table {
    let usual = ChannelSettings {
        title: name.to_owned(),
        hold_ms: crate::changes::channels::DEFAULT_HOLD_MS,
        recording: RecordingSettings::default(),
        takeover: takeover_of(model::Takeover::default()),
        slate: slate_of(model::SlateChoice::default()),
        loudness: None,
        srt: SrtTerms::default(),
        viewing: ViewingRules::default(),
    };
    let usual = table_of(&form(name, &usual, &mut Secrets::default()));
    without(table_of(&form(name, settings, secrets)), &usual)
}

fn form(name: &str, settings: &ChannelSettings, secrets: &mut Secrets) -> ChannelForm {
    let passphrase = settings.srt.passphrase.as_ref();
    ChannelForm {
        title: Some(settings.title.clone()),
        hold_ms: Some(settings.hold_ms),
        takeover: Some(takeover_word(settings.takeover)),
        slate: Some(slate_word(settings.slate)),
        loudness_lufs: Some(settings.loudness.unwrap_or(0)),
        srt: SrtForm {
            latency_ms: Some(settings.srt.latency_ms),
            passphrase: passphrase.and_then(|secret| secrets.keep(&["channels", name, "passphrase"], secret)),
        },
        recording: recording(&settings.recording),
        viewing: viewing(&settings.viewing),
        ..ChannelForm::default()
    }
}

fn recording(settings: &RecordingSettings) -> model::ChangeRecording {
    let format = if settings.matroska { model::TakeFormat::Matroska } else { model::TakeFormat::Mp4 };
    model::ChangeRecording {
        when: Some(mode_word(settings.mode)),
        format: Some(format),
        split_ms: Some(settings.split_ms),
        split_bytes: Some(settings.split_bytes),
        split_at_return: Some(settings.split_at_return),
        names: Some(settings.names.clone()),
        pre_roll_ms: Some(settings.pre_roll_ms),
        keep_s: Some(settings.keep_s),
        keep_count: Some(settings.keep_count),
        keep_bytes: Some(settings.keep_bytes),
        depot: Some(settings.depot.clone().unwrap_or_default()),
        removes_copied: Some(settings.removes_copied),
    }
}

fn viewing(rules: &ViewingRules) -> model::ChangeViewing {
    let published_to = rules.published_to.as_ref().map(|published| published.depot.clone());
    model::ChangeViewing {
        audience: Some(audience_word(rules.audience)),
        nearness: Some(nearness_word(rules.nearness)),
        back_ms: Some(millis(rules.back)),
        is_always_ready: Some(rules.is_always_ready),
        most_viewers: Some(rules.most_viewers.unwrap_or(0)),
        sites: Some(rules.sites.iter().map(ToString::to_string).collect()),
        ways: Some(rules.ways.iter().map(way_word).collect()),
        between_shows: Some(between_word(rules.between_shows)),
        published_to: Some(published_to.unwrap_or_default()),
        page: page(&rules.page),
    }
}

fn page(page: &ChannelPage) -> model::ChangePage {
    let links = page.links.iter();
    let links = links.map(|link| model::PageLink { label: link.label.clone(), address: link.address.clone() });
    model::ChangePage {
        description: Some(page.description.clone()),
        tags: Some(page.tags.clone()),
        links: Some(links.collect()),
        starts_at: Some(page.starts_at.and_then(|at| at.format(&Rfc3339).ok()).unwrap_or_default()),
        accent: Some(page.accent.clone().unwrap_or_default()),
        style: Some(page.style.clone()),
        slot: Some(page.slot.clone().unwrap_or_default()),
        is_listed: Some(page.is_listed),
        shows_recording: Some(page.shows_recording),
    }
}

pub(super) fn millis(time: Duration) -> u32 {
    u32::try_from(time.as_millis()).unwrap_or(u32::MAX)
}

/// How a channel sends to a destination; whether it does is always said.
pub(in crate::setup) fn sending(sending: Sending) -> Table {
    let some = |value: u32| Some(value).filter(|value| *value > 0);
    table_of(&SendingForm {
        is_on: Some(sending.switched_on),
        delay_ms: some(sending.delay_ms),
        start_after_ms: some(sending.start_after_ms),
    })
}

/// What is said of a key.
pub(in crate::setup) fn key(channel: &str, right: KeyRight, terms: &KeyTerms, secrets: &mut Secrets) -> Table {
    let rules = &terms.rules;
    let hours = rules.hours.as_ref();
    let passphrase = terms.passphrase.as_ref();
    let path = ["channels", channel, "keys", &terms.label, "passphrase"];
    let form = KeyForm {
        label: terms.label.clone(),
        right: right_word(right),
        rank: terms.rank,
        key: None,
        starts_at: rules.starts_at.map(Moment),
        expires_at: rules.expires_at.map(Moment),
        most_connections: rules.most_connections,
        allowed_from: rules.allowed_from.iter().map(ToString::to_string).collect(),
        protocols: rules.protocols.iter().copied().map(protocol_word).collect(),
        show_when_over: when_over_word(rules.when_over),
        passphrase: passphrase.and_then(|secret| secrets.keep(&path, secret)),
        hours: hours
            .map(|hours| model::OpenHours { zone: hours.zone().to_owned(), windows: hours.windows().collect() }),
    };
    let usual = KeyForm {
        label: String::new(),
        right: model::KeyRight::default(),
        rank: 0,
        key: None,
        starts_at: None,
        expires_at: None,
        most_connections: None,
        allowed_from: Vec::new(),
        protocols: Vec::new(),
        show_when_over: model::ShowThen::default(),
        passphrase: None,
        hours: None,
    };
    without(table_of(&form), &table_of(&usual))
}

/// What is said of a link.
pub(in crate::setup) fn link(link: &ViewingLink) -> Table {
    let form = LinkForm {
        label: link.label.clone(),
        ends_at: Some(Moment(whole_second(link.ends_at))),
        most_viewers: link.most_viewers.unwrap_or(0),
        sites: link.sites.iter().map(ToString::to_string).collect(),
        shows_rehearsals: link.shows_rehearsals,
    };
    let usual =
        LinkForm { label: String::new(), ends_at: None, most_viewers: 0, sites: Vec::new(), shows_rehearsals: false };
    without(table_of(&form), &table_of(&usual))
}

/// Links that end 30 days after they were made end in the middle of a second, which nobody wants to read.
fn whole_second(at: OffsetDateTime) -> OffsetDateTime {
    at.replace_nanosecond(0).unwrap_or(at)
}
