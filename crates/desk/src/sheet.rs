//! The sheet of an event at the Office: its wording, tickets, questions, who may book.

use jiff::SignedDuration;
use matricle_core::booking::{Move, allowed};
use matricle_core::confirm::Confirming;
use matricle_core::details::{Answering, is_address};
use matricle_core::form::{Fault, Form, slug};
use matricle_core::price::{Early, Group};
use matricle_core::schedule::SaleWindow;
use matricle_core::staff::{Right, require};
use matricle_core::waiting::Manner;
use matricle_core::who::Who;
use matricle_core::{EventId, QuestionId, TicketTypeId};
use matricle_formats::picture::{self, PictureError};
use matricle_formats::rich;
use matricle_store::cards::{self, CardKind};
use matricle_store::events::{
    self, Event, EventState, Format, NewQuestion, NewTicketType, Picture, TicketRow,
};
use matricle_store::house::House;
use matricle_store::people::Staff;
use matricle_store::places::{self, Tag, TaxRate};
use matricle_store::{Connection, bookings};

use crate::confirm::{self, Followed, Waiting};
use crate::dates::log;
use crate::moves::{With, make};
use crate::{Desk, DeskError, house_of};

/// Longest description, in characters of HTML.
const LONGEST_WORDING: usize = 100_000;

/// What the pages of an event's settings show.
#[derive(Debug, Clone)]
pub struct Settings {
    /// The house.
    pub house: House,
    /// The event.
    pub event: Event,
    /// Its tags.
    pub tags: Vec<(String, String)>,
    /// Tags that are offered.
    pub all_tags: Vec<Tag>,
    /// Tax rates that are offered.
    pub tax_rates: Vec<TaxRate>,
    /// Its picture.
    pub picture: Option<Picture>,
    /// What it counts.
    pub pools: Vec<String>,
    /// Its ticket types.
    pub tickets: Vec<TicketRow>,
    /// Kinds of stamp cards that are sold.
    pub card_kinds: Vec<String>,
    /// Its questions.
    pub questions: Vec<matricle_core::details::Question>,
    /// Bookings that count.
    pub bookings: u32,
    /// Test bookings.
    pub tests: u32,
    /// Everybody on its lists of people invited, and what was mailed to them.
    pub invited: Vec<crate::invitations::Invited>,
}

fn settings_in(conn: &Connection, id: EventId) -> Result<Settings, DeskError> {
    let event = events::by_id(conn, id)?.ok_or(DeskError::NotFound)?;
    let mut all_tags = places::tags(conn)?;
    all_tags.retain(|t| t.retired_at.is_none());
    let mut tax_rates = places::tax_rates(conn)?;
    tax_rates.retain(|t| t.retired_at.is_none());
    Ok(Settings {
        house: house_of(conn)?,
        tags: events::tags_of(conn, id)?,
        all_tags,
        tax_rates,
        picture: events::picture(conn, id)?,
        pools: events::pool_kinds(conn, id)?.into_iter().map(|(_, name)| name).collect(),
        tickets: events::ticket_rows(conn, id)?,
        card_kinds: cards::kinds(conn)?
            .into_iter()
            .filter(|k| !k.retired)
            .map(|k| k.name)
            .collect(),
        questions: events::questions(conn, id)?,
        bookings: bookings::count_live(conn, id)?,
        tests: bookings::count_tests(conn, id)?,
        invited: crate::invitations::list(conn, &event)?,
        event,
    })
}

/// What the pages of an event's settings show.
///
/// # Errors
/// The role may not, there is no such event, or the store fails.
pub async fn settings(desk: &Desk, staff: &Staff, id: EventId) -> Result<Settings, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    desk.store.read(move |conn| settings_in(conn, id)).await
}

/// Writes an event's wording.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn reword(
    desk: &Desk,
    staff: &Staff,
    id: EventId,
    mut form: Form,
) -> Result<(), DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
    desk.store
        .write(move |tx| {
            let mut event = events::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            event.title = form.needed("title");
            event.kind = form.needed("kind");
            event.lead = form.line("lead");
            event.description = rich::clean(&form.text("description", LONGEST_WORDING));
            event.bring = form.line("bring");
            event.refund_note = form.text("refund_note", 1000);
            event.button = form.line("button");
            event.after_note = form.text("after_note", 2000);
            event.listed = form.ticked("listed");
            event.format = Format::from_word(form.get("format")).unwrap_or_default();
            event.online_link = form.line("online_link");
            event.online_passcode = form.line("online_passcode");
            let link = &event.online_link;
            if !link.is_empty() && !link.starts_with("https://") && !link.starts_with("http://") {
                form.fault("online_link", Fault::NotALink);
            }
            let word = slug(form.get("slug"));
            if word.is_empty() {
                form.fault("slug", Fault::NoWord);
            } else if events::slug_of_another(tx, &word, id)? {
                form.fault("slug", Fault::Taken);
            }
            let mut tags = form.all("tag");
            // A tag that is new is made on the way.
            let new_tag = form.line("new_tag");
            let new_slug = slug(&new_tag);
            if !new_tag.is_empty() && new_slug.is_empty() {
                form.fault("new_tag", Fault::NoWord);
            }
            form.done().map_err(DeskError::Form)?;
            if !new_slug.is_empty() {
                if !places::tags(tx)?.iter().any(|t| t.slug == new_slug) {
                    let tag = Tag {
                        id: matricle_core::TagId(0),
                        name: new_tag.clone(),
                        slug: new_slug.clone(),
                        description: String::new(),
                        retired_at: None,
                    };
                    places::save_tag(tx, &tag)?;
                    let what = format!("added the tag {new_tag}");
                    places::log(tx, now, &who, &what, "/office/house/tags")?;
                }
                tags.push(new_slug);
            }
            events::set_slug(tx, id, &word)?;
            events::set_tags(tx, id, &tags)?;
            events::set(tx, &event, now)?;
            log(tx, id, now, &who, "changed the wording")
        })
        .await
}

/// Writes who may book, and how; says what became of those who wait for a yes.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; [`DeskError::Booked`]
/// when bookings stand in the way of making it a course, or none; [`DeskError::Freed`] when
/// bookings wait that need not any more, until it is said what becomes of them; the role
/// may not.
pub async fn set_booking(
    desk: &Desk,
    staff: &Staff,
    id: EventId,
    mut form: Form,
) -> Result<Followed, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let (now, who) = (turn.now, turn.by.name.clone());
    let waiting = Waiting::of(&form);
    desk.store
        .write(move |tx| {
            let mut event = events::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            event.who = match form.get("who") {
                "signed in" => Who::SignedIn,
                "word" => Who::Word(form.needed("who_word")),
                "domains" => {
                    let domains = list_of(&form, "who_domains");
                    if domains.is_empty() {
                        form.fault("who_domains", Fault::Missing);
                    } else if domains.iter().any(|d| !is_address(&format!("a@{d}"))) {
                        form.fault("who_domains", Fault::NotAnAddress);
                    }
                    Who::Domains(domains)
                }
                "invited" => {
                    let invited = addresses(&mut form, "who_invited");
                    if invited.is_empty() {
                        form.fault("who_invited", Fault::Missing);
                    }
                    Who::Invited(invited)
                }
                _ => Who::Anyone,
            };
            event.rules.confirm = Confirming {
                free: confirm::way(form.get("confirm_free")).unwrap_or_default(),
                paid: confirm::way(form.get("confirm_paid")).unwrap_or_default(),
            };
            event.once = form.ticked("once");
            event.latecomers = form.ticked("latecomers");
            let hold = form.count("hold_minutes", 1, 240);
            event.hold = SignedDuration::from_mins(i64::from(hold));
            let course = form.ticked("course");
            form.done().map_err(DeskError::Form)?;
            if course != event.course {
                let bookings = bookings::count_live(tx, id)?;
                if bookings > 0 {
                    return Err(DeskError::Booked { bookings });
                }
            }
            event.course = course;
            events::set(tx, &event, now)?;
            log(tx, id, now, &who, "changed who may book, and how")?;
            confirm::follow(tx, &event, waiting, &turn)
        })
        .await
        .inspect(|_| desk.wake.all())
}

/// Writes what may happen to an event's bookings once they are made: what bookers may do
/// themselves, cancellation steps of its own, the waiting list.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn set_rules(
    desk: &Desk,
    staff: &Staff,
    id: EventId,
    mut form: Form,
) -> Result<(), DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
    desk.store
        .write(move |tx| {
            let mut event = events::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            let mut steps: Vec<(u32, u32)> = (0..4)
                .filter_map(|i| {
                    let days = form.number(&format!("days_{i}"), 0, 365)?;
                    Some((days, form.number(&format!("percent_{i}"), 0, 100).unwrap_or(0)))
                })
                .collect();
            steps.sort_unstable_by(|a, b| b.cmp(a));
            event.rules.steps = form.ticked("own_steps").then_some(steps);
            event.rules.may_cancel = form.ticked("may_cancel");
            event.rules.may_move = form.ticked("may_move");
            event.rules.may_pass = form.ticked("may_pass");
            event.rules.waiting = Manner::from_word(form.get("waiting")).unwrap_or_default();
            event.rules.offer_hours = form.count("offer_hours", 1, 24 * 14);
            form.done().map_err(DeskError::Form)?;
            events::set(tx, &event, now)?;
            log(tx, id, now, &who, "changed what may happen to bookings")?;
            serve_all(tx, id, now)
        })
        .await
        .inspect(|()| desk.wake.all())
}

/// Serves the waiting lists of an event, whose rules or tickets leave more than before.
fn serve_all(
    tx: &matricle_store::Tx<'_>,
    id: EventId,
    now: jiff::Timestamp,
) -> Result<(), DeskError> {
    for date in events::dates_of(tx, id)? {
        crate::waiting::serve_date(tx, date.id, now)?;
    }
    Ok(())
}

/// Words of a field that stand on lines of their own, or are parted by spaces or commas.
fn list_of(form: &Form, name: &str) -> Vec<String> {
    form.get(name)
        .split([',', ';', '\n', ' ', '\r'])
        .map(|d| d.trim().trim_start_matches('@').to_lowercase())
        .filter(|d| !d.is_empty())
        .collect()
}

/// The mail addresses of a field; a fault when one is none.
fn addresses(form: &mut Form, name: &str) -> Vec<String> {
    let all = list_of(form, name);
    if all.iter().any(|a| !is_address(a)) {
        form.fault(name, Fault::NotAnAddress);
    }
    all
}

fn read_ticket(
    conn: &Connection,
    id: EventId,
    form: &mut Form,
) -> Result<NewTicketType, DeskError> {
    let house = house_of(conn)?;
    let currency = house.currency;
    let pools = events::pool_kinds(conn, id)?;
    let minor = form.amount("price", currency).unwrap_or(0);
    let early = (form.amount("early_price", currency), form.instant("early_until", &house.zone));
    if early.0.is_some() != early.1.is_some() && form.wrong.is_empty() {
        let missing = if early.0.is_some() { "early_until" } else { "early_price" };
        form.fault(missing, Fault::NeedsOther);
    }
    let group = (form.number("group_from", 2, 100), form.amount("group_price", currency));
    if group.0.is_some() != group.1.is_some() && form.wrong.is_empty() {
        let missing = if group.0.is_some() { "group_price" } else { "group_from" };
        form.fault(missing, Fault::NeedsOther);
    }
    let sale = SaleWindow {
        from: form.instant("sale_from", &house.zone),
        until: form.instant("sale_until", &house.zone),
    };
    if sale.from.zip(sale.until).is_some_and(|(from, until)| until <= from) {
        form.fault("sale_until", Fault::EndsFirst);
    }
    let least = form.number("least", 1, 100).unwrap_or(1);
    let most = form.number("most", 1, 100).unwrap_or(10);
    if most < least {
        form.fault("most", Fault::EndsFirst);
    }
    let tax = form.line("tax");
    // `Courses 9`: a rate that is new is made on the way, once the form is sound.
    let new_rate = form.line("new_rate");
    if !new_rate.is_empty() && crate::house::read_rate(&new_rate).is_none() {
        form.fault("new_rate", Fault::NotANumber(0, 100));
    }
    if !tax.is_empty() && !places::tax_rates(conn)?.iter().any(|t| t.name == tax) {
        form.fault("tax", Fault::Unknown);
    }
    let card = form.line("card");
    let sold = |k: &CardKind| k.name == card && !k.retired;
    if !card.is_empty() && !cards::kinds(conn)?.iter().any(sold) {
        form.fault("card", Fault::Unknown);
    }
    let card = (!card.is_empty()).then_some(card);
    let draws: Vec<(usize, u32)> = (0..pools.len())
        .filter_map(|i| {
            let seats = form.number(&format!("draw_{i}"), 0, 100)?;
            (seats > 0).then_some((i, seats))
        })
        .collect();
    Ok(NewTicketType {
        name: form.needed("name"),
        note: form.line("note"),
        minor,
        early: early.0.zip(early.1).map(|(minor, until)| Early { minor, until }),
        member: form.amount("member_price", currency),
        group: group.0.zip(group.1).map(|(from, minor)| Group { from, minor }),
        tax: (!tax.is_empty()).then_some(tax),
        sale,
        per_date: form.number("per_date", 0, matricle_core::quick::MOST_SEATS),
        least,
        most,
        // Whoever buys a card buys no seat: what the form says of seats does not count.
        admits: if card.is_some() { 1 } else { form.number("admits", 1, 20).unwrap_or(1) },
        word: form.line("word"),
        members_only: form.ticked("members_only"),
        invited: addresses(form, "invited"),
        closed: form.ticked("closed"),
        stamps: form.number("stamps", 1, 100).filter(|_| card.is_none()),
        confirm: confirm::way(form.get("confirm")),
        draws: match (&card, draws.is_empty()) {
            (Some(_), _) => Vec::new(),
            (None, true) => vec![(0, 1)],
            (None, false) => draws,
        },
        card,
    })
}

/// Adds a ticket type, or changes one.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; [`DeskError::Freed`] when
/// bookings wait for a yes that need not any more, until it is said what becomes of them;
/// the role may not.
pub async fn save_ticket(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    ticket: Option<TicketTypeId>,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let (now, who) = (turn.now, turn.by.name.clone());
    let waiting = Waiting::of(&form);
    desk.store
        .write(move |tx| {
            let new = read_ticket(tx, event, &mut form)?;
            let rows = events::ticket_rows(tx, event)?;
            if ticket.is_some_and(|id| rows.iter().all(|r| r.id != id)) {
                return Err(DeskError::NotFound);
            }
            if rows.iter().any(|r| r.plan.name == new.name && Some(r.id) != ticket) {
                form.fault("name", Fault::Taken);
            }
            let place = form.number("place", 1, 200);
            let new_rate = crate::house::read_rate(form.get("new_rate"));
            form.done().map_err(DeskError::Form)?;
            let mut new = new;
            if let Some(rate) = new_rate {
                if !places::tax_rates(tx)?.iter().any(|t| t.name.eq_ignore_ascii_case(&rate.name)) {
                    places::save_tax_rate(tx, &rate)?;
                    let what = format!("added the tax rate {}", rate.name);
                    places::log(tx, now, &who, &what, "/office/house/money")?;
                }
                new.tax = Some(rate.name);
            }
            match ticket {
                Some(id) => {
                    events::set_ticket(tx, event, id, &new)?;
                    if let Some(place) = place {
                        events::set_ticket_place(tx, event, id, index(place))?;
                    }
                }
                None => events::add_ticket(tx, event, &new)?,
            }
            events::changed(tx, event, now)?;
            let act = if ticket.is_some() { "changed" } else { "added" };
            log(tx, event, now, &who, &format!("{act} the ticket {}", new.name))?;
            serve_all(tx, event, now)?;
            let event = events::by_id(tx, event)?.ok_or(DeskError::NotFound)?;
            confirm::follow(tx, &event, waiting, &turn).map(drop)
        })
        .await
        .inspect(|()| desk.wake.all())
}

/// A place in a list as people count, from 1, as an index.
const fn index(place: u32) -> usize {
    place.saturating_sub(1) as usize
}

/// Takes a ticket type off; one that is on bookings stays on them.
///
/// # Errors
/// The event has no such ticket; the role may not, or the store fails.
pub async fn drop_ticket(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    ticket: TicketTypeId,
) -> Result<(), DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
    desk.store
        .write(move |tx| {
            if events::ticket_rows(tx, event)?.iter().all(|r| r.id != ticket) {
                return Err(DeskError::NotFound);
            }
            events::drop_ticket(tx, event, ticket)?;
            log(tx, event, now, &who, "took a ticket off")
        })
        .await
}

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
    require(staff.role, Right::PlanEvents)?;
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
    let (now, who) = (desk.clock.now(), staff.name.clone());
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
            log(tx, event, now, &who, &format!("wrote the question “{}”", new.label))
        })
        .await
}

/// Takes a question off; answers to it stay.
///
/// # Errors
/// The role may not, or the store fails.
pub async fn drop_question(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    question: QuestionId,
) -> Result<(), DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
    desk.store
        .write(move |tx| {
            events::drop_question(tx, event, question)?;
            log(tx, event, now, &who, "took a question off")
        })
        .await
}

/// Gives an event a picture, or with no bytes takes it away.
///
/// # Errors
/// [`DeskError::Form`] when it is no picture, or has no words for those who cannot see
/// it; the role may not.
pub async fn set_picture(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    alt: String,
    bytes: Vec<u8>,
) -> Result<(), DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let mut form = Form::new(vec![("alt".into(), alt)]);
    let alt = form.needed("alt");
    let kept = tokio::task::spawn_blocking(move || picture::keep(&bytes))
        .await
        .map_err(|e| DeskError::Internal(e.to_string()))?;
    match &kept {
        Ok(_) => {}
        Err(PictureError::Unreadable) => form.fault("picture", Fault::NotAPicture),
        Err(PictureError::TooLarge) => form.fault("picture", Fault::TooLarge),
    }
    form.done().map_err(DeskError::Form)?;
    let Ok(kept) = kept else { return Err(DeskError::NotFound) };
    let (now, who) = (desk.clock.now(), staff.name.clone());
    // Random, so that a picture of a draft is not found by counting.
    let id = i64::from_le_bytes((crate::random_u64() >> 12).to_le_bytes());
    desk.store
        .write(move |tx| {
            let picture = Picture { id, alt, width: kept.width, height: kept.height };
            events::set_picture(tx, event, &picture, &kept.large, &kept.small)?;
            events::changed(tx, event, now)?;
            log(tx, event, now, &who, "changed the picture")
        })
        .await
}

/// Takes the picture of an event away.
///
/// # Errors
/// The role may not, or the store fails.
pub async fn drop_picture(desk: &Desk, staff: &Staff, event: EventId) -> Result<(), DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
    desk.store
        .write(move |tx| {
            events::drop_picture(tx, event)?;
            events::changed(tx, event, now)?;
            log(tx, event, now, &who, "took the picture away")
        })
        .await
}

/// The bytes of a picture: JPEG, for a screen or for a phone.
///
/// # Errors
/// [`DeskError::NotFound`], or the store fails.
pub async fn picture(desk: &Desk, id: i64, small: bool) -> Result<Vec<u8>, DeskError> {
    let found = desk.store.read(move |conn| events::picture_bytes(conn, id, small)).await?;
    found.ok_or(DeskError::NotFound)
}

/// Sets the time at which a draft publishes itself; none clears it.
///
/// # Errors
/// [`DeskError::Form`] for a time that is none or past; the role may not.
pub async fn publish_at(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    mut form: Form,
) -> Result<(), DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
    desk.store
        .write(move |tx| {
            let at = form.instant("publish_at", &house_of(tx)?.zone);
            if at.is_some_and(|at| at <= now) {
                form.fault("publish_at", Fault::Past);
            }
            form.done().map_err(DeskError::Form)?;
            let draft = events::by_id(tx, event)?.ok_or(DeskError::NotFound)?;
            if draft.state == EventState::Draft {
                events::set_publish_at(tx, event, at)?;
                let what = if at.is_some() {
                    "set a time to publish"
                } else {
                    "cleared the time to publish"
                };
                log(tx, event, now, &who, what)?;
            }
            Ok(())
        })
        .await
}

/// Clears the test bookings of an event; says how many.
///
/// # Errors
/// The role may not, or the store fails.
pub async fn clear_tests(desk: &Desk, staff: &Staff, event: EventId) -> Result<Cleared, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let cleared = desk
        .store
        .write(move |tx| {
            let mut cleared = Cleared::default();
            for booking in bookings::paid_tests(tx, event)? {
                let what = "the test was cleared";
                if allowed(booking.state, Move::Cancel, turn.by.kind).is_ok() {
                    make(tx, &booking, Move::Cancel, &turn, With::said(what))?;
                } else {
                    crate::money::give_back_surplus(tx, &booking, what, &turn)?;
                }
                let left = bookings::by_id(tx, booking.id)?.map_or(0, |b| b.paid.minor);
                cleared.back_minor += booking.paid.minor - left;
                cleared.kept += 1;
            }
            cleared.gone = bookings::clear_tests(tx, event)?;
            Ok::<_, DeskError>(cleared)
        })
        .await?;
    desk.wake.all();
    Ok(cleared)
}

/// What became of test bookings.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Cleared {
    /// Those that are gone.
    pub gone: usize,
    /// Those that had a payment: cancelled, and kept with it.
    pub kept: usize,
    /// What goes back to whoever paid, in minor units.
    pub back_minor: i64,
}

/// Who is told that a date moved or was called off, and whether it has gone out.
#[derive(Debug, Clone)]
pub struct ToTell {
    /// The house.
    pub house: House,
    /// The event.
    pub event: Event,
    /// Messages, with reference and name of the booking.
    pub rows: Vec<(matricle_store::outbox::Message, String, String)>,
    /// Bookings that count.
    pub bookings: u32,
}

/// The list of people told about changes of an event.
///
/// # Errors
/// The role may not, there is no such event, or the store fails.
pub async fn told(desk: &Desk, staff: &Staff, event: EventId) -> Result<ToTell, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            Ok(ToTell {
                house: house_of(conn)?,
                event: events::by_id(conn, event)?.ok_or(DeskError::NotFound)?,
                rows: matricle_store::outbox::told(conn, event)?,
                bookings: bookings::count_live(conn, event)?,
            })
        })
        .await
}
