//! What goes between a hand and its helper: a length in four bytes, and a message in the form of postcard.

use std::io::{self, Read, Write};

use serde::Serialize;
use serde::de::DeserializeOwned;

/// A message that is longer is not taken.
const LONGEST: usize = 96 * 1024 * 1024;

/// Writes a message.
pub(super) fn write(out: &mut impl Write, message: &impl Serialize) -> io::Result<()> {
    let mut bytes = vec![0; 4];
    bytes = postcard::to_extend(message, bytes).map_err(io::Error::other)?;
    let length = bytes.len() - 4;
    if length > LONGEST {
        return Err(too_long(length));
    }
    let told = u32::try_from(length).map_err(io::Error::other)?;
    bytes[..4].copy_from_slice(&told.to_be_bytes());
    out.write_all(&bytes)
}

/// Reads a message; none if the other end hung up between two.
pub(super) fn read<T: DeserializeOwned>(from: &mut impl Read) -> io::Result<Option<T>> {
    let mut told = [0; 4];
    match from.read_exact(&mut told) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(None),
        read => read?,
    }
    let length = usize::try_from(u32::from_be_bytes(told)).map_err(io::Error::other)?;
    if length > LONGEST {
        return Err(too_long(length));
    }
    // It grows with what comes, and not with what is told.
    let mut bytes = Vec::new();
    from.take(length as u64).read_to_end(&mut bytes)?;
    if bytes.len() < length {
        return Err(io::ErrorKind::UnexpectedEof.into());
    }
    postcard::from_bytes(&bytes).map(Some).map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))
}

fn too_long(length: usize) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, format!("a message of {length} bytes; at most {LONGEST} were expected"))
}

#[cfg(test)]
mod tests {
    use bytes::Bytes;
    use proptest::prelude::*;

    use super::*;
    use crate::helper::crafts::{Outcome, Task};

    #[test]
    fn what_is_written_is_read() {
        let mut bytes = Vec::new();
        write(&mut bytes, &Task::Holding { width: 2, height: 4, frame_rate: 25.0 }).unwrap();
        write(&mut bytes, &Task::Glance { config: Bytes::from_static(b"a"), keyframe: Bytes::from_static(b"bc") })
            .unwrap();
        let mut rest = &bytes[..];
        assert!(matches!(read::<Task>(&mut rest).unwrap(), Some(Task::Holding { width: 2, .. })));
        assert!(matches!(read::<Task>(&mut rest).unwrap(), Some(Task::Glance { keyframe, .. }) if keyframe == "bc"));
        assert!(read::<Task>(&mut rest).unwrap().is_none());
        assert_eq!(read::<Task>(&mut &bytes[..9]).unwrap_err().kind(), io::ErrorKind::UnexpectedEof);
        assert_eq!(read::<Task>(&mut &[0xff; 64][..]).unwrap_err().kind(), io::ErrorKind::InvalidData);
    }

    proptest! {
        /// A helper that somebody got hold of may answer anything.
        #[test]
        fn any_bytes_are_read_or_refused(bytes: Vec<u8>) {
            let mut message = u32::try_from(bytes.len()).unwrap().to_be_bytes().to_vec();
            message.extend(&bytes);
            let _ = read::<Outcome>(&mut &message[..]);
            let _ = read::<Outcome>(&mut &bytes[..]);
        }
    }
}
