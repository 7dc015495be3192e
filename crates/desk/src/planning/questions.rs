//! What an event asks while booking.

use matricle_core::booking::details::{Answering, Question};
use matricle_core::fields;
use matricle_core::forms::field::{Binding, Locale};
use matricle_core::forms::form::{Fault, Form};
use matricle_core::people::staff::Right;
use matricle_core::{EventId, QuestionId, TicketTypeId};
use matricle_store::events::{self, NewQuestion};
use matricle_store::people::Staff;

use crate::planning::dates::log;
use crate::planning::tickets::index;
use crate::{Desk, DeskError};

matricle_core::worded! {
    /// The ways of answering, as words in forms.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
    pub enum Way {
        /// [`Answering::Text`].
        #[default]
        Text = "text",
        /// [`Answering::LongText`].
        Long = "long",
        /// [`Answering::OneOf`].
        One = "one",
        /// [`Answering::SeveralOf`].
        Several = "several",
        /// [`Answering::Number`].
        Number = "number",
        /// [`Answering::Day`].
        Day = "day",
        /// [`Answering::YesNo`].
        Yes = "yes",
        /// [`Answering::Phone`].
        Phone = "phone",
        /// [`Answering::Consent`].
        Consent = "consent",
    }
}

impl Way {
    /// The way of an answer.
    #[must_use]
    pub const fn of(answering: &Answering) -> Self {
        match answering {
            Answering::Text => Self::Text,
            Answering::LongText => Self::Long,
            Answering::OneOf(_) => Self::One,
            Answering::SeveralOf(_) => Self::Several,
            Answering::Number => Self::Number,
            Answering::Day => Self::Day,
            Answering::YesNo => Self::Yes,
            Answering::Phone => Self::Phone,
            Answering::Consent(_) => Self::Consent,
        }
    }

    /// What is shown for it.
    #[must_use]
    pub fn shown(self) -> &'static str {
        WAYS.iter().find(|(way, _)| *way == self).map_or("", |(_, shown)| shown)
    }
}

const WAYS: &[(Way, &str)] = &[
    (Way::Text, "a line of text"),
    (Way::Long, "some lines of text"),
    (Way::One, "one of several"),
    (Way::Several, "any of several"),
    (Way::Number, "a number"),
    (Way::Day, "a day"),
    (Way::Yes, "yes, or left open"),
    (Way::Phone, "a telephone number"),
    (Way::Consent, "agreeing to a text"),
];

fields! {
    LABEL: Line = "label", "Question" needed;
    ANSWERING: OneOf<Way>(WAYS) = "answering", "Answered by";
    OPTIONS: Text(4, 4000) = "options", "Answers to choose from", "One on a line.";
    CONSENT: Text(4, 4000) = "consent", "Text that is agreed to", "For “agreeing to a text”.";
    PLACE: WholeOrNone(1, 200) = "place", "Place in the order";
    EACH: Tick = "each", "Asked of each attendee", "otherwise once for the booking";
    NEEDED: Tick = "needed", "An answer is needed";
    ONLY: Several = "only", "Only with these tickets", "none ticked is all";
}

/// The form of a question.
pub fn form(f: &mut Binding<'_>, question: &mut Question) {
    f.bind(&LABEL, &mut question.label);
    answering(f, &mut question.answering);
    f.bind(&EACH, &mut question.each);
    f.bind(&NEEDED, &mut question.needed);
    let mut only = question.only.iter().map(ToString::to_string).collect();
    f.bind(&ONLY, &mut only);
    question.only = only.iter().filter_map(|id| id.parse().ok().map(TicketTypeId)).collect();
}

fn answering(f: &mut Binding<'_>, answering: &mut Answering) {
    let mut way = Way::of(answering);
    let (mut options, mut consent) = match answering {
        Answering::OneOf(o) | Answering::SeveralOf(o) => (o.join("\n"), String::new()),
        Answering::Consent(text) => (String::new(), text.clone()),
        _ => (String::new(), String::new()),
    };
    f.bind(&ANSWERING, &mut way);
    f.bind(&OPTIONS, &mut options);
    f.bind(&CONSENT, &mut consent);
    let lines = options.lines().map(str::trim).filter(|l| !l.is_empty());
    let options: Vec<String> = lines.map(String::from).collect();
    if let Some(form) = f.form() {
        if matches!(way, Way::One | Way::Several) && options.len() < 2 {
            form.fault(OPTIONS, Fault::Missing);
        }
        if way == Way::Consent && consent.is_empty() {
            form.fault(CONSENT, Fault::Missing);
        }
    }
    *answering = match way {
        Way::Text => Answering::Text,
        Way::Long => Answering::LongText,
        Way::One => Answering::OneOf(options),
        Way::Several => Answering::SeveralOf(options),
        Way::Number => Answering::Number,
        Way::Day => Answering::Day,
        Way::Yes => Answering::YesNo,
        Way::Phone => Answering::Phone,
        Way::Consent => Answering::Consent(consent),
    };
}

/// What the form of a new question begins with.
#[must_use]
pub const fn blank() -> Question {
    Question {
        id: QuestionId(0),
        label: String::new(),
        answering: Answering::Text,
        needed: false,
        each: false,
        only: Vec::new(),
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
    mut typed: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let (mut read, locale) = (blank(), Locale::default());
    form(&mut Binding::Read(&mut typed, &locale), &mut read);
    let place = typed.read(&PLACE, &locale);
    typed.done().map_err(DeskError::Form)?;
    let Question { label, answering, needed, each, only, .. } = read;
    let new = NewQuestion { label, answering, needed, each, only: Vec::new() };
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
