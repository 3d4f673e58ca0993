//! What the keeper of a node looks for: takes that something is to be done with. Each query has its index.

use sqlx::AssertSqlSafe;
use time::OffsetDateTime;

use super::takes::{ALL, stored_from};
use super::to_column;
use crate::{CopyState, Store, StoreError, StoredTake};

/// Takes that are worked on before it is looked again.
const AT_ONCE: u32 = 200;

impl Store {
    async fn own_takes(&self, condition: &str, bound: &[Bound<'_>]) -> Result<Vec<StoredTake>, StoreError> {
        let query = format!("{ALL} WHERE takes.node_id = ? AND {condition}");
        let query = bound.iter().fold(sqlx::query(AssertSqlSafe(query)).bind(self.node), |query, bound| match bound {
            Bound::Text(text) => query.bind(*text),
            Bound::Time(time) => query.bind(to_column(*time)),
        });
        query.fetch_all(&self.pool).await?.iter().map(|row| stored_from(row, self.node)).collect()
    }

    /// Takes whose removal has begun and was not finished.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn going_takes(&self) -> Result<Vec<StoredTake>, StoreError> {
        self.own_takes("is_going", &[]).await
    }

    /// Takes that were removed at `until` or before.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn takes_removed_until(&self, until: OffsetDateTime) -> Result<Vec<StoredTake>, StoreError> {
        self.own_takes("NOT is_going AND removed_at <= ?", &[Bound::Time(until)]).await
    }

    /// Takes that are here, cut off, and not looked at yet whether they can be mended; 200 at most.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn takes_to_mend(&self) -> Result<Vec<StoredTake>, StoreError> {
        let condition = format!(
            "state = 'cut off' AND repair IS NULL AND is_here AND NOT is_going AND removed_at IS NULL ORDER BY session_id DESC, number DESC LIMIT {AT_ONCE}"
        );
        self.own_takes(&condition, &[]).await
    }

    /// Takes that are here, ended, and have no digest yet; 200 at most.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn takes_to_take_in(&self) -> Result<Vec<StoredTake>, StoreError> {
        let condition = format!(
            "sha256 IS NULL AND is_here AND NOT is_going AND removed_at IS NULL AND \
             (state = 'complete' OR (state = 'cut off' AND repair IS NOT NULL)) ORDER BY session_id DESC, number DESC LIMIT {AT_ONCE}"
        );
        self.own_takes(&condition, &[]).await
    }

    /// The takes of a channel that are here, removed ones left out, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn takes_here(&self, channel_name: &str) -> Result<Vec<StoredTake>, StoreError> {
        let condition = "channel_name = ? AND is_here AND NOT is_going AND removed_at IS NULL \
             ORDER BY session_id DESC, number DESC";
        self.own_takes(condition, &[Bound::Text(channel_name)]).await
    }

    /// The takes of a channel that are here and have a whole copy.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn copied_takes_here(&self, channel_name: &str) -> Result<Vec<StoredTake>, StoreError> {
        let condition = "channel_name = ? AND is_here AND NOT is_going AND NOT is_locked AND removed_at IS NULL AND \
             EXISTS (SELECT * FROM copies WHERE copies.session_id = takes.session_id AND \
             copies.number = takes.number AND copies.state = ?)";
        self.own_takes(condition, &[Bound::Text(channel_name), Bound::Text(CopyState::There.name())]).await
    }
}

/// A value of a query.
enum Bound<'a> {
    Text(&'a str),
    Time(OffsetDateTime),
}
