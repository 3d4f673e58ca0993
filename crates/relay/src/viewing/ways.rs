use super::Way;

/// The ways by which a channel can be watched.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ways {
    closed: u8,
}

impl Default for Ways {
    /// All of them.
    fn default() -> Self {
        Self { closed: 0 }
    }
}

impl Ways {
    /// These alone.
    pub fn only(ways: impl IntoIterator<Item = Way>) -> Self {
        let open: u8 = ways.into_iter().fold(0, |open, way| open | bit(way));
        Self { closed: all() & !open }
    }

    /// True if a channel can be watched by it.
    pub fn has(self, way: Way) -> bool {
        self.closed & bit(way) == 0
    }

    /// Those that are open.
    pub fn iter(self) -> impl Iterator<Item = Way> {
        Way::ALL.into_iter().filter(move |way| self.has(*way))
    }
}

fn bit(way: Way) -> u8 {
    1 << way as u8
}

fn all() -> u8 {
    Way::ALL.into_iter().fold(0, |all, way| all | bit(way))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_those_are_open_that_were_named() {
        let ways = Ways::only([Way::Rtmp, Way::Segments]);
        assert_eq!(ways.iter().collect::<Vec<_>>(), [Way::Segments, Way::Rtmp]);
        assert_eq!(Ways::only(Way::ALL), Ways::default());
        assert_eq!(Ways::default().iter().count(), Way::ALL.len());
    }
}
