use sqlx::{MySqlConnection, Row};
use time::OffsetDateTime;
use waverant_relay::{Secret, TimeCodes};

use super::{optional_time_in, to_column};
use crate::secrets::{new_one_time_code, new_time_code_key};
use crate::{Store, StoreError, User};

/// Recovery codes of a person.
const RECOVERY_CODES: usize = 10;

/// Whether somebody has a second factor.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SecondFactor {
    /// Since when; none if there is none, or its first code was not given yet.
    pub since: Option<OffsetDateTime>,
    /// Recovery codes that were not used yet.
    pub recovery_codes_left: u32,
}

impl Store {
    /// Whether a user has a second factor.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn second_factor(&self, user_id: u64) -> Result<SecondFactor, StoreError> {
        let row = sqlx::query(
            "SELECT (SELECT since FROM second_factors WHERE user_id = ?) AS since, \
             (SELECT COUNT(*) FROM recovery_codes WHERE user_id = ?) AS codes",
        )
        .bind(user_id)
        .bind(user_id)
        .fetch_one(&self.pool)
        .await?;
        let codes: i64 = row.try_get("codes")?;
        let recovery_codes_left = u32::try_from(codes).unwrap_or(0);
        Ok(SecondFactor { since: optional_time_in(&row, "since")?, recovery_codes_left })
    }

    /// Makes a key for a user's authenticator. It counts once a code of it was given; none if there is one that counts.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn begin_second_factor(&self, user: &User) -> Result<Option<TimeCodes>, StoreError> {
        let codes = TimeCodes::new(new_time_code_key(), &user.name).ok_or(StoreError::Unsealable)?;
        let sealed = self.keychain.seal(&codes.key())?;
        let mut transaction = self.pool.begin().await?;
        sqlx::query("DELETE FROM second_factors WHERE user_id = ? AND since IS NULL")
            .bind(user.id)
            .execute(&mut *transaction)
            .await?;
        let added = sqlx::query("INSERT IGNORE INTO second_factors (user_id, sealed) VALUES (?, ?)")
            .bind(user.id)
            .bind(sealed)
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        Ok((added.rows_affected() > 0).then_some(codes))
    }

    /// The first code of a new key: from now on it counts, all tokens of the user but the one with number `kept` end, and
    /// there are recovery codes, which are told once. None if the code is wrong, or there is no new key.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn confirm_second_factor(
        &self,
        user: &User,
        code: &Secret,
        (kept, now): (u64, OffsetDateTime),
    ) -> Result<Option<Vec<Secret>>, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let sealed: Option<Vec<u8>> =
            sqlx::query_scalar("SELECT sealed FROM second_factors WHERE user_id = ? AND since IS NULL FOR UPDATE")
                .bind(user.id)
                .fetch_optional(&mut *transaction)
                .await?;
        let Some(step) = self.step_of(user, sealed, code, now)? else { return Ok(None) };
        sqlx::query("UPDATE second_factors SET since = ?, last_step = ? WHERE user_id = ?")
            .bind(to_column(now))
            .bind(step)
            .bind(user.id)
            .execute(&mut *transaction)
            .await?;
        sqlx::query("DELETE FROM tokens WHERE user_id = ? AND id <> ?")
            .bind(user.id)
            .bind(kept)
            .execute(&mut *transaction)
            .await?;
        let codes = self.write_recovery_codes(&mut transaction, user.id).await?;
        transaction.commit().await?;
        Ok(Some(codes))
    }

    /// Takes a code of a user's authenticator, or a recovery code; neither is taken twice.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn pass_second_factor(
        &self,
        user: &User,
        code: &Secret,
        now: OffsetDateTime,
    ) -> Result<bool, StoreError> {
        let sealed: Option<Vec<u8>> =
            sqlx::query_scalar("SELECT sealed FROM second_factors WHERE user_id = ? AND since IS NOT NULL")
                .bind(user.id)
                .fetch_optional(&self.pool)
                .await?;
        if let Some(step) = self.step_of(user, sealed, code, now)? {
            // Of two who give the same code at once, one finds it taken.
            let taken = sqlx::query("UPDATE second_factors SET last_step = ? WHERE user_id = ? AND last_step < ?")
                .bind(step)
                .bind(user.id)
                .bind(step)
                .execute(&self.pool)
                .await?;
            return Ok(taken.rows_affected() == 1);
        }
        let used = sqlx::query("DELETE FROM recovery_codes WHERE user_id = ? AND digest = ?")
            .bind(user.id)
            .bind(&self.keychain.digest(&tidy(code))[..])
            .execute(&self.pool)
            .await?;
        Ok(used.rows_affected() == 1)
    }

    /// Other recovery codes in the place of those there are.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn renew_recovery_codes(&self, user_id: u64) -> Result<Vec<Secret>, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let codes = self.write_recovery_codes(&mut transaction, user_id).await?;
        transaction.commit().await?;
        Ok(codes)
    }

    /// Takes a user's authenticator away, and the recovery codes if it was the last factor. False if there was none.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn remove_authenticator(&self, user_id: u64) -> Result<bool, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let user = sqlx::query("SELECT id FROM users WHERE id = ? FOR UPDATE").bind(user_id);
        user.fetch_optional(&mut *transaction).await?;
        let gone = sqlx::query("DELETE FROM second_factors WHERE user_id = ?").bind(user_id);
        let gone = gone.execute(&mut *transaction).await?;
        drop_useless_codes(&mut transaction, user_id).await?;
        transaction.commit().await?;
        Ok(gone.rows_affected() > 0)
    }

    fn step_of(
        &self,
        user: &User,
        sealed: Option<Vec<u8>>,
        code: &Secret,
        now: OffsetDateTime,
    ) -> Result<Option<u64>, StoreError> {
        let Some(sealed) = sealed else { return Ok(None) };
        let codes = TimeCodes::typed(&self.keychain.unseal(&sealed)?, &user.name).ok_or(StoreError::Unsealable)?;
        Ok(codes.step_of(code.reveal(), u64::try_from(now.unix_timestamp()).unwrap_or(0)))
    }

    pub(super) async fn write_recovery_codes(
        &self,
        connection: &mut MySqlConnection,
        user_id: u64,
    ) -> Result<Vec<Secret>, StoreError> {
        sqlx::query("DELETE FROM recovery_codes WHERE user_id = ?").bind(user_id).execute(&mut *connection).await?;
        let codes: Vec<Secret> = (0..RECOVERY_CODES).map(|_| new_one_time_code()).collect();
        for code in &codes {
            sqlx::query("INSERT INTO recovery_codes (user_id, digest) VALUES (?, ?)")
                .bind(user_id)
                .bind(&self.keychain.digest(&tidy(code))[..])
                .execute(&mut *connection)
                .await?;
        }
        Ok(codes)
    }
}

/// A recovery code as it is digested: however its groups were typed.
fn tidy(code: &Secret) -> String {
    let letters = code.reveal().chars().filter(char::is_ascii_alphanumeric);
    format!("recovery {}", letters.take(64).collect::<String>().to_ascii_lowercase())
}

/// Takes all factors of a user away: authenticator, passkeys and recovery codes.
pub(super) async fn drop_second_factor(connection: &mut MySqlConnection, user_id: u64) -> Result<(), StoreError> {
    sqlx::query("DELETE FROM recovery_codes WHERE user_id = ?").bind(user_id).execute(&mut *connection).await?;
    sqlx::query("DELETE FROM second_factors WHERE user_id = ?").bind(user_id).execute(&mut *connection).await?;
    sqlx::query("DELETE FROM passkeys WHERE user_id = ?").bind(user_id).execute(&mut *connection).await?;
    Ok(())
}

/// Recovery codes stand for another factor: without any they are worthless.
pub(super) async fn drop_useless_codes(connection: &mut MySqlConnection, user_id: u64) -> Result<(), StoreError> {
    sqlx::query(
        "DELETE FROM recovery_codes WHERE user_id = ? AND NOT EXISTS (SELECT * FROM passkeys WHERE user_id = ?) AND \
         NOT EXISTS (SELECT * FROM second_factors WHERE user_id = ? AND since IS NOT NULL)",
    )
    .bind(user_id)
    .bind(user_id)
    .bind(user_id)
    .execute(&mut *connection)
    .await?;
    Ok(())
}
