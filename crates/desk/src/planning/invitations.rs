//! Who is invited to an event, and how: the list, and the rules of it.

use std::collections::{HashMap, HashSet};
use std::time::Instant;

use matricle_core::fields;
use matricle_core::forms::field::Binding;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::messages::replies::Inviting;
use matricle_core::people::staff::{Right, require};
use matricle_core::words::pasted::pasted;
use matricle_core::{DateId, EventId, MessageId};
use matricle_formats::words;
use matricle_store::bookings::{self, Filter};
use matricle_store::people::{self, Staff};
use matricle_store::{Connection, StoreError, events, invited, replaced, replies};

use crate::people::invited::theirs;
use crate::planning::asking::doors_first;
use crate::planning::dates::log;
use crate::planning::replies::let_go;
use crate::planning::sheet::MOST_INVITED;
use crate::secrets::INVITATION;
use crate::{Desk, DeskError, house_of};

/// Where people to be invited come from, beside those that were typed.
#[derive(Debug, Clone, Default)]
pub enum From {
    /// From nowhere else.
    #[default]
    Nowhere,
    /// Whoever booked an event or one of its dates; only who came, or only who did not.
    Earlier {
        /// All dates of it.
        event: Option<EventId>,
        /// One date.
        date: Option<DateId>,
        /// Only who came, or only who did not.
        came: Option<bool>,
    },
    /// All members.
    Members,
    /// Whoever was invited to another event.
    Invited(EventId),
    /// Whoever a filter of the list of bookings finds.
    Filter(Box<Filter>),
}

/// What a list comes to before anything is kept.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Looked {
    /// Addresses that can be invited, each once.
    pub addresses: Vec<String>,
    /// So many of them did not stand in what was typed.
    pub found: usize,
    /// Those that stood there twice.
    pub doubles: Vec<String>,
    /// The names that stood beside addresses, by these.
    pub names: HashMap<String, String>,
    /// What is no address.
    pub wrong: Vec<String>,
    /// What stood beside addresses and is neither one nor a name.
    pub aside: Vec<String>,
    /// Those who are invited already.
    pub known: Vec<String>,
    /// Those in none of the domains that may be invited.
    pub outside: Vec<String>,
    /// Those who have booked this event already.
    pub booked: Vec<String>,
    /// Those whose mail server refuses mail to them.
    pub refused: Vec<String>,
    /// So many were left out who want no announcements.
    pub unsubscribed: usize,
}

fn found_by(conn: &Connection, from: From) -> Result<Vec<String>, DeskError> {
    Ok(match from {
        From::Nowhere => Vec::new(),
        From::Earlier { event, date, came } => invited::people_of(conn, event, date, came)?,
        From::Members => people::members(conn)?,
        From::Invited(other) => {
            let all = invited::all(conn, other)?;
            let theirs = |k: &invited::Known| k.invited.handed_to.is_empty();
            all.into_iter().filter(theirs).map(|k| k.invited.email).collect()
        }
        From::Filter(filter) => {
            let most = u32::try_from(MOST_INVITED).unwrap_or(u32::MAX);
            let found = bookings::list(conn, &Filter { skip: 0, most, ..*filter })?;
            let mut emails: Vec<String> = found.rows.into_iter().map(|r| r.booking.email).collect();
            emails.retain(|e| !e.is_empty());
            emails
        }
    })
}

fn look_in(conn: &Connection, event: EventId, text: &str, from: From) -> Result<Looked, DeskError> {
    let inviting = events::by_id(conn, event)?.ok_or(DeskError::NotFound)?.rules.inviting;
    let found = pasted(text);
    let names = found.addresses.iter().cloned().zip(found.names);
    let mut looked = Looked {
        doubles: found.doubles,
        wrong: found.wrong,
        aside: found.aside,
        names: names.filter(|(_, name)| !name.is_empty()).collect(),
        ..Looked::default()
    };
    let mut seen: HashSet<String> = found.addresses.iter().map(|a| a.to_lowercase()).collect();
    let mut all = found.addresses;
    // Whoever wants no announcements is invited by name, and not because they booked something.
    let unsubscribed = invited::known_addresses(conn, false)?;
    for address in found_by(conn, from)? {
        let lower = address.to_lowercase();
        if unsubscribed.contains(&lower) {
            looked.unsubscribed += usize::from(!seen.contains(&lower));
        } else if seen.insert(lower) {
            looked.found += 1;
            all.push(address);
        }
    }
    let known: HashSet<String> = invited::all(conn, event)?
        .into_iter()
        .filter(|k| k.invited.listed && k.invited.handed_to.is_empty())
        .map(|k| k.invited.email.to_lowercase())
        .collect();
    let (booked, refused) = (replies::booked(conn, event)?, invited::known_addresses(conn, true)?);
    for address in all {
        let lower = address.to_lowercase();
        if known.contains(&lower) {
            looked.known.push(address);
            continue;
        }
        if !inviting.admits(&address) {
            looked.outside.push(address);
            continue;
        }
        if booked.contains(&lower) {
            looked.booked.push(address.clone());
        }
        if refused.contains(&lower) {
            looked.refused.push(address.clone());
        }
        looked.addresses.push(address);
    }
    Ok(looked)
}

/// Looks at a list before anything is kept: who is on it, whom it has twice, what is no address,
/// who is invited or has booked already. People from elsewhere are added.
///
/// # Errors
/// There is no such event; the role may not.
pub async fn look(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    text: String,
    from: From,
) -> Result<Looked, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    desk.store.read(move |conn| look_in(conn, event, &text, from)).await
}

/// What became of a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Added {
    /// So many are new on the list.
    pub new: usize,
    /// So many were on it.
    pub known: usize,
}

/// Most letters of a name beside an address.
const LONGEST_NAME: usize = 200;
/// So many addresses are written in one piece: a few milliseconds of the writing thread.
const PIECE: usize = 1000;

/// Puts the addresses of a text on the list of an event: all are looked at before any is written.
/// They are written in pieces, so that no door waits for a long list; what a piece wrote stands,
/// and the same text put there once more adds the rest.
///
/// # Errors
/// [`DeskError::Form`] where one is none, is in none of the domains, or there are none or too many;
/// the role may not.
pub async fn add(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    form: Form,
) -> Result<Added, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let found = desk.store.read(move |conn| events::by_id(conn, event)).await?;
    let inviting = found.ok_or(DeskError::NotFound)?.rules.inviting;
    let emails = crate::off_thread(move || addresses_of(form, &inviting)).await?;
    let (mut new, now) = (0, turn.now);
    let mut pieces = emails.chunks(PIECE).peekable();
    while let Some(piece) = pieces.next() {
        let piece = piece.to_vec();
        let (added, took) = desk
            .store
            .write(move |tx| {
                let began = Instant::now();
                let added = invited::add(tx, event, &piece, now)?;
                Ok::<_, StoreError>((added, began.elapsed()))
            })
            .await?;
        new += added;
        if pieces.peek().is_some() {
            doors_first(took).await;
        }
    }
    if new > 0 {
        let many = words::people(u32::try_from(new).unwrap_or(u32::MAX));
        let what = format!("put {many} on the list of those invited");
        desk.store.write(move |tx| log(tx, event, &turn, &what)).await?;
    }
    Ok(Added { new, known: emails.len() - new })
}

/// The addresses of a form, each once and with the name beside it, or what is wrong with them;
/// where that is asked for, what is none or is in none of the domains is left out instead.
fn addresses_of(mut form: Form, inviting: &Inviting) -> Result<Vec<(String, String)>, DeskError> {
    let mut read = pasted(form.get(WHOM.name));
    if form.ticked("leave") {
        read.wrong.clear();
    }
    form.found(WHOM.name, &read, MOST_INVITED);
    let mut people: Vec<_> = read.addresses.into_iter().zip(read.names).collect();
    if form.ticked("leave") {
        people.retain(|(address, _)| inviting.admits(address));
    }
    if people.is_empty() && form.wrong.is_empty() {
        form.fault(WHOM, Fault::Missing);
    }
    if let Some((line, _)) = people.iter().find(|(a, _)| !inviting.admits(a)) {
        form.fault(WHOM, Fault::OtherDomain(line.clone()));
    }
    form.done().map_err(DeskError::Form)?;
    for (_, name) in &mut people {
        *name = name.chars().take(LONGEST_NAME).collect();
    }
    Ok(people)
}

/// Gives somebody's invitation another link; the old one opens nothing.
///
/// # Errors
/// They are not invited; the role may not.
pub async fn replace_link(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    email: String,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let secrets = desk.secrets.clone();
    desk.store
        .write(move |tx| {
            let found = invited::by_email(tx, event, &email)?.ok_or(DeskError::NotFound)?;
            let MessageId(message) = found.message.ok_or(DeskError::NotFound)?;
            let message = message.to_string();
            let times = replaced::once_more(tx, INVITATION, &message)?;
            let what = format!("replaced the link of {email}’s invitation");
            log(tx, event, &turn, &what)?;
            secrets.replace(INVITATION, &message, times);
            Ok::<_, DeskError>(())
        })
        .await
}

/// Takes somebody off the list of an event: their invitation opens nothing any more. Says whether
/// they were on it.
pub async fn take_off(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    email: String,
) -> Result<bool, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            let was = invited::take_off(tx, event, &email)?;
            if was {
                // Time and bookers let seats go; that this one is free follows from the act.
                let said = format!("{} took them off the list of those invited", turn.by.name);
                let_go(tx, event, &email, &said, &turn.program())?;
                log(tx, event, &turn, &format!("took {email} off the list of those invited"))?;
            }
            Ok(was)
        })
        .await
}

/// Most domains that invitations are kept to.
const MOST_DOMAINS: usize = 200;

fields! {
    WHOM: PastedAddresses(6, MOST_INVITED) = "whom", "Addresses",
        "As you have them: one on a line, with commas, with names.";
    FROM_WORDS: Line = "from_words", "Or whom these words find among the bookings",
        "Such as: microscopy confirmed 2026";
    ONLY_DOMAINS: Domains(2, MOST_DOMAINS) = "only_domains", "Only addresses at these domains",
        "One on a line, such as school.example; empty for all.";
    MAYBE_DAYS: WholeOrNone(0, 365) = "maybe_days",
        "A maybe keeps a seat until so many days before the date",
        "Empty: a maybe keeps no seat. Seats are kept where there is one date to come and one ticket.";
    HAND_ON: Tick = "hand_on", "It may be handed on to somebody else",
        "otherwise it is for that person alone";
}

/// How people are invited to an event, as a form.
pub fn form(f: &mut Binding<'_>, inviting: &mut Inviting) {
    f.bind(&ONLY_DOMAINS, &mut inviting.domains);
    f.bind(&MAYBE_DAYS, &mut inviting.maybe_days);
    f.bind(&HAND_ON, &mut inviting.hand_on);
}

/// Writes how people are invited to an event.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn set(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            let mut found = events::by_id(tx, event)?.ok_or(DeskError::NotFound)?;
            let locale = house_of(tx)?.locale();
            self::form(&mut Binding::Read(&mut form, &locale), &mut found.rules.inviting);
            form.done().map_err(DeskError::Form)?;
            events::set(tx, &found, turn.now)?;
            log(tx, event, &turn, "changed how people are invited")
        })
        .await
}

/// What the link of an invitation opens.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Opens {
    /// The event, by its word in addresses.
    Event(String),
    /// Who has the invitation now, and nothing else.
    WhoHasIt,
}

/// What an invitation opens for whoever has the link.
///
/// # Errors
/// [`DeskError::NotFound`] for another key, when the address has been taken off the lists
/// since, or when the event is over.
pub async fn open(desk: &Desk, id: i64, key: &str) -> Result<Opens, DeskError> {
    if !desk.secrets.opens_invitation(id, key) {
        return Err(DeskError::NotFound);
    }
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let (event, invited) = theirs(conn, id, now)?.ok_or(DeskError::NotFound)?;
            Ok(match invited.handed_to.as_str() {
                "" => Opens::Event(event.slug),
                _ => Opens::WhoHasIt,
            })
        })
        .await
}

/// Most earlier dates that are offered.
pub const MOST_EARLIER: u32 = 200;

/// What the page of an event's invitations shows beside its list.
#[derive(Debug, Clone)]
pub struct Sources {
    /// Dates that have begun, the latest first; at most [`MOST_EARLIER`].
    pub earlier: Vec<invited::Earlier>,
    /// Other events to which people are invited.
    pub lists: Vec<(EventId, String, u32)>,
    /// Kept filters of the list of bookings: key, name, what the address says.
    pub views: Vec<(i64, String, String)>,
    /// How many are invited, and how many of them were not asked yet.
    pub counts: (u32, u32),
}

/// Where people to be invited can come from.
pub async fn sources(desk: &Desk, staff: &Staff, event: EventId) -> Result<Sources, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let (now, me) = (desk.clock.now(), staff.id);
    desk.store
        .read(move |conn| {
            Ok(Sources {
                earlier: invited::earlier(conn, now, MOST_EARLIER)?,
                lists: invited::other_lists(conn, event, MOST_EARLIER)?,
                views: matricle_store::views::of(conn, me)?,
                counts: invited::count(conn, event)?,
            })
        })
        .await
}
