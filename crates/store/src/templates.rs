//! Templates: the wording of messages, with earlier wordings kept.

use jiff::Timestamp;
use matricle_core::{EventId, TemplateId};
use rusqlite::{Connection, OptionalExtension, Row};
use serde::{Deserialize, Serialize};

use crate::convert::{InOrder, json};
use crate::unreadable::readable;
use crate::{Doing, StoreError, Tx, us};

/// What goes with a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Goes {
    /// The tickets, as a PDF.
    Tickets,
    /// The calendar file.
    Calendar,
    /// The latest invoice, or else the latest receipt, as a PDF.
    Bill,
    /// The list of who comes, as a PDF.
    Roster,
    /// The badge, as a PDF: of whom the message is for, or of all who come to a date.
    Badge,
    /// A file of the house, by its key.
    File(i64),
}

impl Goes {
    /// Those that the program makes.
    pub const MADE: [Self; 5] =
        [Self::Tickets, Self::Calendar, Self::Bill, Self::Roster, Self::Badge];

    /// The key of a file of the house.
    #[must_use]
    pub const fn file(self) -> Option<i64> {
        match self {
            Self::File(id) => Some(id),
            Self::Tickets | Self::Calendar | Self::Bill | Self::Roster | Self::Badge => None,
        }
    }

    /// What stands for it in forms.
    #[must_use]
    pub fn key(self) -> String {
        match self {
            Self::File(id) => format!("file {id}"),
            made => made.word().to_owned(),
        }
    }

    /// Finds one by what stands for it in forms.
    #[must_use]
    pub fn from_key(key: &str) -> Option<Self> {
        match key.strip_prefix("file ") {
            Some(id) => id.parse().ok().map(Self::File),
            None => Self::MADE.into_iter().find(|g| g.word() == key),
        }
    }

    /// The word for it, as shown and in forms.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Tickets => "tickets",
            Self::Calendar => "calendar file",
            Self::Bill => "bill",
            Self::Roster => "list of who comes",
            Self::Badge => "badge",
            Self::File(_) => "file of the house",
        }
    }
}

/// A template.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template {
    /// Its key.
    pub id: TemplateId,
    /// The event it belongs to; the house's own are for all.
    pub event: Option<EventId>,
    /// Its name.
    pub name: String,
    /// The subject, with fields.
    pub subject: String,
    /// Sanitised HTML with fields; plain words for text messages and the chat.
    pub body: String,
    /// The text part written by hand; empty when it is made from the body.
    pub plain: String,
    /// What goes with it.
    pub files: Vec<Goes>,
    /// The program's own wording that it began as; empty for one of the house's.
    pub standard: String,
    /// It was changed by hand.
    pub own_words: bool,
}

const COLUMNS: &str =
    "t.id, t.event_id, t.name, t.subject, t.body, t.plain, t.files, t.standard, t.own_words";

fn template(row: &Row<'_>) -> rusqlite::Result<Template> {
    let mut c = InOrder::from(row, 0);
    Ok(Template {
        id: TemplateId(c.next()?),
        event: c.next::<Option<i64>>()?.map(EventId),
        name: c.next()?,
        subject: c.next()?,
        body: c.next()?,
        plain: c.next()?,
        files: serde_json::from_str(&c.next::<String>()?).unwrap_or_default(),
        standard: c.next::<Option<String>>()?.unwrap_or_default(),
        own_words: c.next()?,
    })
}

/// A template by its key.
pub fn by_id(conn: &Connection, id: TemplateId) -> Result<Option<Template>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM templates t WHERE t.id = ?1"))
        .and_then(|mut q| q.query_row([id.0], template).optional())
        .doing("looking a template up")
}

/// The template that began as one of the program's wordings.
pub fn standard(conn: &Connection, word: &str) -> Result<Option<Template>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM templates t WHERE t.standard = ?1"))
        .and_then(|mut q| q.query_row([word], template).optional())
        .doing("looking a template up")
}

/// The house's templates, and an event's own, by name.
pub fn of(conn: &Connection, event: Option<EventId>) -> Result<Vec<Template>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM templates t WHERE t.retired_at IS NULL AND (t.event_id IS NULL OR t.event_id = ?1)
         ORDER BY t.event_id IS NULL, t.standard IS NULL, t.id"
    ))
    .and_then(|mut q| readable("templates", q.query_map([event.map(|e| e.0)], template)?))
    .doing("reading templates")
}

/// Puts one of the program's own wordings there, or words it anew where nobody has changed it.
pub fn set_standard(
    tx: &Tx<'_>,
    word: &str,
    (name, subject, body): (&str, &str, &str),
    files: &[Goes],
    now: Timestamp,
) -> Result<TemplateId, StoreError> {
    let files = json(&files).doing("writing a template")?;
    tx.execute(
        "INSERT INTO templates (name, subject, body, files, standard, changed_at)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6)
         ON CONFLICT (standard) DO UPDATE SET name = ?1, subject = ?2, body = ?3, files = ?4
            WHERE own_words = 0",
        (name, subject, body, files, word, us(now)),
    )
    .doing("writing a template")?;
    let found = standard(tx, word)?;
    Ok(found.map_or(TemplateId(0), |t| t.id))
}

/// Writes a template down; the wording it had is kept.
pub fn save(
    tx: &Tx<'_>,
    template: &Template,
    who: &str,
    now: Timestamp,
) -> Result<TemplateId, StoreError> {
    let write = || -> rusqlite::Result<TemplateId> {
        let files = json(&template.files)?;
        if template.id == TemplateId(0) {
            tx.execute(
                "INSERT INTO templates (event_id, name, subject, body, plain, files, changed_at, own_words)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, 1)",
                (
                    template.event.map(|e| e.0),
                    &template.name,
                    &template.subject,
                    &template.body,
                    &template.plain,
                    files,
                    us(now),
                ),
            )?;
            return Ok(TemplateId(tx.last_insert_rowid()));
        }
        tx.execute(
            "INSERT INTO wordings (template_id, at, who, subject, body, plain)
             SELECT id, ?2, ?3, subject, body, plain FROM templates WHERE id = ?1",
            (template.id.0, us(now), who),
        )?;
        tx.execute(
            "UPDATE templates SET name = ?2, subject = ?3, body = ?4, plain = ?5, files = ?6,
                changed_at = ?7, own_words = 1 WHERE id = ?1",
            (
                template.id.0,
                &template.name,
                &template.subject,
                &template.body,
                &template.plain,
                files,
                us(now),
            ),
        )?;
        Ok(template.id)
    };
    write().doing("writing a template")
}

/// An earlier wording.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wording {
    /// Its key.
    pub id: i64,
    /// Until when it held.
    pub until: Timestamp,
    /// Who changed it then.
    pub who: String,
    /// The subject.
    pub subject: String,
    /// The words.
    pub body: String,
    /// The text part written by hand.
    pub plain: String,
}

/// The earlier wordings of a template, the latest first.
pub fn wordings(conn: &Connection, id: TemplateId) -> Result<Vec<Wording>, StoreError> {
    conn.prepare_cached(
        "SELECT id, at, who, subject, body, plain FROM wordings WHERE template_id = ?1 ORDER BY id DESC",
    )
    .and_then(|mut q| {
        q.query_map([id.0], |row| {
            let mut c = InOrder::from(row, 0);
            Ok(Wording {
                id: c.next()?,
                until: c.instant()?,
                who: c.next()?,
                subject: c.next()?,
                body: c.next()?,
                plain: c.next()?,
            })
        })?
        .collect()
    })
    .doing("reading earlier wordings")
}

/// Takes a template out of the list to choose from; what speaks with it goes on to.
pub fn retire(tx: &Tx<'_>, id: TemplateId, now: Timestamp) -> Result<(), StoreError> {
    tx.execute("UPDATE templates SET retired_at = ?2 WHERE id = ?1", (id.0, us(now)))
        .map(drop)
        .doing("retiring a template")
}
