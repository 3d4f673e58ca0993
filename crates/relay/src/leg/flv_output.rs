use bytes::Bytes;
use waverant_rtmp::{Capabilities, Error, MediaOutput, Timestamp};

/// Signature, version 1, sound and pictures, the length of the header, and that no tag is before it.
///
/// Source: FLV specification 10.1, E.2 and E.3
const FILE_HEADER: [u8; 13] = [b'F', b'L', b'V', 1, 0b101, 0, 0, 0, 9, 0, 0, 0, 0];

const AUDIO: u8 = 8;
const VIDEO: u8 = 9;
const SCRIPT_DATA: u8 = 18;

/// Bytes of a tag's header.
const TAG_HEADER: u32 = 11;

/// What the length of a tag can say.
const MAX_BODY: u32 = 0xff_ffff;

/// An FLV stream, as players of HTTP take it: tags behind each other without an end. What a sink sends into it is taken
/// out with [`take`](Self::take).
#[derive(Debug)]
pub struct FlvOutput {
    capabilities: Capabilities,
    bytes: Vec<u8>,
}

impl Default for FlvOutput {
    fn default() -> Self {
        // Who asks for this stream says nothing of codecs; it is told what it gets.
        Self { capabilities: Capabilities::every_codec(), bytes: FILE_HEADER.to_vec() }
    }
}

impl FlvOutput {
    /// How many bytes wait to be taken.
    pub fn len(&self) -> usize {
        self.bytes.len()
    }

    /// True if none do.
    pub fn is_empty(&self) -> bool {
        self.bytes.is_empty()
    }

    /// The bytes that came since this was last asked.
    pub fn take(&mut self) -> Bytes {
        std::mem::take(&mut self.bytes).into()
    }

    fn put(&mut self, kind: u8, timestamp: Timestamp, header: &[u8], payload: &[u8]) {
        let length = u32::try_from(header.len() + payload.len()).unwrap_or(u32::MAX);
        // No message of RTMP is longer; what a file cannot say is left out.
        if length > MAX_BODY {
            return;
        }
        let [high, time @ ..] = timestamp.0.to_be_bytes();
        self.bytes.reserve(header.len() + payload.len() + 15);
        self.bytes.push(kind);
        self.bytes.extend(&length.to_be_bytes()[1..]);
        self.bytes.extend(time);
        // The number of the stream is always 0.
        self.bytes.extend([high, 0, 0, 0]);
        self.bytes.extend_from_slice(header);
        self.bytes.extend_from_slice(payload);
        self.bytes.extend((TAG_HEADER + length).to_be_bytes());
    }
}

impl MediaOutput for FlvOutput {
    fn capabilities(&self) -> &Capabilities {
        &self.capabilities
    }

    fn is_player(&self) -> bool {
        true
    }

    fn send_data(&mut self, timestamp: Timestamp, payload: &Bytes) -> Result<(), Error> {
        self.put(SCRIPT_DATA, timestamp, &[], payload);
        Ok(())
    }

    fn send_video(&mut self, timestamp: Timestamp, header: &[u8], payload: &Bytes) -> Result<(), Error> {
        self.put(VIDEO, timestamp, header, payload);
        Ok(())
    }

    fn send_audio(&mut self, timestamp: Timestamp, header: &[u8], payload: &Bytes) -> Result<(), Error> {
        self.put(AUDIO, timestamp, header, payload);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tags_stand_behind_each_other() {
        let mut flv = FlvOutput::default();
        flv.send_data(Timestamp(0), &Bytes::from_static(b"meta")).unwrap();
        flv.send_video(Timestamp(0x0102_0304), &[0x17, 1, 0, 0, 0], &Bytes::from_static(b"picture")).unwrap();
        let mut expected = FILE_HEADER.to_vec();
        expected.extend([18, 0, 0, 4, 0, 0, 0, 0, 0, 0, 0]);
        expected.extend(b"meta");
        expected.extend([0, 0, 0, 15]);
        // The highest byte of the time stands behind the others.
        expected.extend([9, 0, 0, 12, 2, 3, 4, 1, 0, 0, 0, 0x17, 1, 0, 0, 0]);
        expected.extend(b"picture");
        expected.extend([0, 0, 0, 23]);
        assert_eq!(flv.len(), expected.len());
        assert_eq!(flv.take(), expected);
        assert!(flv.is_empty());
        flv.send_audio(Timestamp(5), &[0xaf, 1], &Bytes::from_static(b"sound")).unwrap();
        assert_eq!(flv.take()[..11], [8, 0, 0, 7, 0, 0, 5, 0, 0, 0, 0]);
    }
}
