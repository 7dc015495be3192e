//! Replies to invitations: the page that asks, the list of what was said; handing an
//! invitation on.

use jiff::Timestamp;
use matricle_core::booking::details::Draft;
use matricle_core::booking::{Move, State};
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::messages::replies::{
    Asks, HandOnRefusal, HandingOn, MOST_HANDED, Replied, Reply, ReplyFacts, Stands, again_at,
    books_at_once, counts, hand_on as allowed, kept_until,
};
use matricle_core::money::price::Buyer;
use matricle_core::people::acting::Acting;
use matricle_core::people::staff::{Right, require};
use matricle_core::seats::Wanted;
use matricle_core::words::codes::Reference;
use matricle_core::{BookingId, DateId, EventId, TicketTypeId};
use matricle_store::bookings::{self, Booking, HeldBy};
use matricle_store::events::{self, Date, Event};
use matricle_store::invited::{self, Invited, Known};
use matricle_store::outbox::MessageState;
use matricle_store::people::{self, Staff};
use matricle_store::{Connection, Tx, readers, replies};

use crate::acting::Turn;
use crate::bookings::hold::keep_in;
use crate::bookings::moves::{With, make};
use crate::bookings::phone;
use crate::people::invited::theirs;
use crate::planning::asking::again_of;
use crate::planning::dates::log;
use crate::telling::{Ask, invite};
use crate::{Desk, DeskError};

fields! {
    NAME: Line = "name", "Who comes", "A yes takes a seat in this name at once." needed;
    WORD: Text(3, LONGEST_WORD) = "word", "A word with it", "If you like.";
    HAND_TO: Line = "hand_to", "Their address" needed;
}

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
    /// A *maybe* keeps a seat until then.
    pub maybe_until: Option<Timestamp>,
    /// The seat that a *maybe* keeps now: its booking, and until when.
    pub kept: Option<(Reference, Timestamp)>,
    /// The invitation may be handed on.
    pub hand_on: bool,
    /// Who has it now; empty while it is theirs.
    pub handed_to: String,
    /// It can be taken back from whoever has it now.
    pub take_back: bool,
    /// Their name, where it is known.
    pub name: String,
    /// What whoever books agrees to.
    pub terms: String,
}

/// The one seat that whoever is invited can have of an event, where nothing is to be chosen: of
/// which date, with which ticket; and whether a yes books it, since nothing is to be asked or paid.
struct OneSeat {
    date: DateId,
    ticket: TicketTypeId,
    at_once: bool,
}

/// Whoever is invited, as a buyer: their link proves their address.
fn buyer_of(conn: &Connection, address: &str) -> Result<Buyer, DeskError> {
    let member = people::is_member(conn, address)?;
    Ok(Buyer { member, address: address.to_owned(), ..Buyer::default() })
}

fn one_seat(
    conn: &Connection,
    event: &Event,
    address: &str,
    now: Timestamp,
) -> Result<Option<OneSeat>, DeskError> {
    let mut dates = events::dates_of(conn, event.id)?;
    dates.retain(|d| d.called_off.is_empty() && d.span.starts_at > now);
    if event.course {
        dates.truncate(1);
    }
    let Some(date) = dates.first() else { return Ok(None) };
    let currency = crate::house_of(conn)?.currency;
    let Some(choices) = events::choices(conn, currency, date.id, now)? else { return Ok(None) };
    let open = choices.offer.open_to(&buyer_of(conn, address)?, now);
    let rows = events::ticket_rows(conn, event.id)?;
    let Some(ticket) = open.first().and_then(|id| rows.iter().find(|t| t.id == *id)) else {
        return Ok(None);
    };
    let questions = events::questions(conn, event.id)?;
    let yes = matricle_core::booking::confirm::Way::AfterYes;
    let asks = Asks {
        dates: dates.len(),
        tickets: open.len(),
        minor: ticket.plan.minor,
        answers: questions.iter().any(|q| q.needed),
        after_yes: event.rules.confirm.free == yes || ticket.plan.confirm == Some(yes),
    };
    let one = asks.dates == 1 && asks.tickets == 1;
    Ok(one.then_some(OneSeat { date: date.id, ticket: ticket.id, at_once: books_at_once(asks) }))
}

/// The seat that a *maybe* of an address keeps, while it does.
fn kept(
    conn: &Connection,
    event: EventId,
    address: &str,
    now: Timestamp,
) -> Result<Option<Booking>, DeskError> {
    let Some(id) = replies::kept(conn, event, address)? else { return Ok(None) };
    let booking = bookings::by_id(conn, id)?;
    Ok(booking.filter(|b| b.state == State::Held && b.deadline.is_some_and(|d| d > now)))
}

/// Until when a *maybe* keeps a seat of a date, where the organiser lets it.
fn maybe_until(
    conn: &Connection,
    event: &Event,
    date: DateId,
    now: Timestamp,
) -> Result<Option<Timestamp>, DeskError> {
    let Some(days) = event.rules.inviting.maybe_days else { return Ok(None) };
    let Some((_, facts)) = readers::date(conn, date)? else { return Ok(None) };
    Ok(kept_until(&facts, days, now))
}

/// Whether somebody has booked an event.
fn has_booked(conn: &Connection, event: EventId, address: &str) -> Result<bool, DeskError> {
    Ok(bookings::booked_already(conn, event, address, BookingId(0))?)
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
            let (event, invited) = theirs(conn, id, now)?.ok_or(DeskError::NotFound)?;
            let address = invited.email.clone();
            let mut dates = events::dates_of(conn, event.id)?;
            dates.retain(|d| d.called_off.is_empty() && d.span.ends_at > now);
            let booked = has_booked(conn, event.id, &address)?;
            let seat = one_seat(conn, &event, &address, now)?;
            let kept = kept(conn, event.id, &address, now)?;
            Ok(Question {
                dates,
                at_once: seat.as_ref().is_some_and(|s| s.at_once) && !booked,
                maybe_until: match &seat {
                    Some(seat) if !booked => maybe_until(conn, &event, seat.date, now)?,
                    _ => None,
                },
                name: match kept.as_ref().map(|b| b.draft.name.clone()) {
                    Some(name) if !name.is_empty() => name,
                    _ => people::name_of(conn, &address)?,
                },
                kept: kept.and_then(|b| Some((b.reference, b.deadline?))),
                hand_on: event.rules.inviting.hand_on
                    && invited.listed
                    && !booked
                    && invited.handed < MOST_HANDED,
                take_back: may_take_back(conn, event.id, &invited)?,
                handed_to: invited.handed_to,
                terms: crate::house_of(conn)?.terms,
                said: replies::of(conn, event.id, &address)?,
                booked,
                address,
                event,
            })
        })
        .await
}

/// Whoever asks, whose invitation it is still.
fn mine(conn: &Connection, id: i64, now: Timestamp) -> Result<(Event, Invited), DeskError> {
    let found = theirs(conn, id, now)?.filter(|(_, invited)| invited.handed_to.is_empty());
    found.ok_or(DeskError::NotFound)
}

/// Replies: `reply` is yes, maybe or no, `word` a word with it, `name` who comes, where a yes
/// books at once or a *maybe* keeps a seat. The latest holds. Whoever says yes and has nothing
/// to choose, answer or pay is booked by that; whoever says maybe keeps a seat as long as the
/// organiser lets them, and no longer than until they say another thing.
///
/// # Errors
/// [`DeskError::Form`] when it is none of the three; otherwise as [`question`].
pub async fn reply(desk: &Desk, id: i64, key: &str, mut form: Form) -> Result<Reply, DeskError> {
    if !desk.secrets.opens_invitation(id, key) {
        return Err(DeskError::NotFound);
    }
    let turn = desk.turn(Acting::booker());
    let now = turn.now;
    let (reply, address, name) = desk
        .store
        .write({
            let turn = turn.clone();
            move |tx| {
                let (event, invited) = mine(tx, id, now)?;
                let address = invited.email;
                let word = form.take(&WORD);
                let reply = Reply::from_word(form.get("reply"));
                if reply.is_none() {
                    form.fault("reply", Fault::Missing);
                }
                let booked = has_booked(tx, event.id, &address)?;
                let books = reply == Some(Reply::Yes)
                    && !booked
                    && one_seat(tx, &event, &address, now)?.is_some_and(|s| s.at_once);
                let name = if books { form.take(&NAME) } else { form.line(NAME.name) };
                form.done().map_err(DeskError::Form)?;
                let reply = reply.ok_or(DeskError::NotFound)?;
                replies::set(tx, event.id, &address, (reply, &word), now)?;
                if reply == Reply::No {
                    let_go(tx, event.id, &address, "said no to the invitation", &turn)?;
                }
                Ok::<_, DeskError>((reply, address, name))
            }
        })
        .await?;
    // What is full or closed by now is said on the page, and the reply stands.
    let made = desk
        .store
        .write(move |tx| {
            let (event, _) = mine(tx, id, now)?;
            if has_booked(tx, event.id, &address)? {
                return Ok(());
            }
            let Some(seat) = one_seat(tx, &event, &address, now)? else { return Ok(()) };
            match reply {
                Reply::Yes if seat.at_once => {
                    let kept = kept(tx, event.id, &address, now)?.map(|b| b.reference);
                    let seat = (seat.date, seat.ticket);
                    let buyer = buyer_of(tx, &address)?;
                    phone::by_a_yes(tx, seat, (&name, buyer), (kept, YES), &turn).map(drop)
                }
                Reply::Maybe => keep_one(tx, &event, &seat, (&name, &address), &turn),
                Reply::Yes | Reply::No => Ok(()),
            }
        })
        .await;
    if let Err(closed @ DeskError::Store(_)) = made {
        return Err(closed);
    }
    desk.wake.all();
    Ok(reply)
}

/// Keeps a seat for somebody who may come, until the organiser's day, once.
fn keep_one(
    tx: &Tx<'_>,
    event: &Event,
    seat: &OneSeat,
    (name, address): (&str, &str),
    turn: &Turn,
) -> Result<(), DeskError> {
    let Some(until) = maybe_until(tx, event, seat.date, turn.now)? else { return Ok(()) };
    if kept(tx, event.id, address, turn.now)?.is_some() {
        return Ok(());
    }
    let by = HeldBy { buyer: buyer_of(tx, address)?, ..HeldBy::default() };
    let wanted = [Wanted { ticket: seat.ticket, quantity: 1 }];
    // Whoever says maybe again, after a no, keeps one by the booking of before.
    let before = match replies::kept(tx, event.id, address)? {
        Some(id) => bookings::by_id(tx, id)?.filter(|b| b.state == State::Lapsed),
        None => None,
    };
    let instead = before.map(|b| b.reference);
    let reference = keep_in(tx, seat.date, &wanted, &by, instead, turn)?;
    let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
    let draft = Draft { name: name.to_owned(), email: address.to_owned(), ..Draft::default() };
    bookings::keep_draft(tx, booking.id, &draft)?;
    bookings::set_deadline(tx, booking.id, until)?;
    bookings::happened(tx, booking.id, turn.now, &turn.by, "said maybe; a seat is kept")?;
    Ok(replies::keep(tx, event.id, address, booking.id)?)
}

/// Gives the seat back that a *maybe* keeps.
pub(crate) fn let_go(
    tx: &Tx<'_>,
    event: EventId,
    address: &str,
    what: &str,
    turn: &Turn,
) -> Result<(), DeskError> {
    match kept(tx, event, address, turn.now)? {
        Some(booking) => make(tx, &booking, Move::Lapse, turn, With::said(what)).map(drop),
        None => Ok(()),
    }
}

/// Whether an invitation can be taken back from whoever has it now: they have said nothing yet,
/// nor booked, nor handed it on.
fn may_take_back(conn: &Connection, event: EventId, invited: &Invited) -> Result<bool, DeskError> {
    let to = &invited.handed_to;
    if to.is_empty() {
        return Ok(false);
    }
    let theirs = invited::by_email(conn, event, to)?.is_some_and(|t| {
        t.handed_to.is_empty() && t.handed_from.eq_ignore_ascii_case(&invited.email)
    });
    Ok(theirs && replies::of(conn, event, to)?.is_none() && !has_booked(conn, event, to)?)
}

/// Hands an invitation on to somebody else: `hand_to` is their address. They get it by mail, and
/// the link of before opens nothing any more but who has it now. Says who that is.
///
/// # Errors
/// [`DeskError::Form`] with why it is not handed on; otherwise as [`question`].
pub async fn hand_on(desk: &Desk, id: i64, key: &str, mut form: Form) -> Result<String, DeskError> {
    if !desk.secrets.opens_invitation(id, key) {
        return Err(DeskError::NotFound);
    }
    let turn = desk.turn(Acting::booker());
    let now = turn.now;
    let handed = desk
        .store
        .write(move |tx| {
            let (event, own) = mine(tx, id, now)?;
            let to = form.take(&HAND_TO);
            let other = invited::by_email(tx, event.id, &to)?;
            let facts = HandingOn {
                inviting: &event.rules.inviting,
                listed: own.listed,
                booked: has_booked(tx, event.id, &own.email)?,
                handed: own.handed,
                to: &to,
                invited: other.is_some_and(|o| o.listed && o.handed_to.is_empty()),
            };
            if let Err(refusal) = allowed(&facts) {
                form.fault(HAND_TO, refusal.into());
            }
            form.done().map_err(DeskError::Form)?;
            let said = "handed the invitation on";
            let_go(tx, event.id, &own.email, said, &turn)?;
            invited::hand_on(tx, event.id, (&own.email, &to), now)?;
            invite(tx, event.id, &to, &Ask::First, &turn)?;
            let what = format!("{} handed an invitation on to {to}", own.email);
            log(tx, event.id, &turn, &what)?;
            Ok::<_, DeskError>(to)
        })
        .await;
    // Whoever asks who is invited, by handing it to one after the other, may ask as often as hand.
    if let Err(DeskError::Form(wrong)) = &handed
        && wrong.iter().any(|w| w.fault == HandOnRefusal::Invited.into())
    {
        let count = move |tx: &Tx<'_>| {
            let (event, own) = mine(tx, id, now)?;
            Ok::<_, DeskError>(invited::count_handed(tx, event.id, &own.email)?)
        };
        desk.store.write(count).await?;
    }
    desk.wake.all();
    handed
}

/// Takes an invitation back that was handed on, while whoever has it has said nothing.
///
/// # Errors
/// [`DeskError::NothingToUndo`] once they have; otherwise as [`question`].
pub async fn take_back(desk: &Desk, id: i64, key: &str) -> Result<(), DeskError> {
    if !desk.secrets.opens_invitation(id, key) {
        return Err(DeskError::NotFound);
    }
    let turn = desk.turn(Acting::booker());
    desk.store
        .write(move |tx| {
            let (event, own) = theirs(tx, id, turn.now)?.ok_or(DeskError::NotFound)?;
            if !may_take_back(tx, event.id, &own)? {
                return Err(DeskError::NothingToUndo);
            }
            invited::take_back(tx, event.id, &own.email, &own.handed_to)?;
            let what = format!("{} took an invitation back from {}", own.email, own.handed_to);
            log(tx, event.id, &turn, &what)
        })
        .await
}

/// Somebody who was invited, and where they stand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReplyRow {
    /// They: their address, how often they were asked and when last.
    pub invited: Invited,
    /// Their name, where it is known.
    pub name: String,
    /// Where they stand.
    pub stands: Stands,
    /// What they said.
    pub said: Option<Replied>,
    /// They have booked.
    pub booked: bool,
    /// Where the first mail to them stands, and when it went.
    pub mail: Option<(MessageState, Option<Timestamp>)>,
}

impl ReplyRow {
    /// Where somebody stands, by what is known of them.
    pub(crate) fn of(known: Known, booked: bool) -> Self {
        let Known { invited, name, refused, said, mail } = known;
        let facts = ReplyFacts {
            said: said.as_ref().map(|s| s.reply),
            booked,
            handed_on: !invited.handed_to.is_empty(),
            bounced: refused,
            asked: invited.asked > 0,
        };
        Self { stands: Stands::of(&facts), name, said, booked, mail, invited }
    }

    /// Their own link, once there is one.
    #[must_use]
    pub fn link(&self, desk: &Desk) -> Option<String> {
        Some(format!("{}/reply", desk.invitation_url(self.invited.message?)))
    }

    /// Whether they may be asked once more, by mail.
    #[must_use]
    pub const fn may_be_asked_again(&self) -> bool {
        self.stands.may_be_asked_again(self.invited.asked) && !self.invited.elsewhere
    }
}

/// All replies to an event.
#[derive(Debug, Clone)]
pub struct Replies {
    /// The event.
    pub event: Event,
    /// Everybody on its lists, in the order of them.
    pub rows: Vec<ReplyRow>,
    /// Its dates to come.
    pub dates: Vec<Date>,
    /// How many stand where, in the order of [`Stands::ALL`].
    pub counts: [u32; 8],
    /// When a cue asks the first of those once again who have not replied, if one does.
    pub again_at: Option<Timestamp>,
}

fn rows(conn: &Connection, event: &Event) -> Result<Vec<ReplyRow>, DeskError> {
    let booked = replies::booked(conn, event.id)?;
    let is_booked = |k: &Known| booked.contains(&k.invited.email.to_lowercase());
    let all = invited::all(conn, event.id)?.into_iter();
    Ok(all.map(|k| (is_booked(&k), k)).map(|(booked, k)| ReplyRow::of(k, booked)).collect())
}

/// Name and address of those who were asked by mail and have said nothing.
pub(crate) fn silent(
    conn: &Connection,
    event: EventId,
) -> Result<Vec<(String, String)>, DeskError> {
    let event = events::by_id(conn, event)?.ok_or(DeskError::NotFound)?;
    let silent = |r: &ReplyRow| r.stands == Stands::None && !r.invited.elsewhere;
    let rows = rows(conn, &event)?.into_iter().filter(silent);
    Ok(rows.map(|r| (r.name, r.invited.email)).collect())
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
            let again_at = match again_of(conn, event.id, now)? {
                Some((date, cues)) => rows
                    .iter()
                    .filter(|r| r.may_be_asked_again())
                    .filter_map(|r| r.invited.asked_at)
                    .flat_map(|asked| cues.iter().map(move |c| (c, asked)))
                    .filter_map(|(cue, asked)| again_at(cue, &date, asked))
                    .min(),
                None => None,
            };
            let counts = counts(rows.iter().map(|r| r.stands));
            Ok(Replies { dates, counts, again_at, rows, event })
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
    // Whoever said yes and handed the invitation on is not coming: the other may.
    let yes = |r: &&ReplyRow| r.stands == Stands::Said(Reply::Yes) && !r.booked;
    for row in all.rows.iter().filter(yes) {
        let local = row.invited.email.split('@').next().unwrap_or_default();
        let name = if row.name.is_empty() { local } else { &row.name }.to_owned();
        let (address, turn, now) = (row.invited.email.clone(), turn.clone(), turn.now);
        let said = "booked the seat, since they said yes to the invitation";
        let made = desk
            .store
            .write(move |tx| {
                let kept = kept(tx, event, &address, now)?.map(|b| b.reference);
                let buyer = buyer_of(tx, &address)?;
                phone::by_a_yes(tx, seat, (&name, buyer), (kept, said), &turn)
            })
            .await;
        match made {
            Ok(_) => done.booked += 1,
            Err(closed @ DeskError::Store(_)) => return Err(closed),
            Err(why) => done.not.push((row.invited.email.clone(), why)),
        }
    }
    desk.wake.all();
    Ok(done)
}

/// What a yes that books is said to be.
const YES: &str = "said yes to the invitation, and to the terms beside it";
