//! How records and running things are told to callers.

use waverant_house::{mode_word, read_sheet, slate_word, takeover_word};
use waverant_model as model;
use waverant_relay::{AwayGroup, LegAddress, Slate, TakeState};
use waverant_store as store;
use waverant_store::CopyState;

use crate::tell_viewing;

pub(crate) fn channel(
    channel: store::Channel,
    server: String,
    destinations: Vec<model::ChannelDestination>,
    viewing: model::ViewingAddresses,
) -> model::Channel {
    let settings = channel.settings;
    model::Channel {
        server,
        name: channel.name,
        title: settings.title,
        hold_ms: settings.hold_ms,
        recording: recording(settings.recording),
        takeover: takeover_word(settings.takeover),
        slate: slate_word(settings.slate),
        loudness_lufs: settings.loudness,
        srt: srt(&settings.srt),
        viewing: tell_viewing::viewing(&settings.viewing, viewing),
        created_at: channel.created_at,
        destinations,
    }
}

pub(crate) fn channel_destination(from: store::ChannelDestination) -> model::ChannelDestination {
    model::ChannelDestination {
        destination: from.destination.name,
        is_on: from.sending.switched_on,
        delay_ms: from.sending.delay_ms,
        start_after_ms: from.sending.start_after_ms,
    }
}

fn recording(from: store::RecordingSettings) -> model::Recording {
    model::Recording {
        when: mode_word(from.mode),
        format: if from.matroska { model::TakeFormat::Matroska } else { model::TakeFormat::Mp4 },
        split_ms: from.split_ms,
        split_bytes: from.split_bytes,
        split_at_return: from.split_at_return,
        names: from.names,
        pre_roll_ms: from.pre_roll_ms,
        keep_s: from.keep_s,
        keep_count: from.keep_count,
        keep_bytes: from.keep_bytes,
        depot: from.depot,
        removes_copied: from.removes_copied,
    }
}

fn srt(terms: &store::SrtTerms) -> model::Srt {
    model::Srt { latency_ms: terms.latency_ms, has_passphrase: terms.passphrase.is_some() }
}

pub(crate) fn destination(from: store::Destination) -> model::Destination {
    let settings = from.settings;
    let is_srt = settings.address.parse::<LegAddress>().is_ok_and(|address| address.is_srt());
    model::Destination {
        name: from.name,
        srt: is_srt.then(|| srt(&settings.srt)),
        limits: read_sheet(settings.limits_sheet.as_deref()),
        address: settings.address,
        authority: settings.authority,
        batch_ms: settings.batch_ms,
        audio: settings.audio_pick,
        video_track: settings.video_track,
        audio_otherwise: if settings.or_no_audio { model::AudioOtherwise::None } else { model::AudioOtherwise::First },
        created_at: from.created_at,
    }
}

pub(crate) fn slate(slate: &Slate) -> model::UploadedSlate {
    let video = slate.tracks().first(waverant_media::TrackKind::Video);
    let size = video.and_then(|video| video.codec.picture_size());
    model::UploadedSlate {
        stream: slate.tracks().to_string(),
        width: size.map(|(width, _)| width),
        height: size.map(|(_, height)| height),
        length_ms: u64::try_from(slate.length().millis()).unwrap_or(0),
    }
}

pub(crate) fn session(from: store::SessionRecord) -> model::Session {
    model::Session {
        id: from.begun.id,
        channel: from.begun.channel_name,
        key_label: from.begun.key_label,
        publisher_address: from.begun.publisher_address,
        encoder: from.begun.encoder,
        started_at: from.begun.started_at,
        ended_at: from.ended_at,
        end_reason: from.end_reason,
        loss_count: from.loss_count,
        is_rehearsal: from.begun.is_rehearsal,
    }
}

pub(crate) fn leg_outcome(from: waverant_relay::LegRecord) -> model::LegOutcome {
    model::LegOutcome {
        destination: from.destination_name,
        state: waverant_house::leg_state(from.state),
        reason: from.reason,
        sent_frame_count: from.sent_frame_count,
        sent_bytes: from.sent_bytes,
        dropped_frame_count: from.dropped_frame_count,
        dropped_ms: from.dropped_ms,
        redial_count: from.redial_count,
    }
}

pub(crate) fn turned_away(from: AwayGroup) -> model::TurnedAway {
    let (last, said) = (from.last, |text: String| Some(text).filter(|text| !text.is_empty()));
    model::TurnedAway {
        id: from.id,
        first_at: from.first_at,
        at: last.at,
        count: from.count,
        address: last.address.map(|address| address.to_string()),
        protocol: said(last.protocol),
        encoder: said(last.encoder),
        reason: last.reason,
        detail: last.detail,
        key_prefix: last.key_prefix,
        channel: last.channel_name,
    }
}

pub(crate) fn depot(from: store::Depot) -> model::Depot {
    model::Depot {
        name: from.name,
        endpoint: from.endpoint,
        region: from.region,
        bucket: from.bucket,
        prefix: from.prefix,
        access_key: from.access_key,
        public_address: from.public_address,
        created_at: from.created_at,
    }
}

pub(crate) fn take(take: store::StoredTake, copy: Option<store::CopyRecord>) -> model::Take {
    let store::StoredTake { channel_name, record, card } = take;
    let marks = record.marks.into_iter().map(|mark| model::Mark { at_ms: mark.at_ms, title: mark.title });
    model::Take {
        channel: channel_name,
        session: record.session_id,
        number: record.number,
        path: record.path,
        state: match record.state {
            TakeState::Writing => model::TakeState::Writing,
            TakeState::Complete => model::TakeState::Complete,
            TakeState::CutOff => model::TakeState::CutOff,
        },
        started_at: record.started_at,
        duration_ms: record.duration_ms,
        size_bytes: record.size_bytes,
        gap_count: record.gap_count,
        gap_ms: record.gap_ms,
        marks: marks.collect(),
        repair: record.repair,
        title: card.title,
        note: card.note,
        is_locked: card.is_locked,
        cut_from: card.cut_from,
        removed_at: card.removed_at,
        sha256: card.sha256.map(|digest| hex(&digest)),
        is_here: card.is_here,
        copy: copy.map(take_copy),
        sounds: Vec::new(),
    }
}

fn take_copy(from: store::CopyRecord) -> model::TakeCopy {
    model::TakeCopy {
        depot: from.depot,
        object_key: from.object_key,
        state: match from.state {
            CopyState::Waiting => model::CopyState::Waiting,
            CopyState::Sending => model::CopyState::Sending,
            CopyState::There => model::CopyState::There,
            CopyState::Failing => model::CopyState::Failing,
        },
        sent_bytes: from.sent_bytes,
        attempt_count: from.attempt_count,
        error: from.error,
    }
}

pub(crate) fn hex(bytes: &[u8]) -> String {
    use std::fmt::Write as _;
    bytes.iter().fold(String::new(), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}
