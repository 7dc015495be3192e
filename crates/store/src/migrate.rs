use rusqlite_migration::{M, Migrations};

use crate::Doing;

/// All migrations in order. Forward only; never edited after release.
fn migrations() -> Migrations<'static> {
    Migrations::new(vec![
        M::up(include_str!("migrations/0001_line.sql")),
        M::up(include_str!("migrations/0002_plan.sql")).foreign_key_check(),
        M::up(include_str!("migrations/0003_money.sql")).foreign_key_check(),
    ])
}

/// Brings the schema up to date.
pub(crate) fn to_latest(conn: &mut rusqlite::Connection) -> Result<(), crate::StoreError> {
    // Tables are rebuilt with foreign keys off (sqlite.org/lang_altertable.html §7).
    conn.pragma_update(None, "foreign_keys", false).doing("migrating")?;
    migrations().to_latest(conn)?;
    conn.pragma_update(None, "foreign_keys", true).doing("migrating")
}

#[cfg(test)]
mod tests {
    #[test]
    fn all_migrations_run_and_every_table_is_strict() {
        assert_eq!(super::migrations().validate(), Ok(()));
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
    }
}
