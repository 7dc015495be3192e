//! All that somebody booked, for their calendar, at an address of its own that they withdraw at
//! will.

use jiff::SignedDuration;
use matricle_core::booking::State;
use matricle_formats::calendar;
use matricle_store::{bookings, own_feeds};

use super::tickets::{Theirs, entry, online, only};
use crate::bookings::whole;
use crate::{Desk, DeskError, house_of};

/// How long ago a date may have been that still stands in the feed.
const BACK: SignedDuration = SignedDuration::from_hours(24 * 90);

fn address(desk: &Desk, id: i64, steps: u32) -> String {
    format!("{}{}", desk.public_url, path(desk, id, steps))
}

fn path(desk: &Desk, id: i64, steps: u32) -> String {
    format!("/feeds/mine/{id}/{}.ics", desk.secrets.own_feed_key(id, steps))
}

/// The address of somebody's feed, if they made one; theirs is the address they have proved.
pub async fn of(desk: &Desk, email: &str) -> Result<Option<String>, DeskError> {
    let email = email.to_owned();
    let found = desk.store.read(move |conn| own_feeds::of(conn, &email)).await?;
    Ok(found.map(|(id, steps)| address(desk, id, steps)))
}

/// Makes a feed, or another address for it; or withdraws it.
pub async fn set(desk: &Desk, email: &str, wanted: bool) -> Result<(), DeskError> {
    let email = email.to_owned();
    desk.store
        .write(
            move |tx| {
                if wanted { own_feeds::make(tx, &email) } else { own_feeds::withdraw(tx, &email) }
            },
        )
        .await
        .map_err(|e: matricle_store::StoreError| e.into())
}

/// What a calendar reads at such an address, and the path it is known by.
///
/// # Errors
/// [`DeskError::NotFound`] for another key, and once it is withdrawn.
pub async fn read(desk: &Desk, id: i64, key: &str) -> Result<(String, String), DeskError> {
    let found = desk.store.read(move |conn| own_feeds::by_id(conn, id)).await?;
    let (email, steps) = found.ok_or(DeskError::NotFound)?;
    if !desk.secrets.opens_own_feed(id, steps, key) {
        return Err(DeskError::NotFound);
    }
    let (with, now) = (desk.clone(), desk.clock.now());
    let path = path(desk, id, steps);
    let own = path.clone();
    let text = desk
        .store
        .read(move |conn| {
            let house = house_of(conn)?;
            let mut entries = Vec::new();
            for listed in bookings::of_address(conn, &email)? {
                let booking = listed.booking;
                let gone = match booking.state {
                    State::Confirmed => false,
                    State::Cancelled => true,
                    _ => continue,
                };
                let sheet = whole::load(conn, booking)?;
                let gone = gone || sheet.is_all_passed();
                if sheet.date.span.ends_at < now - BACK {
                    continue;
                }
                let url = with.booking_url(sheet.booking.reference);
                let online = if gone { String::new() } else { online(&with, &sheet) };
                let theirs = Theirs { person: None, url: &url, host: with.host(), online };
                let changed = sheet.timeline.last().map(|h| h.at);
                entries
                    .push(calendar::Entry { changed_at: changed, ..entry(&sheet, &theirs, gone) });
            }
            // Tickets that others passed to them.
            for (id, person) in bookings::passed_to(conn, &email)? {
                let Some(booking) = bookings::by_id(conn, id)? else { continue };
                if booking.state != State::Confirmed || booking.test {
                    continue;
                }
                let Some((sheet, code)) = only(&whole::load(conn, booking)?, Some(person)) else {
                    continue;
                };
                if sheet.date.span.ends_at < now - BACK {
                    continue;
                }
                let (url, online) = (with.ticket_url(code), online(&with, &sheet));
                let theirs = Theirs { person: Some(person), url: &url, host: with.host(), online };
                let changed = sheet.timeline.last().map(|h| h.at);
                entries
                    .push(calendar::Entry { changed_at: changed, ..entry(&sheet, &theirs, false) });
            }
            // What changed lately stands first: a calendar that reads only a part has that.
            entries.sort_by_key(|e| std::cmp::Reverse(e.changed_at));
            let url = format!("{}{own}", with.public_url);
            Ok::<_, DeskError>(calendar::feed(
                &house.name,
                &url,
                &house.zone,
                house.colour(),
                &entries,
            ))
        })
        .await?;
    Ok((path, text))
}
