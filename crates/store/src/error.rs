use thiserror::Error;

/// Why a record could not be read or written.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum StoreError {
    /// Another record has the name already.
    #[error("the name `{0}` is taken")]
    NameTaken(String),
    /// There is no such record.
    #[error("there is no {kind} `{name}`")]
    NotFound {
        /// What was looked for.
        kind: &'static str,
        /// By which name or number.
        name: String,
    },
    /// A sealed secret cannot be opened.
    #[error("a secret cannot be opened: the key file is not the one it was sealed with, or the record was altered")]
    Unsealable,
    /// The database belongs to another key file.
    #[error(
        "the key file in the state folder does not belong to this database; restore the file `secrets.key` that was in use with it"
    )]
    ForeignKeyFile,
    /// A password could not be hashed.
    #[error("password hash: {0}")]
    PasswordHash(String),
    /// The tables could not be brought up to date.
    #[error("the tables could not be brought up to date: {0}")]
    Migration(#[from] sqlx::migrate::MigrateError),
    /// The database did not do as asked.
    #[error("database: {0}")]
    Database(#[from] sqlx::Error),
}

impl StoreError {
    /// True if the database could not be reached; trying again later may help.
    pub fn is_unavailable(&self) -> bool {
        matches!(
            self,
            Self::Database(
                sqlx::Error::Io(_) | sqlx::Error::PoolTimedOut | sqlx::Error::PoolClosed | sqlx::Error::Protocol(_)
            )
        )
    }

    /// Names the record that a unique index refused.
    pub(crate) fn name_taken(name: &str) -> impl FnOnce(sqlx::Error) -> Self {
        move |error| match &error {
            sqlx::Error::Database(inner) if inner.is_unique_violation() => Self::NameTaken(name.to_owned()),
            _ => Self::Database(error),
        }
    }
}
