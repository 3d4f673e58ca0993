use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, MySql, Row, Transaction};
use time::OffsetDateTime;
use waverant_relay::Secret;

use super::{fitted, time_in, to_column};
use crate::{Store, StoreError};

/// Longer texts are cut.
const MAX_ERROR: usize = 255;

/// Object storage that takes are copied to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Depot {
    /// Its name here.
    pub name: String,
    /// Where it answers: `https://host` or `http://host:port`.
    pub endpoint: String,
    /// The region that requests are signed for.
    pub region: String,
    /// The bucket.
    pub bucket: String,
    /// What the keys of all objects begin with; may be empty.
    pub prefix: String,
    /// Who signs requests.
    pub access_key: String,
    /// What requests are signed with.
    pub secret_key: Secret,
    /// The address under which anybody fetches what lies below the prefix, if it has one.
    pub public_address: Option<String>,
    /// When it was made.
    pub created_at: OffsetDateTime,
}

/// Where a copy of a take stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CopyState {
    /// It waits for its turn.
    Waiting,
    /// It is being sent.
    Sending,
    /// It is there, whole.
    There,
    /// It failed, and is tried again.
    Failing,
}

impl CopyState {
    /// The state's name in the records and in the API.
    pub fn name(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Sending => "sending",
            Self::There => "there",
            Self::Failing => "failing",
        }
    }

    fn from_name(name: &str) -> Self {
        match name {
            "sending" => Self::Sending,
            "there" => Self::There,
            "failing" => Self::Failing,
            _ => Self::Waiting,
        }
    }
}

/// An upload in parts that was begun.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CopyUpload {
    /// Its name at the depot.
    pub id: String,
    /// The length of each part but the last.
    pub part_bytes: u64,
}

/// A take's copy in a depot.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CopyRecord {
    /// The take's session.
    pub session_id: u64,
    /// The take's number.
    pub number: u32,
    /// The depot.
    pub depot: String,
    /// What the object is called there.
    pub object_key: String,
    /// Where it stands.
    pub state: CopyState,
    /// While it is sent.
    pub upload: Option<CopyUpload>,
    /// How much is there.
    pub sent_bytes: u64,
    /// How often it was tried in vain.
    pub attempt_count: u32,
    /// Why the last try was in vain.
    pub error: Option<String>,
    /// When this last changed.
    pub changed_at: OffsetDateTime,
}

fn copy_from(row: &MySqlRow) -> Result<CopyRecord, StoreError> {
    let id: Option<String> = row.try_get("upload_id")?;
    let part_bytes = row.try_get("part_bytes")?;
    Ok(CopyRecord {
        session_id: row.try_get("session_id")?,
        number: row.try_get("number")?,
        depot: row.try_get("depot")?,
        object_key: row.try_get("object_key")?,
        state: CopyState::from_name(row.try_get("state")?),
        upload: id.map(|id| CopyUpload { id, part_bytes }),
        sent_bytes: row.try_get("sent_bytes")?,
        attempt_count: row.try_get("attempt_count")?,
        error: row.try_get("error")?,
        changed_at: time_in(row, "changed_at")?,
    })
}

impl Store {
    fn depot_from(&self, row: &MySqlRow) -> Result<Depot, StoreError> {
        let sealed: Vec<u8> = row.try_get("sealed_secret")?;
        Ok(Depot {
            name: row.try_get("name")?,
            endpoint: row.try_get("endpoint")?,
            region: row.try_get("region")?,
            bucket: row.try_get("bucket")?,
            prefix: row.try_get("prefix")?,
            access_key: row.try_get("access_key")?,
            secret_key: self.keychain.unseal(&sealed)?,
            public_address: row.try_get("public_address")?,
            created_at: time_in(row, "created_at")?,
        })
    }

    /// All depots by name.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer or a secret cannot be opened.
    pub async fn depots(&self) -> Result<Vec<Depot>, StoreError> {
        let rows = sqlx::query("SELECT * FROM depots ORDER BY name").fetch_all(&self.pool).await?;
        rows.iter().map(|row| self.depot_from(row)).collect()
    }

    /// The depot with this name.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn depot(&self, name: &str) -> Result<Depot, StoreError> {
        let row = sqlx::query("SELECT * FROM depots WHERE name = ?").bind(name).fetch_optional(&self.pool).await?;
        let missing = StoreError::NotFound { kind: "depot", name: name.to_owned() };
        self.depot_from(&row.ok_or(missing)?)
    }

    /// Changes the address under which anybody fetches a depot's objects; none for nobody.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn change_public_address(&self, name: &str, address: Option<&str>) -> Result<(), StoreError> {
        let change = sqlx::query("UPDATE depots SET public_address = ? WHERE name = ?").bind(address).bind(name);
        let changed = change.execute(&self.pool).await?.rows_affected();
        // A row that says so already is not counted as changed.
        if changed == 0 { self.depot(name).await.map(drop) } else { Ok(()) }
    }

    /// Adds a depot.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or if the database does not answer.
    pub async fn add_depot(&self, depot: &Depot) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        self.insert_depot(&mut transaction, depot).await?;
        Ok(transaction.commit().await?)
    }

    pub(super) async fn insert_depot(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        depot: &Depot,
    ) -> Result<(), StoreError> {
        sqlx::query(
            "INSERT INTO depots (name, endpoint, region, bucket, prefix, access_key, sealed_secret, \
             public_address, created_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(&depot.name)
        .bind(&depot.endpoint)
        .bind(&depot.region)
        .bind(&depot.bucket)
        .bind(&depot.prefix)
        .bind(&depot.access_key)
        .bind(self.keychain.seal(&depot.secret_key)?)
        .bind(&depot.public_address)
        .bind(to_column(depot.created_at))
        .execute(&mut **transaction)
        .await
        .map_err(StoreError::name_taken(&depot.name))?;
        Ok(())
    }

    /// Changes who signs requests to a depot and where viewers reach it. Returns the channels that publish to it.
    pub(super) async fn update_depot(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        depot: &Depot,
    ) -> Result<Vec<u64>, StoreError> {
        sqlx::query(
            "UPDATE depots SET region = ?, access_key = ?, sealed_secret = ?, public_address = ? WHERE name = ?",
        )
        .bind(&depot.region)
        .bind(&depot.access_key)
        .bind(self.keychain.seal(&depot.secret_key)?)
        .bind(&depot.public_address)
        .bind(&depot.name)
        .execute(&mut **transaction)
        .await?;
        let publishing = sqlx::query_scalar("SELECT id FROM channels WHERE published_to = ?").bind(&depot.name);
        Ok(publishing.fetch_all(&mut **transaction).await?)
    }

    /// Removes a depot; channels no longer copy or publish to it, and what is there stays there. Returns those channels.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn remove_depot(&self, name: &str) -> Result<Vec<u64>, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let channels = Self::delete_depot(&mut transaction, name).await?;
        transaction.commit().await?;
        Ok(channels)
    }

    pub(super) async fn delete_depot(
        transaction: &mut Transaction<'_, MySql>,
        name: &str,
    ) -> Result<Vec<u64>, StoreError> {
        let done = sqlx::query("DELETE FROM depots WHERE name = ?").bind(name).execute(&mut **transaction).await?;
        let channels: Vec<u64> = sqlx::query_scalar("SELECT id FROM channels WHERE depot = ? OR published_to = ?")
            .bind(name)
            .bind(name)
            .fetch_all(&mut **transaction)
            .await?;
        for column in ["depot", "published_to"] {
            let forget = format!("UPDATE channels SET {column} = NULL WHERE {column} = ?");
            sqlx::query(AssertSqlSafe(forget)).bind(name).execute(&mut **transaction).await?;
        }
        for channel in &channels {
            Self::count_change(transaction, *channel).await?;
        }
        // What never came there never will, and is not to be waited for.
        sqlx::query("DELETE FROM copies WHERE depot = ? AND state <> ?")
            .bind(name)
            .bind(CopyState::There.name())
            .execute(&mut **transaction)
            .await?;
        match done.rows_affected() {
            0 => Err(StoreError::NotFound { kind: "depot", name: name.to_owned() }),
            _ => Ok(channels),
        }
    }

    /// Writes where a copy stands; a later call replaces an earlier one.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer, or the take is not there any more.
    pub async fn write_copy(&self, copy: &CopyRecord) -> Result<(), StoreError> {
        let upload = copy.upload.as_ref();
        sqlx::query(
            "INSERT INTO copies (session_id, number, depot, object_key, state, upload_id, part_bytes, sent_bytes, \
             attempt_count, error, changed_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE \
             depot = VALUE(depot), object_key = VALUE(object_key), state = VALUE(state), \
             upload_id = VALUE(upload_id), part_bytes = VALUE(part_bytes), sent_bytes = VALUE(sent_bytes), \
             attempt_count = VALUE(attempt_count), error = VALUE(error), changed_at = VALUE(changed_at)",
        )
        .bind(copy.session_id)
        .bind(copy.number)
        .bind(&copy.depot)
        .bind(&copy.object_key)
        .bind(copy.state.name())
        .bind(upload.map(|upload| &upload.id))
        .bind(upload.map_or(0, |upload| upload.part_bytes))
        .bind(copy.sent_bytes)
        .bind(copy.attempt_count)
        .bind(copy.error.as_deref().map(|error| fitted(error, MAX_ERROR)))
        .bind(to_column(copy.changed_at))
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Copies to a depot that are not there yet, of takes on this node, the oldest take first.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn unfinished_copies(&self, depot: &str) -> Result<Vec<CopyRecord>, StoreError> {
        let rows = sqlx::query(
            "SELECT copies.* FROM copies JOIN takes USING (session_id, number) \
             WHERE copies.state IN (?, ?, ?) AND depot = ? AND node_id = ? ORDER BY session_id, number",
        )
        .bind(CopyState::Waiting.name())
        .bind(CopyState::Sending.name())
        .bind(CopyState::Failing.name())
        .bind(depot)
        .bind(self.node)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(copy_from).collect()
    }

    /// Depots to which copies are to be sent that are not there yet.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn depots_in_use(&self) -> Result<Vec<String>, StoreError> {
        let names = sqlx::query_scalar("SELECT DISTINCT depot FROM copies WHERE state IN (?, ?, ?)")
            .bind(CopyState::Waiting.name())
            .bind(CopyState::Sending.name())
            .bind(CopyState::Failing.name());
        Ok(names.fetch_all(&self.pool).await?)
    }

    /// The copies of these takes, each by session and number.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn copies_of(&self, takes: &[(u64, u32)]) -> Result<Vec<CopyRecord>, StoreError> {
        if takes.is_empty() {
            return Ok(Vec::new());
        }
        // A list of numbers is looked up in the key; a list of pairs would have all copies read.
        let mut sessions: Vec<u64> = takes.iter().map(|(session, _)| *session).collect();
        sessions.sort_unstable();
        sessions.dedup();
        let places = vec!["?"; sessions.len()].join(", ");
        let query = format!("SELECT * FROM copies FORCE INDEX (PRIMARY) WHERE session_id IN ({places})");
        let query = sessions.iter().fold(sqlx::query(AssertSqlSafe(query)), |query, session| query.bind(session));
        let mut copies: Vec<CopyRecord> =
            query.fetch_all(&self.pool).await?.iter().map(copy_from).collect::<Result<_, _>>()?;
        copies.retain(|copy| takes.contains(&(copy.session_id, copy.number)));
        Ok(copies)
    }

    /// What the depot calls the parts of an upload that are there, from the first on.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn copy_parts(&self, session_id: u64, number: u32) -> Result<Vec<String>, StoreError> {
        let parts =
            sqlx::query_scalar("SELECT content_id FROM copy_parts WHERE session_id = ? AND number = ? ORDER BY part");
        Ok(parts.bind(session_id).bind(number).fetch_all(&self.pool).await?)
    }

    /// Writes down that a part of an upload is there, and with it how much is.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn write_copy_part(&self, copy: &CopyRecord, part: u32, content_id: &str) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query("REPLACE INTO copy_parts (session_id, number, part, content_id) VALUES (?, ?, ?, ?)")
            .bind(copy.session_id)
            .bind(copy.number)
            .bind(part)
            .bind(content_id)
            .execute(&mut *transaction)
            .await?;
        sqlx::query("UPDATE copies SET sent_bytes = ? WHERE session_id = ? AND number = ?")
            .bind(copy.sent_bytes)
            .bind(copy.session_id)
            .bind(copy.number)
            .execute(&mut *transaction)
            .await?;
        Ok(transaction.commit().await?)
    }

    /// Forgets the parts of an upload: it is done, or begun anew.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn forget_copy_parts(&self, session_id: u64, number: u32) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM copy_parts WHERE session_id = ? AND number = ?")
            .bind(session_id)
            .bind(number)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// The copy of a take, if there is one.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn copy_of(&self, session_id: u64, number: u32) -> Result<Option<CopyRecord>, StoreError> {
        let row = sqlx::query("SELECT * FROM copies WHERE session_id = ? AND number = ?")
            .bind(session_id)
            .bind(number)
            .fetch_optional(&self.pool)
            .await?;
        row.as_ref().map(copy_from).transpose()
    }
}
