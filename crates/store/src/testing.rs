use std::path::PathBuf;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};

use crate::{Keychain, PrivateServer, Store, StoreError};

/// An empty database for one test, on a private server that all tests of a process share.
#[derive(Debug)]
pub struct TestDatabase {
    url: String,
    state: tempfile::TempDir,
}

struct SharedServer {
    server: PrivateServer,
    _folder: tempfile::TempDir,
}

static SERVER: OnceLock<SharedServer> = OnceLock::new();
static COUNT: AtomicU32 = AtomicU32::new(0);

impl TestDatabase {
    /// Makes a database with a name of its own; the first call starts the server.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be made.
    ///
    /// # Panics
    /// If the server cannot be started.
    pub async fn create() -> Result<Self, StoreError> {
        let shared = SERVER.get_or_init(start_server);
        let name = format!("waverant_test_{}", COUNT.fetch_add(1, Ordering::Relaxed));
        let admin = sqlx::MySqlPool::connect(&shared.server.url("waverant")).await?;
        sqlx::raw_sql(sqlx::AssertSqlSafe(format!("CREATE DATABASE {name} CHARACTER SET utf8mb4")))
            .execute(&admin)
            .await?;
        admin.close().await;
        let state = tempfile::tempdir().map_err(sqlx::Error::Io)?;
        Ok(Self { url: shared.server.url(&name), state })
    }

    /// The database's address.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// Does something to it that no store does.
    ///
    /// # Errors
    /// [`StoreError`] if it is not done.
    pub async fn execute(&self, statements: &str) -> Result<(), StoreError> {
        let pool = sqlx::MySqlPool::connect(&self.url).await?;
        sqlx::raw_sql(sqlx::AssertSqlSafe(statements.to_owned())).execute(&pool).await?;
        pool.close().await;
        Ok(())
    }

    /// A store on the database.
    ///
    /// # Errors
    /// [`StoreError`] if it cannot be opened.
    pub async fn store(&self) -> Result<Store, StoreError> {
        let keychain = Keychain::open(self.state.path()).map_err(|_| StoreError::ForeignKeyFile)?;
        Store::open(&self.url, keychain).await
    }
}

#[expect(clippy::expect_used, clippy::unwrap_used, reason = "a test without its server cannot go on")]
fn start_server() -> SharedServer {
    // Statics are never dropped: the folders of earlier runs are cleared away here.
    let root = std::env::temp_dir().join("waverant-test-databases");
    std::fs::create_dir_all(&root).unwrap();
    for entry in std::fs::read_dir(&root).unwrap().flatten() {
        let owner = entry.file_name().to_string_lossy().split('-').next().unwrap_or_default().to_owned();
        if !PathBuf::from(format!("/proc/{owner}")).exists() {
            let _ = std::fs::remove_dir_all(entry.path());
        }
    }
    let folder = tempfile::Builder::new().prefix(&format!("{}-", std::process::id())).tempdir_in(&root).unwrap();
    let server = PrivateServer::start(folder.path()).expect("the private database server starts");
    SharedServer { server, _folder: folder }
}
