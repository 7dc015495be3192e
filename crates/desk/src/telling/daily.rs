//! What people of the house asked to be told by itself: at once, or once a day at their hour.

use jiff::Timestamp;
use jiff::civil::{Time, time};
use matricle_core::PersonId;
use matricle_core::booking::State;
use matricle_core::forms::form::Form;
use matricle_core::messages::cue::{Trigger, Way};
use matricle_core::messages::due::Reader;
use matricle_core::messages::occasion::{Knows, Moment};
use matricle_core::money::ledger::Method;
use matricle_core::people::wish::{self, What, Wish};
use matricle_formats::words::{self, count};
use matricle_store::events::{self, Sought};
use matricle_store::house::House;
use matricle_store::outbox::{self, About, NewMessage, Unplanned};
use matricle_store::people::{self, Staff};
use matricle_store::{
    Connection, bookings, books, complaints, places, refunds, submissions, templates, wishes as db,
};

use crate::{Desk, DeskError, house_of};

/// The hour at which a wish is granted where none was given.
const HOUR: Time = time(17, 0, 0, 0);

/// What somebody asked for, and what they may ask for.
#[derive(Debug, Clone)]
pub struct Wishes {
    /// What they may ask for.
    pub may: Vec<What>,
    /// What they asked for.
    pub has: Vec<Wish>,
    /// The zone of the house, whose clock the hours are of.
    pub zone: String,
}

fn may(conn: &Connection, staff: &Staff) -> Result<Vec<What>, DeskError> {
    let is_host = places::hosts(conn)?.iter().any(|h| h.person == Some(staff.id));
    Ok(What::ALL.into_iter().filter(|w| w.is_for(staff.role, is_host)).collect())
}

/// What somebody of the house asked to be told.
pub async fn wishes(desk: &Desk, staff: &Staff) -> Result<Wishes, DeskError> {
    let staff = staff.clone();
    desk.store
        .read(move |conn| {
            Ok(Wishes {
                may: may(conn, &staff)?,
                has: db::of(conn, staff.id)?,
                zone: house_of(conn)?.zone,
            })
        })
        .await
}

/// Reads the wishes of a form: `attendees` is `each`, `day` or nothing; `tomorrow`, `money` and
/// `house` are ticked; each has an hour and may want to hear that there is nothing.
fn read(form: &mut Form, may: &[What]) -> Vec<Wish> {
    let mut found = Vec::new();
    let each = form.get("attendees").to_owned();
    for what in may {
        let (ticked, name) = match what {
            What::EachAttendee => (each == "each", ""),
            What::Attendees => (each == "day", "attendees"),
            What::Tomorrow => (form.ticked("tomorrow"), "tomorrow"),
            What::Money => (form.ticked("money"), "money"),
            What::House => (form.ticked("house"), "house"),
        };
        if !ticked {
            continue;
        }
        let at = match name {
            "" => None,
            name => {
                let field = format!("{name}_at");
                if form.get(&field).is_empty() { Some(HOUR) } else { form.time(&field) }
            }
        };
        let nothing = form.ticked(&format!("{name}_nothing"));
        found.push(Wish { what: *what, at, nothing });
    }
    found
}

/// Keeps what somebody of the house wants to be told; what is not theirs to hear is left out.
///
/// # Errors
/// [`DeskError::Form`] for an hour that is none; the store fails.
pub async fn keep_wishes(desk: &Desk, staff: &Staff, mut form: Form) -> Result<(), DeskError> {
    let staff = staff.clone();
    desk.store
        .write(move |tx| {
            let found = read(&mut form, &may(tx, &staff)?);
            form.done().map_err(DeskError::Form)?;
            db::set(tx, staff.id, &found)?;
            Ok::<_, DeskError>(outbox::withdraw_wishes(tx, staff.id, "wished for otherwise")?)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Plans the next message for every wish that has none.
pub(crate) async fn plan(desk: &Desk) -> Result<(), DeskError> {
    let now = desk.clock.now();
    // A wish of somebody whose role is another now stays unplanned, and nothing is written for it.
    let any = |conn: &Connection| {
        for left in outbox::unplanned_wishes(conn)? {
            if is_theirs(conn, left.person, left.wish.what)? {
                return Ok::<_, DeskError>(true);
            }
        }
        Ok(false)
    };
    if !desk.store.read(any).await? {
        return Ok(());
    }
    let host = desk.host().to_owned();
    desk.store
        .write(move |tx| {
            let zone = words::zone(&house_of(tx)?.zone);
            for Unplanned { person, email, wish, since } in outbox::unplanned_wishes(tx)? {
                let (Some(hour), true) = (wish.at, is_theirs(tx, person, wish.what)?) else {
                    continue;
                };
                // One that somebody stopped is not planned again for the same day.
                let after = since.map_or(now, |s| s.max(now));
                let Some(at) = wish::next(after, hour, &zone) else { continue };
                let template = templates::standard(tx, wording(wish.what))?.map(|t| t.id);
                let since = Some(since.unwrap_or(now));
                let knows = Knows { wish: wish.what.word().into(), since, ..Knows::default() };
                let (reader, id) = (Reader::Staff(person).key(), uuid::Uuid::now_v7());
                let (about, trigger) = (About::House(person), Trigger::At(Moment::Day));
                outbox::plan(
                    tx,
                    &NewMessage {
                        template,
                        unique: &format!("day {id}"),
                        message_id: &format!("{id}@{host}"),
                        ..NewMessage::to(about, trigger, &reader, (Way::Mail, &email), &knows, at)
                    },
                )?;
            }
            Ok::<_, DeskError>(())
        })
        .await
}

const fn wording(what: What) -> &'static str {
    match what {
        What::EachAttendee => "new-booking",
        What::Attendees => "day-attendees",
        What::Tomorrow => "who-comes",
        What::Money => "day-money",
        What::House => "day-house",
    }
}

fn staff_of(conn: &Connection, person: PersonId) -> Result<Option<Staff>, DeskError> {
    Ok(people::staff_of(conn)?.into_iter().find(|s| s.id == person))
}

/// Whether somebody may still be told of something.
fn is_theirs(conn: &Connection, person: PersonId, what: What) -> Result<bool, DeskError> {
    let Some(staff) = staff_of(conn, person)? else { return Ok(false) };
    Ok(may(conn, &staff)?.contains(&what))
}

/// What there is to tell somebody of the house, line by line; `None` when it is not theirs any
/// more, or they do not wish for it.
#[derive(Debug, Clone)]
pub struct News {
    /// The house.
    pub house: House,
    /// Whom it is for.
    pub name: String,
    /// What happened: of what, and what.
    pub lines: Vec<(String, String)>,
    /// They want to hear that there is nothing.
    pub nothing: bool,
}

/// Gathers what happened since somebody was last told.
pub(crate) fn news(
    conn: &Connection,
    person: PersonId,
    knows: &Knows,
    now: Timestamp,
) -> Result<Option<News>, DeskError> {
    let Some(what) = What::from_word(&knows.wish) else { return Ok(None) };
    let Some(staff) = staff_of(conn, person)? else { return Ok(None) };
    let wish = db::of(conn, person)?.into_iter().find(|w| w.what == what);
    let (Some(wish), true) = (wish, may(conn, &staff)?.contains(&what)) else { return Ok(None) };
    let house = house_of(conn)?;
    let since = knows.since.unwrap_or(now);
    let lines = match what {
        What::Attendees => attendees(conn, person, since, now, &house)?,
        What::Money => money(conn, since, now, &house)?,
        What::House => of_house(conn, since, now, &house)?,
        What::EachAttendee | What::Tomorrow => Vec::new(),
    };
    Ok(Some(News { house, name: staff.name, lines, nothing: wish.nothing }))
}

/// New attendees of the dates that somebody leads.
fn attendees(
    conn: &Connection,
    person: PersonId,
    since: Timestamp,
    now: Timestamp,
    house: &House,
) -> Result<Vec<(String, String)>, DeskError> {
    let mut lines = Vec::new();
    let today = words::local(now, &house.zone).date();
    for host in places::hosts(conn)?.into_iter().filter(|h| h.person == Some(person)) {
        let asked =
            Sought { staff: true, host: Some(host.id), most: u32::MAX, ..Sought::default() };
        for summary in events::list(conn, &asked, now)?.dates {
            let date = &summary.date;
            let new = bookings::new_of_date(conn, date.id, since, now)?;
            if new.is_empty() {
                continue;
            }
            let all =
                bookings::coming(conn, summary.event.id, bookings::Which::Date(date.id))?.len();
            let when = words::span(date.span.starts, date.span.ends, today);
            let people = words::people(u32::try_from(all).unwrap_or(u32::MAX));
            lines.push((
                format!("{}, {when}", summary.event.title),
                format!("{} new, {people} in all", new.len()),
            ));
            lines.extend(new.into_iter().map(|(name, ticket, note)| {
                (name, if note.is_empty() { ticket } else { format!("{ticket}; {note}") })
            }));
        }
    }
    Ok(lines)
}

/// What came in, went back, is owed, and is to be given back by hand.
fn money(
    conn: &Connection,
    since: Timestamp,
    now: Timestamp,
    house: &House,
) -> Result<Vec<(String, String)>, DeskError> {
    let amount = |minor: i64| house.currency.of(minor).to_string();
    let moved = books::movements(conn, since, now)?;
    let mut lines = Vec::new();
    for (said, what, sign) in [("Came in by", "payments", 1), ("Went back by", "refunds", -1)] {
        for method in Method::ALL {
            let these: Vec<i64> = moved
                .iter()
                .filter(|m| m.method == method && m.minor.signum() == sign)
                .map(|m| m.minor)
                .collect();
            if these.is_empty() {
                continue;
            }
            let n = count(u32::try_from(these.len()).unwrap_or(u32::MAX), what);
            let sum = amount(these.iter().sum::<i64>().abs());
            lines.push((format!("{said} {}", method.word()), format!("{sum}, {n}")));
        }
    }
    let fees: i64 = moved.iter().map(|m| m.fee).sum();
    if fees > 0 {
        lines.push(("Fees of the card provider".into(), amount(fees)));
    }
    let owing = books::owing(conn)?;
    let late: i64 = owing.iter().filter(|o| o.until.is_some_and(|u| u <= now)).map(|o| o.due).sum();
    if !owing.is_empty() {
        let sum: i64 = owing.iter().map(|o| o.due).sum();
        let by = count(u32::try_from(owing.len()).unwrap_or(u32::MAX), "bookings");
        let late = if late > 0 { format!(", {} of it late", amount(late)) } else { String::new() };
        lines.push(("Owed now".into(), format!("{} on {by}{late}", amount(sum))));
    }
    let by_hand: Vec<i64> = refunds::open_ones(conn)?
        .into_iter()
        .filter(|(r, ..)| r.by_hand)
        .map(|(r, ..)| r.minor)
        .collect();
    if !by_hand.is_empty() {
        let sum: i64 = by_hand.iter().sum();
        let n = count(u32::try_from(by_hand.len()).unwrap_or(u32::MAX), "bookings");
        lines.push(("To give back by hand".into(), format!("{}, {n}", amount(sum))));
    }
    Ok(lines)
}

/// What happened, what waits for somebody, and what is on within a day.
fn of_house(
    conn: &Connection,
    since: Timestamp,
    now: Timestamp,
    house: &House,
) -> Result<Vec<(String, String)>, DeskError> {
    let mut lines = Vec::new();
    let people = words::people;
    for (title, came, left) in bookings::came_and_left(conn, since, now)? {
        let said: Vec<String> = [(came, "booked"), (left, "cancelled")]
            .into_iter()
            .filter(|(n, _)| *n > 0)
            .map(|(n, what)| format!("{} {what}", people(n)))
            .collect();
        lines.push((title, said.join(", ")));
    }
    let filter =
        |state| bookings::Filter { state: Some(state), most: 1, ..bookings::Filter::default() };
    let asking = bookings::list(conn, &filter(State::Requested))?.count;
    if asking > 0 {
        lines.push(("Ask for a yes".into(), count(asking, "bookings")));
    }
    let to_review = submissions::waits(conn)?.0 + complaints::count_open(conn)?;
    if to_review > 0 {
        lines.push(("To review".into(), count(to_review, "things")));
    }
    for (_, title, n) in outbox::to_ring(conn)? {
        lines.push((format!("To ring: {title}"), people(n)));
    }
    let trouble = outbox::in_trouble(conn)?.len();
    if trouble > 0 {
        let n = count(u32::try_from(trouble).unwrap_or(u32::MAX), "messages");
        lines.push(("Could not be sent".into(), n));
    }
    let day = now + jiff::SignedDuration::from_hours(24);
    let asked = Sought { staff: true, between: Some((now, day)), most: 200, ..Sought::default() };
    let today = words::local(now, &house.zone).date();
    for d in events::list(conn, &asked, now)?.dates {
        let taken = d.pool.taken.total();
        if d.event.state != events::EventState::Published
            || !d.date.called_off.is_empty()
            || (d.slot && taken == 0)
        {
            continue;
        }
        let when = words::span(d.date.span.starts, d.date.span.ends, today);
        lines.push((
            format!("On within a day: {}", d.event.title),
            format!("{when}, {}", people(taken)),
        ));
    }
    Ok(lines)
}
