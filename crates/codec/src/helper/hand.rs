//! What a thread of the pool works with: native code, here or in a helper.

use std::ffi::OsString;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use waverant_media::CodecParameters;

use super::crafts::{Outcome, SoundCodec, Task, perform};
use super::serve::Answer;
use super::wire;
use crate::avc::Encoded;
use crate::glance::GLANCE_POINTS;
use crate::{
    Clip, EncodeError, Glance, PictureFormat, SoundPiece, Still, StillError, WorkFailed, holding, sound, test_picture,
};

/// A helper that decodes for longer is ended. It is a matter of milliseconds; but shows go first.
const DECODED_WITHIN: Duration = Duration::from_secs(30);

/// A helper is there within this time.
const BEGUN_WITHIN: Duration = Duration::from_secs(20);

/// The largest test picture takes a minute of a small machine.
const DRAWN_WITHIN: Duration = Duration::from_secs(300);

/// Frames of sound that go together.
const FRAMES: usize = 64;

/// Where native code runs.
#[derive(Clone, Debug, Default)]
pub enum Workplace {
    /// In this process: for tests and measurements.
    #[default]
    Here,
    /// In helpers: the program and its arguments, that calls [`serve`](super::serve).
    Helper(Arc<(PathBuf, Vec<OsString>)>),
}

impl Workplace {
    /// In helpers that are this program, begun with these arguments. It is found even if another file has taken its
    /// name since, as in an upgrade.
    pub fn this_program(arguments: impl IntoIterator<Item = OsString>) -> Self {
        Self::Helper(Arc::new(("/proc/self/exe".into(), arguments.into_iter().collect())))
    }
}

/// Does what needs native code, one piece at a time.
#[derive(Debug, Default)]
pub struct Hand {
    workplace: Workplace,
    helper: Option<Helper>,
    spent: Duration,
}

impl Hand {
    /// One that works there.
    pub fn new(workplace: Workplace) -> Self {
        Self { workplace, ..Self::default() }
    }

    /// What helpers had of the processor since this was last asked.
    pub fn take_spent(&mut self) -> Duration {
        std::mem::take(&mut self.spent)
    }

    /// Decodes a keyframe and looks at it. A point is one sample and no mean: so the noise of a camera shows, and tells
    /// it from a picture that stands.
    ///
    /// # Errors
    /// [`StillError`] if there is no decoder for the codec, or it gives no picture.
    pub fn glance(&mut self, codec: &CodecParameters, keyframe: &Bytes) -> Result<Glance, StillError> {
        let task = Task::Glance { config: picture_config(codec)?, keyframe: keyframe.clone() };
        match self.ask(task, DECODED_WITHIN)? {
            Outcome::Glance(points) => points.and_then(|points| match points.len() {
                GLANCE_POINTS => Ok(Glance { points }),
                count => Err(StillError::Decoder(format!("{count} points"))),
            }),
            _ => Err(WorkFailed.into()),
        }
    }

    /// Decodes a keyframe: the picture, no wider than `width`.
    ///
    /// # Errors
    /// As [`glance`](Self::glance).
    pub fn still(&mut self, codec: &CodecParameters, keyframe: Bytes, width: usize) -> Result<Still, StillError> {
        match self.ask(Task::Still { config: picture_config(codec)?, keyframe, width }, DECODED_WITHIN)? {
            Outcome::Still(still) => {
                still.and_then(|(width, height, pixels)| Still::new((width, height), pixels.into()))
            }
            _ => Err(WorkFailed.into()),
        }
    }

    /// Decodes a keyframe: a JPEG file for each of these widths, of which the widest comes first.
    ///
    /// # Errors
    /// As [`glance`](Self::glance).
    pub fn jpegs(
        &mut self,
        codec: &CodecParameters,
        keyframe: Bytes,
        widths: Vec<usize>,
    ) -> Result<Vec<Bytes>, StillError> {
        let count = widths.len();
        match self.ask(Task::Jpegs { config: picture_config(codec)?, keyframe, widths }, DECODED_WITHIN)? {
            Outcome::Jpegs(jpegs) => jpegs.and_then(|jpegs| match jpegs.len() == count {
                true => Ok(jpegs),
                false => Err(StillError::Encoder(format!("{} of {count} pictures", jpegs.len()))),
            }),
            _ => Err(WorkFailed.into()),
        }
    }

    /// Decodes frames of sound in a row, behind those before them ([`lead_in`](Self::lead_in)). One piece for each of
    /// `frames`, or in words why such sound is not listened to.
    ///
    /// # Errors
    /// [`WorkFailed`] if the work breaks off.
    pub fn hear(
        &mut self,
        codec: &CodecParameters,
        before: &[Bytes],
        frames: &[Bytes],
    ) -> Result<Result<Vec<SoundPiece>, String>, WorkFailed> {
        let Some(told) = SoundCodec::of(codec) else {
            return Ok(Err(sound::NotDecoded(codec.name().to_owned()).to_string()));
        };
        let all = [before, frames].concat();
        let mut pieces = Vec::with_capacity(frames.len());
        while pieces.len() < frames.len() {
            let at = before.len() + pieces.len();
            let lead_in = all[at.saturating_sub(Self::lead_in(codec))..at].to_vec();
            let frames = all[at..all.len().min(at + FRAMES)].to_vec();
            let count = frames.len();
            match self.ask(Task::Sound { codec: told.clone(), lead_in, frames }, DECODED_WITHIN)? {
                Outcome::Sound(Ok(more)) if more.len() == count => pieces.extend(more),
                Outcome::Sound(Err(reason)) => return Ok(Err(reason)),
                _ => return Err(WorkFailed),
            }
        }
        Ok(Ok(pieces))
    }

    /// How many frames before others [`hear`](Self::hear) wants at most.
    pub fn lead_in(codec: &CodecParameters) -> usize {
        sound::lead_in(codec)
    }

    /// A still picture that says that the show goes on soon, two seconds long, without sound.
    ///
    /// # Errors
    /// [`EncodeError`] if the size cannot be encoded.
    pub fn holding_picture(&mut self, width: u32, height: u32, frame_rate: f64) -> Result<Clip, EncodeError> {
        let format = holding::format(width, height, frame_rate);
        Ok(holding::clip(&format, self.draw(Task::Holding { width, height, frame_rate }, &format)?))
    }

    /// A moving picture with a tone, eight seconds long, in which a lost or repeated picture shows.
    ///
    /// # Errors
    /// As [`holding_picture`](Self::holding_picture).
    pub fn test_picture(
        &mut self,
        width: u32,
        height: u32,
        frame_rate: f64,
        keyframe_seconds: f64,
    ) -> Result<Clip, EncodeError> {
        let format = test_picture::format(width, height, frame_rate, keyframe_seconds);
        test_picture::clip(&format, self.draw(Task::Test { width, height, frame_rate, keyframe_seconds }, &format)?)
    }

    fn draw(&mut self, task: Task, format: &PictureFormat) -> Result<Encoded, EncodeError> {
        format.check_size()?;
        match self.ask(task, DRAWN_WITHIN)? {
            Outcome::Pictures(pictures) => pictures?.into_encoded(format),
            _ => Err(WorkFailed.into()),
        }
    }

    fn ask(&mut self, task: Task, within: Duration) -> Result<Outcome, WorkFailed> {
        let Workplace::Helper(program) = &self.workplace else { return Ok(perform(task)) };
        if self.helper.as_mut().is_some_and(|helper| !helper.is_there()) {
            self.helper = None;
        }
        let helper = match &mut self.helper {
            Some(helper) => helper,
            none => none.insert(Helper::begin(&program.0, &program.1).map_err(|error| {
                tracing::error!(%error, "there is no helper for work on pictures and sound");
                WorkFailed
            })?),
        };
        match helper.ask(&task, within) {
            Ok(answer) => {
                self.spent += answer.spent;
                if let Outcome::Panicked(message) = &answer.outcome {
                    tracing::error!(message, "work on a picture or on sound broke off by a fault of ours");
                    return Err(WorkFailed);
                }
                Ok(answer.outcome)
            }
            Err(error) => {
                let ended = self.helper.take().map(Helper::end).unwrap_or_default();
                tracing::warn!(%error, ended, "the helper for pictures and sound broke; no show was touched");
                Err(WorkFailed)
            }
        }
    }
}

fn picture_config(codec: &CodecParameters) -> Result<Bytes, StillError> {
    match codec {
        CodecParameters::H264(config) => Ok(config.raw().clone()),
        other => Err(StillError::Codec(other.name().to_owned())),
    }
}

/// A process that works for one thread. It is ended with it.
#[derive(Debug)]
struct Helper {
    process: Child,
    link: UnixStream,
}

impl Helper {
    fn begin(program: &PathBuf, arguments: &[OsString]) -> io::Result<Self> {
        let (link, theirs) = UnixStream::pair()?;
        let mut command = Command::new(program);
        command.args(arguments).env_clear().current_dir("/").stdin(OwnedFd::from(theirs));
        // A group of its own: what a terminal tells the service is not told to it.
        let process = command.stdout(Stdio::null()).stderr(Stdio::null()).process_group(0).spawn()?;
        // The command holds the other end: without that, an end of the helper is seen here.
        drop(command);
        let mut begun = Self { process, link };
        begun.link.set_read_timeout(Some(BEGUN_WITHIN))?;
        match wire::read::<Result<(), String>>(&mut begun.link)? {
            Some(Ok(())) => Ok(begun),
            Some(Err(reason)) => Err(io::Error::other(reason)),
            None => Err(io::Error::other(format!("it ended at once: {}", begun.end()))),
        }
    }

    fn is_there(&mut self) -> bool {
        matches!(self.process.try_wait(), Ok(None))
    }

    fn ask(&mut self, task: &Task, within: Duration) -> io::Result<Answer> {
        self.link.set_read_timeout(Some(within))?;
        self.link.set_write_timeout(Some(within))?;
        wire::write(&mut self.link, task)?;
        wire::read(&mut self.link)?.ok_or_else(|| io::ErrorKind::UnexpectedEof.into())
    }

    /// Says how it ended.
    fn end(mut self) -> String {
        // One that ended by itself tells more than one that is killed.
        std::thread::sleep(Duration::from_millis(20));
        let ended = self.process.try_wait().ok().flatten();
        ended.map_or("it did not answer".to_owned(), |status| status.to_string())
    }
}

impl Drop for Helper {
    fn drop(&mut self) {
        // It fails only for one that ended.
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}
