use std::borrow::Cow;
use std::error::Error;
use std::future::ready;
use std::pin::Pin;
use std::str::FromStr;

use sqlx::migrate::{Migration, MigrationSource, MigrationType, Migrator};
use sqlx::mysql::MySqlConnectOptions;
use sqlx::{AssertSqlSafe, ConnectOptions, Connection, SqlSafeStr};

use crate::StoreError;

/// Number, what it does, and the statements; what was released is never changed.
const MIGRATIONS: &[(i64, &str, &str)] = &[
    (1, "first records", include_str!("../../migrations/0001_first_records.sql")),
    (2, "viewing keys and authorities", include_str!("../../migrations/0002_viewing_keys_and_authorities.sql")),
    (3, "the rules of legs", include_str!("../../migrations/0003_the_rules_of_legs.sql")),
    (4, "recordings", include_str!("../../migrations/0004_recordings.sql")),
    (5, "srt", include_str!("../../migrations/0005_srt.sql")),
    (6, "srt destinations", include_str!("../../migrations/0006_srt_destinations.sql")),
    (7, "allowed addresses", include_str!("../../migrations/0007_allowed_addresses.sql")),
    (8, "going takes", include_str!("../../migrations/0008_going_takes.sql")),
    (9, "nodes versions and parts", include_str!("../../migrations/0009_nodes_versions_and_parts.sql")),
    (10, "takes know their channel", include_str!("../../migrations/0010_takes_know_their_channel.sql")),
    (11, "viewing", include_str!("../../migrations/0011_viewing.sql")),
    (12, "viewing links", include_str!("../../migrations/0012_viewing_links.sql")),
    (13, "pages of channels", include_str!("../../migrations/0013_pages_of_channels.sql")),
    (14, "links of takes", include_str!("../../migrations/0014_links_of_takes.sql")),
    (15, "ways of watching", include_str!("../../migrations/0015_ways_of_watching.sql")),
    (16, "shows in depots", include_str!("../../migrations/0016_shows_in_depots.sql")),
    (17, "loudness", include_str!("../../migrations/0017_loudness.sql")),
    (18, "figures", include_str!("../../migrations/0018_figures.sql")),
    (19, "video tracks", include_str!("../../migrations/0019_video_tracks.sql")),
    (20, "sign ins", include_str!("../../migrations/0020_sign_ins.sql")),
    (21, "people", include_str!("../../migrations/0021_people.sql")),
    (22, "grants", include_str!("../../migrations/0022_grants.sql")),
    (23, "acts", include_str!("../../migrations/0023_acts.sql")),
    (24, "second_factors", include_str!("../../migrations/0024_second_factors.sql")),
    (25, "passkeys", include_str!("../../migrations/0025_passkeys.sql")),
    (26, "keys_by_rule", include_str!("../../migrations/0026_keys_by_rule.sql")),
    (27, "turned_away_alike", include_str!("../../migrations/0027_turned_away_alike.sql")),
    (28, "house_systems", include_str!("../../migrations/0028_house_systems.sql")),
    (29, "address_rules", include_str!("../../migrations/0029_address_rules.sql")),
    (30, "calls_out", include_str!("../../migrations/0030_calls_out.sql")),
    (31, "records_are_written_in_order", include_str!("../../migrations/0031_records_are_written_in_order.sql")),
    (32, "reached_doors", include_str!("../../migrations/0032_reached_doors.sql")),
];

/// Where SQLx keeps which of them were made.
pub(super) const MIGRATIONS_TABLE: &str = "_sqlx_migrations";

/// Those up to a number.
#[derive(Debug)]
struct BuiltIn {
    newest: i64,
}

type Resolved = Result<Vec<Migration>, Box<dyn Error + Send + Sync>>;

impl MigrationSource<'static> for BuiltIn {
    fn resolve(self) -> Pin<Box<dyn Future<Output = Resolved> + Send>> {
        let migration = |(version, description, statements): &(i64, &'static str, &'static str)| {
            let statements = AssertSqlSafe(*statements).into_sql_str();
            Migration::new(*version, Cow::Borrowed(description), MigrationType::Simple, statements, false)
        };
        let ours = MIGRATIONS.iter().filter(move |(version, ..)| *version <= self.newest);
        Box::pin(ready(Ok(ours.map(migration).collect())))
    }
}

/// What brings the tables up to date. It is put together here and not by SQLx's macro, for which all of SQLx would
/// be built twice.
pub(super) async fn migrator() -> Result<Migrator, StoreError> {
    Ok(Migrator::new(BuiltIn { newest: i64::MAX }).await?)
}

/// What makes the tables as they were up to the migration `newest`, and the number of the newest there is.
pub(super) async fn migrator_to(newest: i64) -> Result<(Migrator, i64), StoreError> {
    let known = MIGRATIONS.iter().map(|(version, ..)| *version).max().unwrap_or_default();
    Ok((Migrator::new(BuiltIn { newest }).await?, known))
}

/// The schema of the tables of a database and the newest that is known here, if they differ; none if there are no tables
/// yet, or they are the same.
///
/// # Errors
/// [`StoreError`] if the database does not answer.
pub async fn other_schema(url: &str) -> Result<Option<(i64, i64)>, StoreError> {
    let mut connection = MySqlConnectOptions::from_str(url)?.connect().await?;
    let count = "SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ?";
    let there: i64 = sqlx::query_scalar(count).bind(MIGRATIONS_TABLE).fetch_one(&mut connection).await?;
    let found: Option<i64> = if there > 0 {
        let newest = format!("SELECT MAX(version) FROM {MIGRATIONS_TABLE} WHERE success");
        sqlx::query_scalar(AssertSqlSafe(newest)).fetch_one(&mut connection).await?
    } else {
        None
    };
    connection.close().await?;
    let known = MIGRATIONS.iter().map(|(version, ..)| *version).max().unwrap_or_default();
    Ok(found.filter(|found| *found != known).map(|found| (found, known)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_file_is_a_migration_in_its_place() {
        let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/migrations");
        let entries = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap());
        let mut files: Vec<String> = entries.collect();
        files.sort();
        let named = MIGRATIONS.iter().map(|(version, what, _)| format!("{version:04}_{}.sql", what.replace(' ', "_")));
        assert_eq!(files, named.collect::<Vec<_>>());
    }
}
