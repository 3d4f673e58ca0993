//! What people do to takes.

use std::sync::Arc;

use time::OffsetDateTime;
use waverant_relay::{Actor, TakeState};
use waverant_store::{TakeChange, written_now};

use crate::repair::{mended_record, repair_file};
use crate::{Library, LibraryError};

impl Library {
    /// Changes a take's title, note or lock.
    ///
    /// # Errors
    /// [`LibraryError::Store`] if there is no such take.
    pub async fn change(
        &self,
        (session, number): (u64, u32),
        change: &TakeChange,
        by: &Actor,
    ) -> Result<(), LibraryError> {
        self.store.change_take(session, number, change).await?;
        tracing::info!(session, take = number, %by, "a take is changed");
        Ok(())
    }

    /// Removes a take; returns until when it can be had back.
    ///
    /// # Errors
    /// [`LibraryError::State`] if it is being written or locked.
    pub async fn remove(&self, (session, number): (u64, u32), by: &Actor) -> Result<OffsetDateTime, LibraryError> {
        let take = self.store.take(session, number).await?;
        let refused = match (take.record.state, take.card.is_locked) {
            (TakeState::Writing, _) => Some("is still being written. Stop the recording first"),
            (_, true) => Some("is locked. Unlock it first"),
            _ => None,
        };
        if let Some(reason) = refused {
            return Err(LibraryError::State(format!("The take {session}/{number} {reason}.")));
        }
        let now = OffsetDateTime::now_utc();
        self.store.set_take_removed(session, number, Some(now)).await?;
        tracing::info!(take = take.record.path, %by, "the take is removed");
        Ok(now + self.undo_time)
    }

    /// Has a removed take back.
    ///
    /// # Errors
    /// [`LibraryError::Store`] if there is none such any more.
    pub async fn undo_removal(&self, (session, number): (u64, u32), by: &Actor) -> Result<(), LibraryError> {
        self.store.set_take_removed(session, number, None).await?;
        tracing::info!(session, take = number, %by, "a removed take is had back");
        Ok(())
    }

    /// Mends a take that was not ended in order.
    ///
    /// # Errors
    /// [`LibraryError`] if it is being written, worked on, whole, or cannot be mended.
    pub async fn mend_now(self: &Arc<Self>, (session, number): (u64, u32), by: &Actor) -> Result<(), LibraryError> {
        let take = self.ended_take(session, number).await?;
        let busy = || LibraryError::State(format!("Something else is being done with the take {session}/{number}."));
        let _hold = self.hold(session, number).ok_or_else(busy)?;
        let path = self.path_of(&take);
        let mended = tokio::task::spawn_blocking(move || repair_file(&path)).await?;
        if let Err(error) = &mended {
            return Err(LibraryError::File(format!("The take cannot be mended: {error}")));
        }
        if mended.as_ref().is_ok_and(Option::is_none) {
            return Err(LibraryError::State(format!("Nothing is missing in the take {session}/{number}.")));
        }
        self.store.write_take(&mended_record(&take.record, mended), written_now()).await?;
        self.store.set_take_digest(session, number, None).await?;
        tracing::info!(take = take.record.path, %by, "the take is mended");
        self.tell_news();
        Ok(())
    }
}
