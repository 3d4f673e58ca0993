use bytes::Bytes;
use waverant_media::{CodecParameters, MediaTime, TICKS_PER_SECOND};

use super::codec::{CodecKnown, Described, read_codec};
use super::ebml::{children, read_float, read_text, read_uint};
use super::ids;
use crate::parts::MatroskaError;

/// A track as its entry describes it.
#[derive(Clone, Debug)]
pub(super) struct TrackEntry {
    pub(super) number: u64,
    pub(super) is_default: bool,
    pub(super) codec_id: String,
    pub(super) known: CodecKnown,
    /// How long a frame lasts.
    pub(super) default_duration: Option<MediaTime>,
    /// As a tag (RFC 5646).
    pub(super) language: Option<String>,
    pub(super) name: Option<String>,
}

impl TrackEntry {
    /// # Errors
    /// [`MatroskaError::Codec`] if the codec's private data is damaged.
    pub(super) fn read(entry: &[u8]) -> Result<Self, MatroskaError> {
        let mut described = Described { sample_rate: 8000.0, channel_count: 1, ..Described::default() };
        let (mut number, mut is_default, mut is_encoded, mut default_duration) = (0, true, false, None);
        let (mut name, mut language, mut tag) = (None, Some("en".to_owned()), None);
        for (id, content) in children(entry) {
            match id {
                ids::TRACK_NUMBER => number = read_uint(content),
                ids::FLAG_DEFAULT => is_default = read_uint(content) != 0,
                ids::NAME => name = Some(read_text(content)).filter(|name| !name.is_empty()),
                ids::LANGUAGE => language = crate::language::tag(&read_text(content)),
                ids::LANGUAGE_BCP47 => tag = Some(read_text(content)).filter(|tag| tag != "und"),
                ids::CODEC_ID => described.id = read_text(content),
                ids::CODEC_PRIVATE => described.private = Bytes::copy_from_slice(content),
                ids::CONTENT_ENCODINGS => is_encoded = true,
                ids::DEFAULT_DURATION => default_duration = Some(from_nanoseconds(read_uint(content))),
                ids::AUDIO => {
                    for (id, content) in children(content) {
                        match id {
                            ids::SAMPLING_FREQUENCY => described.sample_rate = read_float(content),
                            ids::CHANNELS => described.channel_count = u8::try_from(read_uint(content)).unwrap_or(0),
                            _ => {}
                        }
                    }
                }
                _ => {}
            }
        }
        let known = if is_encoded { Ok(CodecKnown::Foreign) } else { read_codec(&described) };
        let known = known.map_err(|reason| MatroskaError::Codec { track: number, reason })?;
        let language = tag.or(language);
        Ok(Self { number, is_default, codec_id: described.id, known, default_duration, language, name })
    }

    /// How long a frame lasts that begins with `first_bytes`: as its samples say, as its block does
    /// (`told`), or as the entry does.
    pub(super) fn frame_duration(
        &self,
        codec: &CodecParameters,
        first_bytes: &[u8],
        told: Option<MediaTime>,
    ) -> MediaTime {
        let counted = codec.samples_in(first_bytes).zip(codec.sound()).map(|(samples, sound)| {
            MediaTime::from_ticks(i64::from(samples) * TICKS_PER_SECOND / i64::from(sound.sample_rate.max(1)))
        });
        counted.or(told).or(self.default_duration).unwrap_or_default()
    }
}

pub(super) fn from_nanoseconds(nanoseconds: u64) -> MediaTime {
    MediaTime::from_ticks(i64::try_from(u128::from(nanoseconds) * 9 / 100_000).unwrap_or(i64::MAX))
}

/// The time of a block, `offset` behind its cluster's `timestamp`, in units of `scale` nanoseconds.
pub(super) fn block_time(timestamp: u64, offset: i16, scale: u64) -> MediaTime {
    let ticks = i128::from(timestamp) + i128::from(offset);
    let nanoseconds = ticks.saturating_mul(i128::from(scale));
    MediaTime::from_ticks(i64::try_from(nanoseconds.saturating_mul(9) / 100_000).unwrap_or(0))
}
