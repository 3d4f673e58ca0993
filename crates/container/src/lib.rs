//! Containers, without files or sockets: FLV tag payloads as RTMP carries them; MPEG-TS and Matroska
//! as streams of bytes; fragmented MP4 and Matroska with writers that need no end, and readers for
//! files of any size; plain MP4 made of either.

mod cutting;
mod file;
mod flv;
mod language;
mod matroska;
mod mp4;
mod source;
mod stream;
mod ts;

pub use cutting::{Fragment, Patch, WriterError};
pub use file::{
    FileError, FileFormat, FileHead, FileMark, FileReader, FileSurvey, FileTrack, FileWriter, Repair, SampleRef,
    TrackGap, TrackSurvey, plan_repair, survey,
};
pub use flv::{
    FlvError, TagCodec, TagContent, TagForm, TagHeader, TagPart, TagTime, colour_info_header, config_header,
    end_header, frame_header, parse_audio_tag, parse_video_tag,
};
pub use matroska::{ClusterWriter, MatroskaError, MatroskaReader};
pub use mp4::{Extent, FragmentWriter, Layout, Mp4Error, Mp4File, Mp4Sample, Mp4Track, Selection, plan_progressive};
pub use source::Source;
pub use stream::{ElementaryStream, StreamEvent};
#[cfg(any(test, feature = "testing"))]
pub use ts::TsTimingCheck;
pub use ts::{TsCounters, TsReader, TsWriter, Uncarried, is_writable};
