//! What people do to a session that runs. It works from memory: also while the database is away.

use std::sync::Arc;

use waverant_relay::{Act, Actor, RecordingMode};
use waverant_show::Show;

use crate::{House, HouseError};

/// The longest title of a mark.
const MAX_TITLE: usize = 160;

impl House {
    /// The number of a channel.
    ///
    /// # Errors
    /// [`HouseError::NotFound`] if there is none of this name.
    pub fn channel_id(&self, name: &str) -> Result<u64, HouseError> {
        let missing = || HouseError::NotFound { kind: "channel", name: name.to_owned() };
        Ok(self.directory().channel_named(name).ok_or_else(missing)?.id)
    }

    /// Writes down what somebody did.
    pub fn write_act(&self, act: Act) {
        self.ledger.write_act(act);
    }

    pub(crate) fn running(&self, channel: &str) -> Result<Arc<Show>, HouseError> {
        let show = self.show(self.channel_id(channel)?).filter(|show| !show.is_over());
        show.ok_or_else(|| HouseError::Conflict(format!("The channel `{channel}` is not on air.")))
    }

    /// Ends the session that is on air; again, to cut off its delayed legs.
    ///
    /// # Errors
    /// [`HouseError::Conflict`] if there is none.
    pub fn end_session(&self, channel: &str, by: &Actor) -> Result<(), HouseError> {
        let show = self.show(self.channel_id(channel)?);
        let show = show.ok_or_else(|| HouseError::Conflict(format!("The channel `{channel}` is not on air.")))?;
        show.end(&format!("ended by {by}"));
        Ok(())
    }

    /// Begins to record the session that is on air.
    ///
    /// # Errors
    /// [`HouseError::Conflict`] if there is none, the rules do not let it, or it is being recorded already.
    pub fn start_recording(&self, channel: &str, by: &Actor) -> Result<(), HouseError> {
        let show = self.running(channel)?;
        let rules = show.rules();
        if show.is_rehearsal() || rules.recording.mode == RecordingMode::Off {
            return Err(HouseError::Conflict(format!(
                "Nothing is recorded on `{channel}`: its rule is `off`, or this is a rehearsal. Change the rule first."
            )));
        }
        if !show.recorder().start(rules.recording.pre_roll) {
            return Err(HouseError::Conflict(format!("The session on `{channel}` is being recorded already.")));
        }
        show.note_event(format!("{by} began to record"));
        Ok(())
    }

    /// Stops recording the session that is on air; it goes on.
    ///
    /// # Errors
    /// [`HouseError::Conflict`] if there is none, or it is not being recorded.
    pub fn stop_recording(&self, channel: &str, by: &Actor) -> Result<(), HouseError> {
        let show = self.running(channel)?;
        if !show.recorder().stop() {
            return Err(HouseError::Conflict(format!("The session on `{channel}` is not being recorded.")));
        }
        show.note_event(format!("{by} stopped the recording"));
        Ok(())
    }

    /// Points out this moment in the take that is being written; returns its session and number.
    ///
    /// # Errors
    /// [`HouseError`] if the title is not as expected, or no take is being written.
    pub fn mark_recording(&self, channel: &str, title: &str) -> Result<(u64, u32), HouseError> {
        let title = title.trim();
        let length = title.chars().count();
        if length == 0 || length > MAX_TITLE {
            let told = format!("it has {length} characters; 1 to {MAX_TITLE} are allowed");
            return Err(HouseError::invalid("title", told));
        }
        let show = self.running(channel)?;
        let not_recorded = || HouseError::Conflict(format!("The session on `{channel}` is not being recorded."));
        let at = show.live().newest().ok_or_else(not_recorded)?;
        let take = show.takes().newest().map(|take| take.number).ok_or_else(not_recorded)?;
        if !show.recorder().mark(at, title.to_owned()) {
            return Err(not_recorded());
        }
        Ok((show.id(), take))
    }
}
