//! What calls answer. Secrets have no place here but in [`NewKey`].

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;
use waverant_relay::LegAddress;

use super::recording_form::Recording;
use super::srt_form::Srt;
use crate::house::SheetForm;
use crate::library::hex;

/// A channel.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Channel {
    /// Name in addresses.
    pub(crate) name: String,
    /// What people read.
    pub(crate) title: String,
    /// How long a session waits for a lost publisher.
    pub(crate) hold_ms: u32,
    /// What is recorded, in which form, and how long it is kept.
    pub(crate) recording: Recording,
    /// What becomes of a second encoder.
    pub(crate) takeover: Takeover,
    /// What is sent while a session waits for its encoder.
    pub(crate) slate: SlateChoice,
    /// What it asks of encoders and players over SRT.
    pub(crate) srt: Srt,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) created_at: OffsetDateTime,
    /// What goes into an encoder's server field.
    pub(crate) server: String,
    /// Where its sessions are sent.
    pub(crate) destinations: Vec<ChannelDestination>,
}

impl Channel {
    pub(crate) fn new(channel: waverant_store::Channel, server: String, destinations: Vec<ChannelDestination>) -> Self {
        Self {
            server,
            name: channel.name,
            title: channel.settings.title,
            hold_ms: channel.settings.hold_ms,
            recording: channel.settings.recording.into(),
            takeover: if channel.settings.replaces { Takeover::Replace } else { Takeover::Refuse },
            slate: channel.settings.slate.into(),
            srt: channel.settings.srt.into(),
            created_at: channel.created_at,
            destinations,
        }
    }
}

/// What becomes of a second encoder with a key of the same rank.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Takeover {
    /// It is turned away.
    #[default]
    Refuse,
    /// It takes the place of the first, without a gap at the destinations.
    Replace,
}

/// What is sent while a session waits for its encoder.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum SlateChoice {
    /// Nothing.
    None,
    /// The built-in holding picture.
    #[default]
    BuiltIn,
    /// The uploaded clip; the built-in picture where that does not fit.
    Uploaded,
}

impl From<SlateChoice> for waverant_store::SlateChoice {
    fn from(from: SlateChoice) -> Self {
        match from {
            SlateChoice::None => Self::None,
            SlateChoice::BuiltIn => Self::BuiltIn,
            SlateChoice::Uploaded => Self::Uploaded,
        }
    }
}

impl From<waverant_store::SlateChoice> for SlateChoice {
    fn from(from: waverant_store::SlateChoice) -> Self {
        match from {
            waverant_store::SlateChoice::None => Self::None,
            waverant_store::SlateChoice::BuiltIn => Self::BuiltIn,
            waverant_store::SlateChoice::Uploaded => Self::Uploaded,
        }
    }
}

/// A destination of a channel.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ChannelDestination {
    /// The destination's name.
    pub(crate) destination: String,
    /// Whether the channel's sessions are sent there.
    pub(crate) is_on: bool,
    /// How much later than the source.
    pub(crate) delay_ms: u32,
    /// How much later than the show it starts.
    pub(crate) start_after_ms: u32,
}

impl From<waverant_store::ChannelDestination> for ChannelDestination {
    fn from(from: waverant_store::ChannelDestination) -> Self {
        Self {
            destination: from.destination.name,
            is_on: from.sending.switched_on,
            delay_ms: from.sending.delay_ms,
            start_after_ms: from.sending.start_after_ms,
        }
    }
}

/// What a key opens a channel for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum KeyRight {
    /// Publishing.
    #[default]
    Publish,
    /// Watching over RTMP.
    View,
}

impl From<KeyRight> for waverant_store::KeyRight {
    fn from(from: KeyRight) -> Self {
        match from {
            KeyRight::Publish => Self::Publish,
            KeyRight::View => Self::View,
        }
    }
}

impl From<waverant_store::KeyRight> for KeyRight {
    fn from(from: waverant_store::KeyRight) -> Self {
        match from {
            waverant_store::KeyRight::Publish => Self::Publish,
            waverant_store::KeyRight::View => Self::View,
        }
    }
}

/// A stream key without the key.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct StreamKey {
    /// The key's number.
    pub(crate) id: u64,
    /// What it opens the channel for.
    pub(crate) right: KeyRight,
    /// 0 is the highest; an encoder with a key of lower rank is a backup.
    pub(crate) rank: u8,
    /// For whom it was made.
    pub(crate) label: String,
    /// Its public part.
    pub(crate) prefix: String,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) created_at: OffsetDateTime,
    /// When it stops opening the gate.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) expires_at: Option<OffsetDateTime>,
    /// Addresses and networks that it may be used from; none for anywhere.
    pub(crate) allowed_from: Vec<String>,
}

impl From<waverant_store::StreamKey> for StreamKey {
    fn from(from: waverant_store::StreamKey) -> Self {
        Self {
            id: from.id,
            right: from.right.into(),
            rank: from.rank,
            label: from.label,
            prefix: from.prefix,
            created_at: from.created_at,
            expires_at: from.expires_at,
            allowed_from: from.allowed_from,
        }
    }
}

/// What goes into the two fields of an encoder or player.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct EncoderFields {
    /// The server field.
    pub(crate) server: String,
    /// The server field over TLS, if the service has a certificate.
    pub(crate) secure_server: Option<String>,
    /// The key field.
    pub(crate) key: String,
    /// The server field where there are fields for user name and password. The password is the key.
    pub(crate) guarded_server: String,
    /// The user field there.
    pub(crate) user: String,
    /// Both in one, for devices with one field.
    pub(crate) whole: String,
    /// What goes into an encoder's or a player's fields for SRT.
    pub(crate) srt: SrtFields,
}

/// What goes into the fields for SRT.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SrtFields {
    /// The address; the encoder is the caller.
    pub(crate) address: String,
    /// The stream id.
    pub(crate) stream_id: String,
    /// The same for programs that have no other way to say what they want.
    pub(crate) long_stream_id: String,
    /// Address and stream id in one, for devices with one field.
    pub(crate) whole: String,
    /// The latency to set, in milliseconds.
    pub(crate) latency_ms: u16,
    /// Whether the channel's passphrase is to be set.
    pub(crate) has_passphrase: bool,
}

/// A stream key that was just made; the only answer that holds the key itself.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct NewKey {
    /// The key's record.
    pub(crate) key: StreamKey,
    /// What to paste.
    pub(crate) encoder: EncoderFields,
}

/// What a destination gets when the wanted track of sound is not there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum AudioOtherwise {
    /// The first track.
    #[default]
    First,
    /// No sound.
    None,
}

/// A destination without its key.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Destination {
    /// Its name.
    pub(crate) name: String,
    /// Where it is.
    pub(crate) address: String,
    /// The only authority (PEM) that may sign its certificate; none: those that the machine trusts.
    pub(crate) authority: Option<String>,
    /// How long packets are collected before they are sent.
    pub(crate) batch_ms: u16,
    /// What it accepts.
    pub(crate) limits: SheetForm,
    /// The track of sound that it gets, as in `language:de`; none for all that it takes.
    pub(crate) audio: Option<String>,
    /// What it gets when there is no such track.
    pub(crate) audio_otherwise: AudioOtherwise,
    /// What it asks for over SRT; none if it is not SRT.
    pub(crate) srt: Option<Srt>,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) created_at: OffsetDateTime,
}

impl From<waverant_store::Destination> for Destination {
    fn from(from: waverant_store::Destination) -> Self {
        let settings = from.settings;
        let is_srt = settings.address.parse::<LegAddress>().is_ok_and(|address| address.is_srt());
        Self {
            name: from.name,
            srt: is_srt.then(|| settings.srt.into()),
            limits: SheetForm::read(settings.limits_sheet.as_deref()),
            address: settings.address,
            authority: settings.authority,
            batch_ms: settings.batch_ms,
            audio: settings.audio_pick,
            audio_otherwise: if settings.or_no_audio { AudioOtherwise::None } else { AudioOtherwise::First },
            created_at: from.created_at,
        }
    }
}

/// A session.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Session {
    /// The session's number.
    pub(crate) id: u64,
    /// The channel's name.
    pub(crate) channel: String,
    /// Label of the key that opened the gate.
    pub(crate) key_label: String,
    /// Where the publisher came from.
    pub(crate) publisher_address: String,
    /// What the encoder calls itself.
    pub(crate) encoder: String,
    /// When it began.
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) started_at: OffsetDateTime,
    /// When it ended.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) ended_at: Option<OffsetDateTime>,
    /// Why it ended.
    pub(crate) end_reason: Option<String>,
    /// How often the publisher was lost.
    pub(crate) loss_count: u32,
    /// True if it was fed by the test picture.
    pub(crate) is_rehearsal: bool,
}

impl From<waverant_store::SessionRecord> for Session {
    fn from(from: waverant_store::SessionRecord) -> Self {
        Self {
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
}

/// What a leg did in a session.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LegOutcome {
    /// The destination's name.
    pub(crate) destination: String,
    /// Where the leg stood last.
    pub(crate) state: String,
    /// Why its last connection ended.
    pub(crate) reason: Option<String>,
    /// Pictures sent.
    pub(crate) sent_frame_count: u64,
    /// Payload bytes sent.
    pub(crate) sent_bytes: u64,
    /// Pictures that it missed: too slow for them, or not connected.
    pub(crate) dropped_frame_count: u64,
    /// How much of the show they were.
    pub(crate) dropped_ms: u64,
    /// How often it dialed again.
    pub(crate) redial_count: u32,
}

impl From<waverant_store::LegRecord> for LegOutcome {
    fn from(from: waverant_store::LegRecord) -> Self {
        Self {
            destination: from.destination_name,
            state: from.state,
            reason: from.reason,
            sent_frame_count: from.sent_frame_count,
            sent_bytes: from.sent_bytes,
            dropped_frame_count: from.dropped_frame_count,
            dropped_ms: from.dropped_ms,
            redial_count: from.redial_count,
        }
    }
}

/// One recorded file.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Take {
    /// The channel's name.
    pub(crate) channel: String,
    /// The session that it records.
    pub(crate) session: u64,
    /// Its place in the session.
    pub(crate) number: u32,
    /// Where it lies within the recordings folder.
    pub(crate) path: String,
    /// `writing`, `complete` or `cut off`.
    pub(crate) state: String,
    /// When it began.
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) started_at: OffsetDateTime,
    /// How long it plays.
    pub(crate) duration_ms: u64,
    /// How much it takes.
    pub(crate) size_bytes: u64,
    /// How often a part of the show is missing because the disk was too slow.
    pub(crate) gap_count: u32,
    /// How much of the show that is.
    pub(crate) gap_ms: u64,
    /// Moments that were pointed out.
    pub(crate) marks: Vec<Mark>,
    /// What was done to a take that was not ended in order.
    pub(crate) repair: Option<String>,
    /// What people call it.
    pub(crate) title: Option<String>,
    /// What people wrote about it.
    pub(crate) note: Option<String>,
    /// True if no rule may remove it.
    pub(crate) is_locked: bool,
    /// The number of the take that it was cut from.
    pub(crate) cut_from: Option<u32>,
    /// When it was removed, if it was.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) removed_at: Option<OffsetDateTime>,
    /// SHA-256 of the file; none until it was read through once.
    pub(crate) sha256: Option<String>,
    /// True if the file is on this disk.
    pub(crate) is_here: bool,
    /// Its copy in a depot.
    pub(crate) copy: Option<TakeCopy>,
    /// Its tracks of sound in order; only where one take is asked for, and its file is here.
    pub(crate) sounds: Vec<TakeSound>,
}

/// A track of sound of a take.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TakeSound {
    /// Codec.
    pub(crate) codec: String,
    /// As RFC 5646 has it.
    pub(crate) language: Option<String>,
    /// What the publisher called it.
    pub(crate) name: Option<String>,
}

/// A moment of a take.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Mark {
    /// From the begin of the take.
    pub(crate) at_ms: u64,
    /// Why.
    pub(crate) title: String,
}

/// A take's copy in a depot.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TakeCopy {
    /// The depot's name.
    pub(crate) depot: String,
    /// What the object is called there.
    pub(crate) object_key: String,
    /// `waiting`, `sending`, `there` or `failing`.
    pub(crate) state: String,
    /// How much of it is there.
    pub(crate) sent_bytes: u64,
    /// How often it was tried in vain.
    pub(crate) attempt_count: u32,
    /// Why the last try was in vain.
    pub(crate) error: Option<String>,
}

impl From<waverant_store::CopyRecord> for TakeCopy {
    fn from(from: waverant_store::CopyRecord) -> Self {
        Self {
            depot: from.depot,
            object_key: from.object_key,
            state: from.state.name().to_owned(),
            sent_bytes: from.sent_bytes,
            attempt_count: from.attempt_count,
            error: from.error,
        }
    }
}

impl Take {
    pub(crate) fn new(take: waverant_store::StoredTake, copy: Option<waverant_store::CopyRecord>) -> Self {
        let waverant_store::StoredTake { channel_name, record, card } = take;
        Self {
            channel: channel_name,
            session: record.session_id,
            number: record.number,
            path: record.path,
            state: record.state.name().to_owned(),
            started_at: record.started_at,
            duration_ms: record.duration_ms,
            size_bytes: record.size_bytes,
            gap_count: record.gap_count,
            gap_ms: record.gap_ms,
            marks: record.marks.into_iter().map(|mark| Mark { at_ms: mark.at_ms, title: mark.title }).collect(),
            repair: record.repair,
            title: card.title,
            note: card.note,
            is_locked: card.is_locked,
            cut_from: card.cut_from,
            removed_at: card.removed_at,
            sha256: card.sha256.map(|digest| hex(&digest)),
            is_here: card.is_here,
            copy: copy.map(TakeCopy::from),
            sounds: Vec::new(),
        }
    }
}

/// A session with what became of it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SessionDetail {
    /// The session.
    pub(crate) session: Session,
    /// Its legs by destination.
    pub(crate) legs: Vec<LegOutcome>,
    /// Its takes in order.
    pub(crate) takes: Vec<Take>,
}

/// A publisher who was not let in.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TurnedAway {
    /// The attempt's number.
    pub(crate) id: u64,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) at: OffsetDateTime,
    /// From where.
    pub(crate) address: String,
    /// The reason's stable word.
    pub(crate) reason: String,
    /// The reason in words.
    pub(crate) detail: String,
    /// The public part of the key that was presented.
    pub(crate) key_prefix: Option<String>,
    /// The channel, if the key was one of its keys.
    pub(crate) channel: Option<String>,
}

impl From<waverant_store::TurnedAwayRecord> for TurnedAway {
    fn from(from: waverant_store::TurnedAwayRecord) -> Self {
        Self {
            id: from.id,
            at: from.attempt.at,
            address: from.attempt.address,
            reason: from.attempt.reason,
            detail: from.attempt.detail,
            key_prefix: from.attempt.key_prefix,
            channel: from.attempt.channel_name,
        }
    }
}
