//! Replies to invitations: the page that asks, the list of what was said, asking once again.

use std::collections::HashMap;

use jiff::Timestamp;
use matricle_core::acting::Acting;
use matricle_core::form::{Fault, Form};
use matricle_core::replies::{Asks, Replied, Reply, Stands, books_at_once, counts};
use matricle_core::staff::{Right, require};
use matricle_core::{DateId, EventId, MessageId, TicketTypeId};
use matricle_store::events::{self, Date, Event, EventState};
use matricle_store::outbox::{self, About};
use matricle_store::people::{self, Staff};
use matricle_store::{Connection, replies};

use crate::bookings::phone;
use crate::people::invited::{address_of, addresses};
use crate::{Desk, DeskError, telling};

/// Most of a word with a reply, in characters.
const LONGEST_WORD: usize = 500;

/// What somebody who was invited is asked.
#[derive(Debug, Clone)]
pub struct Question {
    /// The event.
    pub event: Event,
    /// Its dates to come.
    pub dates: Vec<Date>,
    /// The address that is asked.
    pub address: String,
    /// What it said before.
    pub said: Option<Replied>,
    /// It has booked.
    pub booked: bool,
    /// A yes books a seat at once.
    pub at_once: bool,
    /// Their name, where it is known.
    pub name: String,
    /// What whoever books agrees to.
    pub terms: String,
}

/// The date and the ticket of an event that a yes books at once, if it does.
fn at_once(
    conn: &Connection,
    event: &Event,
    now: Timestamp,
) -> Result<Option<(DateId, TicketTypeId)>, DeskError> {
    let mut dates = events::dates_of(conn, event.id)?;
    dates.retain(|d| d.called_off.is_empty() && d.span.starts_at > now);
    if event.course {
        dates.truncate(1);
    }
    let tickets = events::ticket_rows(conn, event.id)?;
    let (Some(date), Some(ticket)) = (dates.first(), tickets.first()) else { return Ok(None) };
    let questions = events::questions(conn, event.id)?;
    let yes = matricle_core::confirm::Way::AfterYes;
    let asks = Asks {
        dates: dates.len(),
        tickets: tickets.len(),
        minor: ticket.plan.minor,
        answers: questions.iter().any(|q| q.needed),
        after_yes: event.rules.confirm.free == yes || ticket.plan.confirm == Some(yes),
    };
    Ok(books_at_once(asks).then_some((date.id, ticket.id)))
}

/// Whose invitation a link is, and to what.
fn whose(conn: &Connection, id: i64, now: Timestamp) -> Result<(EventId, String), DeskError> {
    let message = outbox::by_id(conn, MessageId(id))?.ok_or(DeskError::NotFound)?;
    let About::Event(event) = message.about else { return Err(DeskError::NotFound) };
    let address = address_of(conn, id, event, now)?.ok_or(DeskError::NotFound)?;
    Ok((event, address))
}

/// What the link of an invitation asks. Looking changes nothing.
///
/// # Errors
/// [`DeskError::NotFound`] for another key, and when the invitation stands no more.
pub async fn question(desk: &Desk, id: i64, key: &str) -> Result<Question, DeskError> {
    if !desk.secrets.opens_invitation(id, key) {
        return Err(DeskError::NotFound);
    }
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let (event, address) = whose(conn, id, now)?;
            let mut dates = events::dates_of(conn, event)?;
            dates.retain(|d| d.called_off.is_empty() && d.span.ends_at > now);
            Ok(Question {
                event: events::by_id(conn, event)?.ok_or(DeskError::NotFound)?,
                dates,
                at_once: match events::by_id(conn, event)? {
                    Some(event) => at_once(conn, &event, now)?.is_some(),
                    None => false,
                },
                name: people::name_of(conn, &address)?,
                terms: crate::house_of(conn)?.terms,
                said: replies::of(conn, event, &address)?,
                booked: replies::booked(conn, event)?.contains(&address.to_lowercase()),
                address,
            })
        })
        .await
}

/// Replies: `reply` is yes, maybe or no, `word` a word with it, `name` who comes, where a yes
/// books at once. The latest holds. Where the seat cannot be had the reply stands all the same.
///
/// # Errors
/// As [`question`]; [`DeskError::Form`] for no reply, no name, or a word that is too long.
pub async fn reply(desk: &Desk, id: i64, key: &str, mut form: Form) -> Result<Reply, DeskError> {
    if !desk.secrets.opens_invitation(id, key) {
        return Err(DeskError::NotFound);
    }
    let turn = desk.turn(Acting::booker());
    let now = turn.now;
    let (reply, seat) = desk
        .store
        .write(move |tx| {
            let (event, address) = whose(tx, id, now)?;
            let word = form.text("word", LONGEST_WORD);
            let reply = Reply::from_word(form.get("reply"));
            if reply.is_none() {
                form.fault("reply", Fault::Missing);
            }
            let found = events::by_id(tx, event)?.ok_or(DeskError::NotFound)?;
            let booked = replies::booked(tx, event)?.contains(&address.to_lowercase());
            let seat = match reply {
                Some(Reply::Yes) if !booked => at_once(tx, &found, now)?,
                _ => None,
            };
            let name = if seat.is_some() { form.needed("name") } else { String::new() };
            form.done().map_err(DeskError::Form)?;
            let reply = reply.ok_or(DeskError::NotFound)?;
            replies::set(tx, event, &address, (reply, &word), now)?;
            Ok::<_, DeskError>((reply, seat.map(|seat| (seat, name, address))))
        })
        .await?;
    if let Some((seat, name, address)) = seat {
        let made = desk
            .store
            .write(move |tx| phone::by_a_yes(tx, seat, (&name, &address), YES, &turn))
            .await;
        match made {
            Ok(_) => desk.wake.all(),
            Err(closed @ DeskError::Store(_)) => return Err(closed),
            // Full by now, or closed: the page leads to the event, which says so.
            Err(_) => {}
        }
    }
    Ok(reply)
}

/// Somebody who was invited, and where they stand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// Their address.
    pub address: String,
    /// Their name, where it is known.
    pub name: String,
    /// Where they stand.
    pub stands: Stands,
    /// What they said.
    pub said: Option<Replied>,
    /// They have booked.
    pub booked: bool,
    /// When they were asked last.
    pub asked_at: Option<Timestamp>,
    /// How often.
    pub asked: u32,
    /// The message that their link is made of, once there is one.
    pub invitation: Option<MessageId>,
}

impl Row {
    /// Their own link, once there is one.
    #[must_use]
    pub fn link(&self, desk: &Desk) -> Option<String> {
        let id = self.invitation?;
        let key = desk.secrets.invitation_key(id.0);
        Some(format!("{}/invited/{id}/{key}/reply", desk.public_url))
    }

    /// Whether they may be asked once more.
    #[must_use]
    pub const fn may_be_asked_again(&self) -> bool {
        self.stands.may_be_asked_again(self.asked)
    }
}

/// All replies to an event.
#[derive(Debug, Clone)]
pub struct Replies {
    /// The event.
    pub event: Event,
    /// Everybody on its lists, in the order of them.
    pub rows: Vec<Row>,
    /// Its dates to come.
    pub dates: Vec<Date>,
    /// How many stand where, in the order of [`Stands::ALL`].
    pub counts: [u32; 7],
}

fn rows(conn: &Connection, event: &Event) -> Result<Vec<Row>, DeskError> {
    let (said, booked) = (replies::of_event(conn, event.id)?, replies::booked(conn, event.id)?);
    // How often each was asked, and when last.
    let mut asked: HashMap<String, (u32, Timestamp, MessageId)> = HashMap::new();
    for mail in outbox::invitations(conn, event.id)? {
        let at = mail.sent_at.unwrap_or(mail.planned_at);
        let known = asked.entry(mail.address.to_lowercase()).or_insert((0, at, mail.id));
        *known = (known.0 + 1, known.1.max(at), known.2);
    }
    let mut rows = Vec::new();
    for address in addresses(conn, event)? {
        let key = address.to_lowercase();
        let (times, last) = asked.get(&key).map_or((0, None), |(n, at, _)| (*n, Some(*at)));
        let invitation = asked.get(&key).map(|(_, _, id)| *id);
        let bounced = outbox::address(conn, &address)?.refused.is_some();
        let (said, booked) = (said.get(&key).cloned(), booked.contains(&key));
        rows.push(Row {
            name: people::name_of(conn, &address)?,
            stands: Stands::of(said.as_ref().map(|s| s.reply), booked, bounced, times > 0),
            said,
            booked,
            asked_at: last,
            asked: times,
            invitation,
            address,
        });
    }
    Ok(rows)
}

/// All replies to an event.
///
/// # Errors
/// There is no such event; the role may not.
pub async fn of_event(desk: &Desk, staff: &Staff, event: EventId) -> Result<Replies, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let event = events::by_id(conn, event)?.ok_or(DeskError::NotFound)?;
            let rows = rows(conn, &event)?;
            let mut dates = events::dates_of(conn, event.id)?;
            dates.retain(|d| d.called_off.is_empty() && d.span.ends_at > now);
            Ok(Replies { dates, counts: counts(rows.iter().map(|r| r.stands)), rows, event })
        })
        .await
}

/// What became of those who said yes.
#[derive(Debug)]
pub struct BookedYes {
    /// So many have a seat now.
    pub booked: usize,
    /// Who has none, and why.
    pub not: Vec<(String, DeskError)>,
}

/// Books a seat of a date, without a price, for everybody who said yes and has not booked: each
/// gets the confirmation that every booker gets. Whom it cannot be booked for is told with why.
///
/// # Errors
/// [`DeskError::Form`] where no date is chosen, or no ticket is without a price; the role may not.
pub async fn book_yes(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    mut form: Form,
) -> Result<BookedYes, DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    let all = of_event(desk, staff, event).await?;
    let chosen = form.get("date").parse().ok().map(DateId);
    let date = match (chosen, &all.dates[..]) {
        (Some(date), dates) => dates.iter().find(|d| d.id == date).map(|d| d.id),
        (None, [only]) => Some(only.id),
        (None, dates) => dates.first().filter(|_| all.event.course).map(|d| d.id),
    };
    let tickets = desk.store.read(move |conn| events::ticket_rows(conn, event)).await?;
    let free = tickets.iter().find(|t| t.plan.minor == 0 && !t.plan.closed);
    let (Some(date), Some(free)) = (date, free) else {
        form.fault("date", if date.is_none() { Fault::Missing } else { Fault::Unknown });
        return Err(DeskError::Form(form.done().err().unwrap_or_default()));
    };
    let seat = (date, free.id);
    let mut done = BookedYes { booked: 0, not: Vec::new() };
    let yes = |r: &&Row| r.said.as_ref().is_some_and(|s| s.reply == Reply::Yes) && !r.booked;
    for row in all.rows.iter().filter(yes) {
        let local = row.address.split('@').next().unwrap_or_default();
        let name = if row.name.is_empty() { local } else { &row.name }.to_owned();
        let (address, turn) = (row.address.clone(), turn.clone());
        let said = "booked the seat, since they said yes to the invitation";
        let made = desk
            .store
            .write(move |tx| phone::by_a_yes(tx, seat, (&name, &address), said, &turn))
            .await;
        match made {
            Ok(_) => done.booked += 1,
            Err(closed @ DeskError::Store(_)) => return Err(closed),
            Err(why) => done.not.push((row.address.clone(), why)),
        }
    }
    desk.wake.all();
    Ok(done)
}

/// What a yes that books is said to be.
const YES: &str = "said yes to the invitation, and to the terms beside it";

/// Asks those once again who have not replied: never who has, nor who has booked, nor anybody a
/// third time. Says how many.
///
/// # Errors
/// The event is not in the Programme; the role may not.
pub async fn ask_again(desk: &Desk, staff: &Staff, event: EventId) -> Result<usize, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let asked = desk
        .store
        .write(move |tx| {
            let found = events::by_id(tx, event)?.ok_or(DeskError::NotFound)?;
            if found.state != EventState::Published {
                return Err(DeskError::NotPublished);
            }
            let silent = rows(tx, &found)?;
            let silent: Vec<_> = silent.iter().filter(|r| r.may_be_asked_again()).collect();
            for row in &silent {
                telling::invite_again(tx, event, &row.address, &turn)?;
            }
            if !silent.is_empty() {
                let many = u32::try_from(silent.len()).unwrap_or(u32::MAX);
                let many = matricle_formats::words::people(many);
                let what = format!("asked {many} once again who had not replied");
                crate::planning::dates::log(tx, event, &turn, &what)?;
            }
            Ok(silent.len())
        })
        .await?;
    desk.wake.all();
    Ok(asked)
}
