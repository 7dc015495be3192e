//! Ticket types, pools and questions of events.

use matricle_core::booking::Offer;
use matricle_core::booking::confirm::Way;
use matricle_core::dates::schedule::SaleWindow;
use matricle_core::money::price::{Early, Group, Share, TicketPrice};
use matricle_core::seats::{Draw, TicketSeats};
use matricle_core::{DateId, EventId, PoolId, TaxRateId, TicketTypeId};
use rusqlite::{Connection, Row};

use crate::convert::{InOrder, json};
use crate::events::new::NewTicketType;
use crate::states::sql_of;
use crate::unreadable::readable;
use crate::{Doing, StoreError, Tx, us};

/// Who joins online, of an event `e` with a ticket type `t`: everybody where it is online alone,
/// and where it is both, whoever has a ticket for it.
pub(crate) const JOINS_ONLINE: &str =
    "(e.format = 'online' OR (e.format = 'in person and online' AND coalesce(t.online, 0)))";

/// A ticket type's words, beside its [`Offer`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TicketType {
    /// Its key.
    pub id: TicketTypeId,
    /// Its name.
    pub name: String,
    /// A line of explanation; may be empty.
    pub note: String,
    /// People one ticket lets in.
    pub admits: u32,
    /// The name of its tax rate, if it has one.
    pub tax: Option<String>,
    /// The stamp card that one is, if it is one.
    pub card: Option<CardTicket>,
    /// Whether bookings with it wait for the organiser's yes; `None` as the event says.
    pub confirm: Option<Way>,
}

/// A stamp card that is sold like a ticket.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CardTicket {
    /// The name of its kind.
    pub kind: String,
    /// Its stamps.
    pub stamps: u32,
    /// Days it is good for; without them for ever.
    pub life_days: Option<u32>,
}

/// The rule of a ticket type, where it has one.
pub(crate) fn way(after_yes: Option<bool>) -> Option<Way> {
    after_yes.map(|yes| if yes { Way::AfterYes } else { Way::ByItself })
}

const TICKET_COLUMNS: &str = "t.id, t.name, t.note, t.minor, t.early_minor, t.early_until, t.member_minor, \
     t.group_from, t.group_minor, x.basis, x.added, t.sale_from, t.sale_until, t.per_date, t.least, t.most, \
     CASE WHEN t.card_kind_id IS NULL THEN t.admits ELSE 0 END, t.code, t.members_only, t.closed, t.invited, \
     t.stamps, t.after_yes, k.name, k.stamps, k.life_days, t.tax_rate_id, x.name, t.online";

/// A ticket type as it is stored.
struct Stored {
    id: TicketTypeId,
    name: String,
    note: String,
    price: TicketPrice,
    sale: SaleWindow,
    per_date: Option<u32>,
    least: u32,
    most: u32,
    admits: u32,
    word: String,
    members_only: bool,
    online: bool,
    closed: bool,
    invited: Vec<String>,
    stamps: Option<u32>,
    confirm: Option<Way>,
    card: Option<CardTicket>,
    tax_rate: Option<TaxRateId>,
    tax: Option<String>,
    /// What comes after the columns: how many are sold.
    sold: u32,
}

fn stored(row: &Row<'_>) -> rusqlite::Result<Stored> {
    let mut c = InOrder::from(row, 0);
    let id = TicketTypeId(c.next()?);
    Ok(Stored {
        id,
        name: c.next()?,
        note: c.next()?,
        price: TicketPrice {
            id,
            minor: c.next()?,
            early: c
                .next::<Option<i64>>()?
                .zip(c.instant_or()?)
                .map(|(minor, until)| Early { minor, until }),
            member: c.next()?,
            group: c
                .next::<Option<u32>>()?
                .zip(c.next()?)
                .map(|(from, minor)| Group { from, minor }),
            share: None,
            tax_basis: c.next::<Option<u32>>()?.unwrap_or(0),
            tax_added: c.next::<Option<bool>>()?.unwrap_or(false),
        },
        sale: SaleWindow { from: c.instant_or()?, until: c.instant_or()? },
        per_date: c.next()?,
        least: c.next()?,
        most: c.next()?,
        admits: c.next()?,
        word: c.next()?,
        members_only: c.next()?,
        closed: c.next()?,
        invited: c.word("ticket_types.invited", |list| serde_json::from_str(list).ok())?,
        stamps: c.next()?,
        confirm: way(c.next()?),
        card: match (c.next::<Option<String>>()?, c.next::<Option<u32>>()?, c.next()?) {
            (Some(kind), stamps, life_days) => {
                Some(CardTicket { kind, stamps: stamps.unwrap_or(0), life_days })
            }
            (None, ..) => None,
        },
        tax_rate: c.next::<Option<i64>>()?.map(TaxRateId),
        tax: c.next()?,
        online: c.next()?,
        sold: c.next()?,
    })
}

/// The ticket types of an event as sold for these dates: one, or all that are left of a
/// course.
pub fn ticket_types(
    conn: &Connection,
    event: EventId,
    covers: &[DateId],
    share: Option<Share>,
) -> Result<Vec<(TicketType, Offer)>, StoreError> {
    // How many are sold is asked only of ticket types with a limit. Of a course it counts
    // bookings whatever date they were first for.
    let sold_on = if covers.len() > 1 || share.is_some() {
        "(b.date_id = :date OR b.date_id IN (SELECT id FROM dates WHERE event_id = :event))"
    } else {
        "b.date_id = :date"
    };
    let first = covers.first().map_or(0, |d| d.0);
    let sql = sql_of!(
        "SELECT {TICKET_COLUMNS},
            CASE WHEN t.per_date IS NULL THEN 0 ELSE (
                SELECT coalesce(sum(l.quantity), 0) FROM bookings b
                JOIN booking_lines l ON l.booking_id = b.id AND l.ticket_type_id = t.id
                WHERE {sold_on} AND b.test = 0
                  AND b.state IN {{keeps_seats}}
            ) END AS sold
         FROM ticket_types t LEFT JOIN tax_rates x ON x.id = t.tax_rate_id LEFT JOIN card_kinds k ON k.id = t.card_kind_id
         WHERE t.event_id = :event AND t.retired = 0 ORDER BY t.position"
    );
    let read = || -> rusqlite::Result<Vec<(TicketType, Offer)>> {
        let mut query = conn.prepare_cached(&sql)?;
        let mut draws = conn.prepare_cached(
            "SELECT p.id, w.seats FROM draws w JOIN pools p ON p.kind_id = w.kind_id AND p.date_id = ?2
             WHERE w.ticket_type_id = ?1",
        )?;
        let rows = query.query_map(
            rusqlite::named_params! { ":event": event.0, ":date": first },
            |row| {
                let t = stored(row)?;
                let mut drawn = Vec::new();
                for date in covers {
                    let of_date = draws.query_map((t.id.0, date.0), |d| {
                        Ok(Draw { pool: PoolId(d.get(0)?), seats: d.get(1)? })
                    })?;
                    drawn.extend(of_date.collect::<Result<Vec<_>, _>>()?);
                }
                let ticket = TicketType {
                    id: t.id,
                    name: t.name,
                    note: t.note,
                    admits: t.admits,
                    tax: t.tax,
                    card: t.card,
                    confirm: t.confirm,
                };
                let offer = Offer {
                    price: TicketPrice { share, ..t.price },
                    seats: TicketSeats { id: t.id, draws: drawn, limit: t.per_date, sold: t.sold },
                    sale: t.sale,
                    least: t.least,
                    most: t.most,
                    closed: t.closed,
                    word: t.word,
                    members_only: t.members_only,
                    invited: t.invited,
                };
                Ok((ticket, offer))
            },
        )?;
        readable("ticket types", rows)
    };
    read().doing("reading ticket types")
}

/// A ticket type as it is planned.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TicketRow {
    /// Its key.
    pub id: TicketTypeId,
    /// How it is planned; draws by the place of the pool kind.
    pub plan: NewTicketType,
    /// The tax rate's key.
    pub tax_rate: Option<TaxRateId>,
    /// How many are on bookings that count.
    pub sold: u32,
}

/// The ticket types of an event as they are planned, in their order.
pub fn ticket_rows(conn: &Connection, event: EventId) -> Result<Vec<TicketRow>, StoreError> {
    let read = || -> rusqlite::Result<Vec<TicketRow>> {
        let mut query = conn.prepare_cached(&sql_of!(
            "SELECT {TICKET_COLUMNS}, (SELECT coalesce(sum(l.quantity), 0) FROM booking_lines l
                JOIN bookings b ON b.id = l.booking_id WHERE l.ticket_type_id = t.id AND b.test = 0
                AND b.state IN {{keeps_seats}}) AS sold
             FROM ticket_types t LEFT JOIN tax_rates x ON x.id = t.tax_rate_id LEFT JOIN card_kinds k ON k.id = t.card_kind_id
             WHERE t.event_id = ?1 AND t.retired = 0 ORDER BY t.position"
        ))?;
        let mut draws = conn.prepare_cached(
            "SELECT k.position, w.seats FROM draws w JOIN pool_kinds k ON k.id = w.kind_id
             WHERE w.ticket_type_id = ?1 ORDER BY k.position",
        )?;
        let rows = query.query_map([event.0], |row| {
            let t = stored(row)?;
            let draws = draws
                .query_map([t.id.0], |d| {
                    Ok((usize::try_from(d.get::<_, i64>(0)?).unwrap_or(0), d.get(1)?))
                })?
                .collect::<Result<_, _>>()?;
            Ok(TicketRow {
                id: t.id,
                plan: NewTicketType {
                    name: t.name,
                    note: t.note,
                    minor: t.price.minor,
                    early: t.price.early,
                    member: t.price.member,
                    group: t.price.group,
                    tax: t.tax,
                    sale: t.sale,
                    per_date: t.per_date,
                    least: t.least,
                    most: t.most,
                    admits: t.admits,
                    word: t.word,
                    members_only: t.members_only,
                    online: t.online,
                    invited: t.invited,
                    closed: t.closed,
                    stamps: t.stamps,
                    card: t.card.map(|card| card.kind),
                    confirm: t.confirm,
                    draws,
                },
                tax_rate: t.tax_rate,
                sold: t.sold,
            })
        })?;
        rows.collect()
    };
    read().doing("reading ticket types")
}

/// What an event counts: keys and names, in their order.
pub fn pool_kinds(conn: &Connection, event: EventId) -> Result<Vec<(i64, String)>, StoreError> {
    conn.prepare_cached("SELECT id, name FROM pool_kinds WHERE event_id = ?1 ORDER BY position")
        .and_then(|mut q| q.query_map([event.0], |row| Ok((row.get(0)?, row.get(1)?)))?.collect())
        .doing("reading what an event counts")
}

/// Adds a ticket type after the others.
pub fn add_ticket(tx: &Tx<'_>, event: EventId, new: &NewTicketType) -> Result<(), StoreError> {
    let kinds: Vec<i64> = pool_kinds(tx, event)?.into_iter().map(|(id, _)| id).collect();
    let position = next_position(tx, "ticket_types", event)?;
    insert_ticket(tx, event.0, position, new, &kinds).doing("adding a ticket type")
}

/// Changes a ticket type; bookings keep what they were made with.
pub fn set_ticket(
    tx: &Tx<'_>,
    event: EventId,
    id: TicketTypeId,
    new: &NewTicketType,
) -> Result<(), StoreError> {
    let kinds: Vec<i64> = pool_kinds(tx, event)?.into_iter().map(|(id, _)| id).collect();
    let write = || -> rusqlite::Result<()> {
        tx.execute(
            "UPDATE ticket_types SET name = ?2, note = ?3, minor = ?4, early_minor = ?5, early_until = ?6,
                sale_from = ?7, sale_until = ?8, per_date = ?9, most = ?10, admits = ?11, member_minor = ?12,
                group_from = ?13, group_minor = ?14, least = ?15, code = ?16, members_only = ?17, closed = ?18,
                tax_rate_id = (SELECT id FROM tax_rates WHERE name = ?19), invited = ?21, stamps = ?22, after_yes = ?23,
                card_kind_id = (SELECT id FROM card_kinds WHERE name = ?24), online = ?25
             WHERE id = ?1 AND event_id = ?20",
            rusqlite::params![
                id.0, new.name, new.note, new.minor, new.early.map(|e| e.minor),
                new.early.map(|e| us(e.until)), new.sale.from.map(us), new.sale.until.map(us),
                new.per_date, new.most, new.admits.max(1), new.member, new.group.map(|g| g.from),
                new.group.map(|g| g.minor), new.least, new.word, new.members_only, new.closed,
                new.tax, event.0, json(&new.invited)?, new.stamps, new.confirm.map(|w| w == Way::AfterYes), new.card, new.online
            ],
        )?;
        tx.execute("DELETE FROM draws WHERE ticket_type_id = ?1", [id.0])?;
        for &(pool, seats) in &new.draws {
            tx.execute(
                "INSERT INTO draws (ticket_type_id, kind_id, seats) VALUES (?1, ?2, ?3)",
                (id.0, kinds.get(pool), seats),
            )?;
        }
        Ok(())
    };
    write().doing("changing a ticket type")
}

/// Puts a ticket type at a place among the others, counted from zero.
pub fn set_ticket_place(
    tx: &Tx<'_>,
    event: EventId,
    id: TicketTypeId,
    place: usize,
) -> Result<(), StoreError> {
    put_in_place(tx, "ticket_types", event, id.0, place)
}

/// Puts one row of an event's list in its place among the others; retired ones stand last.
pub(crate) fn put_in_place(
    tx: &Tx<'_>,
    table: &'static str,
    event: EventId,
    id: i64,
    place: usize,
) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        let mut order: Vec<i64> = tx
            .prepare_cached(&format!(
                "SELECT id FROM {table} WHERE event_id = ?1 ORDER BY retired, position, id"
            ))?
            .query_map([event.0], |row| row.get(0))?
            .collect::<Result<_, _>>()?;
        order.retain(|other| *other != id);
        order.insert(place.min(order.len()), id);
        // Out of the way first: two never have one place, not even in passing.
        tx.execute(
            &format!("UPDATE {table} SET position = -1 - position WHERE event_id = ?1"),
            [event.0],
        )?;
        let mut put =
            tx.prepare_cached(&format!("UPDATE {table} SET position = ?2 WHERE id = ?1"))?;
        for (position, id) in (0i64..).zip(order) {
            put.execute((id, position))?;
        }
        Ok(())
    };
    write().doing("putting a list in order")
}

/// Takes a ticket type off an event; one that is on bookings is only retired.
pub fn drop_ticket(tx: &Tx<'_>, event: EventId, id: TicketTypeId) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        let used: bool = tx.query_row(
            "SELECT EXISTS (SELECT 1 FROM booking_lines WHERE ticket_type_id = ?1)",
            [id.0],
            |row| row.get(0),
        )?;
        if used {
            tx.execute(
                "UPDATE ticket_types SET retired = 1 WHERE id = ?1 AND event_id = ?2",
                (id.0, event.0),
            )?;
        } else {
            tx.execute("DELETE FROM draws WHERE ticket_type_id = ?1", [id.0])?;
            tx.execute(
                "DELETE FROM ticket_types WHERE id = ?1 AND event_id = ?2",
                (id.0, event.0),
            )?;
        }
        Ok(())
    };
    write().doing("taking a ticket type off")
}

pub(crate) fn next_position(tx: &Tx<'_>, table: &str, event: EventId) -> Result<i64, StoreError> {
    tx.query_row(
        &format!("SELECT coalesce(max(position) + 1, 0) FROM {table} WHERE event_id = ?1"),
        [event.0],
        |row| row.get(0),
    )
    .doing("looking for the last place")
}

pub(crate) fn insert_ticket(
    tx: &Tx<'_>,
    event: i64,
    position: i64,
    ticket: &NewTicketType,
    kinds: &[i64],
) -> rusqlite::Result<()> {
    tx.execute(
        "INSERT INTO ticket_types (event_id, position, name, note, minor, early_minor,
            early_until, sale_from, sale_until, per_date, most, admits, member_minor, group_from,
            group_minor, least, code, members_only, closed, invited, stamps, after_yes, tax_rate_id, card_kind_id, online)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18, ?19, ?20,
            ?21, ?22, (SELECT id FROM tax_rates WHERE name = ?23), (SELECT id FROM card_kinds WHERE name = ?24), ?25)",
        rusqlite::params![
            event,
            position,
            ticket.name,
            ticket.note,
            ticket.minor,
            ticket.early.map(|e| e.minor),
            ticket.early.map(|e| us(e.until)),
            ticket.sale.from.map(us),
            ticket.sale.until.map(us),
            ticket.per_date,
            ticket.most,
            ticket.admits.max(1),
            ticket.member,
            ticket.group.map(|g| g.from),
            ticket.group.map(|g| g.minor),
            ticket.least.max(1),
            ticket.word,
            ticket.members_only,
            ticket.closed,
            json(&ticket.invited)?,
            ticket.stamps,
            ticket.confirm.map(|w| w == Way::AfterYes),
            ticket.tax,
            ticket.card,
            ticket.online,
        ],
    )?;
    let id = tx.last_insert_rowid();
    for &(pool, seats) in &ticket.draws {
        tx.execute(
            "INSERT INTO draws (ticket_type_id, kind_id, seats) VALUES (?1, ?2, ?3)",
            (id, kinds.get(pool), seats),
        )?;
    }
    Ok(())
}
