use jiff::Timestamp;
use rusqlite::Row;

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
