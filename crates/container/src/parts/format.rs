/// The containers that files are written in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum FileFormat {
    /// Fragmented MP4 (ISO/IEC 14496-12).
    #[default]
    Mp4,
    /// Matroska (RFC 9559).
    Matroska,
}

impl FileFormat {
    /// The usual end of file names.
    pub fn extension(self) -> &'static str {
        match self {
            Self::Mp4 => "mp4",
            Self::Matroska => "mkv",
        }
    }

    /// The media type.
    pub fn media_type(self) -> &'static str {
        match self {
            Self::Mp4 => "video/mp4",
            Self::Matroska => "video/x-matroska",
        }
    }
}

/// What a file is told about itself at its begin.
#[derive(Clone, Debug, Default)]
pub struct FileHead {
    /// When the first packet came, in milliseconds since 1970.
    pub began_ms: Option<i64>,
    /// What it is called.
    pub title: Option<String>,
}
