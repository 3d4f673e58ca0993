use bytes::Bytes;

use crate::CodecParameters;

/// An Opus packet of 20 ms, fullband, stereo, that is silence to every decoder: one byte says how
/// it is coded, and no frame follows.
///
/// Source: RFC 6716, 3.1 and 3.2.1; 2.1.9 for frames without content
const OPUS_SILENCE: &[u8] = &[0xfc];

/// Identifiers of the elements of an AAC frame.
///
/// Source: ISO/IEC 14496-3, table 4.85
const SINGLE: u8 = 0b000;
const PAIR: u8 = 0b001;
const LOW_FREQUENCY: u8 = 0b011;
const END: u8 = 0b111;

impl CodecParameters {
    /// A frame of silence; none for pictures and codecs that we write no frames of.
    pub fn silent_frame(&self) -> Option<Bytes> {
        match self {
            Self::Aac(config) => silent_aac(config.channel_configuration()),
            Self::Opus(_) => Some(Bytes::from_static(OPUS_SILENCE)),
            _ => None,
        }
    }
}

/// Source: ISO/IEC 14496-3, table 1.19 for the elements, 4.4.2 for their syntax
fn silent_aac(channel_configuration: u32) -> Option<Bytes> {
    let elements: &[u8] = match channel_configuration {
        1 => &[SINGLE],
        2 => &[PAIR],
        3 => &[SINGLE, PAIR],
        4 => &[SINGLE, PAIR, SINGLE],
        5 => &[SINGLE, PAIR, PAIR],
        6 => &[SINGLE, PAIR, PAIR, LOW_FREQUENCY],
        7 => &[SINGLE, PAIR, PAIR, PAIR, LOW_FREQUENCY],
        _ => return None,
    };
    let mut frame = Bits::default();
    for (place, element) in elements.iter().enumerate() {
        frame.put(*element, 3);
        // Elements of a kind are told apart by their number.
        let number = elements[..place].iter().filter(|other| *other == element).count();
        frame.put(u8::try_from(number).unwrap_or(0), 4);
        if *element == PAIR {
            // One window for both channels, no mid and side.
            frame.put(1, 1);
            frame.put_window();
            frame.put(0, 2);
            frame.put_channel(false);
            frame.put_channel(false);
        } else {
            frame.put_channel(true);
        }
    }
    frame.put(END, 3);
    Some(frame.bytes.into())
}

#[derive(Default)]
struct Bits {
    bytes: Vec<u8>,
    used: usize,
}

impl Bits {
    fn put(&mut self, value: u8, count: u8) {
        for place in (0..count).rev() {
            if self.used.is_multiple_of(8) {
                self.bytes.push(0);
            }
            if let Some(last) = self.bytes.last_mut() {
                *last |= (value >> place & 1) << (7 - self.used % 8);
            }
            self.used += 1;
        }
    }

    /// One long sine window of which no band is used, without prediction.
    fn put_window(&mut self) {
        self.put(0, 1 + 2 + 1);
        self.put(0, 6);
        self.put(0, 1);
    }

    /// A channel without bands: gain, then no pulses, noise shaping or gain control.
    fn put_channel(&mut self, has_window: bool) {
        self.put(0, 8);
        if has_window {
            self.put_window();
        }
        self.put(0, 3);
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use crate::{AudioSpecificConfig, BitReader, CodecParameters, testing};

    /// Reads the frame back field by field, as a decoder does.
    fn read(frame: &[u8]) -> Vec<(u32, u32)> {
        let mut reader = BitReader::new(frame);
        let mut elements = Vec::new();
        let window = |reader: &mut BitReader<'_>| assert_eq!(reader.bits(11), Ok(0), "window without bands");
        loop {
            let element = reader.bits(3).unwrap();
            if element == 7 {
                assert!(reader.remaining() < 8, "nothing follows the end");
                return elements;
            }
            elements.push((element, reader.bits(4).unwrap()));
            if element == 1 {
                assert_eq!(reader.bits(1), Ok(1));
                window(&mut reader);
                assert_eq!(reader.bits(2), Ok(0));
                for _ in 0..2 {
                    assert_eq!(reader.bits(11), Ok(0));
                }
            } else {
                assert_eq!(reader.bits(8), Ok(0));
                window(&mut reader);
                assert_eq!(reader.bits(3), Ok(0));
            }
        }
    }

    #[rstest]
    #[case::mono(&[0x11, 0x88], &[(0, 0)])]
    #[case::stereo(&[0x11, 0x90], &[(1, 0)])]
    #[case::surround(&[0x11, 0xb0], &[(0, 0), (1, 0), (1, 1), (3, 0)])]
    fn silence_has_the_elements_of_its_channels(#[case] config: &'static [u8], #[case] expected: &[(u32, u32)]) {
        let config = AudioSpecificConfig::parse(bytes::Bytes::from_static(config)).unwrap();
        let frame = CodecParameters::Aac(config).silent_frame().unwrap();
        assert_eq!(read(&frame), expected);
    }

    #[test]
    fn other_codecs() {
        assert_eq!(testing::opus().samples_in(&testing::opus().silent_frame().unwrap()), Some(960));
        assert_eq!(testing::h264().silent_frame(), None);
    }
}
