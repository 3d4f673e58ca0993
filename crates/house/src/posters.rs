use std::fs;
use std::io;
use std::path::PathBuf;

/// The largest poster that is taken, in bytes.
pub const MAX_POSTER_BYTES: usize = 4 * 1024 * 1024;

/// The posters of channels' pages, one for each at most.
#[derive(Debug)]
pub(crate) struct PosterShelf {
    folder: PathBuf,
}

impl PosterShelf {
    /// A shelf that is a folder; it is made when it is needed.
    pub(crate) fn new(folder: PathBuf) -> Self {
        Self { folder }
    }

    /// Keeps the poster of a channel. Blocks.
    pub(crate) fn keep(&self, channel_id: u64, bytes: &[u8]) -> io::Result<()> {
        fs::create_dir_all(&self.folder)?;
        let fresh = self.folder.join(format!("{channel_id}.new"));
        // Beside its place and renamed: nobody is sent half of it.
        fs::write(&fresh, bytes).and_then(|()| fs::rename(&fresh, self.path(channel_id)))
    }

    /// Removes the poster of a channel; false if there is none. Blocks.
    pub(crate) fn remove(&self, channel_id: u64) -> io::Result<bool> {
        match fs::remove_file(self.path(channel_id)) {
            Ok(()) => Ok(true),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
            Err(error) => Err(error),
        }
    }

    pub(crate) fn path(&self, channel_id: u64) -> PathBuf {
        self.folder.join(channel_id.to_string())
    }
}

/// The media type of a picture that browsers show, by how its file begins.
pub(crate) fn poster_type(bytes: &[u8]) -> Option<&'static str> {
    match bytes {
        [0xff, 0xd8, 0xff, ..] => Some("image/jpeg"),
        [0x89, b'P', b'N', b'G', b'\r', b'\n', 0x1a, b'\n', ..] => Some("image/png"),
        [b'R', b'I', b'F', b'F', _, _, _, _, b'W', b'E', b'B', b'P', ..] => Some("image/webp"),
        [_, _, _, _, b'f', b't', b'y', b'p', b'a', b'v', b'i', b'f', ..] => Some("image/avif"),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::jpeg(b"\xff\xd8\xff\xe0", Some("image/jpeg"))]
    #[case::png(b"\x89PNG\r\n\x1a\nIHDR", Some("image/png"))]
    #[case::webp(b"RIFF\x01\x02\x03\x04WEBPVP8 ", Some("image/webp"))]
    #[case::avif(b"\0\0\0\x20ftypavif", Some("image/avif"))]
    #[case::drawing_that_may_run(b"<svg onload='alert(1)'>", None)]
    #[case::page(b"<!doctype html>", None)]
    #[case::empty(b"", None)]
    fn posters_are_pictures(#[case] bytes: &[u8], #[case] expected: Option<&str>) {
        assert_eq!(poster_type(bytes), expected);
    }
}
