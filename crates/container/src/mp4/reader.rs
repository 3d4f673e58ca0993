//! MP4 files read from memory, whole.

use bytes::Bytes;
use waverant_media::{CodecParameters, MediaTime, TrackId};

use super::boxes::next_box;
use super::fragment::read_fragment;
use super::limits::SampleBudget;
use super::movie::{TrackHead, read_movie};
use super::raw_sample::RawSample;
use crate::parts::Mp4Error;

/// Samples of a file that is read from memory: half an hour of 60 pictures and 47 sounds a second. Each takes
/// a hundred bytes.
const MAX_SAMPLES: usize = 200_000;

/// One coded sample.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mp4Sample {
    /// Decode time after the edit list; may be negative by the edit's start.
    pub dts: MediaTime,
    /// Presentation time after the edit list.
    pub pts: MediaTime,
    /// How long the sample lasts.
    pub duration: MediaTime,
    /// True for a sync sample.
    pub sync: bool,
    /// The coded bytes; they share the memory of the file.
    pub payload: Bytes,
}

/// A track with its samples in decode order.
#[derive(Clone, Debug)]
pub struct Mp4Track {
    /// The track's number in the file.
    pub number: u32,
    /// Codec and decoder configuration; none for a codec that we do not carry.
    pub codec: Option<CodecParameters>,
    /// The samples.
    pub samples: Vec<Mp4Sample>,
    head: TrackHead,
}

impl Mp4Track {
    fn new(head: TrackHead) -> Self {
        Self { number: head.number, codec: head.codec.clone(), samples: Vec::new(), head }
    }

    /// The number under which the tracks of a session are known.
    pub fn track_id(&self) -> TrackId {
        self.head.track_id()
    }
}

/// An MP4 file, with fragments or without, read from memory. For files that are larger than that
/// there is [`FileReader`](crate::FileReader).
#[derive(Clone, Debug)]
pub struct Mp4File {
    /// The tracks in file order.
    pub tracks: Vec<Mp4Track>,
    /// True if the file ends inside a box, as after a crash; whole fragments before it were read.
    pub truncated: bool,
}

impl Mp4File {
    /// Reads a file. A cut-off last fragment is left out and reported by
    /// [`truncated`](Self::truncated); samples whose payload is not there are left out as well.
    ///
    /// # Errors
    /// [`Mp4Error`] if there is no movie box, or a box within it is damaged.
    pub fn parse(file: &Bytes) -> Result<Self, Mp4Error> {
        let mut heads: Option<Vec<TrackHead>> = None;
        let mut found: Vec<(usize, RawSample)> = Vec::new();
        let (mut at, mut truncated) = (0, false);
        let mut budget = SampleBudget::new(MAX_SAMPLES);
        while at < file.len() {
            let Some((name, content, end)) = next_box(file, at) else {
                truncated = true;
                break;
            };
            match (&name, &mut heads) {
                (b"moov", _) => {
                    let movie = read_movie(&content)?;
                    for (place, head) in movie.iter().enumerate() {
                        let samples = head.tables.samples(file.len() as u64, &mut budget)?;
                        found.extend(samples.into_iter().map(|sample| (place, sample)));
                    }
                    heads = Some(movie);
                }
                // A fragment counts only if its payload is whole as well.
                (b"moof", _) if next_box(file, end).is_none() => {
                    truncated = true;
                    break;
                }
                (b"moof", Some(heads)) => {
                    let mut each = |place, sample| {
                        found.push((place, sample));
                        budget.take()
                    };
                    read_fragment(heads, at as u64, file.len() as u64, &content, &mut each)?;
                }
                _ => {}
            }
            at = end;
        }
        let mut tracks: Vec<Mp4Track> = heads.ok_or(Mp4Error::NoMovie)?.into_iter().map(Mp4Track::new).collect();
        for (place, sample) in found {
            if let Some(track) = tracks.get_mut(place)
                && let Some(payload) = piece(file, &sample)
            {
                let times = track.head.times(&sample);
                let (dts, pts, duration) = (times.dts, times.pts, times.duration);
                track.samples.push(Mp4Sample { dts, pts, duration, sync: sample.sync, payload });
            }
        }
        Ok(Self { tracks, truncated })
    }

    /// Length of the presentation: the end of the sample that is presented last.
    pub fn duration(&self) -> MediaTime {
        let samples = self.tracks.iter().flat_map(|track| &track.samples);
        samples.map(|sample| sample.pts + sample.duration).max().unwrap_or_default()
    }
}

fn piece(file: &Bytes, sample: &RawSample) -> Option<Bytes> {
    let start = usize::try_from(sample.at).ok()?;
    let end = start.checked_add(sample.size as usize)?;
    (end <= file.len()).then(|| file.slice(start..end))
}
