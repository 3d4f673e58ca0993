use std::str::FromStr;
use std::time::Duration;

use sqlx::MySqlPool;
use sqlx::mysql::{MySqlConnectOptions, MySqlPoolOptions};

use crate::secrets::Hasher;
use crate::{Keychain, StoreError};

/// The service writes from one task and reads for a few people; more connections only cost
/// memory in the database server.
const MAX_CONNECTIONS: u32 = 6;

/// How long a caller waits for a connection before it is told that the database is away.
const ACQUIRE_TIMEOUT: Duration = Duration::from_secs(3);

/// The records of the house.
#[derive(Clone, Debug)]
pub struct Store {
    pub(crate) pool: MySqlPool,
    pub(crate) keychain: Keychain,
    pub(crate) hasher: Hasher,
}

impl Store {
    /// Connects, brings the tables up to date, and checks that the key file belongs to the
    /// database.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be reached, refuses a migration, or belongs to
    /// another key file.
    pub async fn open(url: &str, keychain: Keychain) -> Result<Self, StoreError> {
        let options = MySqlConnectOptions::from_str(url)?;
        let pool = MySqlPoolOptions::new()
            .max_connections(MAX_CONNECTIONS)
            .acquire_timeout(ACQUIRE_TIMEOUT)
            .connect_with(options)
            .await?;
        sqlx::migrate!().run(&pool).await?;
        let store = Self { pool, keychain, hasher: Hasher::start()? };
        store.check_key_file().await?;
        Ok(store)
    }

    /// The keys under which secrets are recognised.
    pub fn keychain(&self) -> &Keychain {
        &self.keychain
    }

    /// True if the database answers.
    pub async fn is_reachable(&self) -> bool {
        sqlx::query("SELECT 1").execute(&self.pool).await.is_ok()
    }

    /// Closes all connections.
    pub async fn close(&self) {
        self.pool.close().await;
    }

    async fn check_key_file(&self) -> Result<(), StoreError> {
        let fingerprint = self.keychain.fingerprint().to_vec();
        sqlx::query("INSERT IGNORE INTO house_facts (name, value) VALUES ('key_file', ?)")
            .bind(&fingerprint)
            .execute(&self.pool)
            .await?;
        let kept: Vec<u8> =
            sqlx::query_scalar("SELECT value FROM house_facts WHERE name = 'key_file'").fetch_one(&self.pool).await?;
        if kept == fingerprint { Ok(()) } else { Err(StoreError::ForeignKeyFile) }
    }
}
