//! Choosing tickets of an event, and keeping their seats.

use axum::http::HeaderMap;
use matricle_core::booking::State;
use matricle_core::money::price::Buyer;
use matricle_core::people::who::WhoRefusal;
use matricle_core::words::codes::Reference;
use matricle_desk::DeskError;
use matricle_desk::bookings::{hold, whole};
use matricle_desk::people::asking::{self, Asking};
use matricle_desk::programme::EventPage;
use matricle_formats::words;
use matricle_store::events::{Choices, EventState};
use matricle_store::people::Staff;

use crate::error::WebError;
use crate::programme::asked::ProgrammeQuery;
use crate::programme::stub::{Ask, Kept, Stub, stub};
use crate::{App, cookies};

/// Who asks: perhaps working for the house, and what is known of them as a buyer.
pub(crate) struct Who<'a> {
    pub(crate) staff: Option<&'a Staff>,
    pub(crate) buyer: Buyer,
    /// Why they may not book, as far as is known.
    pub(crate) barred: Option<WhoRefusal>,
}

impl<'a> Who<'a> {
    pub(crate) async fn of(
        app: &App,
        booker: &Asking,
        page: &EventPage,
        asked: &ProgrammeQuery,
        staff: Option<&'a Staff>,
    ) -> Result<Self, WebError> {
        // A draft is looked at and tried out as by a stranger, whoever does it.
        let nobody = Asking { from: booker.from, ..Asking::default() };
        let booker = if page.preview || asked.test { &nobody } else { booker };
        let buyer = asking::buyer(&app.desk, booker, page.event.id, &asked.word).await?;
        let barred = asking::barred(&app.desk, &page.event, &buyer).await?;
        Ok(Self { staff, buyer, barred })
    }
}

/// Whether this asker may try the steps of a draft out: with the key of a preview, or as a
/// planner.
pub(crate) fn may_test(
    app: &App,
    page: &EventPage,
    asked: &ProgrammeQuery,
    staff: Option<&Staff>,
) -> bool {
    asked.test && hold::may_test(&app.desk, &page.event, &asked.preview, staff)
}

fn chosen_date<'p>(page: &'p EventPage, asked: &ProgrammeQuery) -> Option<&'p Choices> {
    page.dates
        .iter()
        .find(|d| Some(d.date.id) == asked.date)
        .or_else(|| page.dates.iter().find(|d| d.main_pool().free() > 0))
        .or_else(|| page.dates.first())
}

/// The booking that this browser has begun.
pub(crate) fn own_hold(app: &App, headers: &HeaderMap) -> Option<Reference> {
    let (reference, key) = cookies::hold_of(headers)?;
    Reference::parse(&reference).filter(|r| app.desk.secrets.opens_booking(*r, &key))
}

/// The booking of this browser, if it is for this event and waits to be filled in or paid.
pub(crate) async fn kept(
    app: &App,
    headers: &HeaderMap,
    page: &EventPage,
) -> Result<Option<(Reference, whole::WholeBooking)>, WebError> {
    let Some(reference) = own_hold(app, headers) else { return Ok(None) };
    match whole::of(&app.desk, reference).await {
        Ok(sheet)
            if sheet.event.id == page.event.id && sheet.waits_for_booker(app.desk.clock.now()) =>
        {
            Ok(Some((reference, sheet)))
        }
        Ok(_) | Err(DeskError::NotFound) => Ok(None),
        Err(error) => Err(error.into()),
    }
}

pub(crate) fn make_stub(
    app: &App,
    page: &EventPage,
    asked: &ProgrammeQuery,
    kept: Option<(Reference, whole::WholeBooking)>,
    who: &Who<'_>,
    token: String,
) -> Option<Stub> {
    // Nobody books it: people just come.
    if page.event.drop_in {
        return None;
    }
    let now = app.desk.clock.now();
    let mut asked = asked.clone();
    let held_now = |held: &whole::WholeBooking| held.booking.state == State::Held;
    if let Some((_, held)) = &kept
        && held_now(held)
        && !asked.given
        && asked.date.is_none_or(|d| d == held.date.id)
    {
        asked.date = Some(held.date.id);
        asked.wanted = held.wanted();
        asked.word.clone_from(&held.booking.buyer.word);
    }
    let test = may_test(app, page, &asked, who.staff);
    if (page.preview && !test) || page.event.state == EventState::CalledOff {
        // A draft is only looked at.
        asked.wanted.clear();
    }
    let sheet = chosen_date(page, &asked)?;
    // The seats kept by this browser are free for it to choose again.
    let mut sheet = sheet.clone();
    let view = kept.map(|(reference, held)| {
        if held_now(&held) && held.date.id == sheet.date.id {
            free_own(&mut sheet, &held);
        }
        let until = held.booking.deadline.unwrap_or(now);
        let people = u32::try_from(held.attendees.len()).unwrap_or(0);
        let clock = words::clock(words::local(until, &page.house.zone).datetime());
        let seats = words::count(people, "seats");
        let (words, link) = if held_now(&held) {
            (format!("You have {seats} kept until {clock}."), "Go on with your booking")
        } else {
            let due = held.booking.due();
            (format!("You have {seats} to pay for by {clock}: {due}."), "Go on and pay")
        };
        Kept { href: crate::parts::places::address(app, reference), words, link }
    });
    let ask = Ask {
        wanted: &asked.wanted,
        given: asked.given || (page.preview && !test) || page.event.state == EventState::CalledOff,
        buyer: &who.buyer,
        carried: asked.carried(),
        test,
        embedded: false,
        barred: who.barred.as_ref(),
        known: Some(who.buyer.address.as_str()).filter(|a| !a.is_empty()),
    };
    let mut stub = stub(page, &sheet, &ask, token, view, now);
    if page.preview && !test {
        stub.can_book = false;
        stub.closed = Some("This is a draft; nobody can book it yet.".into());
    }
    Some(stub)
}

fn free_own(sheet: &mut Choices, held: &whole::WholeBooking) {
    if held.booking.test {
        return;
    }
    for offer in &mut sheet.offer.offers {
        let quantity = held.quantity(offer.price.id);
        offer.seats.sold = offer.seats.sold.saturating_sub(quantity);
        for draw in &offer.seats.draws {
            if let Some(pool) = sheet.offer.pools.iter_mut().find(|p| p.id == draw.pool) {
                pool.taken.held = pool.taken.held.saturating_sub(draw.seats * quantity);
            }
        }
    }
}
