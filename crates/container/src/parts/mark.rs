use waverant_media::MediaTime;

/// A moment of a file that somebody or something pointed out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileMark {
    /// When, on the file's own timeline.
    pub at: MediaTime,
    /// Why.
    pub title: String,
}

/// A file keeps this many marks.
pub(crate) const MAX_MARKS: usize = 1000;

/// Longer titles are cut.
pub(crate) const MAX_TITLE: usize = 160;

/// The start of a title, at a border between letters.
pub(crate) fn shortened(title: &str) -> String {
    title.chars().filter(|letter| !letter.is_control()).take(MAX_TITLE).collect()
}
