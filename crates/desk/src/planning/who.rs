//! Who may book an event, and how: its form, and keeping it.

use jiff::SignedDuration;
use matricle_core::EventId;
use matricle_core::booking::confirm::Way;
use matricle_core::fields;
use matricle_core::forms::field::Binding;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::people::staff::Right;
use matricle_core::people::who::Who;
use matricle_store::bookings;
use matricle_store::events::{self, Event};
use matricle_store::people::Staff;

use crate::bookings::confirm::{self, Followed, Waiting};
use crate::planning::dates::log;
use crate::{Desk, DeskError, house_of};

matricle_core::worded! {
    /// Which of the ways to say who may book.
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum Whom {
        /// [`Who::Anyone`].
        Anyone = "anyone",
        /// [`Who::SignedIn`].
        SignedIn = "signed in",
        /// [`Who::Word`].
        Word = "word",
        /// [`Who::Domains`].
        Domains = "domains",
        /// [`Who::Invited`].
        Invited = "invited",
    }
}

/// What is shown for each.
const WHOM: &[(Whom, &str)] = &[
    (Whom::Anyone, "Anyone"),
    (Whom::SignedIn, "Whoever has signed in with their address"),
    (Whom::Word, "Whoever knows the word"),
    (Whom::Domains, "Whoever has an address at these domains"),
    (Whom::Invited, "Whoever is invited"),
];

/// Most domains.
const MOST: usize = 200;

fields! {
    WHO: OneOf<Whom>(WHOM) = "who", "Who may book";
    WHO_WORD: Line = "who_word", "The word";
    WHO_DOMAINS: Domains(2, MOST) = "who_domains", "Domains",
        "One on a line, such as school.example.";
    CONFIRM_FREE: OneOf<Way>(&[
        (Way::ByItself, "by themselves, at once"),
        (Way::AfterYes, "after the organiser’s yes"),
    ]) = "confirm_free", "Bookings that cost nothing";
    CONFIRM_PAID: OneOf<Way>(&[
        (Way::ByItself, "by themselves, once paid"),
        (Way::AfterYes, "after the organiser’s yes; then they pay"),
    ]) = "confirm_paid", "Bookings that cost something";
    ONCE: Tick = "once", "Once a person", "by their address";
    COURSE: Tick = "course", "A course: one booking covers all dates";
    LATECOMERS: Tick = "latecomers", "A course that has begun may still be booked",
        "at the price of the dates that are left";
    HOLD_MINUTES: Whole(1, 240) = "hold_minutes", "Minutes that chosen seats are kept" needed;
}

/// The form.
pub fn form(f: &mut Binding<'_>, event: &mut Event) {
    who(f, &mut event.who);
    f.bind(&CONFIRM_FREE, &mut event.rules.confirm.free);
    f.bind(&CONFIRM_PAID, &mut event.rules.confirm.paid);
    f.bind(&ONCE, &mut event.once);
    f.bind(&COURSE, &mut event.course);
    f.bind(&LATECOMERS, &mut event.latecomers);
    let mut minutes = u32::try_from(event.hold.as_mins()).unwrap_or_default();
    f.bind(&HOLD_MINUTES, &mut minutes);
    event.hold = SignedDuration::from_mins(i64::from(minutes));
}

fn who(f: &mut Binding<'_>, who: &mut Who) {
    let (mut whom, mut word, mut domains) = match who.clone() {
        Who::Anyone => (Whom::Anyone, String::new(), Vec::new()),
        Who::SignedIn => (Whom::SignedIn, String::new(), Vec::new()),
        Who::Word(word) => (Whom::Word, word, Vec::new()),
        Who::Domains(domains) => (Whom::Domains, String::new(), domains),
        Who::Invited => (Whom::Invited, String::new(), Vec::new()),
    };
    f.bind(&WHO, &mut whom);
    if f.is_filled() || whom == Whom::Word {
        f.bind(&WHO_WORD, &mut word);
    }
    if f.is_filled() || whom == Whom::Domains {
        f.bind(&WHO_DOMAINS, &mut domains);
    }
    if let Some(form) = f.form() {
        if whom == Whom::Word && word.is_empty() {
            form.fault(WHO_WORD, Fault::Missing);
        }
        if whom == Whom::Domains && domains.is_empty() {
            form.fault(WHO_DOMAINS, Fault::Missing);
        }
    }
    *who = match whom {
        Whom::Anyone => Who::Anyone,
        Whom::SignedIn => Who::SignedIn,
        Whom::Word => Who::Word(word),
        Whom::Domains => Who::Domains(domains),
        Whom::Invited => Who::Invited,
    };
}

/// Writes who may book, and how; says what became of those who wait for a yes.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; [`DeskError::Booked`]
/// when bookings stand in the way of making it a course, or none; [`DeskError::Freed`] when
/// bookings wait that need not any more, until it is said what becomes of them; the role
/// may not.
pub async fn keep(
    desk: &Desk,
    staff: &Staff,
    id: EventId,
    mut typed: Form,
) -> Result<Followed, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let now = turn.now;
    let waiting = Waiting::of(&typed);
    desk.store
        .write(move |tx| {
            let was = events::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            let mut event = was.clone();
            let locale = house_of(tx)?.locale();
            form(&mut Binding::Read(&mut typed, &locale), &mut event);
            typed.done().map_err(DeskError::Form)?;
            if was.course != event.course {
                let bookings = bookings::count_live(tx, id)?;
                if bookings > 0 {
                    return Err(DeskError::Booked { bookings });
                }
            }
            events::set(tx, &event, now)?;
            log(tx, id, &turn, "changed who may book, and how")?;
            confirm::follow(tx, &event, waiting, &turn)
        })
        .await
        .inspect(|_| desk.wake.all())
}
