use std::fmt::Write as _;
use std::io::{BufRead, Write};
use std::str::FromStr;

use futures_util::TryStreamExt;
use sqlx::mysql::MySqlConnectOptions;
use sqlx::{AssertSqlSafe, ConnectOptions, Connection, MySqlConnection, Row};
use thiserror::Error;

use super::migrations::{MIGRATIONS_TABLE, migrator_to};
use crate::StoreError;

/// What the text begins with; the number of the newest migration follows.
const FIRST_LINE: &str = "-- records of a waverant house, schema ";

/// What it ends with; the number of rows follows.
const LAST_LINE: &str = "-- rows: ";

/// A statement takes no more rows once it is so long, in bytes: less than any server's longest packet.
const STATEMENT: usize = 256 * 1024;

/// Why records cannot be copied.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum CopyingError {
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The file that is written or read.
    #[error(transparent)]
    File(#[from] std::io::Error),
    /// The text is not what was written.
    #[error("the records are damaged or cut off: {0}")]
    Damaged(String),
    /// The text is of a later version.
    #[error("the records are of a newer version (schema {found}; this one knows {known}); install that version first")]
    Newer {
        /// The schema of the text.
        found: i64,
        /// The newest that is known here.
        known: i64,
    },
    /// There is something in the database already.
    #[error("the database is not empty: {tables} tables are in it; give an empty one")]
    NotEmpty {
        /// How many.
        tables: i64,
    },
}

impl From<sqlx::Error> for CopyingError {
    fn from(error: sqlx::Error) -> Self {
        Self::Store(error.into())
    }
}

/// Writes all records of a database as SQL: as they were at one moment, while others go on writing. Returns the number of
/// rows.
///
/// # Errors
/// [`CopyingError`] if the database does not answer, or `out` cannot be written.
pub async fn write_records(url: &str, out: &mut impl Write) -> Result<u64, CopyingError> {
    let mut connection = MySqlConnectOptions::from_str(url)?.connect().await?;
    for statement in
        ["SET TRANSACTION ISOLATION LEVEL REPEATABLE READ", "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"]
    {
        sqlx::raw_sql(statement).execute(&mut connection).await?;
    }
    let schema = format!("SELECT MAX(version) FROM {MIGRATIONS_TABLE} WHERE success");
    let schema: i64 = sqlx::query_scalar(AssertSqlSafe(schema)).fetch_one(&mut connection).await?;
    writeln!(out, "{FIRST_LINE}{schema}")?;
    let mut rows = 0;
    for table in tables(&mut connection).await? {
        // Numbers that were given out are not given out again.
        if let Some(next) = table.next_number {
            writeln!(out, "ALTER TABLE `{}` AUTO_INCREMENT = {next};", table.name)?;
        }
        rows += write_table(&mut connection, &table, out).await?;
    }
    writeln!(out, "{LAST_LINE}{rows}")?;
    connection.close().await?;
    Ok(rows)
}

/// Puts records that [`write_records`] wrote into an empty database. The tables are of the version that wrote them;
/// opening the store brings them up to date. Returns the number of rows.
///
/// # Errors
/// [`CopyingError`] that says what is wrong with the text, or the database.
pub async fn read_records(url: &str, text: impl BufRead) -> Result<u64, CopyingError> {
    let mut lines = text.lines();
    let first = lines.next().transpose()?.unwrap_or_default();
    let damaged = |told: &str| CopyingError::Damaged(told.to_owned());
    let schema = first.strip_prefix(FIRST_LINE).and_then(|schema| schema.parse().ok());
    let schema: i64 = schema.ok_or_else(|| damaged("their first line is missing"))?;
    let (migrator, known) = migrator_to(schema).await?;
    if schema > known {
        return Err(CopyingError::Newer { found: schema, known });
    }
    let mut connection = MySqlConnectOptions::from_str(url)?.connect().await?;
    let count = "SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE()";
    let there: i64 = sqlx::query_scalar(count).fetch_one(&mut connection).await?;
    if there > 0 {
        return Err(CopyingError::NotEmpty { tables: there });
    }
    migrator.run(&mut connection).await.map_err(StoreError::from)?;
    sqlx::raw_sql("SET foreign_key_checks = 0").execute(&mut connection).await?;
    // Tables come with rows of their own.
    for table in tables(&mut connection).await? {
        let empty = format!("DELETE FROM `{}`", table.name);
        sqlx::raw_sql(AssertSqlSafe(empty)).execute(&mut connection).await?;
    }
    let mut rows = 0;
    for line in lines {
        let line = line?;
        if let Some(told) = line.strip_prefix(LAST_LINE) {
            connection.close().await?;
            return if told.parse() == Ok(rows) { Ok(rows) } else { Err(damaged("rows are missing")) };
        }
        if !line.starts_with("INSERT INTO `") && !line.starts_with("ALTER TABLE `") {
            return Err(damaged("a line is neither rows nor a number"));
        }
        let done = sqlx::raw_sql(AssertSqlSafe(line)).execute(&mut connection).await?;
        rows += done.rows_affected();
    }
    Err(damaged("their last line is missing"))
}

/// A table, and how its columns are told.
struct Table {
    name: String,
    next_number: Option<u64>,
    /// Names, and what makes a literal of a value.
    columns: Vec<(String, String)>,
}

async fn tables(connection: &mut MySqlConnection) -> Result<Vec<Table>, sqlx::Error> {
    let found = sqlx::query(
        "SELECT TABLE_NAME, AUTO_INCREMENT FROM information_schema.TABLES \
         WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'BASE TABLE' AND TABLE_NAME <> ? ORDER BY TABLE_NAME",
    );
    let found = found.bind(MIGRATIONS_TABLE).fetch_all(&mut *connection).await?;
    let mut tables = Vec::new();
    for row in found {
        let name: String = row.try_get("TABLE_NAME")?;
        let columns = sqlx::query(
            "SELECT COLUMN_NAME, DATA_TYPE FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND \
             TABLE_NAME = ? AND EXTRA NOT LIKE '%GENERATED%' ORDER BY ORDINAL_POSITION",
        );
        let columns = columns.bind(&name).fetch_all(&mut *connection).await?;
        let columns: Result<_, sqlx::Error> = columns
            .iter()
            .map(|column| {
                let name: String = column.try_get("COLUMN_NAME")?;
                let kind: String = column.try_get("DATA_TYPE")?;
                let literal = literal(&name, &kind);
                Ok((name, literal))
            })
            .collect();
        tables.push(Table { name, next_number: row.try_get("AUTO_INCREMENT")?, columns: columns? });
    }
    Ok(tables)
}

/// What makes a literal of a column's value. Texts are told in hexadecimal digits: nothing in them is ever taken for
/// something else, and a row is a line.
fn literal(name: &str, kind: &str) -> String {
    let value = match kind {
        "tinyint" | "smallint" | "mediumint" | "int" | "bigint" | "decimal" | "float" | "double" => {
            format!("CAST(`{name}` AS CHAR)")
        }
        "datetime" | "timestamp" | "date" | "time" => format!("QUOTE(CAST(`{name}` AS CHAR))"),
        "binary" | "varbinary" | "tinyblob" | "blob" | "mediumblob" | "longblob" => {
            format!("CONCAT('X''', HEX(`{name}`), '''')")
        }
        _ => format!("CONCAT('_utf8mb4 X''', HEX(`{name}`), '''')"),
    };
    format!("IF(`{name}` IS NULL, 'NULL', {value})")
}

async fn write_table(
    connection: &mut MySqlConnection,
    table: &Table,
    out: &mut impl Write,
) -> Result<u64, CopyingError> {
    let names: Vec<String> = table.columns.iter().map(|(name, _)| format!("`{name}`")).collect();
    let literals: Vec<&str> = table.columns.iter().map(|(_, literal)| literal.as_str()).collect();
    let begin = format!("INSERT INTO `{}` ({}) VALUES ", table.name, names.join(","));
    let select = format!("SELECT CONCAT_WS(',', {}) FROM `{}`", literals.join(", "), table.name);
    let mut found = sqlx::query_scalar::<_, String>(AssertSqlSafe(select)).fetch(&mut *connection);
    let (mut statement, mut rows) = (String::new(), 0);
    while let Some(row) = found.try_next().await? {
        let opening = if statement.is_empty() { begin.as_str() } else { "," };
        let _ = write!(statement, "{opening}({row})");
        rows += 1;
        if statement.len() > STATEMENT {
            writeln!(out, "{statement};")?;
            statement.clear();
        }
    }
    if !statement.is_empty() {
        writeln!(out, "{statement};")?;
    }
    Ok(rows)
}
