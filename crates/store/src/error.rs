use sqlx::mysql::MySqlDatabaseError;
use thiserror::Error;

/// Errors of the server that go by, or that whoever runs it can mend, while the record waits. Source: MariaDB server error
/// codes
const PASSING: [u16; 40] = [
    // Its disk is full, or a file cannot be written; out of memory or threads.
    1021, 1026, 1030, 1037, 1038, 1041, 1114, 1135,
    // The database, its tables or our rights are not there: as after failing over to a server that is not ready.
    1044, 1045, 1049, 1142, 1143, 1146, 1227,
    // Too many connections, or as many as we may have; not ready, shutting down, a connection that broke.
    1040, 1043, 1047, 1053, 1129, 1130, 1152, 1158, 1159, 1160, 1161, 1203, 1226,
    // A lock that was waited for too long, a deadlock, killed, out of time.
    1205, 1213, 1317, 1927, 1969, 3024, // Read-only in three ways.
    1290, 1792, 1836, // Gone, lost in mid-query, and lost while it was being made.
    2006, 2013, 2055,
];

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
    /// There are as many as there may be.
    #[error("there are {most} {what} already, which is the most; remove some that are not needed any more")]
    TooMany {
        /// Of what.
        what: &'static str,
        /// The most.
        most: u32,
    },
    /// Nobody would be left who lets people in.
    #[error("this is the last administrator who can sign in; make another one first")]
    LastAdministrator,
    /// A record holds something that was not written by this service.
    #[error("a record is not as this service writes it: {what} was expected")]
    Unreadable {
        /// What was expected.
        what: &'static str,
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
    /// More passwords wait to be looked at than may.
    #[error("too many passwords wait to be looked at")]
    Busy,
    /// The tables could not be brought up to date.
    #[error("the tables could not be brought up to date: {0}")]
    Migration(#[from] sqlx::migrate::MigrateError),
    /// The database took too long.
    #[error("the database does not answer in time")]
    Slow,
    /// The database did not do as asked.
    #[error("database: {0}")]
    Database(#[from] sqlx::Error),
}

impl StoreError {
    /// True if the database could not be reached; trying again later may help.
    pub fn is_unavailable(&self) -> bool {
        match self {
            Self::Database(
                sqlx::Error::Io(_)
                | sqlx::Error::Tls(_)
                | sqlx::Error::PoolTimedOut
                | sqlx::Error::PoolClosed
                | sqlx::Error::WorkerCrashed
                | sqlx::Error::Protocol(_),
            )
            | Self::Slow => true,
            Self::Database(sqlx::Error::Database(error)) => {
                error.try_downcast_ref::<MySqlDatabaseError>().is_some_and(|error| PASSING.contains(&error.number()))
            }
            _ => false,
        }
    }

    /// Names the record that a unique index refused.
    pub(crate) fn name_taken(name: &str) -> impl FnOnce(sqlx::Error) -> Self {
        move |error| match &error {
            sqlx::Error::Database(inner) if inner.is_unique_violation() => Self::NameTaken(name.to_owned()),
            _ => Self::Database(error),
        }
    }
}
