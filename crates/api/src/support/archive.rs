use std::fmt::Write as _;
use std::io;

use flate2::Compression;
use flate2::write::GzEncoder;
use time::OffsetDateTime;

/// Name of the first file.
const CONTENTS: &str = "contents.txt";

const HEAD: &str = "What is in this archive, and how many bytes of it. There are no keys, passwords, tokens or passphrases in \
it. There are addresses of encoders and of callers who were turned away, and names of channels, destinations and people: \
give it only to whom you would show your console.\n\n";

/// A file of the archive.
#[derive(Debug)]
pub(super) struct Part {
    pub(super) name: String,
    /// What it is, for people.
    pub(super) what: &'static str,
    pub(super) bytes: Vec<u8>,
}

/// The gzipped archive, with a list of what is in it as its first file.
pub(super) fn pack(parts: Vec<Part>, now: OffsetDateTime) -> io::Result<Vec<u8>> {
    let mut contents = HEAD.to_owned();
    for part in &parts {
        // Writing to a text does not fail.
        let _ = writeln!(contents, "{:>9}  {:<28} {}", part.bytes.len(), part.name, part.what);
    }
    let first = Part { name: CONTENTS.to_owned(), what: "this list", bytes: contents.into_bytes() };
    let mut archive = tar::Builder::new(GzEncoder::new(Vec::new(), Compression::default()));
    for part in std::iter::once(first).chain(parts) {
        let mut header = tar::Header::new_gnu();
        header.set_size(part.bytes.len() as u64);
        header.set_mode(0o600);
        header.set_mtime(u64::try_from(now.unix_timestamp()).unwrap_or(0));
        archive.append_data(&mut header, format!("waverant-support/{}", part.name), part.bytes.as_slice())?;
    }
    archive.into_inner()?.finish()
}

#[cfg(test)]
mod tests {
    use std::io::Read;

    use flate2::read::GzDecoder;

    use super::*;

    #[test]
    fn the_first_file_tells_of_the_others() {
        let part = Part { name: "log.jsonl".to_owned(), what: "the end of the log", bytes: vec![b'x'; 1234] };
        let packed = pack(vec![part], OffsetDateTime::UNIX_EPOCH).unwrap();
        let mut archive = tar::Archive::new(GzDecoder::new(packed.as_slice()));
        let mut files = Vec::new();
        for entry in archive.entries().unwrap() {
            let mut entry = entry.unwrap();
            let (name, mut text) = (entry.path().unwrap().display().to_string(), String::new());
            entry.read_to_string(&mut text).unwrap();
            files.push((name, text));
        }
        assert_eq!(files[0].0, "waverant-support/contents.txt");
        assert!(files[0].1.contains("     1234  log.jsonl                    the end of the log"), "{}", files[0].1);
        assert_eq!((files[1].0.as_str(), files[1].1.len(), files.len()), ("waverant-support/log.jsonl", 1234, 2));
    }
}
