//! The `moof` box: where the samples of a fragment lie.
//!
//! Source: ISO/IEC 14496-12, 8.8

use bytes::Bytes;

use super::NON_SYNC_BIT;
use super::boxes::for_each_box;
use super::fields::Fields;
use super::movie::TrackHead;
use super::raw_sample::RawSample;
use crate::parts::Mp4Error;

/// Reads the content of a `moof` box that begins at `moof_at` of a file of `file_length` bytes; each
/// sample goes to `each` with the place of its track.
pub(super) fn read_fragment(
    tracks: &mut [TrackHead],
    moof_at: u64,
    file_length: u64,
    content: &Bytes,
    each: &mut impl FnMut(usize, RawSample) -> Result<(), Mp4Error>,
) -> Result<(), Mp4Error> {
    for_each_box(content, 0, &mut |name, content| {
        if name == b"traf" {
            let mut run = Run { base: moof_at, file_length, ..Run::default() };
            run.read_track_fragment(tracks, content, each)?;
        }
        Ok(false)
    })
}

/// What a track fragment header says, and where its data goes on.
#[derive(Default)]
struct Run {
    base: u64,
    file_length: u64,
    place: Option<usize>,
    duration: u32,
    size: u32,
    flags: u32,
    cursor: Option<u64>,
}

impl Run {
    fn read_track_fragment(
        &mut self,
        tracks: &mut [TrackHead],
        content: &Bytes,
        each: &mut impl FnMut(usize, RawSample) -> Result<(), Mp4Error>,
    ) -> Result<(), Mp4Error> {
        for_each_box(content, 0, &mut |name, content| {
            let place = self.place;
            let track = place.and_then(|place| Some((place, tracks.get_mut(place)?)));
            match (name, track) {
                (b"tfhd", _) => self.read_header(tracks, content)?,
                (b"tfdt", Some((_, track))) => track.next_decode_time = read_decode_time(content)?,
                (b"trun", Some((place, track))) => self.read_run(track, content, &mut |sample| each(place, sample))?,
                _ => {}
            }
            Ok(false)
        })
    }

    fn read_header(&mut self, tracks: &[TrackHead], content: &Bytes) -> Result<(), Mp4Error> {
        let mut fields = Fields::new("tfhd", content, 0);
        let flags = fields.u32()?;
        let number = fields.u32()?;
        self.place = tracks.iter().position(|track| track.number == number);
        if let Some(track) = self.place.and_then(|place| tracks.get(place)) {
            (self.duration, self.size, self.flags) = (track.default_duration, track.default_size, track.default_flags);
        }
        if flags & 1 != 0 {
            self.base = fields.u64()?;
        }
        if flags & 2 != 0 {
            fields.u32()?;
        }
        for (bit, field) in [(8, &mut self.duration), (16, &mut self.size), (32, &mut self.flags)] {
            if flags & bit != 0 {
                *field = fields.u32()?;
            }
        }
        Ok(())
    }

    fn read_run(
        &mut self,
        track: &mut TrackHead,
        content: &Bytes,
        each: &mut dyn FnMut(RawSample) -> Result<(), Mp4Error>,
    ) -> Result<(), Mp4Error> {
        let mut fields = Fields::new("trun", content, 0);
        let flags = fields.u32()?;
        let count = fields.u32()?;
        let mut at = self.cursor.unwrap_or(self.base);
        if flags & 1 != 0 {
            let offset = fields.i32()?;
            at = self.base.saturating_add_signed(offset.into());
        }
        let first_flags = if flags & 4 != 0 { Some(fields.u32()?) } else { None };
        for index in 0..count {
            // Without per-sample fields a count costs no bytes: the file's length bounds it.
            if flags & 0xf00 == 0 && (u64::from(index) > self.file_length || self.size == 0) {
                break;
            }
            let field = |present: u32, default: u32, fields: &mut Fields<'_>| {
                if flags & present != 0 { fields.u32() } else { Ok(default) }
            };
            let duration = field(0x100, self.duration, &mut fields)?;
            let size = field(0x200, self.size, &mut fields)?;
            let own = field(0x400, self.flags, &mut fields)?;
            let offset = if flags & 0x800 != 0 { fields.i32()? } else { 0 };
            let sample_flags = if index == 0 { first_flags.unwrap_or(own) } else { own };
            let decode_time = track.next_decode_time;
            track.next_decode_time = decode_time.saturating_add(duration.into());
            if at.checked_add(size.into()).is_some_and(|end| end <= self.file_length) {
                each(RawSample { decode_time, duration, offset, sync: sample_flags & NON_SYNC_BIT == 0, at, size })?;
            }
            at = at.saturating_add(size.into());
        }
        self.cursor = Some(at);
        Ok(())
    }
}

fn read_decode_time(content: &Bytes) -> Result<i64, Mp4Error> {
    let mut fields = Fields::new("tfdt", content, 0);
    let time = if fields.u32()? >> 24 == 1 { fields.u64()? } else { fields.u32()?.into() };
    Ok(i64::try_from(time).unwrap_or(i64::MAX))
}
