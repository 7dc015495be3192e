//! What events ask while booking.

use matricle_core::booking::details::Question;
use matricle_core::{EventId, QuestionId, TicketTypeId};
use rusqlite::Connection;

use crate::convert::InOrder;
use crate::convert::json;
use crate::events::new::NewQuestion;
use crate::events::tickets::{next_position, put_in_place};
use crate::unreadable::readable;
use crate::{Doing, StoreError, Tx};

/// The questions of an event, in their order.
pub fn questions(conn: &Connection, event: EventId) -> Result<Vec<Question>, StoreError> {
    conn.prepare_cached(
        "SELECT id, label, answering, needed, each, only_tickets FROM questions
         WHERE event_id = ?1 AND retired = 0 ORDER BY position, id",
    )
    .and_then(|mut q| {
        let rows = q.query_map([event.0], |row| {
            let mut c = InOrder::from(row, 0);
            Ok(Question {
                id: QuestionId(c.next()?),
                label: c.next()?,
                answering: c.word("questions.answering", |json| serde_json::from_str(json).ok())?,
                needed: c.next()?,
                each: c.next()?,
                only: c.word("questions.only_tickets", |json| serde_json::from_str(json).ok())?,
            })
        })?;
        readable("questions", rows)
    })
    .doing("reading questions")
}

/// Adds a question after the others, asked for these tickets only, or for all.
pub fn add_question(
    tx: &Tx<'_>,
    event: EventId,
    new: &NewQuestion,
    only: &[TicketTypeId],
) -> Result<(), StoreError> {
    let position = next_position(tx, "questions", event)?;
    let write = || -> rusqlite::Result<()> {
        tx.execute(
            "INSERT INTO questions (event_id, position, label, answering, needed, each, only_tickets)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            (event.0, position, &new.label, json(&new.answering)?, new.needed, new.each, json(&only)?),
        )
        .map(drop)
    };
    write().doing("adding a question")
}

/// Changes a question. Answers keep the wording they were given to.
pub fn set_question(
    tx: &Tx<'_>,
    event: EventId,
    id: QuestionId,
    new: &NewQuestion,
    only: &[TicketTypeId],
) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        tx.execute(
            "UPDATE questions SET label = ?2, answering = ?3, needed = ?4, each = ?5, only_tickets = ?6
                WHERE id = ?1 AND event_id = ?7",
            (id.0, &new.label, json(&new.answering)?, new.needed, new.each, json(&only)?, event.0),
        )
        .map(drop)
    };
    write().doing("changing a question")
}

/// Puts a question in its place among the others, counted from 0.
pub fn set_question_place(
    tx: &Tx<'_>,
    event: EventId,
    id: QuestionId,
    place: usize,
) -> Result<(), StoreError> {
    put_in_place(tx, "questions", event, id.0, place)
}

/// Takes a question off an event; answers to it stay.
pub fn drop_question(tx: &Tx<'_>, event: EventId, id: QuestionId) -> Result<(), StoreError> {
    tx.execute("UPDATE questions SET retired = 1 WHERE id = ?1 AND event_id = ?2", (id.0, event.0))
        .map(drop)
        .doing("taking a question off")
}
