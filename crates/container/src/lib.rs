//! Containers, without files or sockets: FLV tag payloads as RTMP carries them; MPEG-TS and Matroska
//! as streams of bytes; fragmented MP4 and Matroska with writers that need no end, and readers for
//! files of any size; plain MP4 made of either.

mod cmaf;
mod cutting;
mod file;
mod flv;
mod language;
mod matroska;
mod mp4;
mod parts;
mod playlist;
mod progressive;
mod source;
mod stream;
mod ts;

pub use cmaf::{CmafPiece, CmafSample, CmafTimeline, write_cmaf_header, write_cmaf_piece};
pub use cutting::{Fragment, Patch, WriterError};
pub use file::{FileReader, FileSurvey, FileWriter, TrackGap, TrackSurvey, plan_repair, survey};
pub use flv::{
    FlvError, TagCodec, TagContent, TagForm, TagHeader, TagPart, TagTime, colour_info_header, config_header,
    end_header, frame_header, parse_audio_tag, parse_video_tag,
};
pub use matroska::{ClusterWriter, MatroskaReader};
pub use mp4::{FragmentWriter, Mp4File, Mp4Sample, Mp4Track};
pub use parts::{FileError, FileFormat, FileHead, FileMark, FileTrack, MatroskaError, Mp4Error, Repair, SampleRef};
pub use playlist::{
    Manifest, ManifestPeriod, ManifestSegment, ManifestTrack, MediaPlaylist, MultivariantPlaylist, PieceName,
    PlaylistPart, PlaylistSegment, Rendition, RenditionReport, VariantFacts,
};
#[cfg(any(test, feature = "testing"))]
pub use playlist::{PlaylistCheck, PlaylistFault};
pub use progressive::{Extent, Layout, Selection, plan_progressive};
pub use source::Source;
pub use stream::{ElementaryStream, StreamEvent};
#[cfg(any(test, feature = "testing"))]
pub use ts::TsTimingCheck;
pub use ts::{TS_NULL_PACKET, TsCounters, TsReader, TsWriter, Uncarried, is_writable};
