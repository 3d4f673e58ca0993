use sqlx::{AssertSqlSafe, MySqlConnection};

use crate::{Keychain, Store, StoreError};

/// Each column that holds sealed secrets, and its table.
const SEALED: [(&str, &str); 11] = [
    ("stream_keys", "sealed_password_digest"),
    ("stream_keys", "sealed_passphrase"),
    ("stream_keys", "sealed_for_guest"),
    ("channels", "sealed_passphrase"),
    ("destinations", "sealed_key"),
    ("destinations", "sealed_passphrase"),
    ("depots", "sealed_secret"),
    ("house_systems", "sealed_secret"),
    ("call_targets", "sealed_address"),
    ("call_targets", "sealed_secret"),
    ("second_factors", "sealed"),
];

impl Store {
    /// Seals all secrets anew under the successor of the keychain, and makes the database that successor's: all of it or
    /// nothing. Returns how many there were. This store is of no use any more afterwards.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer, or holds what the keychain cannot open.
    pub async fn seal_anew(&self, successor: &Keychain) -> Result<usize, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let mut count = 0;
        for column in SEALED {
            count += self.seal_column_anew(&mut transaction, column, successor).await?;
        }
        sqlx::query("UPDATE house_facts SET value = ? WHERE name = 'key_file'")
            .bind(&successor.fingerprint()[..])
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        Ok(count)
    }

    async fn seal_column_anew(
        &self,
        connection: &mut MySqlConnection,
        (table, column): (&str, &str),
        successor: &Keychain,
    ) -> Result<usize, StoreError> {
        let read = format!("SELECT {column} FROM {table} WHERE {column} IS NOT NULL FOR UPDATE");
        let rows: Vec<Vec<u8>> = sqlx::query_scalar(AssertSqlSafe(read)).fetch_all(&mut *connection).await?;
        for before in &rows {
            let sealed = successor.seal(&self.keychain.unseal(before)?)?;
            // Each was sealed with a number of its own: there is no other like it.
            sqlx::query(AssertSqlSafe(format!("UPDATE {table} SET {column} = ? WHERE {column} = ?")))
                .bind(sealed)
                .bind(before)
                .execute(&mut *connection)
                .await?;
        }
        Ok(rows.len())
    }
}
