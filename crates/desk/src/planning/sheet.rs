//! The sheet of an event at the Office: its wording, tickets, questions, who may book.

use jiff::{SignedDuration, Timestamp};
use matricle_core::EventId;
use matricle_core::MessageId;
use matricle_core::booking::confirm::Confirming;
use matricle_core::forms::form::{Fault, Form, slug};
use matricle_core::people::staff::{Right, require};
use matricle_core::people::who::Who;
use matricle_core::seats::waiting::Manner;
use matricle_core::words::address::is_address;
use matricle_formats::rich;
use matricle_store::events::{self, Event, EventState, Format, Picture, TicketRow};
use matricle_store::house::House;
use matricle_store::people::Staff;
use matricle_store::places::{self, Tag, TaxRate};
use matricle_store::{Connection, bookings, cards, invited, outbox};

use crate::bookings::confirm::{self, Followed, Waiting};
use crate::planning::dates::log;
use crate::{Desk, DeskError, house_of};

/// Most addresses on a list of people invited.
pub(crate) const MOST_INVITED: usize = 50_000;

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
    pub questions: Vec<matricle_core::booking::details::Question>,
    /// Bookings that count.
    pub bookings: u32,
    /// Test bookings.
    pub tests: u32,
    /// How many are invited.
    pub invited: u32,
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
        invited: invited::count(conn, id)?.0,
        event,
    })
}

/// Somebody who gave no address was rung up.
///
/// # Errors
/// The role may not. Somebody rung before stays so.
pub async fn rung(desk: &Desk, staff: &Staff, event: EventId, id: i64) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    let ring = move |tx: &matricle_store::Tx<'_>| {
        outbox::rung(tx, event, MessageId(id), &turn.by.name, turn.now).map(drop)
    };
    Ok(desk.store.write(ring).await?)
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
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    // Cleaned before anything is written: a seat does not wait for it.
    let typed = form.clone().text("description", LONGEST_WORDING);
    let described = crate::off_thread(move || Ok(rich::clean(&typed))).await?;
    desk.store
        .write(move |tx| {
            let mut event = events::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            event.title = form.needed("title");
            event.kind = form.needed("kind");
            event.contact = form.line("contact");
            event.price_words = form.line("price_words");
            let drop_in = form.ticked("drop_in");
            if drop_in && !event.drop_in && bookings::count_live(tx, id)? > 0 {
                form.fault("drop_in", Fault::Taken);
            }
            event.drop_in = drop_in;
            event.lead = form.line("lead");
            form.text("description", LONGEST_WORDING);
            event.description = described;
            event.bring = form.line("bring");
            event.refund_note = form.text("refund_note", 1000);
            event.button = form.line("button");
            event.after_note = form.text("after_note", 2000);
            event.listed = form.ticked("listed");
            event.format = Format::from_word(form.get("format")).unwrap_or_default();
            event.online_link = form.line("online_link");
            event.online_passcode = form.line("online_passcode");
            let link = &event.online_link;
            if !link.is_empty() && !matricle_core::words::links::is_link(link) {
                form.fault("online_link", Fault::NotALink);
            }
            event.accent = form.accent("accent");
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
                    turn.log(tx, &what, "/office/house/tags")?;
                }
                tags.push(new_slug);
            }
            events::set_slug(tx, id, &word)?;
            events::set_tags(tx, id, &tags)?;
            events::set(tx, &event, turn.now)?;
            log(tx, id, &turn, "changed the wording")
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
    let now = turn.now;
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
                    } else if let Some(line) =
                        domains.iter().find(|d| !is_address(&format!("a@{d}")))
                    {
                        form.fault("who_domains", Fault::LineNotAnAddress(line.clone()));
                    }
                    Who::Domains(domains)
                }
                "invited" => Who::Invited,
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
            log(tx, id, &turn, "changed who may book, and how")?;
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
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
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
            events::set(tx, &event, turn.now)?;
            log(tx, id, &turn, "changed what may happen to bookings")?;
            serve_all(tx, id, turn.now)
        })
        .await
        .inspect(|()| desk.wake.all())
}

/// Serves the waiting lists of an event, whose rules or tickets leave more than before.
pub(crate) fn serve_all(
    tx: &matricle_store::Tx<'_>,
    id: EventId,
    now: jiff::Timestamp,
) -> Result<(), DeskError> {
    for date in events::dates_of(tx, id)? {
        crate::bookings::serving::serve_date(tx, date.id, now)?;
    }
    Ok(())
}

/// Words of a field that stand on lines of their own, or are parted by spaces or commas.
pub(crate) fn list_of(form: &Form, name: &str) -> Vec<String> {
    form.get(name)
        .split([',', ';', '\n', ' ', '\r'])
        .map(|d| d.trim().trim_start_matches('@').to_lowercase())
        .filter(|d| !d.is_empty())
        .collect()
}

/// Sets the time at which a draft publishes itself; none clears it. Tells the one before.
///
/// # Errors
/// [`DeskError::Form`] for a time that is none or past; it is no draft; the role may not.
pub async fn publish_at(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    mut form: Form,
) -> Result<Option<Timestamp>, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            let at = form.instant("publish_at", &house_of(tx)?.zone);
            if at.is_some_and(|at| at <= turn.now) {
                form.fault("publish_at", Fault::Past);
            }
            form.done().map_err(DeskError::Form)?;
            let draft = events::by_id(tx, event)?.ok_or(DeskError::NotFound)?;
            if draft.state != EventState::Draft || draft.thrown_at.is_some() {
                return Err(DeskError::NotADraft);
            }
            events::set_publish_at(tx, event, at)?;
            let what =
                if at.is_some() { "set a time to publish" } else { "cleared the time to publish" };
            log(tx, event, &turn, what)?;
            Ok(draft.publish_at)
        })
        .await
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
    /// Those without an address, to be rung.
    pub rings: Vec<outbox::Ring>,
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
                rings: outbox::rings(conn, event)?,
                bookings: bookings::count_live(conn, event)?,
            })
        })
        .await
}
