//! What an event asks while booking.

use matricle_core::booking::details::Answering;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::people::staff::Right;
use matricle_core::{EventId, QuestionId, TicketTypeId};
use matricle_store::events::{self, NewQuestion};
use matricle_store::people::Staff;

use crate::planning::dates::log;
use crate::planning::tickets::index;
use crate::{Desk, DeskError};

/// The ways of answering, as words in forms.
pub const ANSWERING: [(&str, &str); 9] = [
    ("text", "a line of text"),
    ("long", "some lines of text"),
    ("one", "one of several"),
    ("several", "any of several"),
    ("number", "a number"),
    ("day", "a day"),
    ("yes", "yes, or left open"),
    ("phone", "a telephone number"),
    ("consent", "agreeing to a text"),
];

/// The word of a way of answering.
#[must_use]
pub const fn answering_word(answering: &Answering) -> &'static str {
    match answering {
        Answering::Text => "text",
        Answering::LongText => "long",
        Answering::OneOf(_) => "one",
        Answering::SeveralOf(_) => "several",
        Answering::Number => "number",
        Answering::Day => "day",
        Answering::YesNo => "yes",
        Answering::Phone => "phone",
        Answering::Consent(_) => "consent",
    }
}

/// Adds a question, or changes one: answers keep the wording they were given to.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn save_question(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    question: Option<QuestionId>,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let label = form.needed("label");
    let options: Vec<String> = form
        .text("options", 4000)
        .lines()
        .map(|l| l.trim().to_owned())
        .filter(|l| !l.is_empty())
        .collect();
    let answering = match form.get("answering") {
        "long" => Answering::LongText,
        "one" | "several" if options.len() < 2 => {
            form.fault("options", Fault::Missing);
            Answering::OneOf(options)
        }
        "one" => Answering::OneOf(options),
        "several" => Answering::SeveralOf(options),
        "number" => Answering::Number,
        "day" => Answering::Day,
        "yes" => Answering::YesNo,
        "phone" => Answering::Phone,
        "consent" => {
            let text = form.text("consent", 4000);
            if text.is_empty() {
                form.fault("consent", Fault::Missing);
            }
            Answering::Consent(text)
        }
        _ => Answering::Text,
    };
    let new = NewQuestion {
        label,
        answering,
        needed: form.ticked("needed"),
        each: form.ticked("each"),
        only: Vec::new(),
    };
    let only: Vec<TicketTypeId> =
        form.all("only").iter().filter_map(|id| id.parse().ok().map(TicketTypeId)).collect();
    let place = form.number("place", 1, 200);
    form.done().map_err(DeskError::Form)?;
    desk.store
        .write(move |tx| {
            match question {
                Some(id) => {
                    let known = events::questions(tx, event)?;
                    if known.iter().all(|q| q.id != id) {
                        return Err(DeskError::NotFound);
                    }
                    events::set_question(tx, event, id, &new, &only)?;
                    if let Some(place) = place {
                        events::set_question_place(tx, event, id, index(place))?;
                    }
                }
                None => events::add_question(tx, event, &new, &only)?,
            }
            log(tx, event, &turn, &format!("wrote the question “{}”", new.label))
        })
        .await
}

/// Takes a question off; answers to it stay.
pub async fn drop_question(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    question: QuestionId,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            events::drop_question(tx, event, question)?;
            log(tx, event, &turn, "took a question off")
        })
        .await
}
