use bytes::BytesMut;

/// Bytes before the header's own data: start code, stream, length, flags, header length.
const FIXED_LENGTH: usize = 9;

/// A PES packet that is longer is no picture.
const MAX_LENGTH: usize = 16 * 1024 * 1024;

/// A PES packet (ISO/IEC 13818-1, 2.4.3.6). Times are 33 bits in 90 kHz.
#[derive(Debug)]
pub(super) struct Pes {
    pub(super) pts: Option<u64>,
    pub(super) dts: Option<u64>,
    pub(super) payload: BytesMut,
}

/// Puts the PES packets of one stream together.
#[derive(Debug, Default)]
pub(super) struct PesAssembler {
    held: BytesMut,
    is_open: bool,
    /// The whole length, where the packet tells it.
    length: Option<usize>,
}

/// A PES packet, or what there was of it, cannot be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct DamagedPes;

impl PesAssembler {
    /// Part of the packet is lost, and with it the packet.
    pub(super) fn reset(&mut self) -> bool {
        let had = !self.held.is_empty();
        self.held.clear();
        (self.is_open, self.length) = (false, None);
        had
    }

    /// Begins a packet; returns the one before, which ends with it.
    pub(super) fn begin(&mut self, payload: &[u8]) -> Option<Result<Pes, DamagedPes>> {
        let finished = self.finish();
        self.held.reserve(payload.len().max(8 * 1024));
        self.held.extend_from_slice(payload);
        self.is_open = true;
        finished
    }

    /// Goes on with a packet; returns it if it is known to be whole.
    pub(super) fn append(&mut self, payload: &[u8]) -> Option<Result<Pes, DamagedPes>> {
        if !self.is_open {
            return None;
        }
        if self.held.len() + payload.len() > MAX_LENGTH {
            self.reset();
            return Some(Err(DamagedPes));
        }
        self.held.extend_from_slice(payload);
        self.finish_if_whole()
    }

    /// The packet, if its length is known and reached.
    pub(super) fn finish_if_whole(&mut self) -> Option<Result<Pes, DamagedPes>> {
        if self.length.is_none() && self.held.len() >= 6 {
            let length = usize::from(u16::from_be_bytes([self.held[4], self.held[5]]));
            // Zero says nothing: the packet ends where the next begins.
            self.length = (length > 0).then_some(6 + length);
        }
        (self.length? <= self.held.len()).then(|| self.finish())?
    }

    /// The packet as it is: no more comes.
    pub(super) fn finish(&mut self) -> Option<Result<Pes, DamagedPes>> {
        if !self.is_open {
            return None;
        }
        (self.is_open, self.length) = (false, None);
        let held = self.held.split();
        Some(parse(held).ok_or(DamagedPes))
    }
}

fn parse(mut held: BytesMut) -> Option<Pes> {
    let fixed: &[u8; FIXED_LENGTH] = held.first_chunk()?;
    if fixed[..3] != [0, 0, 1] || fixed[6] >> 6 != 0b10 {
        return None;
    }
    let length = usize::from(u16::from_be_bytes([fixed[4], fixed[5]]));
    let flags = fixed[7] >> 6;
    let start = FIXED_LENGTH + usize::from(fixed[8]);
    if length > 0 {
        // Shorter than it says: part of it is lost.
        if held.len() < 6 + length {
            return None;
        }
        held.truncate(6 + length);
    }
    if held.len() < start {
        return None;
    }
    let times = &held[FIXED_LENGTH..start];
    let pts = if flags & 0b10 != 0 { Some(read_time(times.get(..5)?)?) } else { None };
    let dts = if flags == 0b11 { Some(read_time(times.get(5..10)?)?) } else { None };
    let payload = held.split_off(start);
    Some(Pes { pts, dts, payload })
}

/// The times in the header at the begin of a PES packet: of presentation and of decoding.
#[cfg(any(test, feature = "testing"))]
pub(super) fn read_header_times(payload: &[u8]) -> Option<(u64, u64)> {
    let fixed: &[u8; FIXED_LENGTH] = payload.first_chunk()?;
    let times = payload.get(FIXED_LENGTH..FIXED_LENGTH + usize::from(fixed[8]))?;
    let pts = if fixed[7] & 0x80 != 0 { read_time(times.get(..5)?)? } else { return None };
    let dts = if fixed[7] >> 6 == 0b11 { read_time(times.get(5..10)?)? } else { pts };
    Some((pts, dts))
}

/// 33 bits in three pieces, each with a marker behind.
fn read_time(raw: &[u8]) -> Option<u64> {
    let raw: &[u8; 5] = raw.try_into().ok()?;
    let markers = raw[0] & raw[2] & raw[4] & 1;
    let high = u64::from(raw[0] >> 1 & 7) << 30;
    let middle = u64::from(u16::from_be_bytes([raw[1], raw[2]]) >> 1) << 15;
    let low = u64::from(u16::from_be_bytes([raw[3], raw[4]]) >> 1);
    (markers == 1).then_some(high | middle | low)
}

fn write_time(prefix: u8, time: u64) -> [u8; 5] {
    let byte = |shift: u32, mask: u64| u8::try_from(time >> shift & mask).unwrap_or_default();
    [prefix << 4 | byte(30, 7) << 1 | 1, byte(22, 0xff), byte(15, 0x7f) << 1 | 1, byte(7, 0xff), byte(0, 0x7f) << 1 | 1]
}

/// The header of a PES packet with `payload_length` bytes behind it. Pictures may be too long
/// to say so, and then do not.
pub(super) fn write_header(stream: u8, pts: u64, dts: u64, payload_length: usize) -> Vec<u8> {
    let has_dts = pts != dts;
    let header_length: u8 = if has_dts { 10 } else { 5 };
    let length = u16::try_from(3 + usize::from(header_length) + payload_length).unwrap_or(0);
    let mut out = vec![0, 0, 1, stream];
    out.extend(length.to_be_bytes());
    // Aligned: an access unit begins with the payload.
    out.extend([0x84, if has_dts { 0xc0 } else { 0x80 }, header_length]);
    out.extend(write_time(if has_dts { 3 } else { 2 }, pts));
    if has_dts {
        out.extend(write_time(1, dts));
    }
    out
}

/// Joins times of 33 bits, which wrap every 26.5 hours, into one time.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct TimeUnwrapper {
    newest: Option<i64>,
}

impl TimeUnwrapper {
    pub(super) fn unwrap(&mut self, time: u64) -> i64 {
        let time = i64::try_from(time & 0x1_ffff_ffff).unwrap_or_default();
        let unwrapped = match self.newest {
            None => time,
            // The difference with its sign, of 33 bits.
            Some(newest) => newest + ((time - newest) << 31 >> 31),
        };
        self.newest = Some(unwrapped);
        unwrapped
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Figure 2-21: 0x1_2345_6789 in three pieces.
    #[test]
    fn times_are_in_three_pieces() {
        let raw = write_time(2, 0x1_2345_6789);
        assert_eq!(raw, [0x29, 0x8d, 0x15, 0xcf, 0x13]);
        assert_eq!(read_time(&raw), Some(0x1_2345_6789));
        assert_eq!(read_time(&[0x28, 0x8d, 0x15, 0xcf, 0x13]), None, "no marker");
    }

    #[rstest]
    #[case::plain(&[5, 10], &[5, 10])]
    #[case::over_the_wrap(&[0x1_ffff_fff0, 0x10], &[0x1_ffff_fff0, 0x2_0000_0010])]
    #[case::and_back(&[0x1_ffff_fff0, 0x10, 0x1_ffff_fff8], &[0x1_ffff_fff0, 0x2_0000_0010, 0x1_ffff_fff8])]
    fn times_go_on_behind_their_wrap(#[case] times: &[u64], #[case] expected: &[i64]) {
        let mut unwrapper = TimeUnwrapper::default();
        assert!(times.iter().map(|time| unwrapper.unwrap(*time)).eq(expected.iter().copied()));
    }

    #[test]
    fn a_packet_ends_where_the_next_begins_or_where_it_says() {
        let mut assembler = PesAssembler::default();
        let mut first = write_header(0xe0, 900, 900, 100_000);
        first.extend(b"pic");
        assert!(assembler.begin(&first).is_none());
        assert!(assembler.append(b"ture").is_none());
        let mut second = write_header(0xc0, 1800, 900, 5);
        second.extend(b"so");
        let pes = assembler.begin(&second).unwrap().unwrap();
        assert_eq!((pes.pts, pes.dts, &pes.payload[..]), (Some(900), None, &b"picture"[..]));
        assert!(assembler.finish_if_whole().is_none());
        let pes = assembler.append(b"undxx").unwrap().unwrap();
        assert_eq!((pes.pts, pes.dts, &pes.payload[..]), (Some(1800), Some(900), &b"sound"[..]));
    }

    #[test]
    fn cut_packets_are_damaged() {
        let mut assembler = PesAssembler::default();
        let mut cut = write_header(0xc0, 900, 900, 50);
        cut.extend(b"short");
        assembler.begin(&cut);
        assert_eq!(assembler.begin(b"no start code").map(|pes| pes.err()), Some(Some(DamagedPes)));
        assert_eq!(assembler.begin(&[0, 0, 1]).map(|pes| pes.err()), Some(Some(DamagedPes)));
    }
}
