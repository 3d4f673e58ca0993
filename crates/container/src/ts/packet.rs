use super::SYNC_BYTE;

/// Bytes of a transport stream packet.
pub(super) const PACKET_LENGTH: usize = 188;

/// The packet identifier of empty packets.
pub(super) const NULL_PID: u16 = 0x1fff;

/// A packet of which receivers take no notice, for a line that is to be heard of while nothing is sent.
///
/// Source: ISO/IEC 13818-1, 2.4.1
pub const TS_NULL_PACKET: [u8; PACKET_LENGTH] = {
    let mut packet = [0xff; PACKET_LENGTH];
    (packet[0], packet[1], packet[2], packet[3]) = (0x47, 0x1f, 0xff, 0x10);
    packet
};

/// One packet, taken apart (ISO/IEC 13818-1, 2.4.3.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct TsPacket<'a> {
    pub(super) pid: u16,
    /// A section or PES packet begins in the payload.
    pub(super) starts_unit: bool,
    pub(super) is_damaged: bool,
    pub(super) is_scrambled: bool,
    pub(super) continuity: u8,
    pub(super) adaptation: Adaptation,
    pub(super) payload: Option<&'a [u8]>,
}

/// What is of use in the adaptation field (2.4.3.4).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Adaptation {
    pub(super) discontinuity: bool,
    pub(super) random_access: bool,
    /// The program clock in 27 MHz.
    pub(super) pcr: Option<u64>,
}

impl<'a> TsPacket<'a> {
    /// None if it has no sync byte or a field that reaches beyond its end.
    pub(super) fn parse(raw: &'a [u8; PACKET_LENGTH]) -> Option<Self> {
        if raw[0] != SYNC_BYTE {
            return None;
        }
        let control = raw[3] >> 4 & 3;
        let mut adaptation = Adaptation::default();
        let mut start = 4;
        if control & 0b10 != 0 {
            let length = usize::from(raw[4]);
            let field = raw.get(5..5 + length)?;
            adaptation = Adaptation::parse(field);
            start = 5 + length;
        }
        Some(Self {
            pid: u16::from_be_bytes([raw[1], raw[2]]) & 0x1fff,
            starts_unit: raw[1] & 0x40 != 0,
            is_damaged: raw[1] & 0x80 != 0,
            is_scrambled: raw[3] & 0xc0 != 0,
            continuity: raw[3] & 0xf,
            adaptation,
            payload: (control & 0b01 != 0).then(|| &raw[start..]),
        })
    }
}

impl Adaptation {
    fn parse(field: &[u8]) -> Self {
        let Some(flags) = field.first() else { return Self::default() };
        let has_pcr = flags & 0x10 != 0;
        Self {
            discontinuity: flags & 0x80 != 0,
            random_access: flags & 0x40 != 0,
            pcr: if has_pcr { field.get(1..7).and_then(read_pcr) } else { None },
        }
    }
}

/// 33 bits in 90 kHz, six bits of nothing, nine bits in 27 MHz (2.4.3.5).
fn read_pcr(raw: &[u8]) -> Option<u64> {
    let raw: &[u8; 6] = raw.try_into().ok()?;
    let bits = raw.iter().fold(0_u64, |bits, byte| bits << 8 | u64::from(*byte));
    Some((bits >> 15) * 300 + (bits & 0x1ff))
}

pub(super) fn write_pcr(pcr: u64) -> [u8; 6] {
    let (base, extension) = ((pcr / 300) & 0x1_ffff_ffff, pcr % 300);
    let bits = base << 15 | 0x3f << 9 | extension;
    let [_, _, rest @ ..] = bits.to_be_bytes();
    rest
}
