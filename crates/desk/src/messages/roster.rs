//! The list of who comes, drawn.

use jiff::Timestamp;
use matricle_formats::words;
use matricle_papers::{Roster, roster};
use matricle_store::bookings::Coming;
use matricle_store::events::{Date, Event};

use crate::DeskError;

/// Draws the list of who comes to a date.
pub(crate) fn roster_pdf(
    house: &str,
    event: &Event,
    date: &Date,
    coming: &[Coming],
    now: Timestamp,
) -> Result<Vec<u8>, DeskError> {
    let rows = coming
        .iter()
        .map(|c| {
            let mut more: Vec<String> = c.answers.iter().map(|(q, a)| format!("{q} {a}")).collect();
            if c.booker != c.name {
                more.insert(0, format!("booked by {}", c.booker));
            }
            if !c.phone.is_empty() {
                more.push(format!("telephone {}", c.phone));
            }
            if !c.notes.is_empty() {
                more.push(format!("Note: {}", c.notes));
            }
            (c.name.clone(), c.ticket.clone(), more.join("; "))
        })
        .collect();
    let sheet = Roster {
        house: house.to_owned(),
        title: event.title.clone(),
        when: words::long_span(date.span.starts, date.span.ends),
        place: date.place(),
        count: words::people(u32::try_from(coming.len()).unwrap_or(u32::MAX)),
        rows,
    };
    Ok(roster(&sheet, now)?)
}
