use std::str::FromStr;
use std::time::Duration;

use sqlx::mysql::{MySqlConnectOptions, MySqlPoolOptions};
use sqlx::{ConnectOptions, Connection};
use tokio::time::timeout;

use super::migrations::migrator;
use super::patient_pool::PatientPool;
use crate::secrets::Hasher;
use crate::{Keychain, StoreError};

/// The service writes from one task and reads for a few people; more connections only cost
/// memory in the database server.
const MAX_CONNECTIONS: u32 = 6;

/// How long a caller waits for a connection before it is told that the database is away.
const ACQUIRE_TIMEOUT: Duration = Duration::from_secs(3);

/// A statement that takes longer is given up by the server: what waits for a lock that somebody else forgot
/// would wait for a day. In seconds.
const STATEMENT_LIMIT: &str = "SET SESSION max_statement_time = 10";

/// The node of a house of one; it is in the tables from their begin.
const FIRST_NODE: u32 = 1;

/// The records of the house.
#[derive(Clone, Debug)]
pub struct Store {
    pub(crate) pool: PatientPool,
    pub(crate) keychain: Keychain,
    pub(crate) hasher: Hasher,
    /// The node that this is.
    pub(crate) node: u32,
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
        // New tables may take longer than anything later.
        let mut connection = options.connect().await?;
        migrator().await?.run(&mut connection).await?;
        connection.close().await?;
        let pool = MySqlPoolOptions::new()
            .max_connections(MAX_CONNECTIONS)
            .acquire_timeout(ACQUIRE_TIMEOUT)
            .after_connect(|connection, _| {
                Box::pin(async move { sqlx::query(STATEMENT_LIMIT).execute(connection).await.map(|_| ()) })
            })
            .connect_with(options)
            .await?;
        let store = Self { pool: PatientPool::new(pool), keychain, hasher: Hasher::start()?, node: FIRST_NODE };
        store.check_key_file().await?;
        Ok(store)
    }

    /// The keys under which secrets are recognised.
    pub fn keychain(&self) -> &Keychain {
        &self.keychain
    }

    /// True if the database answers, and does so soon.
    pub async fn is_reachable(&self) -> bool {
        timeout(ACQUIRE_TIMEOUT, sqlx::query("SELECT 1").execute(&self.pool)).await.is_ok_and(|found| found.is_ok())
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
