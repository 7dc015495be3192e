//! Slots: cutting them from the opening hours, day by day.

use jiff::ToSpan;
use jiff::civil::Date as Day;
use matricle_core::dates::slots::{Cut, cut};
use matricle_core::fields;
use matricle_core::forms::field::{Binding, Locale};
use matricle_core::forms::form::{Fault, Form};
use matricle_core::forms::quick::MOST_DESKS;
use matricle_core::people::staff::Right;
use matricle_core::{DateId, EventId};
use matricle_formats::words;
use matricle_store::events::{self, NewDate, SlotPlan};
use matricle_store::people::Staff;
use matricle_store::{Tx, places, slots};

use crate::rounds::{Due, Work, each};
use crate::{Desk, DeskError, house_of};

/// The form of how an event cuts its slots.
pub fn form(f: &mut Binding<'_>, plan: &mut SlotPlan) {
    f.bind(&MINUTES, &mut plan.minutes);
    f.bind(&PAUSE, &mut plan.pause);
    f.bind(&DESKS, &mut plan.desks);
    f.bind(&NOTICE_HOURS, &mut plan.notice_hours);
    f.bind(&AHEAD_DAYS, &mut plan.ahead_days);
    f.bind(&VENUE, &mut plan.venue);
    f.bind(&ROOM, &mut plan.room);
}

/// What the form of slots begins with.
#[must_use]
pub const fn blank() -> SlotPlan {
    SlotPlan {
        minutes: 30,
        pause: 0,
        desks: 1,
        notice_hours: 24,
        ahead_days: 28,
        venue: String::new(),
        room: String::new(),
    }
}

/// Plans how an event cuts its slots, and cuts them.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn plan(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let mut plan = SlotPlan { notice_hours: 0, ..blank() };
    self::form(&mut Binding::Read(&mut form, &Locale::default()), &mut plan);
    form.done().map_err(DeskError::Form)?;
    desk.store
        .write(move |tx| {
            slots::set_plan(tx, event, &plan)?;
            let today = words::local(turn.now, &house_of(tx)?.zone).date();
            let last = today.saturating_add(i64::from(plan.ahead_days).days());
            cut_again(tx, event, today, last, turn.now)?;
            crate::planning::dates::log(tx, event, &turn, "changed how slots are cut")
        })
        .await
}

/// Cuts the slots of an event up to a day: those that fit the plan stay or are added,
/// those that no longer fit go unless somebody has booked them.
pub fn cut_again(
    tx: &Tx<'_>,
    event: EventId,
    today: Day,
    last: Day,
    now: jiff::Timestamp,
) -> Result<(), DeskError> {
    let Some(plan) = slots::plan_of(tx, event)? else { return Ok(()) };
    let house = house_of(tx)?;
    let closed: Vec<Day> =
        places::closed_days(tx, today)?.into_iter().map(|(day, _)| day).collect();
    let how = Cut { minutes: plan.minutes, pause: plan.pause, desks: plan.desks };
    let wanted = cut(&places::opening_hours(tx)?, &closed, how, today, last, &house.zone);
    let known = events::dates_of(tx, event)?;
    let coming: Vec<_> = known.iter().filter(|d| d.span.starts_at > now).collect();
    for date in &coming {
        if !wanted.contains(&date.span) && events::without_bookings(tx, date.id)? {
            events::remove_date(tx, date.id)?;
        }
    }
    // Booked slots that no longer fit the plan still use their desk.
    let kept: Vec<_> = events::dates_of(tx, event)?
        .into_iter()
        .filter(|d| d.span.starts_at > now && d.called_off.is_empty())
        .collect();
    for date in kept.iter().filter(|d| !wanted.contains(&d.span)) {
        // What is left of them is offered to nobody.
        let taken = events::pools(tx, date.id, now)?.first().map_or(0, |p| p.taken.total());
        set_desks(tx, date.id, taken, now)?;
    }
    for span in wanted.into_iter().filter(|s| s.starts_at > now) {
        if let Some(same) = kept.iter().find(|d| d.span == span) {
            set_desks(tx, same.id, plan.desks, now)?;
        } else if !kept
            .iter()
            .any(|d| d.span.starts_at < span.ends_at && span.starts_at < d.span.ends_at)
        {
            let new = NewDate {
                span,
                venue: plan.venue.clone(),
                address: String::new(),
                directions: String::new(),
                room: plan.room.clone(),
                hosts: Vec::new(),
                margins: (0, 0),
                capacities: vec![plan.desks],
                sessions: Vec::new(),
                online: None,
            };
            events::add_date(tx, event, &new, None)?;
        }
    }
    slots::cut_until(tx, Some(event), Some(last))?;
    Ok(events::changed(tx, event, now)?)
}

fn set_desks(tx: &Tx<'_>, date: DateId, desks: u32, now: jiff::Timestamp) -> Result<(), DeskError> {
    if let Some(pool) = events::pools(tx, date, now)?.first()
        && pool.capacity != desks
    {
        events::set_capacity(tx, pool.id, desks)?;
    }
    Ok(())
}

/// Cuts slots of further days as they come near: several weeks ahead, rolling.
pub(crate) async fn roll(desk: &Desk) -> Result<usize, DeskError> {
    let now = desk.clock.now();
    let due = desk
        .store
        .read(move |conn| {
            let Some(house) = matricle_store::house::get(conn)? else { return Ok(Vec::new()) };
            let today = words::local(now, &house.zone).date();
            Ok::<_, DeskError>(slots::to_cut(conn, today)?)
        })
        .await?;
    let due = due
        .into_iter()
        .map(|row| Due { about: format!("slots {}", row.0), booking: None, row })
        .collect();
    each(desk, Work::Planning, due, 1, |desk, (event, last)| async move {
        desk.store
            .write(move |tx| {
                let today = words::local(now, &house_of(tx)?.zone).date();
                cut_again(tx, event, today, last, now)
            })
            .await
    })
    .await
}

fields! {
    MINUTES: Whole(5, 720) = "minutes", "Minutes of one slot" needed;
    PAUSE: Whole(0, 240) = "pause", "Pause between two";
    DESKS: Whole(1, MOST_DESKS) = "desks", "Desks side by side" needed;
    NOTICE_HOURS: Whole(0, 1440) = "notice_hours", "At the latest, hours before";
    VENUE: Line = "venue", "Venue" needed;
    ROOM: Line = "room", "Room";
    AHEAD_DAYS: Whole(1, 366) = "ahead_days", "At the earliest, days before",
        "Slots are cut that far ahead, day by day." needed;
    CLOSED_DAY: Day = "closed_day", "Day" needed;
    WHY: Line = "why", "Why";
}

/// Closes a day, or opens it again: slots nobody has booked go or come back. Gives the
/// bookings that stand on it all the same.
///
/// # Errors
/// [`DeskError::Form`] without a day; the role may not.
pub async fn close_day(
    desk: &Desk,
    staff: &Staff,
    mut form: Form,
    close: bool,
) -> Result<u32, DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    let locale = Locale::default();
    let (day, why) = (form.read(&CLOSED_DAY, &locale), form.read(&WHY, &locale));
    desk.store
        .write(move |tx| {
            let today = words::local(turn.now, &house_of(tx)?.zone).date();
            if day.is_some_and(|d| d < today) {
                form.fault(CLOSED_DAY, Fault::Past);
            }
            form.done().map_err(DeskError::Form)?;
            let Some(day) = day else { return Err(DeskError::NotFound) };
            places::close_day(tx, day, close.then_some(why.as_str()))?;
            let act = if close { "closed" } else { "opened" };
            turn.log(tx, &format!("{act} {}", words::long_day(day)), "/office/house/hours")?;
            recut_all(tx, today, turn.now)?;
            Ok(slots::booked_on(tx, day)?)
        })
        .await
}

/// Cuts all slots again: the opening hours changed.
pub(crate) fn recut_all(tx: &Tx<'_>, today: Day, now: jiff::Timestamp) -> Result<(), DeskError> {
    slots::cut_until(tx, None, None)?;
    for (event, last) in slots::to_cut(tx, today)? {
        cut_again(tx, event, today, last, now)?;
    }
    Ok(())
}
