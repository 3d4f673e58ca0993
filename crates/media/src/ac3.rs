use crate::BitReader;
use crate::config_error::ConfigError;

/// How a sync frame begins.
const SYNC_WORD: u32 = 0x0b77;

/// Bit stream identifications of AC-3 end here; those of Enhanced AC-3 reach to 16.
const LAST_AC3_BSID: u8 = 10;
const LAST_EAC3_BSID: u8 = 16;

/// Full-bandwidth channels by `acmod`.
///
/// Source: ETSI TS 102 366, table 4.3
const CHANNELS: [u8; 8] = [2, 1, 2, 3, 3, 4, 4, 5];

/// Bit rates in kbit/s by half of `frmsizecod`.
///
/// Source: ETSI TS 102 366, table 4.13
const BIT_RATES: [u32; 19] = [32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 448, 512, 576, 640];

const SAMPLE_RATES: [u32; 3] = [48_000, 44_100, 32_000];

/// The parameters of an AC-3 or Enhanced AC-3 track. There is no header outside the stream:
/// they are read from a sync frame.
///
/// Source: ETSI TS 102 366, 4.3 and E.1.2
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ac3Config {
    enhanced: bool,
    sample_rate_code: u8,
    half_rate: bool,
    bsid: u8,
    bsmod: u8,
    acmod: u8,
    lfe: bool,
    /// `frmsizecod` of AC-3, half of it being the bit rate code.
    frame_size_code: u8,
    /// Bytes of a frame of Enhanced AC-3.
    frame_bytes: u32,
    samples_per_frame: u32,
}

impl Ac3Config {
    /// A frame of AC-3, and the usual one of Enhanced AC-3, holds six blocks.
    const SIX_BLOCKS: Self = Self {
        enhanced: false,
        sample_rate_code: 0,
        half_rate: false,
        bsid: 0,
        bsmod: 0,
        acmod: 0,
        lfe: false,
        frame_size_code: 0,
        frame_bytes: 0,
        samples_per_frame: 6 * 256,
    };

    /// Reads the head of a sync frame.
    ///
    /// # Errors
    /// [`ConfigError`] if it is none, or cut short.
    pub fn parse(frame: &[u8]) -> Result<Self, ConfigError> {
        let mut reader = BitReader::new(frame);
        if reader.bits(16)? != SYNC_WORD {
            return Err(ConfigError::Start { expected: "the sync word 0x0b77" });
        }
        // The identification lies at the same place in both forms.
        let bsid = frame.get(5).map_or(u8::MAX, |byte| byte >> 3);
        if bsid <= LAST_AC3_BSID {
            Self::parse_ac3(reader, bsid)
        } else if bsid <= LAST_EAC3_BSID {
            Self::parse_enhanced(reader, bsid)
        } else {
            Err(ConfigError::field("bsid", bsid.into(), "0 to 16 are defined"))
        }
    }

    fn parse_ac3(mut reader: BitReader<'_>, bsid: u8) -> Result<Self, ConfigError> {
        reader.skip(16)?; // crc1
        let sample_rate_code = small(&mut reader, 2)?;
        if sample_rate_code == 3 {
            return Err(ConfigError::field("fscod", 3, "0 to 2 are defined"));
        }
        let frame_size_code = small(&mut reader, 6)?;
        reader.skip(5)?;
        let bsmod = small(&mut reader, 3)?;
        let acmod = small(&mut reader, 3)?;
        let mut skip = 0;
        skip += if acmod & 1 == 1 && acmod != 1 { 2 } else { 0 }; // cmixlev
        skip += if acmod & 4 == 4 { 2 } else { 0 }; // surmixlev
        skip += if acmod == 2 { 2 } else { 0 }; // dsurmod
        reader.skip(skip)?;
        let lfe = reader.bit()?;
        Ok(Self { sample_rate_code, bsid, bsmod, acmod, lfe, frame_size_code, ..Self::SIX_BLOCKS })
    }

    fn parse_enhanced(mut reader: BitReader<'_>, bsid: u8) -> Result<Self, ConfigError> {
        reader.skip(2 + 3)?; // strmtyp, substreamid
        let frame_bytes = (reader.bits(11)? + 1) * 2;
        let (code, second) = (small(&mut reader, 2)?, small(&mut reader, 2)?);
        let half_rate = code == 3;
        if half_rate && second == 3 {
            return Err(ConfigError::field("fscod2", 3, "0 to 2 are defined"));
        }
        let blocks = if half_rate { 6 } else { [1, 2, 3, 6][usize::from(second)] };
        let acmod = small(&mut reader, 3)?;
        let lfe = reader.bit()?;
        let sample_rate_code = if half_rate { second } else { code };
        let (enhanced, samples_per_frame) = (true, 256 * blocks);
        let base = Self { enhanced, samples_per_frame, ..Self::SIX_BLOCKS };
        Ok(Self { sample_rate_code, half_rate, bsid, acmod, lfe, frame_bytes, ..base })
    }

    /// Reads the body of a `dac3` or `dec3` box. What the box does not tell (blocks in a frame of
    /// Enhanced AC-3) is taken to be the usual: six.
    pub fn from_mp4_box(enhanced: bool, body: &[u8]) -> Self {
        let skip = if enhanced { 2 } else { 0 };
        let byte = |at: usize| u64::from(body.get(at + skip).copied().unwrap_or(0));
        let bits = byte(0) << 16 | byte(1) << 8 | byte(2);
        let field = |shift: u32, mask: u64| u8::try_from(bits >> shift & mask).unwrap_or(0);
        let (acmod, lfe) = if enhanced { (field(9, 7), field(8, 1)) } else { (field(11, 7), field(10, 1)) };
        Self {
            enhanced,
            sample_rate_code: field(22, 3) % 3,
            bsid: field(17, 31),
            bsmod: if enhanced { field(12, 7) } else { field(14, 7) },
            acmod,
            lfe: lfe == 1,
            frame_size_code: if enhanced { 0 } else { field(5, 31) << 1 },
            ..Self::SIX_BLOCKS
        }
    }

    /// True for Enhanced AC-3.
    pub fn is_enhanced(&self) -> bool {
        self.enhanced
    }

    /// In Hz.
    pub fn sample_rate(&self) -> u32 {
        let rate = SAMPLE_RATES[usize::from(self.sample_rate_code) % SAMPLE_RATES.len()];
        if self.half_rate { rate / 2 } else { rate }
    }

    /// Channels, the low-frequency one included.
    pub fn channel_count(&self) -> u8 {
        CHANNELS[usize::from(self.acmod) % CHANNELS.len()] + u8::from(self.lfe)
    }

    /// Samples per channel in a frame.
    pub fn samples_per_frame(&self) -> u32 {
        self.samples_per_frame
    }

    /// Bytes of a frame; None if the frame size code is reserved.
    pub fn frame_length(&self) -> Option<usize> {
        if self.enhanced {
            return usize::try_from(self.frame_bytes).ok();
        }
        let rate = BIT_RATES.get(usize::from(self.frame_size_code / 2))?;
        let words = rate * 1000 * (self.samples_per_frame / 16) / self.sample_rate();
        // At 44.1 kHz the frame is not a whole number of words; odd codes have one more.
        let padding = if self.sample_rate() == 44_100 { u32::from(self.frame_size_code & 1) } else { 0 };
        usize::try_from((words + padding) * 2).ok()
    }

    /// The body of the `dac3` or `dec3` box.
    ///
    /// Source: ETSI TS 102 366, F.4 and F.6
    pub fn mp4_box(&self) -> Vec<u8> {
        let field = |value: u8, shift: u32| u64::from(value) << shift;
        let rate_code = if self.half_rate { 3 } else { self.sample_rate_code };
        if self.enhanced {
            let bits_in_samples = u64::from(self.frame_bytes) * 8 * u64::from(self.sample_rate());
            let data_rate = (bits_in_samples / u64::from(self.samples_per_frame.max(1)) / 1000).min(0x1fff);
            let bits = data_rate << 27
                | field(rate_code, 22)
                | field(self.bsid, 17)
                | field(self.bsmod, 12)
                | field(self.acmod, 9)
                | field(u8::from(self.lfe), 8);
            return bits.to_be_bytes()[3..].to_vec();
        }
        let bits = field(rate_code, 22)
            | field(self.bsid, 17)
            | field(self.bsmod, 14)
            | field(self.acmod, 11)
            | field(u8::from(self.lfe), 10)
            | field(self.frame_size_code >> 1, 5);
        bits.to_be_bytes()[5..].to_vec()
    }
}

fn small(reader: &mut BitReader<'_>, count: usize) -> Result<u8, ConfigError> {
    Ok(u8::try_from(reader.bits(count)?).unwrap_or(u8::MAX))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::testing::{AC3_FRAME_START, EAC3_FRAME_START};

    #[test]
    fn reads_both_forms() {
        let plain = Ac3Config::parse(AC3_FRAME_START).unwrap();
        assert_eq!((plain.is_enhanced(), plain.sample_rate(), plain.channel_count()), (false, 48_000, 6));
        assert_eq!(plain.samples_per_frame(), 1536);
        assert_eq!(plain.frame_length(), Some(1536));
        // fscod 0, bsid 8, bsmod 0, acmod 7, lfeon, bit_rate_code 14 (384 kbit/s)
        assert_eq!(plain.mp4_box(), [0x10, 0x3d, 0xc0]);
        let enhanced = Ac3Config::parse(EAC3_FRAME_START).unwrap();
        assert_eq!((enhanced.is_enhanced(), enhanced.sample_rate(), enhanced.channel_count()), (true, 48_000, 2));
        assert_eq!(enhanced.frame_length(), Some(768));
        assert_eq!(enhanced.mp4_box(), [0x06, 0x00, 0x20, 0x04, 0x00], "192 kbit/s, bsid 16, acmod 2");
    }

    #[test]
    fn refuses_what_is_none() {
        assert!(Ac3Config::parse(&[]).is_err());
        assert!(Ac3Config::parse(&[1, 2, 3, 4, 5, 6, 7]).is_err());
        assert!(Ac3Config::parse(&[0x0b, 0x77, 0, 0, 0, 0xff, 0, 0]).is_err());
    }

    proptest! {
        #[test]
        fn any_bytes_parse_or_fail(mut bytes in proptest::collection::vec(any::<u8>(), 0..12), valid_start: bool) {
            if valid_start {
                bytes.splice(0..0, [0x0b, 0x77]);
            }
            if let Ok(config) = Ac3Config::parse(&bytes) {
                prop_assert!(config.sample_rate() > 0 && config.samples_per_frame() > 0);
                prop_assert_eq!(config.mp4_box().len(), if config.is_enhanced() { 5 } else { 3 });
            }
        }
    }
}
