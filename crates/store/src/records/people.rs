use sqlx::{AssertSqlSafe, MySql, MySqlConnection, Row, Transaction};
use time::OffsetDateTime;
use waverant_relay::{Grants, Role, Secret};

use super::second_factors::drop_second_factor;
use super::users::{USER, user_from};
use super::{optional_time_in, time_in, to_column};
use crate::secrets::new_token;
use crate::{Store, StoreError, User};

/// Somebody of the crew.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Person {
    /// Who.
    pub user: User,
    /// When it was let in.
    pub created_at: OffsetDateTime,
    /// False until it chose a password.
    pub has_password: bool,
    /// When its invitation ends, if there is one.
    pub invited_until: Option<OffsetDateTime>,
    /// When it was here last, to a minute.
    pub last_seen_at: Option<OffsetDateTime>,
}

impl Store {
    /// Everybody who may sign in, or is invited, by name.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn people(&self, now: OffsetDateTime) -> Result<Vec<Person>, StoreError> {
        let rows = sqlx::query(AssertSqlSafe(format!(
            "SELECT {USER}, created_at, password_hash, \
             (SELECT MAX(last_used_at) FROM tokens WHERE user_id = users.id) AS last_seen_at, \
             (SELECT expires_at FROM invitations WHERE user_id = users.id AND expires_at > ?) AS invited_until \
             FROM users ORDER BY name"
        )))
        .bind(to_column(now))
        .fetch_all(&self.pool)
        .await?;
        let read = |row| {
            let hash: String = sqlx::Row::try_get(row, "password_hash")?;
            Ok(Person {
                user: user_from(row)?,
                created_at: time_in(row, "created_at")?,
                has_password: !hash.is_empty(),
                invited_until: optional_time_in(row, "invited_until")?,
                last_seen_at: optional_time_in(row, "last_seen_at")?,
            })
        };
        rows.iter().map(read).collect()
    }

    /// Lets somebody in who has no password yet.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or if the database does not answer.
    pub async fn add_person(&self, name: &str, grants: &Grants, now: OffsetDateTime) -> Result<User, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let id = Self::insert_person(&mut transaction, name, grants, now).await?;
        transaction.commit().await?;
        Ok(User { id, name: name.to_owned(), grants: grants.clone(), has_second_factor: false })
    }

    pub(super) async fn insert_person(
        transaction: &mut Transaction<'_, MySql>,
        name: &str,
        grants: &Grants,
        now: OffsetDateTime,
    ) -> Result<u64, StoreError> {
        let added = sqlx::query("INSERT INTO users (name, role, password_hash, created_at) VALUES (?, ?, '', ?)")
            .bind(name)
            .bind(grants.house().map(Role::word))
            .bind(to_column(now))
            .execute(&mut **transaction)
            .await
            .map_err(StoreError::name_taken(name))?;
        let id = added.last_insert_id();
        write_channel_roles(transaction, id, grants).await?;
        Ok(id)
    }

    /// Makes a one-time code by which a person chooses a password until `ends`; one made before is worthless then. With
    /// `drops_second_factor` it is for who lost that, too.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn invite(
        &self,
        name: &str,
        ends: OffsetDateTime,
        drops_second_factor: bool,
    ) -> Result<Secret, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let code = self.write_invitation(&mut transaction, name, ends, drops_second_factor).await?;
        transaction.commit().await?;
        Ok(code)
    }

    pub(super) async fn write_invitation(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        name: &str,
        ends: OffsetDateTime,
        drops_second_factor: bool,
    ) -> Result<Secret, StoreError> {
        let code = new_token();
        let done = sqlx::query(
            "REPLACE INTO invitations (user_id, digest, expires_at, drops_second_factor) \
             SELECT id, ?, ?, ? FROM users WHERE name = ?",
        )
        .bind(&self.keychain.digest(code.reveal())[..])
        .bind(to_column(ends))
        .bind(drops_second_factor)
        .bind(name)
        .execute(&mut **transaction)
        .await?;
        match done.rows_affected() {
            0 => Err(not_found(name)),
            _ => Ok(code),
        }
    }

    /// Who is invited by a code that is good at `now`, as the user will be; none if nobody is.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn invited(&self, code: &Secret, now: OffsetDateTime) -> Result<Option<User>, StoreError> {
        let row = sqlx::query(AssertSqlSafe(format!(
            "SELECT {USER}, drops_second_factor FROM invitations JOIN users ON users.id = user_id WHERE digest = ? AND expires_at > ?"
        )))
        .bind(&self.keychain.digest(code.reveal())[..])
        .bind(to_column(now))
        .fetch_optional(&self.pool)
        .await?;
        let Some(row) = row else { return Ok(None) };
        let user = user_from(&row)?;
        let drops_second_factor: bool = row.try_get("drops_second_factor")?;
        Ok(Some(User { has_second_factor: user.has_second_factor && !drops_second_factor, ..user }))
    }

    /// Takes the password that an invited person chose. The code opens once, and all tokens of the person end. False if
    /// the code was used meanwhile.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn accept(&self, user: &User, code: &Secret, password: &Secret) -> Result<bool, StoreError> {
        let hash = self.hasher.hash(password.clone()).await?;
        let mut transaction = self.pool.begin().await?;
        let drops_second_factor: Option<bool> = sqlx::query_scalar(
            "DELETE FROM invitations WHERE user_id = ? AND digest = ? RETURNING drops_second_factor",
        )
        .bind(user.id)
        .bind(&self.keychain.digest(code.reveal())[..])
        .fetch_optional(&mut *transaction)
        .await?;
        match drops_second_factor {
            None => return Ok(false),
            Some(false) => {}
            Some(true) => drop_second_factor(&mut transaction, user.id).await?,
        }
        let changed = sqlx::query("UPDATE users SET password_hash = ? WHERE id = ?").bind(hash).bind(user.id);
        changed.execute(&mut *transaction).await?;
        sqlx::query("DELETE FROM tokens WHERE user_id = ?").bind(user.id).execute(&mut *transaction).await?;
        transaction.commit().await?;
        Ok(true)
    }

    /// Gives a person other roles. Its tokens stay, and may what the roles may. Returns the roles before.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::LastAdministrator`], or if the database does not answer.
    pub async fn change_grants(&self, name: &str, grants: &Grants) -> Result<Grants, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let before = Self::write_grants(&mut transaction, name, grants).await?;
        transaction.commit().await?;
        Ok(before)
    }

    pub(super) async fn write_grants(
        transaction: &mut Transaction<'_, MySql>,
        name: &str,
        grants: &Grants,
    ) -> Result<Grants, StoreError> {
        let others = other_administrators(transaction, name).await?;
        let before = locked(transaction, name).await?;
        if grants.house() != Some(Role::Administrator) && others == 0 {
            return Err(StoreError::LastAdministrator);
        }
        sqlx::query("UPDATE users SET role = ? WHERE id = ?")
            .bind(grants.house().map(Role::word))
            .bind(before.id)
            .execute(&mut **transaction)
            .await?;
        sqlx::query("DELETE FROM channel_roles WHERE user_id = ?").bind(before.id).execute(&mut **transaction).await?;
        write_channel_roles(transaction, before.id, grants).await?;
        Ok(before.grants)
    }

    /// Removes a person with all its tokens.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::LastAdministrator`], or if the database does not answer.
    pub async fn remove_person(&self, name: &str) -> Result<User, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let user = Self::delete_person(&mut transaction, name).await?;
        transaction.commit().await?;
        Ok(user)
    }

    pub(super) async fn delete_person(
        transaction: &mut Transaction<'_, MySql>,
        name: &str,
    ) -> Result<User, StoreError> {
        let others = other_administrators(transaction, name).await?;
        let user = locked(transaction, name).await?;
        if others == 0 {
            return Err(StoreError::LastAdministrator);
        }
        sqlx::query("DELETE FROM users WHERE id = ?").bind(user.id).execute(&mut **transaction).await?;
        Ok(user)
    }
}

fn not_found(name: &str) -> StoreError {
    StoreError::NotFound { kind: "person", name: name.to_owned() }
}

/// A person who stays as it is until the transaction ends.
async fn locked(connection: &mut MySqlConnection, name: &str) -> Result<User, StoreError> {
    let row = sqlx::query(AssertSqlSafe(format!("SELECT {USER} FROM users WHERE name = ? FOR UPDATE")))
        .bind(name)
        .fetch_optional(connection)
        .await?;
    user_from(&row.ok_or_else(|| not_found(name))?)
}

/// A channel that is gone by now gives no role.
async fn write_channel_roles(connection: &mut MySqlConnection, user: u64, grants: &Grants) -> Result<(), StoreError> {
    for (channel, role) in grants.channels() {
        sqlx::query("INSERT INTO channel_roles (user_id, channel_id, role) SELECT ?, id, ? FROM channels WHERE id = ?")
            .bind(user)
            .bind(role.word())
            .bind(channel)
            .execute(&mut *connection)
            .await?;
    }
    Ok(())
}

/// How many administrators there are besides `name` who can sign in. They are locked: of two who remove each other at
/// once one stays.
async fn other_administrators(connection: &mut MySqlConnection, name: &str) -> Result<usize, StoreError> {
    let rows = sqlx::query("SELECT name FROM users WHERE role = ? AND password_hash <> '' FOR UPDATE")
        .bind(Role::Administrator.word())
        .fetch_all(connection)
        .await?;
    let names: Result<Vec<String>, sqlx::Error> = rows.iter().map(|row| row.try_get("name")).collect();
    Ok(names?.iter().filter(|known| !known.eq_ignore_ascii_case(name)).count())
}
