use std::future::Future;
use std::io;
use std::time::Duration;

use futures_util::future::BoxFuture;
use futures_util::stream::{self, BoxStream, StreamExt};
use sqlx::mysql::{MySqlQueryResult, MySqlRow, MySqlStatement, MySqlTypeInfo};
use sqlx::{Either, Error, Execute, Executor, MySql, MySqlPool, SqlStr, Transaction};
use tokio::time::timeout;

/// How long an answer may take: a little longer than the server gives a statement. A connection whose other end is gone
/// without a word, as after failing over, would be waited for without an end.
const PATIENCE: Duration = Duration::from_secs(12);

/// Connections to the database, none of which is waited for without an end.
#[derive(Clone, Debug)]
pub(crate) struct PatientPool(MySqlPool);

impl PatientPool {
    pub(crate) fn new(pool: MySqlPool) -> Self {
        Self(pool)
    }

    pub(crate) async fn begin(&self) -> Result<Transaction<'static, MySql>, Error> {
        in_time(self.0.begin()).await
    }

    pub(crate) async fn close(&self) {
        self.0.close().await;
    }
}

async fn in_time<T>(asked: impl Future<Output = Result<T, Error>>) -> Result<T, Error> {
    timeout(PATIENCE, asked).await.unwrap_or_else(|_| Err(silence()))
}

fn silence() -> Error {
    Error::Io(io::Error::new(io::ErrorKind::TimedOut, "the database does not answer on this connection"))
}

impl<'p> Executor<'p> for &'_ PatientPool {
    type Database = MySql;

    fn fetch_many<'e, 'q: 'e, E>(self, query: E) -> BoxStream<'e, Result<Either<MySqlQueryResult, MySqlRow>, Error>>
    where
        'p: 'e,
        E: 'q + Execute<'q, MySql>,
    {
        let answers: BoxStream<'e, _> = (&self.0).fetch_many(query);
        Box::pin(stream::unfold(answers, |mut answers| async move {
            match timeout(PATIENCE, answers.next()).await {
                Ok(answer) => answer.map(|answer| (answer, answers)),
                Err(_) => Some((Err(silence()), stream::empty().boxed())),
            }
        }))
    }

    fn fetch_optional<'e, 'q: 'e, E>(self, query: E) -> BoxFuture<'e, Result<Option<MySqlRow>, Error>>
    where
        'p: 'e,
        E: 'q + Execute<'q, MySql>,
    {
        let asked: BoxFuture<'e, _> = (&self.0).fetch_optional(query);
        Box::pin(in_time(asked))
    }

    fn prepare_with<'e>(
        self,
        sql: SqlStr,
        parameters: &'e [MySqlTypeInfo],
    ) -> BoxFuture<'e, Result<MySqlStatement, Error>>
    where
        'p: 'e,
    {
        let asked: BoxFuture<'e, _> = (&self.0).prepare_with(sql, parameters);
        Box::pin(in_time(asked))
    }
}
