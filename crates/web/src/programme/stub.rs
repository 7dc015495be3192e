//! The booking stub of an event page: tickets, seats left, the total.

use askama::Template;
use jiff::Timestamp;
use matricle_core::booking::choice::Offer;
use matricle_core::booking::confirm::Way;
use matricle_core::dates::schedule::Sale;
use matricle_core::money::price::{self, Buyer, Why};
use matricle_core::people::who::{Who, WhoRefusal};
use matricle_core::seats::Wanted;
use matricle_core::seats::waiting::Manner;
use matricle_core::{Currency, TicketTypeId};
use matricle_desk::programme::EventPage;
use matricle_formats::words;
use matricle_store::events::{Choices, Event, TicketType};

use crate::parts::strip;
use crate::wording;

/// A date to choose among several.
pub(crate) struct DateChoice {
    pub(super) href: String,
    pub(super) words: String,
    pub(super) left: String,
    pub(super) chosen: bool,
}

/// A ticket type to choose.
pub(crate) struct StubRow {
    pub(super) id: TicketTypeId,
    pub(super) name: String,
    pub(super) notes: String,
    pub(super) price: String,
    /// The same in minor units.
    pub(super) unit: i64,
    pub(super) was: Option<String>,
    pub(super) quantity: u32,
    pub(super) most: u32,
    pub(super) closed: Option<String>,
}

/// A booking this browser has begun.
pub(crate) struct Kept {
    pub(super) href: String,
    pub(super) words: String,
    pub(super) link: &'static str,
}

/// The stub, ready to render.
#[derive(Template)]
#[template(path = "programme/stub.html")]
pub(crate) struct Stub {
    pub(super) slug: String,
    pub(super) token: String,
    pub(super) date: i64,
    pub(super) dates: Vec<DateChoice>,
    pub(super) strip: String,
    pub(super) left: String,
    /// What a ticket costs, in a few letters.
    pub(super) from: String,
    pub(super) left_of: String,
    pub(super) others: String,
    pub(super) rows: Vec<StubRow>,
    pub(super) people: String,
    pub(super) total: String,
    pub(super) saved: Option<String>,
    pub(super) chosen: bool,
    pub(super) can_book: bool,
    pub(super) closed: Option<String>,
    pub(super) notice: Option<String>,
    pub(super) kept: Option<Kept>,
    /// The word on the button.
    pub(super) button: String,
    pub(super) next: String,
    /// Some tickets, or the event, are for those who give a word.
    pub(super) asks_word: bool,
    pub(super) word: String,
    /// Fields that go along from step to step.
    pub(super) carried: Vec<(&'static str, String)>,
    /// Made to try the steps out.
    pub(super) test: bool,
    /// Inside the page of another site: no cookies, no script of ours around it.
    pub(super) embedded: bool,
    /// What a booking of a course covers.
    pub(super) covers: String,
    /// When and where the chosen date is; empty where there is only one.
    pub(super) at: String,
    /// Signing in would show more, or is asked for.
    pub(super) sign_in: Option<String>,
    /// Why whoever has signed in may not book it.
    pub(super) barred: Option<String>,
    /// The address of whoever has signed in; empty otherwise.
    pub(super) known: String,
    /// Seats are lacking, and the event keeps a waiting list.
    pub(super) wait: bool,
}

/// How a stub is asked for.
pub(crate) struct Ask<'a> {
    /// Tickets chosen so far.
    pub(super) wanted: &'a [Wanted],
    /// Tickets were chosen, if only none: otherwise one seat is, where there is one kind.
    pub(super) given: bool,
    /// What is known of whoever books.
    pub(super) buyer: &'a Buyer,
    /// Fields that go along.
    pub(super) carried: Vec<(&'static str, String)>,
    /// Made to try the steps out.
    pub(super) test: bool,
    /// Inside the page of another site.
    pub(super) embedded: bool,
    /// The address of whoever has signed in.
    pub(super) known: Option<&'a str>,
    /// Why they may not book, as far as is known.
    pub(super) barred: Option<&'a WhoRefusal>,
}

/// What a booking of a course covers.
fn covers(page: &EventPage, sheet: &Choices) -> String {
    let all = page.course.iter().filter(|d| d.called_off.is_empty()).count();
    let left = sheet.covers.len();
    let dates = |n: usize| words::count(u32::try_from(n).unwrap_or(u32::MAX), "dates");
    if left < all {
        format!(
            "One booking covers the {} that are left of {all}, at their part of the price.",
            dates(left)
        )
    } else {
        format!("One booking covers all {}.", dates(all))
    }
}

/// A line on the price shown: why it is asked, what else could be had, what is contained.
fn explained(
    offer: &matricle_core::booking::Offer,
    ticket: &TicketType,
    why: Why,
    quantity: u32,
    currency: Currency,
) -> Vec<String> {
    let price = &offer.price;
    let mut said = Vec::new();
    if why == Why::Member {
        said.push("price for members".into());
    } else if let Some(member) = price.member.filter(|m| *m < price.minor) {
        said.push(format!("{} for members", currency.of(price.part(member))));
    }
    if let Some(group) = price.group {
        let each = currency.of(price.part(group.minor));
        if why == Why::Group {
            said.push(format!("price from {} on", group.from));
        } else if quantity < group.from {
            said.push(format!("{each} each from {} on", group.from));
        }
    }
    if let Some(tax) = ticket.tax.as_ref().filter(|_| price.tax_basis > 0) {
        let (whole, part) = (price.tax_basis / 100, price.tax_basis % 100);
        let percent = if part == 0 { whole.to_string() } else { format!("{whole}.{part:02}") };
        let percent = percent.strip_suffix('0').filter(|_| part > 0).unwrap_or(&percent);
        said.push(if price.tax_added {
            format!("plus {percent} % tax ({tax})")
        } else {
            format!("{percent} % tax contained ({tax})")
        });
    }
    if offer.least > 1 {
        said.push(format!("from {} on", offer.least));
    }
    said
}

/// What is chosen before anybody chose: one of the only ticket there is.
fn first_choice(sheet: &Choices, ask: &Ask<'_>, now: Timestamp) -> Vec<Wanted> {
    if ask.given || !ask.wanted.is_empty() || sheet.offer.bars(now).is_some() {
        return ask.wanted.to_vec();
    }
    let shown = sheet.tickets.iter().zip(&sheet.offer.offers);
    let mut shown = shown.filter(|(_, offer)| offer.shown_to(ask.buyer));
    match (shown.next(), shown.next()) {
        (Some((ticket, offer)), None) if ticket.card.is_none() => {
            let fits = sheet.offer.more(&[], ticket.id, ask.buyer, now) >= offer.least;
            let one = Wanted { ticket: ticket.id, quantity: offer.least.max(1) };
            if fits { vec![one] } else { Vec::new() }
        }
        _ => Vec::new(),
    }
}

/// Takes as many of what was asked for as this booker can have; the first ticket
/// that was asked for in vain is told.
pub(crate) fn clamp(
    sheet: &Choices,
    asked: &[Wanted],
    buyer: &Buyer,
    now: Timestamp,
) -> (Vec<Wanted>, Option<String>) {
    let mut chosen: Vec<Wanted> = Vec::new();
    let mut notice = None;
    // Whoever types too large a number into one row keeps what stands in the others.
    let wish = |t: &TicketType| asked.iter().find(|w| w.ticket == t.id).map_or(0, |w| w.quantity);
    let mut smallest_first: Vec<_> = sheet.tickets.iter().collect();
    smallest_first.sort_by_key(|t| wish(t));
    for ticket in smallest_first {
        let wanted = wish(ticket);
        let quantity = wanted.min(sheet.offer.more(&chosen, ticket.id, buyer, now));
        if quantity < wanted && notice.is_none() {
            let mut full = chosen.clone();
            full.push(Wanted { ticket: ticket.id, quantity: wanted });
            notice = matricle_core::booking::choose(&sheet.offer, &full, buyer, now)
                .err()
                .map(|refusal| crate::wording::choice(&refusal, &sheet.tickets));
        }
        if quantity > 0 {
            chosen.push(Wanted { ticket: ticket.id, quantity });
        }
    }
    let place = |w: &Wanted| sheet.tickets.iter().position(|t| t.id == w.ticket);
    chosen.sort_by_key(place);
    (chosen, notice)
}

/// How many pools one date has: those of a course are alike from date to date.
fn own_pools(sheet: &Choices) -> usize {
    sheet.offer.pools.len() / sheet.covers.len().max(1)
}

/// Seats of a date that are left, in words.
fn left(sheet: &Choices) -> String {
    let pool = sheet.main_pool();
    // Of a course as many as fit every date that is left.
    let free = if sheet.covers.len() > 1 {
        let kinds = own_pools(sheet);
        sheet
            .offer
            .pools
            .iter()
            .step_by(kinds.max(1))
            .map(matricle_core::seats::Pool::free)
            .min()
            .unwrap_or(0)
    } else {
        pool.free()
    };
    match free {
        0 => "full".into(),
        free => format!("{} left", words::count(free, &pool.name)),
    }
}

/// A ticket type to choose: its price, what is said of it, how many can be had.
fn row(
    (page, sheet): (&EventPage, &Choices),
    (ticket, offer): (&TicketType, &Offer),
    (chosen, buyer): (&[Wanted], &Buyer),
    now: Timestamp,
) -> StubRow {
    let currency = page.house.currency;
    let quantity = quantity(chosen, ticket);
    let (unit, why) = offer.price.unit(quantity, buyer, now);
    let zone = &page.house.zone;
    let closed = match offer.sale.at(sheet.offer.starts_at, now) {
        Sale::Open => None,
        Sale::NotYet(from) => Some(format!("on sale from {}", words::moment(from, zone, now))),
        Sale::Over(_) => Some("no longer on sale".into()),
    };
    let most = quantity + sheet.offer.more(chosen, ticket.id, buyer, now);
    let closed = closed
        .or_else(|| offer.closed.then(|| "not on sale at present".into()))
        .or_else(|| (offer.members_only && !buyer.member).then(|| "for members".into()))
        .or_else(|| (!offer.invites(buyer)).then(|| "by invitation".into()))
        .or_else(|| (most == 0).then(|| "none left".into()));
    let mut notes = Vec::new();
    if !ticket.note.is_empty() {
        notes.push(ticket.note.clone());
    }
    if let Some(card) = &ticket.card {
        let life = card.life_days.map_or_else(
            || "good for ever".to_owned(),
            |days| format!("good for {}", words::count(days, "days")),
        );
        notes.push(format!(
            "a stamp card: {}, {life}; mailed once it is paid",
            words::count(card.stamps, "stamps")
        ));
    }
    notes.extend(draws(sheet, offer));
    if let Some(early) = offer.price.early.filter(|e| now < e.until) {
        notes.push(format!("early price until {}", words::deadline(early.until, zone, now)));
    }
    notes.extend(explained(offer, ticket, why, quantity, currency));
    StubRow {
        id: ticket.id,
        name: ticket.name.clone(),
        notes: notes.join(" · "),
        price: if unit == 0 { "free".into() } else { currency.of(unit).to_string() },
        unit,
        was: {
            let ordinary = offer.price.part(offer.price.minor);
            (unit < ordinary).then(|| currency.of(ordinary).to_string())
        },
        quantity,
        most,
        closed,
    }
}

/// What a ticket that can be had costs: one price, or the least of several.
fn from(rows: &[StubRow], currency: Currency) -> String {
    let units = || rows.iter().filter(|r| r.closed.is_none()).map(|r| r.unit);
    match (units().min(), units().max()) {
        (Some(0), Some(0)) => "free".into(),
        (Some(least), Some(most)) if least == most => currency.of(least).to_string(),
        (Some(0), _) => "some free".into(),
        (Some(least), _) => format!("from {}", currency.of(least)),
        (None, _) => String::new(),
    }
}

/// Why nothing is sold for the date.
fn closed(sheet: &Choices, open: bool, now: Timestamp) -> Option<String> {
    let over = sheet.offer.starts_at <= now;
    if let Some(refusal) = sheet.offer.bars(now).filter(|_| !over) {
        Some(crate::wording::choice(&refusal, &sheet.tickets))
    } else if over {
        Some("This date has begun; seats are no longer sold here.".into())
    } else if !open && sheet.main_pool().free() == 0 {
        Some("This date is full.".into())
    } else if !open {
        Some("Nothing is on sale for this date at present.".into())
    } else {
        None
    }
}

/// What whoever has not signed in would find by it.
fn sign_in(page: &EventPage, sheet: &Choices, ask: &Ask<'_>) -> Option<String> {
    let buyer = ask.buyer;
    if ask.known.is_some() {
        None
    } else if let Some(asks) = before_booking(&page.event) {
        Some(asks)
    } else if sheet
        .offer
        .offers
        .iter()
        .any(|o| o.shown_to(buyer) && (o.members_only || o.price.member.is_some()))
    {
        Some("Members have prices of their own.".into())
    } else if sheet.offer.offers.iter().any(|o| o.shown_to(buyer) && !o.invites(buyer)) {
        Some("Have you been invited? Sign in with that address.".into())
    } else {
        None
    }
}

/// Makes the stub for a chosen date.
pub(crate) fn stub(
    page: &EventPage,
    sheet: &Choices,
    ask: &Ask<'_>,
    token: String,
    kept: Option<Kept>,
    now: Timestamp,
) -> Stub {
    let (currency, buyer) = (page.house.currency, ask.buyer);
    let first = first_choice(sheet, ask, now);
    let (chosen, notice) = clamp(sheet, &first, buyer, now);
    let lacking = notice.is_some();
    let prices: Vec<_> = sheet.offer.offers.iter().map(|o| o.price.clone()).collect();
    let quote = price::quote(currency, &prices, &chosen, buyer, now);
    let rows: Vec<StubRow> = sheet
        .tickets
        .iter()
        .zip(&sheet.offer.offers)
        .filter(|(_, offer)| offer.shown_to(buyer))
        .map(|(ticket, offer)| row((page, sheet), (ticket, offer), (&chosen, buyer), now))
        .collect();
    let people: u32 = sheet.tickets.iter().map(|t| quantity(&chosen, t) * t.admits).sum();
    let (total, saved) = match &quote {
        Ok(q) if q.total.is_zero() => ("free".into(), None),
        Ok(q) => (q.total.to_string(), (q.saved.minor > 0).then(|| q.saved.to_string())),
        Err(_) => (String::new(), None),
    };
    let is_free = if chosen.is_empty() {
        sheet.offer.offers.iter().all(|o| o.price.minor == 0)
    } else {
        quote.as_ref().is_ok_and(|q| q.total.is_zero())
    };
    let open = rows.iter().any(|r| r.closed.is_none());
    let closed = closed(sheet, open, now);
    let pool = sheet.main_pool();
    let asked_questions = page.questions.len();
    Stub {
        slug: page.event.slug.clone(),
        token,
        date: sheet.date.id.0,
        dates: dates(page, sheet, ask.embedded, now),
        strip: strip::svg(&pool, sheet.inside, strip::STUB),
        left: left(sheet),
        from: from(&rows, currency),
        left_of: format!("of {}", pool.capacity),
        others: others(sheet),
        people: match (people, chosen.iter().any(|w| w.quantity > 0)) {
            (0, true) => "no seat".into(),
            _ => words::count(people, "seats"),
        },
        chosen: chosen.iter().any(|w| w.quantity > 0),
        can_book: closed.is_none(),
        rows,
        total,
        saved,
        closed,
        notice,
        kept,
        button: if sheet.event.button.is_empty() {
            format!(
                "Keep these seats for {}",
                words::count(
                    u32::try_from(sheet.event.hold.as_mins()).unwrap_or(u32::MAX),
                    "minutes"
                )
            )
        } else {
            sheet.event.button.clone()
        },
        next: next_steps(asked_questions, is_free, {
            // Before anything is chosen, what is said holds for the dearest.
            let chosen_ones = |t: &&TicketType| quantity(&chosen, t) > 0 || chosen.is_empty();
            let own = sheet.tickets.iter().filter(chosen_ones).map(|t| t.confirm);
            let total = currency.of(i64::from(!is_free));
            sheet.event.rules.confirm.way(own, total) == Way::AfterYes
        }),
        asks_word: matches!(page.event.who, Who::Word(_))
            || sheet.offer.offers.iter().any(|o| !o.word.is_empty()),
        word: buyer.word.clone(),
        carried: ask.carried.clone(),
        test: ask.test,
        embedded: ask.embedded,
        barred: ask.barred.map(wording::who),
        sign_in: sign_in(page, sheet, ask),
        known: ask.known.map_or_else(String::new, String::from),
        wait: page.event.rules.waiting != Manner::Off
            && sheet.offer.bars(now).is_none()
            && !ask.test
            && (sheet.offer.pools.iter().any(|p| p.free() == 0) || lacking),
        at: if page.week.is_some() {
            let span = &sheet.date.span;
            format!("{}, {}", words::long_span(span.starts, span.ends), sheet.date.place())
        } else {
            String::new()
        },
        covers: if page.event.course { covers(page, sheet) } else { String::new() },
    }
}

/// What an event asks of whoever books it, told before the form and not after.
fn before_booking(event: &Event) -> Option<String> {
    match &event.who {
        Who::SignedIn => Some("This event is booked by people who have signed in.".into()),
        Who::Domains(domains) => Some(format!(
            "This event is for people with an address at {}. Sign in with it.",
            domains.join(" or ")
        )),
        Who::Invited => Some(
            "This event is by invitation. Open the link in yours, or sign in with the address you were invited at."
                .into(),
        ),
        Who::Anyone | Who::Word(_) if event.once => {
            Some("This event is booked once a person, so it asks whose address it is.".into())
        }
        Who::Anyone | Who::Word(_) => None,
    }
}

fn next_steps(questions: usize, is_free: bool, approval: bool) -> String {
    let names = match questions {
        0 => "You give names".to_owned(),
        1 => "You give names, answer one question".to_owned(),
        2 => "You give names, answer two questions".to_owned(),
        n => format!("You give names, answer {n} questions"),
    };
    let pay = match (approval, is_free) {
        (true, _) => "and the organiser answers by mail",
        (false, true) => "and are done",
        (false, false) => "and pay next",
    };
    format!("{names} {pay}. Nothing you type is lost if you go back.")
}

fn quantity(chosen: &[Wanted], ticket: &TicketType) -> u32 {
    chosen.iter().find(|w| w.ticket == ticket.id).map_or(0, |w| w.quantity)
}

/// What a ticket takes beyond one seat: `takes 4 seats and 4 protective suits`.
fn draws(sheet: &Choices, offer: &matricle_core::booking::Offer) -> Option<String> {
    let own = &sheet.offer.pools[..own_pools(sheet)];
    let of_own = |d: &&matricle_core::seats::Draw| own.iter().any(|p| p.id == d.pool);
    let many = offer.seats.draws.iter().filter(of_own).count() > 1
        || offer.seats.draws.iter().any(|d| d.seats > 1);
    let parts: Vec<String> = own
        .iter()
        .filter_map(|pool| {
            let draw = offer.seats.draws.iter().find(|d| d.pool == pool.id)?;
            Some(words::count(draw.seats, &pool.name))
        })
        .collect();
    (many && !parts.is_empty()).then(|| format!("takes {}", parts.join(" and ")))
}

/// What is left in the pools that the strip does not show.
fn others(sheet: &Choices) -> String {
    let said: Vec<String> = sheet.offer.pools[..own_pools(sheet)]
        .iter()
        .skip(1)
        .map(|p| format!("{} of {} {} left", p.free(), p.capacity, p.name))
        .collect();
    said.join(", ")
}

fn dates(page: &EventPage, chosen: &Choices, embedded: bool, now: Timestamp) -> Vec<DateChoice> {
    // Inside the page of another site one stays inside it.
    let base = if embedded { "/embed/events" } else { "/events" };
    if page.dates.len() < 2 {
        return Vec::new();
    }
    page.dates
        .iter()
        .map(|d| {
            let span = &d.date.span;
            let today = words::local(now, &span.zone).date();
            DateChoice {
                href: format!(
                    "{base}/{}?date={}",
                    crate::address::encode(&page.event.slug),
                    d.date.id
                ),
                words: words::span(span.starts, span.ends, today),
                left: left(d),
                chosen: d.date.id == chosen.date.id,
            }
        })
        .collect()
}
