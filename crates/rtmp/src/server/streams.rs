use std::collections::BTreeMap;

use crate::error::Error;

/// Message streams that one connection may have; encoders have one.
const MAX_STREAMS: usize = 16;

/// What a message stream is used for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum StreamStep {
    Idle,
    /// A request waits for the application's answer.
    DecidingPublish,
    Publishing,
    /// A request waits for the application's answer.
    DecidingPlay,
    Playing {
        paused: bool,
        /// Whether sound, and whether pictures are wanted.
        sound: bool,
        pictures: bool,
    },
}

impl StreamStep {
    /// A player that was just let in.
    pub(super) const PLAYING: Self = Self::Playing { paused: false, sound: true, pictures: true };

    pub(super) fn is_publishing(self) -> bool {
        self == Self::Publishing
    }

    pub(super) fn is_deciding(self) -> bool {
        matches!(self, Self::DecidingPublish | Self::DecidingPlay)
    }

    pub(super) fn is_playing(self) -> bool {
        matches!(self, Self::Playing { .. })
    }
}

/// The message streams of a connection.
#[derive(Debug, Default)]
pub(super) struct Streams {
    all: BTreeMap<u32, Stream>,
    created: u32,
}

#[derive(Debug)]
struct Stream {
    stage: StreamStep,
    /// The name that was published; FCUnpublish names it.
    name: String,
}

impl Streams {
    /// Makes a new stream; none if there are too many.
    pub(super) fn create(&mut self) -> Option<u32> {
        let number = self.created + 1;
        self.open(number)?;
        self.created = number;
        Some(number)
    }

    /// Makes the stream `number` known. Some peers use numbers that they never created.
    fn open(&mut self, number: u32) -> Option<&mut Stream> {
        if !self.all.contains_key(&number) && self.all.len() >= MAX_STREAMS {
            return None;
        }
        Some(self.all.entry(number).or_insert_with(|| Stream { stage: StreamStep::Idle, name: String::new() }))
    }

    /// Puts an idle stream to use; false if it is in use, or there are too many.
    pub(super) fn begin(&mut self, number: u32, stage: StreamStep, name: &str) -> bool {
        match self.open(number) {
            Some(stream) if stream.stage == StreamStep::Idle => {
                stream.stage = stage;
                name.clone_into(&mut stream.name);
                true
            }
            _ => false,
        }
    }

    pub(super) fn delete(&mut self, number: u32) {
        self.all.remove(&number);
    }

    pub(super) fn stage(&self, number: u32) -> Option<StreamStep> {
        self.all.get(&number).map(|stream| stream.stage)
    }

    pub(super) fn set(&mut self, number: u32, stage: StreamStep) {
        if let Some(stream) = self.all.get_mut(&number) {
            stream.stage = stage;
        }
    }

    /// Moves a stream on.
    ///
    /// # Errors
    /// [`Error::Misuse`] if it is not where it should be.
    pub(super) fn step(&mut self, number: u32, from: StreamStep, to: StreamStep) -> Result<(), Error> {
        if self.stage(number) != Some(from) {
            return Err(Error::Misuse("no request waits for an answer"));
        }
        self.set(number, to);
        Ok(())
    }

    pub(super) fn any(&self, is: impl Fn(StreamStep) -> bool) -> bool {
        self.all.values().any(|stream| is(stream.stage))
    }

    /// The stream that a command means which names it by number or by name, or not at all.
    pub(super) fn meant(&self, number: Option<u32>, name: Option<&str>) -> Option<u32> {
        if let Some(number) = number.filter(|number| self.all.contains_key(number)) {
            return Some(number);
        }
        let in_use = || self.all.iter().filter(|(_, stream)| stream.stage != StreamStep::Idle);
        let named = in_use().find(|(_, stream)| name.is_some_and(|name| name == stream.name));
        let mut rest = in_use();
        let only = rest.next().filter(|_| rest.next().is_none());
        named.or(only).map(|(number, _)| *number)
    }
}
