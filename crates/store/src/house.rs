//! The house itself.

use matricle_core::Currency;
use rusqlite::{Connection, OptionalExtension, named_params};

use crate::convert::word;
use crate::{Doing, StoreError, Tx};

/// The club, association or organiser whose events these are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct House {
    /// Its name.
    pub name: String,
    /// The currency of all its prices.
    pub currency: Currency,
    /// The IANA zone its clocks show.
    pub zone: String,
    /// Where answers to its mails go.
    pub email: String,
    /// What bookers agree to.
    pub terms: String,
}

/// Reads the house, if it has been set up.
///
/// # Errors
/// SQLite refuses.
pub fn get(conn: &Connection) -> Result<Option<House>, StoreError> {
    conn.prepare_cached("SELECT name, currency, zone, email, terms FROM house")
        .and_then(|mut q| {
            q.query_row([], |row| {
                Ok(House {
                    name: row.get("name")?,
                    currency: word(row, "currency", Currency::from_letters)?,
                    zone: row.get("zone")?,
                    email: row.get("email")?,
                    terms: row.get("terms")?,
                })
            })
            .optional()
        })
        .doing("reading the house")
}

/// Sets the house up, or changes it.
///
/// # Errors
/// SQLite refuses.
pub fn set(tx: &Tx<'_>, house: &House) -> Result<(), StoreError> {
    tx.execute(
        "INSERT INTO house (id, name, currency, zone, email, terms)
         VALUES (1, :name, :currency, :zone, :email, :terms)
         ON CONFLICT (id) DO UPDATE SET name = :name, currency = :currency, zone = :zone,
            email = :email, terms = :terms",
        named_params! {
            ":name": house.name,
            ":currency": house.currency.letters(),
            ":zone": house.zone,
            ":email": house.email,
            ":terms": house.terms,
        },
    )
    .map(drop)
    .doing("writing the house")
}
