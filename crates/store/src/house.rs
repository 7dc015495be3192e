//! The house itself.

use matricle_core::Currency;
use matricle_core::dates::web_calendar::WebCalendar;
use matricle_core::forms::field::Locale;
use matricle_core::money::transfer::Payee;
use matricle_core::words::marks::Mark;
use rusqlite::{Connection, OptionalExtension};
use serde::{Deserialize, Serialize};

use crate::convert::{InOrder, json};
use crate::{Doing, StoreError, Tx};

/// The club, association or organiser whose events these are: its settings, read and written as
/// one value. A setting that a file does not have yet is as in [`House::default`].
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
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
    /// Cancellation steps: until so many days before, so many percent are given back;
    /// the longest before comes first.
    pub steps: Vec<(u32, u32)>,
    /// Origins of sites that may show our stubs inside their pages.
    pub embed_sites: Vec<String>,
    /// Who sells, as it stands on documents: lines of name and address.
    pub seller: String,
    /// The seller's tax number; may be empty.
    pub tax_number: String,
    /// The holder of the account that transfers go to; the house's name when empty.
    pub account_holder: String,
    /// Its IBAN; empty when the house takes no transfers.
    pub iban: String,
    /// Its BIC; may be empty.
    pub bic: String,
    /// How many days seats are kept for a transfer.
    pub transfer_days: u32,
    /// Its colour, as `#1d4f3f`; empty for the program's own.
    pub accent: String,
    /// Web calendars that dates are put into.
    pub web_calendars: Vec<WebCalendar>,
    /// The feeds of hosts name who comes.
    pub names_in_feeds: bool,
}

impl House {
    /// What times and amounts of its forms are of.
    #[must_use]
    pub fn locale(&self) -> Locale {
        Locale { zone: self.zone.clone(), currency: self.currency }
    }

    /// The name of the colour that is nearest to its own, for calendars.
    #[must_use]
    pub fn colour(&self) -> &'static str {
        matricle_core::words::accent::read(&self.accent)
            .map_or("darkslategray", |accent| accent.named())
    }

    /// Whom transfers go to.
    #[must_use]
    pub fn payee(&self) -> Payee {
        let holder = if self.account_holder.is_empty() { &self.name } else { &self.account_holder };
        Payee { name: holder.clone(), iban: self.iban.clone(), bic: self.bic.clone() }
    }
}

impl Default for House {
    fn default() -> Self {
        Self {
            name: String::new(),
            currency: Currency::EUR,
            zone: "UTC".into(),
            email: String::new(),
            terms: String::new(),
            steps: vec![(14, 100), (3, 50)],
            embed_sites: Vec::new(),
            seller: String::new(),
            tax_number: String::new(),
            account_holder: String::new(),
            iban: String::new(),
            bic: String::new(),
            transfer_days: 10,
            accent: String::new(),
            web_calendars: Vec::new(),
            names_in_feeds: false,
        }
    }
}

/// The shape that the house's settings are written in. It counts up when one is renamed or means
/// something else, with a migration; a setting that is new needs neither.
const SHAPE: u32 = 1;

/// Reads the house, if it has been set up.
pub fn get(conn: &Connection) -> Result<Option<House>, StoreError> {
    conn.prepare_cached("SELECT settings FROM house WHERE shape = ?1")
        .and_then(|mut q| {
            q.query_row([SHAPE], |row| {
                let mut c = InOrder::from(row, 0);
                c.word("house.settings", |settings| serde_json::from_str(settings).ok())
            })
            .optional()
        })
        .doing("reading the house")
}

/// Sets the house up, or changes it.
pub fn set(tx: &Tx<'_>, house: &House) -> Result<(), StoreError> {
    json(house)
        .and_then(|settings| {
            tx.execute(
                "INSERT INTO house (id, shape, settings) VALUES (1, ?1, ?2)
                 ON CONFLICT (id) DO UPDATE SET shape = ?1, settings = ?2",
                (SHAPE, settings),
            )
        })
        .map(drop)
        .doing("writing the house")
}

/// Whether any booking or priced ticket was made, so that another currency would change
/// what amounts mean.
pub fn has_amounts(conn: &Connection) -> Result<bool, StoreError> {
    conn.query_row(
        "SELECT EXISTS (SELECT 1 FROM bookings) OR EXISTS (SELECT 1 FROM ticket_types WHERE minor > 0)",
        [],
        |row| row.get(0),
    )
    .doing("looking for amounts")
}

/// The mark of the house: PNG.
pub fn mark(conn: &Connection) -> Result<Option<Vec<u8>>, StoreError> {
    conn.prepare_cached("SELECT png FROM house_mark")
        .and_then(|mut q| q.query_row([], |row| row.get(0)).optional())
        .doing("reading the mark of the house")
}

/// Gives the house a mark, or with none takes it away.
pub fn set_mark(tx: &Tx<'_>, png: Option<&[u8]>) -> Result<(), StoreError> {
    match png {
        Some(png) => {
            tx.execute("INSERT OR REPLACE INTO house_mark (id, png) VALUES (1, ?1)", [png])
        }
        None => tx.execute("DELETE FROM house_mark", []),
    }
    .map(drop)
    .doing("writing the mark of the house")
}

/// The kinds of events there are, each with its mark if it has one, in their order.
pub fn kinds(conn: &Connection) -> Result<Vec<(String, Option<Mark>)>, StoreError> {
    conn.prepare_cached(
        "SELECT DISTINCT e.kind, m.mark FROM events e LEFT JOIN kind_marks m ON m.kind = e.kind
         WHERE e.thrown_at IS NULL AND e.kind <> '' ORDER BY e.kind COLLATE NOCASE",
    )
    .and_then(|mut q| {
        q.query_map([], |row| {
            let mark: Option<String> = row.get(1)?;
            Ok((row.get(0)?, mark.as_deref().and_then(Mark::from_word)))
        })?
        .collect()
    })
    .doing("reading kinds of events")
}

/// Gives a kind of events a mark, or none.
pub fn set_kind_mark(tx: &Tx<'_>, kind: &str, mark: Option<Mark>) -> Result<(), StoreError> {
    match mark {
        Some(mark) => tx.execute(
            "INSERT OR REPLACE INTO kind_marks (kind, mark) VALUES (?1, ?2)",
            (kind, mark.word()),
        ),
        None => tx.execute("DELETE FROM kind_marks WHERE kind = ?1", [kind]),
    }
    .map(drop)
    .doing("giving a kind of events a mark")
}
