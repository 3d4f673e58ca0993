use waverant_container::{StreamEvent, TsReader, TsTimingCheck};
use waverant_media::{MediaTime, TrackKind};

use crate::{Mark, MarkKind};

/// Reads a transport stream into marks. Streams of a kind are numbered in the order of the program.
#[derive(Debug, Default)]
pub(crate) struct TsMarks {
    reader: TsReader,
    timing: TsTimingCheck,
    events: Vec<StreamEvent>,
    numbers: Vec<(u16, TrackKind)>,
    first: Option<MediaTime>,
}

/// Reads a whole transport stream into marks.
///
/// # Errors
/// If something in it is missing, damaged or not in time.
pub fn read_transport_stream(bytes: &[u8]) -> anyhow::Result<Vec<Mark>> {
    let (mut reader, mut marks) = (TsMarks::default(), Vec::new());
    reader.push(bytes, &mut marks);
    reader.finish(&mut marks);
    match reader.fault() {
        Some(fault) => Err(anyhow::anyhow!(fault)),
        None => Ok(marks),
    }
}

impl TsMarks {
    /// Takes bytes; what they hold is added to `marks`.
    pub(crate) fn push(&mut self, bytes: &[u8], marks: &mut Vec<Mark>) {
        self.timing.handle_bytes(bytes);
        self.reader.push(bytes, &mut self.events);
        self.take_events(marks);
    }

    /// The stream is at its end.
    pub(crate) fn finish(&mut self, marks: &mut Vec<Mark>) {
        self.reader.finish(&mut self.events);
        self.take_events(marks);
    }

    /// What the reader found damaged, or what is not in time though nothing is missing, in words.
    pub(crate) fn fault(&self) -> Option<String> {
        if self.reader.damage_count() > 0 {
            return Some(self.reader.last_problem().unwrap_or("packets are missing or damaged").to_owned());
        }
        self.timing.faults().first().cloned()
    }

    fn take_events(&mut self, marks: &mut Vec<Mark>) {
        for event in std::mem::take(&mut self.events) {
            match event {
                StreamEvent::Program(streams) => {
                    self.numbers = streams.iter().map(|stream| (stream.number, stream.kind)).collect();
                }
                StreamEvent::Config { number, codec } => {
                    let kind = match codec.kind() {
                        TrackKind::Video => MarkKind::VideoHeader,
                        TrackKind::Audio => MarkKind::AudioHeader,
                    };
                    let raw = codec.decoder_config().map(|raw| &raw[..]).unwrap_or_default();
                    marks.extend(self.place_of(number).map(|(_, place)| Mark::new(kind, place, 0, raw)));
                }
                StreamEvent::Frame { number, pts, dts, random_access, payload } => {
                    let Some((kind, place)) = self.place_of(number) else { continue };
                    let kind = match kind {
                        TrackKind::Video if random_access => MarkKind::Keyframe,
                        TrackKind::Video => MarkKind::Picture,
                        TrackKind::Audio => MarkKind::Sound,
                    };
                    let since = dts - *self.first.get_or_insert(dts);
                    let millis = u32::try_from(since.millis()).unwrap_or_default();
                    marks.push(Mark::new(kind, place, millis, &payload).with_composition((pts - dts).millis()));
                }
                _ => {}
            }
        }
    }

    fn place_of(&self, wanted: u16) -> Option<(TrackKind, u8)> {
        let (_, kind) = self.numbers.iter().find(|(number, _)| *number == wanted)?;
        let place = self.numbers.iter().filter(|(_, other)| other == kind).position(|(number, _)| *number == wanted)?;
        Some((*kind, u8::try_from(place).ok()?))
    }
}
