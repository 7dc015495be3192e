//! The demo house as it would be after some years: many events, many bookings.

use jiff::civil::time;
use matricle_core::DateId;
use matricle_store::events::{EventState, NewDate, NewEvent};

use super::{Stands, World, ticket};
use matricle_desk::{Desk, DeskError};

const ABOUT: [&str; 12] = [
    "candles",
    "pollen",
    "queens",
    "heather honey",
    "swarms",
    "frames",
    "wax",
    "the winter cluster",
    "mead",
    "forage",
    "drones",
    "hive records",
];
const KINDS: [&str; 5] = ["Evening talk", "Workshop", "Apiary day", "Branch meeting", "Walk"];
const VENUES: [(&str, &str); 4] = [
    ("Millrace Barn", "long room"),
    ("Ostrel Guildhall", "great hall"),
    ("Ostrel Guildhall", "map room"),
    ("Ostrel apiary", ""),
];

/// Adds so many events with so many bookings to the demo house, spread over two years around
/// now; the first of them has forty dates. Each event is a commit of its own.
pub async fn enlarge(desk: &Desk, events: u32, bookings: u32) -> Result<(), DeskError> {
    let (now, host) = (desk.clock.now(), desk.host().to_owned());
    let each = bookings / events.max(1);
    for n in 0..events {
        let host = host.clone();
        desk.store
            .write(move |tx| {
                // Names go on where the event before left off.
                let next_name = usize::try_from(n * each).unwrap_or(0) + 500;
                let mut world = World { tx, host: &host, now, next_name };
                world.one_of_many(i64::from(n), each)
            })
            .await?;
    }
    Ok(())
}

impl World<'_> {
    fn one_of_many(&mut self, n: i64, bookings: u32) -> Result<(), DeskError> {
        let pick = |of: usize| usize::try_from(n).unwrap_or(0) % of;
        let (about, kind) = (ABOUT[pick(ABOUT.len())], KINDS[pick(KINDS.len())]);
        let (venue, room) = VENUES[pick(VENUES.len())];
        // From a year ago to a year ahead, and not in the order they were planned.
        let first = n * 37 % 730 - 365;
        let count = if n == 0 { 40 } else { 1 + n % 3 };
        let first = if n == 0 { -70 } else { first };
        let dates: Vec<NewDate> = (0..count)
            .map(|week| {
                let span = self.span(first + week * 7, time(18, 30, 0, 0), time(21, 0, 0, 0))?;
                let place = (venue, "Ford Lane 3", "", room, "Tobias Wren");
                Ok(self.date(span, place, &[40]))
            })
            .collect::<Result<_, DeskError>>()?;
        let minor = [0, 500, 1200, 2500][pick(4)];
        let draft = n % 17 == 16;
        let (_, dates) = self.event(NewEvent {
            slug: format!("more-about-{}-{n}", about.replace(' ', "-")),
            title: format!("More about {about}, {}", n + 1),
            kind: kind.into(),
            lead: "What there is to know, and somebody who knows it.".into(),
            description: "Come as you are; tea is provided.".into(),
            state: if draft { EventState::Draft } else { EventState::Published },
            hold_minutes: 15,
            pools: vec!["seats".into()],
            tickets: vec![ticket("Seat", minor, &[(0, 1)]), ticket("Pair", minor * 2, &[(0, 2)])],
            dates,
            ..NewEvent::default()
        })?;
        if draft {
            return Ok(());
        }
        let first_hours = first * 24;
        for i in 0..i64::from(bookings) {
            let place = usize::try_from(i).unwrap_or(0) % dates.len();
            let date: DateId = dates[place];
            let wanted = if i % 4 == 3 { [0, 1] } else { [1, 0] };
            let over = first_hours + i64::try_from(place).unwrap_or(0) * 168 < 24;
            let stands = match i % 12 {
                5 if !over && minor > 0 => Stands::ToPay(96),
                7 => Stands::Cancelled,
                _ => Stands::Confirmed,
            };
            // Before it began, however long ago that was.
            let hours_ago = (48 - first_hours).max(24) + i;
            self.book(date, &wanted, stands, hours_ago)?;
        }
        Ok(())
    }
}
