/// The longest section of the tables that we read (2.4.4.3).
const MAX_LENGTH: usize = 1024;

/// Puts a table's sections together from the packets of one PID.
#[derive(Debug, Default)]
pub(super) struct SectionAssembler {
    held: Vec<u8>,
    is_open: bool,
}

impl SectionAssembler {
    /// What came is lost; a section begins anew.
    pub(super) fn reset(&mut self) {
        self.held.clear();
        self.is_open = false;
    }

    /// Takes a payload, and gives each whole section with a right check sum to `take`.
    /// Returns how many were damaged.
    pub(super) fn push(&mut self, starts_unit: bool, payload: &[u8], mut take: impl FnMut(&[u8])) -> u64 {
        let mut damaged = 0;
        if !starts_unit {
            if self.is_open {
                self.held.extend_from_slice(payload);
                damaged += self.drain(&mut take);
            }
            return damaged;
        }
        let Some((pointer, rest)) = payload.split_first() else { return 1 };
        let Some((end, start)) = rest.split_at_checked(usize::from(*pointer)) else { return 1 };
        if self.is_open {
            self.held.extend_from_slice(end);
            damaged += self.drain(&mut take);
        }
        self.held.clear();
        self.held.extend_from_slice(start);
        self.is_open = true;
        damaged + self.drain(&mut take)
    }

    fn drain(&mut self, take: &mut impl FnMut(&[u8])) -> u64 {
        let mut damaged = 0;
        loop {
            // Stuffing fills the rest of the packet.
            if self.held.first().is_none_or(|table| *table == 0xff) {
                self.reset();
                return damaged;
            }
            let &[_, high, low, ..] = &self.held[..] else { return damaged };
            let length = 3 + usize::from(u16::from_be_bytes([high, low]) & 0x0fff);
            if length > MAX_LENGTH {
                self.reset();
                return damaged + 1;
            }
            if self.held.len() < length {
                return damaged;
            }
            if crc(&self.held[..length]) == 0 {
                take(&self.held[..length]);
            } else {
                damaged += 1;
            }
            self.held.drain(..length);
        }
    }
}

/// CRC-32 as ISO/IEC 13818-1, annex A, has it. Over a section with its check sum it is 0.
pub(super) fn crc(bytes: &[u8]) -> u32 {
    const TABLE: [u32; 256] = table();
    bytes.iter().fold(u32::MAX, |crc, byte| crc << 8 ^ TABLE[usize::from(crc.to_be_bytes()[0] ^ byte)])
}

const fn table() -> [u32; 256] {
    let mut table = [0; 256];
    let mut value: u32 = 0;
    while value < 256 {
        let mut rest = value << 24;
        let mut bit = 0;
        while bit < 8 {
            rest = if rest >> 31 == 1 { rest << 1 ^ 0x04c1_1db7 } else { rest << 1 };
            bit += 1;
        }
        table[value as usize] = rest;
        value += 1;
    }
    table
}

#[cfg(test)]
mod tests {
    use super::*;

    fn section(length: u8) -> Vec<u8> {
        let mut raw = vec![2, 0xb0, length + 4];
        raw.extend((0..length).map(|byte| byte ^ 0x55));
        raw.extend(crc(&raw).to_be_bytes());
        raw
    }

    /// The check value of this CRC in the catalogues: of the digits 1 to 9.
    #[test]
    fn the_check_sum_is_the_standards() {
        assert_eq!(crc(b"123456789"), 0x0376_e6e7);
    }

    #[test]
    fn sections_are_joined_and_parted() {
        let (one, two) = (section(200), section(20));
        let mut found = Vec::new();
        let mut assembler = SectionAssembler::default();
        let mut first = vec![0];
        first.extend(&one[..150]);
        assert_eq!(assembler.push(true, &first, |section| found.push(section.to_vec())), 0);
        // The rest of the first, then the second and stuffing.
        let mut second = vec![57];
        second.extend(&one[150..]);
        second.extend(&two);
        second.extend([0xff; 30]);
        assert_eq!(assembler.push(true, &second, |section| found.push(section.to_vec())), 0);
        assert_eq!(found, [one, two]);
    }

    #[test]
    fn damaged_sections_are_counted() {
        let mut raw = vec![0];
        raw.extend(section(20));
        raw[9] ^= 1;
        let mut assembler = SectionAssembler::default();
        assert_eq!(assembler.push(true, &raw, |_| panic!("taken")), 1);
        assert_eq!(assembler.push(true, &[9, 1], |_| panic!("taken")), 1, "a pointer beyond the end");
        assert_eq!(assembler.push(true, &[0, 2, 0xff, 0xff], |_| panic!("taken")), 1, "too long");
    }
}
