//! Containers, without files or sockets: FLV tag payloads as RTMP carries them, and fragmented
//! MP4 with a writer for takes and a reader for what was written.

mod flv;
mod mp4;

pub use flv::{
    AAC_RAW_HEADER, AAC_SEQUENCE_HEADER, AVC_SEQUENCE_HEADER, AudioTag, FlvError, VideoTag, avc_frame_header,
    parse_audio_tag, parse_video_tag,
};
pub use mp4::{Fragment, FragmentWriter, Mp4Error, Mp4File, Mp4Sample, Mp4Track, Patch, WriterError};
