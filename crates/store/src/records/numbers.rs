use sqlx::Row;

use crate::{Store, StoreError};

/// Numbers in a block.
const BLOCK: u64 = 64;

/// Numbers from here on are of no block: they were given while none could be had.
const BEYOND_BLOCKS: u64 = 1 << 40;

impl Store {
    /// The numbers that this node may still give to sessions: from the first to the last. They follow what it gave
    /// before, as long as its block lasts.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn session_numbers(&self) -> Result<(u64, u64), StoreError> {
        let block = sqlx::query("SELECT first, last FROM session_blocks WHERE node_id = ? ORDER BY first DESC LIMIT 1")
            .bind(self.node)
            .fetch_optional(&self.pool)
            .await?;
        let Some(block) = block else { return self.new_session_numbers().await };
        let (first, last): (u64, u64) = (block.try_get("first")?, block.try_get("last")?);
        let used: Option<u64> = sqlx::query_scalar("SELECT MAX(id) FROM sessions WHERE id BETWEEN ? AND ?")
            .bind(first)
            .bind(last)
            .fetch_one(&self.pool)
            .await?;
        match used {
            Some(used) if used >= last => self.new_session_numbers().await,
            used => Ok((used.map_or(first, |used| used + 1), last)),
        }
    }

    /// A further block of numbers for this node.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn new_session_numbers(&self) -> Result<(u64, u64), StoreError> {
        let mut transaction = self.pool.begin().await?;
        // The row lock makes two nodes wait for each other.
        sqlx::query("SELECT name FROM house_facts WHERE name = 'key_file' FOR UPDATE")
            .fetch_optional(&mut *transaction)
            .await?;
        let used: Option<u64> = sqlx::query_scalar(
            "SELECT CAST(GREATEST(COALESCE((SELECT MAX(last) FROM session_blocks), 0), \
             COALESCE((SELECT MAX(id) FROM sessions WHERE id < ?), 0)) AS UNSIGNED)",
        )
        .bind(BEYOND_BLOCKS)
        .fetch_one(&mut *transaction)
        .await?;
        let first = used.unwrap_or(0) + 1;
        let last = first + BLOCK - 1;
        sqlx::query("INSERT INTO session_blocks (first, last, node_id) VALUES (?, ?, ?)")
            .bind(first)
            .bind(last)
            .bind(self.node)
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        Ok((first, last))
    }
}
