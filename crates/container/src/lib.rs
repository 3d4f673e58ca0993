//! Containers, without files or sockets: FLV tag payloads as RTMP carries them, and fragmented
//! MP4 with a writer for takes and a reader for what was written.

mod flv;
mod mp4;

pub use flv::{
    FlvError, TagCodec, TagContent, TagForm, TagHeader, TagPart, TagTime, colour_info_header, config_header,
    end_header, frame_header, parse_audio_tag, parse_video_tag,
};
pub use mp4::{Fragment, FragmentWriter, Mp4Error, Mp4File, Mp4Sample, Mp4Track, Patch, WriterError};
