use std::path::Path;

use rusqlite_migration::{M, Migrations};

use crate::Doing;

/// All migrations in order. Forward only; never edited after release.
fn steps() -> Vec<M<'static>> {
    vec![
        M::up(include_str!("migrations/0001_line.sql")),
        M::up(include_str!("migrations/0002_plan.sql")).foreign_key_check(),
        M::up(include_str!("migrations/0003_money.sql")).foreign_key_check(),
        M::up(include_str!("migrations/0004_safe.sql")).foreign_key_check(),
        M::up(include_str!("migrations/0005_acts.sql")).foreign_key_check(),
        M::up(include_str!("migrations/0006_rings.sql")),
        M::up(include_str!("migrations/0007_plan_version.sql")),
        M::up(include_str!("migrations/0008_face.sql")),
        M::up(include_str!("migrations/0009_cues.sql")).foreign_key_check(),
        M::up(include_str!("migrations/0010_submissions.sql")),
        M::up(include_str!("migrations/0011_door.sql")).foreign_key_check(),
        M::up(include_str!("migrations/0012_rooms.sql")),
        M::up(include_str!("migrations/0013_calendars.sql")),
        M::up(include_str!("migrations/0014_replies.sql")),
        M::up(include_str!("migrations/0015_letters.sql")),
        M::up(include_str!("migrations/0016_online.sql")),
        M::up(include_str!("migrations/0017_own_feeds.sql")),
        M::up(include_str!("migrations/0018_invited.sql")),
        M::up(include_str!("migrations/0019_web_calendars.sql")),
        M::up(include_str!("migrations/0020_online_sessions.sql")),
        M::up(include_str!("migrations/0021_reply_to.sql")),
        M::up(include_str!("migrations/0022_arriving.sql")),
        M::up(include_str!("migrations/0023_proposed.sql")),
        M::up(include_str!("migrations/0024_house.sql")),
    ]
}

fn migrations() -> Migrations<'static> {
    Migrations::new(steps())
}

/// The version that this program writes.
fn latest() -> u32 {
    u32::try_from(steps().len()).unwrap_or(u32::MAX)
}

/// Brings the schema up to date.
pub(crate) fn to_latest(conn: &mut rusqlite::Connection) -> Result<(), crate::StoreError> {
    // Tables are rebuilt with foreign keys off (sqlite.org/lang_altertable.html §7).
    conn.pragma_update(None, "foreign_keys", false).doing("migrating")?;
    migrations().to_latest(conn)?;
    conn.pragma_update(None, "foreign_keys", true).doing("migrating")
}

/// Brings the schema up to date; a file of an older version is copied first, beside it.
pub(crate) fn with_a_copy(
    conn: &mut rusqlite::Connection,
    path: &Path,
) -> Result<(), crate::StoreError> {
    let version: u32 =
        conn.query_row("PRAGMA user_version", [], |row| row.get(0)).doing("reading the version")?;
    let latest = latest();
    if (1..latest).contains(&version) {
        let copy = path.with_extension(format!("before-{latest}.sqlite"));
        // One that is there is of a migration that was broken off: it is the older.
        if !copy.exists() {
            // Under its name only once it is whole.
            let part = path.with_extension("part");
            let _ = std::fs::remove_file(&part);
            let mut target = rusqlite::Connection::open(&part).doing("copying before migrating")?;
            rusqlite::backup::Backup::new(conn, &mut target)
                .and_then(|backup| backup.step(-1))
                .doing("copying before migrating")?;
            drop(target);
            crate::files::keep_to_oneself(&part);
            std::fs::rename(&part, &copy)
                .map_err(|source| crate::StoreError::Folder { folder: copy, source })?;
        }
    }
    to_latest(conn)
}

#[cfg(test)]
mod tests {
    #[test]
    fn all_migrations_run_and_every_table_is_strict() {
        assert_eq!(super::migrations().validate(), Ok(()));
        let latest =
            super::migrations().current_version(&rusqlite::Connection::open_in_memory().unwrap());
        assert!(latest.is_ok());
        let mut conn = rusqlite::Connection::open_in_memory().unwrap();
        super::to_latest(&mut conn).unwrap();
        let loose: i64 = conn
            .query_row(
                "SELECT count(*) FROM pragma_table_list
                 WHERE schema = 'main' AND type = 'table' AND name NOT LIKE 'sqlite%' AND NOT strict",
                [],
                |row| row.get(0),
            )
            .unwrap();
        assert_eq!(loose, 0);
        // Test bookings are cleared and dates are removed: what belongs to them is in nobody's way.
        for table in [
            "letters",
            "calendar_said",
            "online_dates",
            "online_goes",
            "online_stays",
            "online_links",
        ] {
            let held: i64 = conn
                .query_row(
                    "SELECT count(*) FROM pragma_foreign_key_list(?1) WHERE on_delete = 'NO ACTION'",
                    [table],
                    |row| row.get(0),
                )
                .unwrap();
            assert_eq!(held, 0, "{table}");
        }
    }
}
