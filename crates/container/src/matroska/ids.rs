//! Element identifiers.
//!
//! Source: RFC 8794, 11.2 and RFC 9559, 5.1

pub(super) const EBML: u32 = 0x1a45_dfa3;
pub(super) const EBML_VERSION: u32 = 0x4286;
pub(super) const EBML_READ_VERSION: u32 = 0x42f7;
pub(super) const EBML_MAX_ID_LENGTH: u32 = 0x42f2;
pub(super) const EBML_MAX_SIZE_LENGTH: u32 = 0x42f3;
pub(super) const DOC_TYPE: u32 = 0x4282;
pub(super) const DOC_TYPE_VERSION: u32 = 0x4287;
pub(super) const DOC_TYPE_READ_VERSION: u32 = 0x4285;
pub(super) const VOID: u32 = 0xec;
pub(super) const CRC_32: u32 = 0xbf;

pub(super) const SEGMENT: u32 = 0x1853_8067;
pub(super) const SEEK_HEAD: u32 = 0x114d_9b74;
pub(super) const SEEK: u32 = 0x4dbb;
pub(super) const SEEK_ID: u32 = 0x53ab;
pub(super) const SEEK_POSITION: u32 = 0x53ac;

pub(super) const INFO: u32 = 0x1549_a966;
pub(super) const INFO_TIMESTAMP_SCALE: u32 = 0x2a_d7b1;
pub(super) const DURATION: u32 = 0x4489;
pub(super) const DATE_UTC: u32 = 0x4461;
pub(super) const TITLE: u32 = 0x7ba9;
pub(super) const MUXING_APP: u32 = 0x4d80;
pub(super) const WRITING_APP: u32 = 0x5741;

pub(super) const TRACKS: u32 = 0x1654_ae6b;
pub(super) const TRACK_ENTRY: u32 = 0xae;
pub(super) const TRACK_NUMBER: u32 = 0xd7;
pub(super) const TRACK_UID: u32 = 0x73c5;
pub(super) const TRACK_TYPE: u32 = 0x83;
pub(super) const FLAG_DEFAULT: u32 = 0x88;
pub(super) const FLAG_LACING: u32 = 0x9c;
pub(super) const DEFAULT_DURATION: u32 = 0x23_e383;
pub(super) const NAME: u32 = 0x536e;
pub(super) const LANGUAGE: u32 = 0x22_b59c;
pub(super) const LANGUAGE_BCP47: u32 = 0x22_b59d;
pub(super) const CODEC_ID: u32 = 0x86;
pub(super) const CODEC_PRIVATE: u32 = 0x63a2;
pub(super) const SEEK_PRE_ROLL: u32 = 0x56bb;
pub(super) const CONTENT_ENCODINGS: u32 = 0x6d80;
pub(super) const VIDEO: u32 = 0xe0;
pub(super) const PIXEL_WIDTH: u32 = 0xb0;
pub(super) const PIXEL_HEIGHT: u32 = 0xba;
pub(super) const AUDIO: u32 = 0xe1;
pub(super) const SAMPLING_FREQUENCY: u32 = 0xb5;
pub(super) const CHANNELS: u32 = 0x9f;

pub(super) const CLUSTER: u32 = 0x1f43_b675;
pub(super) const TIMESTAMP: u32 = 0xe7;
pub(super) const SILENT_TRACKS: u32 = 0x5854;
pub(super) const POSITION: u32 = 0xa7;
pub(super) const PREV_SIZE: u32 = 0xab;
pub(super) const SIMPLE_BLOCK: u32 = 0xa3;
pub(super) const BLOCK_GROUP: u32 = 0xa0;
pub(super) const BLOCK: u32 = 0xa1;
pub(super) const BLOCK_DURATION: u32 = 0x9b;
pub(super) const REFERENCE_BLOCK: u32 = 0xfb;

pub(super) const CUES: u32 = 0x1c53_bb6b;
pub(super) const CUE_POINT: u32 = 0xbb;
pub(super) const CUE_TIME: u32 = 0xb3;
pub(super) const CUE_TRACK_POSITIONS: u32 = 0xb7;
pub(super) const CUE_TRACK: u32 = 0xf7;
pub(super) const CUE_CLUSTER_POSITION: u32 = 0xf1;

pub(super) const CHAPTERS: u32 = 0x1043_a770;
pub(super) const EDITION_ENTRY: u32 = 0x45b9;
pub(super) const CHAPTER_ATOM: u32 = 0xb6;
pub(super) const CHAPTER_UID: u32 = 0x73c4;
pub(super) const CHAPTER_TIME_START: u32 = 0x91;
pub(super) const CHAPTER_DISPLAY: u32 = 0x80;
pub(super) const CHAP_STRING: u32 = 0x85;
pub(super) const CHAP_LANGUAGE: u32 = 0x437c;

pub(super) const TAGS: u32 = 0x1254_c367;
pub(super) const ATTACHMENTS: u32 = 0x1941_a469;

/// True for what stands directly in a segment: it ends a cluster of unknown size.
pub(super) fn is_segment_level(id: u32) -> bool {
    matches!(id, SEEK_HEAD | INFO | TRACKS | CLUSTER | CUES | CHAPTERS | TAGS | ATTACHMENTS | SEGMENT | EBML)
}
