/// What is told over time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Figure {
    /// All that comes in.
    Bitrate,
    /// One track of it.
    TrackBitrate,
    /// Pictures per second.
    FrameRate,
    /// How unevenly packets arrive (RFC 3550, 6.4.1).
    Jitter,
    /// The short-term loudness of a track (EBU R 128).
    Loudness,
    /// The largest sample of a track within the second.
    Peak,
    /// The mean brightness of the keyframe that was looked at last.
    Brightness,
    /// Packets of the incoming line that were missing at first.
    LineLoss,
    /// Packets of it that did not come in time.
    LineDropped,
    /// Its round trip.
    LineRoundTrip,
    /// What of it waits for its time.
    LineBuffer,
    /// Who watches.
    Viewers,
    /// What a destination is sent.
    LegBitrate,
    /// How far a destination is behind the show, its delay left out.
    LegBehind,
    /// Whether a destination gets the show: 1, or 0 though it should.
    LegCarrying,
    /// Pictures that a destination missed.
    LegDropped,
    /// Packets on the line to a destination that were missing at first.
    LegLoss,
    /// What is used of all processors.
    Processor,
    /// What our service uses of one processor.
    ServiceProcessor,
    /// What the private database uses of one.
    DatabaseProcessor,
    /// What is used of the memory.
    Memory,
    /// What our service has of it.
    ServiceMemory,
    /// What a network interface receives.
    Received,
    /// What it sends.
    Sent,
    /// How long a write to a disk takes.
    DiskWrite,
    /// What is free on the disk of the recordings.
    DiskFree,
    /// Files and sockets that our service has open.
    OpenFiles,
    /// How long a record takes to be written.
    DatabaseWrite,
}

/// Each figure with its number in blocks, which never changes; the word by which it is asked for; its unit; and the
/// smallest step that is kept.
const FIGURES: &[(Figure, u8, &str, &str, f64)] = &[
    (Figure::Bitrate, 1, "bitrate", "kbit/s", 1.0),
    (Figure::TrackBitrate, 2, "track_bitrate", "kbit/s", 1.0),
    (Figure::FrameRate, 3, "frame_rate", "1/s", 0.01),
    (Figure::Jitter, 4, "jitter", "ms", 0.1),
    (Figure::Loudness, 5, "loudness", "LUFS", 0.1),
    (Figure::Peak, 6, "peak", "dBFS", 0.1),
    (Figure::Brightness, 7, "brightness", "%", 0.1),
    (Figure::LineLoss, 8, "line_loss", "%", 0.01),
    (Figure::LineDropped, 9, "line_dropped", "1/s", 0.1),
    (Figure::LineRoundTrip, 10, "line_round_trip", "ms", 0.1),
    (Figure::LineBuffer, 11, "line_buffer", "ms", 1.0),
    (Figure::Viewers, 12, "viewers", "", 1.0),
    (Figure::LegBitrate, 20, "leg_bitrate", "kbit/s", 1.0),
    (Figure::LegBehind, 21, "leg_behind", "ms", 1.0),
    (Figure::LegCarrying, 22, "leg_carrying", "", 0.01),
    (Figure::LegDropped, 23, "leg_dropped", "1/s", 0.1),
    (Figure::LegLoss, 24, "leg_loss", "%", 0.01),
    (Figure::Processor, 40, "processor", "%", 0.1),
    (Figure::ServiceProcessor, 41, "service_processor", "%", 0.1),
    (Figure::DatabaseProcessor, 42, "database_processor", "%", 0.1),
    (Figure::Memory, 43, "memory", "%", 0.1),
    (Figure::ServiceMemory, 44, "service_memory", "MiB", 0.1),
    (Figure::Received, 45, "received", "kbit/s", 1.0),
    (Figure::Sent, 46, "sent", "kbit/s", 1.0),
    (Figure::DiskWrite, 47, "disk_write", "ms", 0.1),
    (Figure::DiskFree, 48, "disk_free", "GiB", 0.01),
    (Figure::OpenFiles, 49, "open_files", "", 1.0),
    (Figure::DatabaseWrite, 50, "database_write", "ms", 0.1),
];

impl Figure {
    fn row(self) -> &'static (Self, u8, &'static str, &'static str, f64) {
        FIGURES.iter().find(|row| row.0 == self).unwrap_or(&FIGURES[0])
    }

    /// All figures.
    pub fn all() -> impl Iterator<Item = Self> {
        FIGURES.iter().map(|row| row.0)
    }

    /// Its number in blocks.
    pub(super) fn number(self) -> u8 {
        self.row().1
    }

    pub(super) fn from_number(number: u8) -> Option<Self> {
        FIGURES.iter().find(|row| row.1 == number).map(|row| row.0)
    }

    /// The word by which it is asked for.
    pub fn word(self) -> &'static str {
        self.row().2
    }

    /// The figure with this word.
    pub fn from_word(word: &str) -> Option<Self> {
        FIGURES.iter().find(|row| row.2 == word).map(|row| row.0)
    }

    /// Its unit; empty for what is counted, and for shares of one.
    pub fn unit(self) -> &'static str {
        self.row().3
    }

    /// The smallest step that is kept of it.
    pub fn quantum(self) -> f64 {
        self.row().4
    }
}

/// Which figure, and of what.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SeriesKey {
    /// The figure.
    pub figure: Figure,
    /// The number of a track, or the name of a destination or an interface; empty for the whole.
    pub of: String,
}

impl SeriesKey {
    /// Of the whole.
    pub fn whole(figure: Figure) -> Self {
        Self { figure, of: String::new() }
    }

    /// Of a part.
    pub fn of(figure: Figure, of: impl ToString) -> Self {
        Self { figure, of: of.to_string() }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;

    #[test]
    fn numbers_and_words_are_given_once() {
        let numbers: HashSet<u8> = FIGURES.iter().map(|row| row.1).collect();
        let words: HashSet<&str> = FIGURES.iter().map(|row| row.2).collect();
        assert_eq!((numbers.len(), words.len()), (FIGURES.len(), FIGURES.len()));
        for figure in Figure::all() {
            assert_eq!(Figure::from_word(figure.word()), Some(figure));
            assert_eq!(Figure::from_number(figure.number()), Some(figure));
        }
    }
}
