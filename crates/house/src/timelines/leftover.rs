use std::fs::{self, OpenOptions};
use std::io::{self, BufRead, BufReader, Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use time::OffsetDateTime;
use waverant_store::FigureBlock;

/// Name of the file in the state folder.
const FILE_NAME: &str = "unwritten-figures";

/// A block that is larger is none of ours.
const LARGEST: usize = 16 * 1024 * 1024;

/// The file in which blocks wait that a stop could not write: for each a line of numbers (whose, step, first second,
/// when, length), and then its bytes.
#[derive(Clone, Debug)]
pub(super) struct Leftover(PathBuf);

impl Leftover {
    pub(super) fn new(state_folder: &Path) -> Self {
        Self(state_folder.join(FILE_NAME))
    }

    /// Replaces what is there. A crash in between leaves the old file.
    pub(super) fn write(&self, blocks: &[FigureBlock]) -> io::Result<()> {
        let fresh = self.0.with_extension("new");
        let file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&fresh)?;
        let mut out = io::BufWriter::new(file);
        for block in blocks {
            let (whose, step, start, length) = (block.session_id, block.step_s, block.start_s, block.bytes.len());
            writeln!(out, "{whose} {step} {start} {} {length}", block.began_at.unix_timestamp())?;
            out.write_all(&block.bytes)?;
        }
        out.into_inner().map_err(io::IntoInnerError::into_error)?.sync_all()?;
        fs::rename(&fresh, &self.0)
    }

    /// What an earlier run left; what cannot be read of it is left out.
    pub(super) fn read(&self) -> io::Result<Vec<FigureBlock>> {
        let file = match fs::File::open(&self.0) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(error),
        };
        let (mut file, mut blocks, mut line) = (BufReader::new(file), Vec::new(), String::new());
        while (&mut file).take(128).read_line(&mut line)? > 0 {
            let Some((mut block, length)) = head(&line) else { break };
            block.bytes.resize(length, 0);
            if file.read_exact(&mut block.bytes).is_err() {
                break;
            }
            blocks.push(block);
            line.clear();
        }
        Ok(blocks)
    }

    pub(super) fn remove(&self) -> io::Result<()> {
        match fs::remove_file(&self.0) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }
}

fn head(line: &str) -> Option<(FigureBlock, usize)> {
    let mut fields = line.split_ascii_whitespace();
    let block = FigureBlock {
        session_id: fields.next()?.parse().ok()?,
        step_s: fields.next()?.parse().ok()?,
        start_s: fields.next()?.parse().ok()?,
        began_at: OffsetDateTime::from_unix_timestamp(fields.next()?.parse().ok()?).ok()?,
        bytes: Vec::new(),
    };
    let length = fields.next()?.parse().ok().filter(|length| *length <= LARGEST)?;
    Some((block, length))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_left_is_had_again_and_a_cut_loses_only_what_it_cuts() {
        let folder = tempfile::tempdir().unwrap();
        let leftover = Leftover::new(folder.path());
        assert_eq!(leftover.read().unwrap(), []);
        let block = |session_id: u64| FigureBlock {
            session_id,
            step_s: 10,
            start_s: 600,
            began_at: OffsetDateTime::UNIX_EPOCH,
            bytes: vec![b'\n', 0, 255, b' '],
        };
        leftover.write(&[block(1), block(2)]).unwrap();
        assert_eq!(leftover.read().unwrap(), [block(1), block(2)]);
        let whole = fs::read(folder.path().join(FILE_NAME)).unwrap();
        for length in 0..whole.len() {
            fs::write(folder.path().join(FILE_NAME), &whole[..length]).unwrap();
            assert!(leftover.read().unwrap().len() <= 1);
        }
        fs::write(folder.path().join(FILE_NAME), "1 10 0 0 99999999999\n").unwrap();
        assert_eq!(leftover.read().unwrap(), []);
        leftover.remove().unwrap();
        leftover.remove().unwrap();
    }
}
