use jiff::Timestamp;
use rusqlite::Row;
use rusqlite::types::FromSql;

/// An instant as stored: microseconds since 1970-01-01T00:00Z.
#[must_use]
pub fn us(at: Timestamp) -> i64 {
    at.as_microsecond()
}

/// A stored instant; one that no calendar reaches becomes the nearest end of time.
#[must_use]
pub fn at(us: i64) -> Timestamp {
    let end = if us < 0 { Timestamp::MIN } else { Timestamp::MAX };
    Timestamp::from_microsecond(us).unwrap_or(end)
}

/// A stored instant of a row.
pub(crate) fn instant(row: &Row<'_>, column: &str) -> rusqlite::Result<Timestamp> {
    row.get(column).map(at)
}

/// A stored instant of a row, if there is one.
pub(crate) fn instant_or(row: &Row<'_>, column: &str) -> rusqlite::Result<Option<Timestamp>> {
    Ok(row.get::<_, Option<i64>>(column)?.map(at))
}

/// A stored word that this version must know.
pub(crate) fn word<T>(
    row: &Row<'_>,
    column: &'static str,
    known: impl Fn(&str) -> Option<T>,
) -> rusqlite::Result<T> {
    let value: String = row.get(column)?;
    known(&value).ok_or_else(|| foreign(column, value))
}

/// The error for a stored value this version does not know.
pub(crate) fn foreign(column: &'static str, value: String) -> rusqlite::Error {
    let cause = crate::StoreError::Foreign { column, value };
    rusqlite::Error::FromSqlConversionFailure(0, rusqlite::types::Type::Text, Box::new(cause))
}

/// A value as JSON, to be stored.
pub(crate) fn json(value: &impl serde::Serialize) -> rusqlite::Result<String> {
    serde_json::to_string(value).map_err(|e| rusqlite::Error::ToSqlConversionFailure(e.into()))
}

/// Reads the columns of a row one after the other, in the order in which the list that makes
/// the SQL names them: finding each by its name costs more than all else that is done with it.
pub(crate) struct InOrder<'r, 's> {
    row: &'r Row<'s>,
    at: usize,
}

impl<'r, 's> InOrder<'r, 's> {
    /// From a column on, counted from zero.
    pub(crate) const fn from(row: &'r Row<'s>, at: usize) -> Self {
        Self { row, at }
    }

    /// The next column.
    pub(crate) fn next<T: FromSql>(&mut self) -> rusqlite::Result<T> {
        self.at += 1;
        self.row.get(self.at - 1)
    }

    /// The next column, a stored instant.
    pub(crate) fn instant(&mut self) -> rusqlite::Result<Timestamp> {
        self.next().map(at)
    }

    /// The next column, a stored instant if there is one.
    pub(crate) fn instant_or(&mut self) -> rusqlite::Result<Option<Timestamp>> {
        Ok(self.next::<Option<i64>>()?.map(at))
    }

    /// The next column, a word that this version must know.
    pub(crate) fn word<T>(
        &mut self,
        column: &'static str,
        known: impl Fn(&str) -> Option<T>,
    ) -> rusqlite::Result<T> {
        self.at += 1;
        let value = self.row.get_ref(self.at - 1)?.as_str()?;
        known(value).ok_or_else(|| foreign(column, value.to_owned()))
    }
}
