//! The file: what is written is read back, what must not change does not, and each
//! fault that `check` looks for is found when it is made.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::too_many_lines, reason = "a test is one story")]

use jiff::civil::date;
use jiff::{SignedDuration, Timestamp};
use matricle_core::booking::details::{Answering, Details, Draft};
use matricle_core::booking::{State, choose};
use matricle_core::dates::schedule::{SaleWindow, Span};
use matricle_core::messages::cue::{Trigger, Way};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::money::ledger::{Account, Entry};
use matricle_core::money::price::{Buyer, Early};
use matricle_core::people::acting::Acting;
use matricle_core::seats::{Taken, Wanted};
use matricle_core::words::codes::{Reference, TicketCode};
use matricle_core::{BookingId, Currency, DateId};
use matricle_store::bookings::{self, Filter, HeldBy};
use matricle_store::events::{
    self, EventState, NewDate, NewEvent, NewQuestion, NewTicketType, Sought,
};
use matricle_store::house::{self, House};
use matricle_store::outbox::{self, About, NewMessage};
use matricle_store::payments::{self, PaymentState};
use matricle_store::{Store, Tx, check, door, ledger, people};
use rusqlite::Connection;

fn at(minutes: i64) -> Timestamp {
    Timestamp::from_second(1_795_000_000 + minutes * 60).unwrap()
}

/// One connection, always inside a transaction; nothing else is needed for queries.
struct File {
    conn: Connection,
    _folder: tempfile::TempDir,
}

impl File {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        Store::open(folder.path()).unwrap().close();
        let conn = Store::writer(&folder.path().join("matricle.sqlite")).unwrap();
        conn.execute_batch("BEGIN").unwrap();
        let file = Self { conn, _folder: folder };
        let house = House {
            name: "Club".into(),
            currency: Currency::EUR,
            zone: "Europe/Dublin".into(),
            email: "office@club.example".into(),
            terms: "I agree.".into(),
            embed_sites: vec!["https://a.example".into(), "https://b.example".into()],
            ..House::default()
        };
        house::set(&file.tx(), &house).unwrap();
        assert_eq!(house::get(&file.conn).unwrap(), Some(house));
        file
    }

    fn tx(&self) -> Tx<'_> {
        Tx::within(&self.conn)
    }

    /// An evening with chairs and suits: a single and a family ticket.
    fn evening(&self, slug: &str, month: i8) -> DateId {
        let day = date(2027, month, 5);
        let span = Span::new(day.at(19, 0, 0, 0), day.at(21, 0, 0, 0), "Europe/Dublin").unwrap();
        let ticket = |name: &str, minor, seats| NewTicketType {
            name: name.into(),
            note: "a note".into(),
            minor,
            early: (seats == 4).then(|| Early { minor: minor - 100, until: at(50) }),
            sale: SaleWindow { from: Some(at(-100)), until: None },
            per_date: (seats == 4).then_some(3),
            most: 5,
            admits: seats,
            draws: vec![(0, seats), (1, seats)],
            ..NewTicketType::default()
        };
        let event = NewEvent {
            slug: slug.into(),
            title: format!("An evening called {slug}"),
            kind: "Talk".into(),
            lead: "Come".into(),
            description: "One.\n\nTwo.".into(),
            bring: String::new(),
            refund_note: String::new(),
            state: EventState::Published,
            hold_minutes: 15,
            pools: vec!["chairs".into(), "suits".into()],
            tickets: vec![ticket("Single", 500, 1), ticket("Family", 1500, 4)],
            questions: vec![NewQuestion {
                label: "Soup?".into(),
                answering: Answering::OneOf(vec!["yes".into(), "no".into()]),
                needed: true,
                each: false,
                only: vec![1],
            }],
            dates: vec![NewDate {
                span,
                venue: "Hall".into(),
                address: "Square 1".into(),
                directions: String::new(),
                room: "upstairs".into(),
                hosts: vec!["Ana".into()],
                margins: (10, 5),
                capacities: vec![20, 12],
                sessions: Vec::new(),
                online: None,
            }],
            ..NewEvent::default()
        };
        let id = events::insert(&self.tx(), &event, at(0)).unwrap();
        events::dates_of(&self.conn, id).unwrap()[0].id
    }

    fn hold(&self, date: DateId, quantities: [u32; 2], n: u64, now: Timestamp) -> BookingId {
        let sheet = events::choices(&self.conn, Currency::EUR, date, now).unwrap().unwrap();
        let wanted: Vec<_> = sheet
            .tickets
            .iter()
            .zip(quantities)
            .map(|(t, quantity)| Wanted { ticket: t.id, quantity })
            .collect();
        let choice = choose(&sheet.offer, &wanted, &Buyer::default(), now).unwrap();
        let mut next = n * 1000;
        let code = || {
            next += 1;
            TicketCode::from_random(next)
        };
        let reference = Reference::from_random(n);
        bookings::hold(&self.tx(), &sheet, reference, &choice, code, &HeldBy::default(), now)
            .unwrap()
    }

    /// A booking that is confirmed and paid.
    fn confirmed(&self, date: DateId, quantities: [u32; 2], n: u64, name: &str) -> BookingId {
        let tx = self.tx();
        let id = self.hold(date, quantities, n, at(0));
        let booking = bookings::by_id(&self.conn, id).unwrap().unwrap();
        let people = bookings::attendees(&self.conn, id).unwrap().len();
        let details = Details {
            name: name.into(),
            email: format!("p{n}@post.example"),
            attendees: (0..people).map(|i| format!("{name} {i}")).collect(),
            answers: Default::default(),
            each: Vec::new(),
        };
        let person = people::know(&tx, name, &details.email, at(0)).unwrap();
        bookings::complete(&tx, &booking, &details, &[], Some(person)).unwrap();
        bookings::set_state(&tx, &booking, State::AwaitingPayment, Some(at(30)), at(2)).unwrap();
        let booking = bookings::by_id(&self.conn, id).unwrap().unwrap();
        let payment = format!("payment-{n}");
        payments::open(&tx, &payment, id, booking.total.minor, at(1), at(0)).unwrap();
        payments::known_as(&tx, &payment, &format!("prov-{n}"), "https://till.example").unwrap();
        payments::settle(&tx, &payment, PaymentState::Paid, at(2)).unwrap();
        bookings::add_paid(&tx, id, booking.total.minor).unwrap();
        let (to, from) = ((Account::Provider, 0), (Account::Receivable, id.0));
        let entry = Entry::move_money(to, from, booking.total.minor).unwrap();
        ledger::book(&tx, &entry, Some(id), "the card provider", "card", at(2)).unwrap();
        bookings::set_state(&tx, &booking, State::Confirmed, None, at(2)).unwrap();
        bookings::happened(&tx, id, at(2), &Acting::program(), "confirmed").unwrap();
        assert!(confirmation(&tx, id, &details.email, &format!("{n}@club"), at(2)));
        id
    }

    fn taken(&self, date: DateId, now: Timestamp) -> [Taken; 2] {
        let sheet = events::choices(&self.conn, Currency::EUR, date, now).unwrap().unwrap();
        [sheet.offer.pools[0].taken, sheet.offer.pools[1].taken]
    }
}

#[test]
fn an_event_is_read_back_as_it_was_planned() {
    let file = File::new();
    let date = file.evening("one", 3);
    let sheet = events::choices(&file.conn, Currency::EUR, date, at(0)).unwrap().unwrap();
    assert_eq!(sheet.event.slug, "one");
    assert_eq!(sheet.date.place(), "Hall, upstairs");
    assert_eq!(sheet.event.hold, SignedDuration::from_mins(15));
    let names: Vec<_> = sheet.tickets.iter().map(|t| (t.name.as_str(), t.admits)).collect();
    assert_eq!(names, [("Single", 1), ("Family", 4)]);
    let family = &sheet.offer.offers[1];
    assert_eq!(family.price.early, Some(Early { minor: 1400, until: at(50) }));
    assert_eq!((family.seats.limit, family.seats.draws.len(), family.most), (Some(3), 2, 5));
    assert_eq!(family.sale.from, Some(at(-100)));
    let questions = events::questions(&file.conn, sheet.event.id).unwrap();
    assert!(
        questions[0].needed
            && matches!(&questions[0].answering, Answering::OneOf(o) if o.len() == 2)
    );
    assert_eq!(events::by_slug(&file.conn, "one").unwrap().unwrap(), sheet.event);
    assert_eq!(events::by_slug(&file.conn, "two").unwrap(), None);
    let later = file.evening("two", 2);
    let coming = Sought { most: 10, ..Sought::default() };
    let listed = events::list(&file.conn, &coming, at(0)).unwrap().dates;
    assert_eq!(
        listed.iter().map(|d| d.date.id).collect::<Vec<_>>(),
        [later, date],
        "soonest first"
    );
    assert_eq!(listed[0].prices, Some((500, 1400)), "what they cost today");
    let over = sheet.date.span.ends_at;
    assert!(events::list(&file.conn, &coming, over).unwrap().dates.is_empty());
    let one = Sought { most: 1, ..coming.clone() };
    let found = events::list(&file.conn, &one, at(0)).unwrap();
    assert!(found.more && found.dates[0].date.id == later);
    let called = |word: &str| {
        let asked = Sought { words: vec![vec![word.into(), "nowhere".into()]], ..coming.clone() };
        events::list(&file.conn, &asked, at(0)).unwrap().dates.len()
    };
    assert_eq!((called("two"), called("called"), called("ana"), called("three")), (2, 2, 2, 0));
}

#[test]
fn seats_move_from_reason_to_reason_and_a_stale_hold_is_free_at_once() {
    let file = File::new();
    let date = file.evening("one", 3);
    let id = file.hold(date, [1, 1], 1, at(0));
    let held = Taken { held: 5, ..Taken::default() };
    assert_eq!(file.taken(date, at(14)), [held, held]);
    assert_eq!(file.taken(date, at(15)), [Taken::default(); 2], "the deadline itself is too late");
    let stale = bookings::stale_holds(&file.conn, date, at(15)).unwrap();
    assert_eq!(stale.iter().map(|b| b.id).collect::<Vec<_>>(), [id]);
    assert_eq!(bookings::next_deadline(&file.conn).unwrap(), Some(at(15)));
    assert_eq!(bookings::overdue(&file.conn, at(20), 10).unwrap().len(), 1);
    bookings::set_deadline(&file.tx(), id, at(40)).unwrap();
    assert!(bookings::overdue(&file.conn, at(20), 10).unwrap().is_empty());
    let booking = bookings::by_id(&file.conn, id).unwrap().unwrap();
    bookings::set_state(&file.tx(), &booking, State::Confirmed, None, at(2)).unwrap();
    assert_eq!(file.taken(date, at(99))[0], Taken { confirmed: 5, ..Taken::default() });
    let sheet = events::choices(&file.conn, Currency::EUR, date, at(99)).unwrap().unwrap();
    assert_eq!(sheet.offer.offers[1].seats.sold, 1, "the limited ticket counts what is sold");
}

#[test]
fn a_draft_and_a_choice_made_again_keep_the_booking_whole() {
    let file = File::new();
    let date = file.evening("one", 3);
    let id = file.hold(date, [2, 0], 1, at(0));
    let draft = Draft { name: "O'Hara \"x\" \u{1F41D}".into(), agreed: true, ..Draft::default() };
    bookings::keep_draft(&file.tx(), id, &draft).unwrap();
    let mut booking = bookings::by_id(&file.conn, id).unwrap().unwrap();
    assert_eq!((booking.draft.clone(), booking.booker()), (draft.clone(), draft.name.as_str()));
    bookings::set_state(&file.tx(), &booking, State::Lapsed, None, at(61)).unwrap();
    booking.state = State::Lapsed;
    let sheet = events::choices(&file.conn, Currency::EUR, date, at(60)).unwrap().unwrap();
    let family = [Wanted { ticket: sheet.tickets[1].id, quantity: 1 }];
    let choice = choose(&sheet.offer, &family, &Buyer::default(), at(60)).unwrap();
    let mut n = 90;
    let code = || {
        n += 1;
        TicketCode::from_random(n)
    };
    bookings::choose_again(&file.tx(), &booking, &choice, &sheet, &Buyer::default(), code).unwrap();
    bookings::set_state(&file.tx(), &booking, State::Held, Some(at(75)), at(62)).unwrap();
    let booking = bookings::by_id(&file.conn, id).unwrap().unwrap();
    assert_eq!((booking.total.minor, booking.draft.agreed), (1500, true), "no longer early");
    assert_eq!(bookings::attendees(&file.conn, id).unwrap().len(), 4);
    assert_eq!(bookings::wanted(&file.conn, id).unwrap(), family);
    assert_eq!(file.taken(date, at(60))[1].held, 4);
    assert_eq!(check::faults(&file.conn).unwrap(), Vec::<String>::new());
}

#[test]
fn bookings_are_found_by_words_in_any_order_a_page_at_a_time() {
    let file = File::new();
    let (march, june) = (file.evening("spring", 3), file.evening("summer", 6));
    for (n, name) in (1..).zip(["Siân O'Hara", "Ezra Quill", "Łukasz Żak"]) {
        file.confirmed(march, [1, 0], n, name);
    }
    file.confirmed(june, [2, 0], 9, "Ezra Quill");
    file.hold(june, [1, 0], 10, at(0));
    let find = |words: &str| {
        let filter = Filter { words: words.into(), most: 10, ..Filter::default() };
        let found = bookings::list(&file.conn, &filter).unwrap();
        assert_eq!(found.rows.len(), found.count as usize);
        found
            .rows
            .into_iter()
            .map(|r| format!("{} {}", r.booking.name, r.people))
            .collect::<Vec<_>>()
    };
    assert_eq!(find("").len(), 4, "a hold without a name is no booking yet");
    assert_eq!(find("ohara sian"), ["Siân O'Hara 1"]);
    assert_eq!(find("zak"), ["Łukasz Żak 1"]);
    assert_eq!(find("june quill"), ["Ezra Quill 2"]);
    assert_eq!(find("quill SPRING confirmed"), ["Ezra Quill 1"]);
    assert_eq!(find(&Reference::from_random(9).to_string()), ["Ezra Quill 2"]);
    assert_eq!(find("p2@post.example"), ["Ezra Quill 1"]);
    // A slip is forgiven where no word begins so; two are another word.
    assert_eq!(find("ezrra quill"), ["Ezra Quill 2", "Ezra Quill 1"]);
    assert_eq!(find("lukazs"), ["Łukasz Żak 1"]);
    assert_eq!(find("qxxll"), Vec::<String>::new());
    assert_eq!(find("to pay"), Vec::<String>::new());
    assert_eq!(find("100% _"), Vec::<String>::new(), "no wildcards");
    // A ticket or what it draws from names its bookings too.
    let pair = file.confirmed(march, [0, 1], 11, "Pia June");
    assert_eq!(find("family"), ["Pia June 4"]);
    assert_eq!(find("suits june"), ["Pia June 4", "Ezra Quill 2"], "the month, or the name");
    let booking = bookings::by_id(&file.conn, pair).unwrap().unwrap();
    bookings::rename(&file.tx(), &booking, 0, "Mabon Rees").unwrap();
    assert_eq!(find("mabon spring"), ["Pia June 4"]);
    file.conn.execute("DELETE FROM booking_words WHERE rowid = ?1", [pair.0]).unwrap();
    assert_eq!(check::faults(&file.conn).unwrap().len(), 1, "the check sees what is not found");
    let page = |skip| {
        let filter = Filter { skip, most: 3, ..Filter::default() };
        bookings::list(&file.conn, &filter).unwrap()
    };
    assert_eq!((page(0).rows.len(), page(3).rows.len(), page(3).count), (3, 2, 5));
    let event = events::date_by_id(&file.conn, march).unwrap().unwrap().0.id;
    let filter = Filter { event: Some(event), most: 10, ..Filter::default() };
    assert_eq!(bookings::list(&file.conn, &filter).unwrap().count, 4);
    assert_eq!(bookings::count_live(&file.conn, event).unwrap(), 4);
}

#[test]
fn the_timeline_is_only_ever_added_to() {
    let file = File::new();
    let date = file.evening("one", 3);
    let id = file.confirmed(date, [1, 0], 1, "Ana");
    for sql in ["UPDATE timeline SET what = 'nothing'", "DELETE FROM timeline"] {
        let refused = file.conn.execute(sql, []).unwrap_err().to_string();
        assert!(refused.contains("the timeline is not"), "{refused}");
    }
    let told = bookings::timeline(&file.conn, id).unwrap();
    assert_eq!(told.iter().map(|h| h.what.as_str()).collect::<Vec<_>>(), ["confirmed"]);
}

/// Plans the confirmation of a booking; whether it is new.
fn confirmation(
    tx: &Tx<'_>,
    id: BookingId,
    address: &str,
    message_id: &str,
    at: Timestamp,
) -> bool {
    let new = NewMessage {
        about: About::Booking(id),
        date: None,
        waiter: None,
        announcement: None,
        trigger: Trigger::On(Occasion::Confirmed),
        cue: None,
        template: None,
        reader: &format!("b{id}"),
        way: Way::Mail,
        address,
        unique: &format!("confirmation {id}"),
        message_id,
        knows: &Knows::default(),
        at,
        bulk: false,
        skipped: "",
        unasked: false,
    };
    outbox::plan(tx, &new).unwrap()
}

#[test]
fn a_message_goes_its_way_once() {
    let file = File::new();
    let date = file.evening("one", 3);
    let id = file.confirmed(date, [1, 0], 1, "Ana");
    let tx = file.tx();
    assert!(!confirmation(&tx, id, "other@post.example", "other@club", at(3)), "planned twice");
    assert_eq!(outbox::of_booking(&file.conn, id).unwrap().len(), 1);
    let due = |at| {
        let due = outbox::due(&tx, &[], 5, at).unwrap();
        let ids: Vec<_> = due.into_iter().map(|(id, _)| id).collect();
        outbox::take(&tx, &ids, at).unwrap()
    };
    assert!(due(at(1)).is_empty(), "not due yet");
    let taken = due(at(2)).remove(0);
    assert_eq!(taken.tries, 1);
    assert!(due(at(2)).is_empty(), "a second taker gets nothing");
    outbox::not_sent(&tx, taken.id, "busy", Some(at(9))).unwrap();
    assert_eq!(outbox::in_trouble(&file.conn).unwrap().len(), 1);
    assert!(due(at(8)).is_empty());
    assert_eq!(due(at(9))[0].tries, 2);
    assert_eq!(outbox::take_up(&tx, &[], at(10)).unwrap(), 1, "the program ended meanwhile");
    let again = due(at(10)).remove(0);
    assert_eq!(again.message_id, taken.message_id, "under the same Message-ID");
    outbox::sent(&tx, again.id, "250 taken", at(11)).unwrap();
    let words = "Dear Ana,\n".repeat(500);
    outbox::say(&tx, again.id, "Your seats", &words).unwrap();
    outbox::withdraw(&tx, id, |_| false, "not true").unwrap();
    assert!(!outbox::steer(&tx, again.id, Some(at(20)), "again").unwrap(), "sent is not unsent");
    let packed: i64 =
        tx.query_row("SELECT length(packed) FROM said", [], |row| row.get(0)).unwrap();
    assert!(packed < 200 && outbox::said(&tx, again.id).unwrap().unwrap().1 == words);
    let event = events::date_by_id(&file.conn, date).unwrap().unwrap().0.id;
    let (_, word, count) = outbox::of_event(&file.conn, event).unwrap().remove(0);
    assert_eq!((word.as_str(), count.sent, count.planned), ("confirmation", 1, 0));
    assert!(outbox::in_trouble(&file.conn).unwrap().is_empty());
}

#[test]
fn a_payment_is_settled_once_and_a_webhook_taken_once() {
    let file = File::new();
    let date = file.evening("one", 3);
    let id = file.hold(date, [1, 0], 1, at(0));
    let tx = file.tx();
    payments::open(&tx, "a", id, 500, at(1), at(0)).unwrap();
    assert!(payments::open(&tx, "a", id, 500, at(1), at(0)).is_err(), "one id, one payment");
    assert_eq!(payments::to_check(&file.conn, at(1), 9).unwrap().len(), 1);
    payments::check_again(&tx, "a", at(5)).unwrap();
    assert!(payments::to_check(&file.conn, at(4), 9).unwrap().is_empty());
    payments::unwant(&tx, id, at(2)).unwrap();
    let due = payments::to_check(&file.conn, at(2), 9).unwrap();
    let due = payments::by_id(&file.conn, &due[0].0).unwrap().unwrap();
    assert!(due.unwanted && due.tries == 1);
    payments::settle(&tx, "a", PaymentState::Declined, at(3)).unwrap();
    payments::settle(&tx, "a", PaymentState::Withdrawn, at(4)).unwrap();
    let settled = payments::by_id(&file.conn, "a").unwrap().unwrap();
    assert_eq!((settled.state, settled.settled_at), (PaymentState::Declined, Some(at(3))));
    payments::settle(&tx, "a", PaymentState::Surplus, at(5)).unwrap();
    payments::settle(&tx, "a", PaymentState::Paid, at(6)).unwrap();
    let settled = payments::by_id(&file.conn, "a").unwrap().unwrap();
    assert_eq!(
        (settled.state, settled.settled_at),
        (PaymentState::Surplus, Some(at(5))),
        "money is never overlooked, nor counted twice"
    );
    assert!(payments::take_hook(&tx, "msg", at(0)).unwrap());
    assert!(!payments::take_hook(&tx, "msg", at(1)).unwrap());
    assert!(payments::take_hook(&tx, "msg", at(60 * 24 * 31)).unwrap(), "forgotten after a month");
}

#[test]
fn people_are_known_by_address_whatever_its_case() {
    let file = File::new();
    let tx = file.tx();
    let ana = people::know(&tx, "Ana", "Ana@Post.example", at(0)).unwrap();
    assert_eq!(people::know(&tx, "A. N. Other", "ana@post.example", at(1)).unwrap(), ana);
    assert!(!people::anybody(&file.conn).unwrap());
    assert_eq!(
        people::by_email(&file.conn, "ana@post.example").unwrap(),
        None,
        "a booker cannot sign in"
    );
    let role = matricle_core::people::staff::Role::Organiser;
    assert_eq!(people::employ(&tx, "Ana", "ANA@post.example", role, "hash", at(2)).unwrap(), ana);
    let (staff, hash) = people::by_email(&file.conn, "ana@POST.example").unwrap().unwrap();
    assert_eq!((staff.role, hash.as_str()), (role, "hash"));
    let open = |token: u8, until, now| {
        let new = people::NewSession {
            token_hash: &[token; 32],
            person: ana,
            staff: true,
            browser: "",
            expires_at: at(until),
        };
        people::open_session(&tx, &new, at(now)).unwrap();
    };
    open(1, 10, 2);
    assert!(people::session(&file.conn, &[1; 32], at(9)).unwrap().is_some());
    assert!(people::session(&file.conn, &[1; 32], at(10)).unwrap().is_none());
    assert!(people::session(&file.conn, &[2; 32], at(9)).unwrap().is_none());
    open(3, 99, 11);
    let left: i64 = file.conn.query_row("SELECT count(*) FROM sessions", [], |r| r.get(0)).unwrap();
    assert_eq!(left, 1, "what is over is swept out");
    people::close_session(&tx, &[3; 32]).unwrap();
    assert!(people::session(&file.conn, &[3; 32], at(12)).unwrap().is_none());
}

#[test]
fn a_new_ticket_code_is_nobodys_yet() {
    let file = File::new();
    let date = file.evening("one", 3);
    let first = file.confirmed(date, [1, 0], 1, "Ezra Quill");
    let code = |id| bookings::attendees(&file.conn, id).unwrap()[0].code;
    let old = code(first);
    let booking = bookings::by_id(&file.conn, first).unwrap().unwrap();
    bookings::new_codes(&file.tx(), &booking, 0, || TicketCode::from_random(7), at(1)).unwrap();
    let mut drawn = [old, TicketCode::from_random(7), TicketCode::from_random(8)].into_iter();
    bookings::new_codes(&file.tx(), &booking, 0, || drawn.next().unwrap(), at(2)).unwrap();
    assert_eq!(code(first), TicketCode::from_random(8), "neither a dead code nor a living one");
}

#[test]
fn people_at_the_door_are_found_by_any_part_of_their_names() {
    let file = File::new();
    let date = file.evening("one", 3);
    file.confirmed(date, [0, 1], 1, "Søren O'Hara");
    file.confirmed(date, [1, 0], 2, "Ezra Quill");
    file.hold(date, [1, 0], 3, at(0));
    let find = |words: &str| door::by_words(&file.conn, date, words, 10).unwrap();
    assert_eq!(find("").len(), 5);
    assert_eq!(find("ohara sor").len(), 4);
    assert_eq!(find("quill")[0].facts.state, State::Confirmed);
    assert!(find("nobody").is_empty());
    assert_eq!(door::expected(&file.conn, date).unwrap(), 5);
    let first = find("ohara 0").remove(0);
    assert_eq!((first.place, first.people), (1, 4));
    assert_eq!(door::others_expected(&file.conn, first.booking, date).unwrap().len(), 4);
    let said =
        |n: u64| door::by_reference(&file.conn, date, Reference::from_random(n)).unwrap().len();
    assert_eq!((said(1), said(2), said(3), said(4)), (4, 1, 0, 0), "a hold is not expected");
}

/// Every rule of `check` finds the fault that breaks it, and only that.
#[test]
fn each_fault_is_found_and_named() {
    let broken = |sql: &str| {
        let file = File::new();
        let date = file.evening("one", 3);
        let id = file.confirmed(date, [1, 1], 1, "Ana");
        file.hold(date, [1, 0], 2, at(0));
        assert_eq!(check::faults(&file.conn).unwrap(), Vec::<String>::new());
        file.conn.execute_batch(&sql.replace("{id}", &id.to_string())).unwrap();
        // Money stands in several places: one fault in it may break more than one rule.
        check::faults(&file.conn).unwrap().join("\n")
    };
    assert!(
        broken("UPDATE pools SET held = held + 1 WHERE kind_id % 2 = 0")
            .contains("counters are the sum")
    );
    assert!(broken("UPDATE dates SET inside = 3").contains("counts the people who are in"));
    assert!(broken("UPDATE pools SET capacity = 1 WHERE kind_id % 2 = 0").contains("over-full"));
    assert!(
        broken("UPDATE bookings SET paid_minor = 0 WHERE id = {id}").contains("came less what")
    );
    assert!(broken("DELETE FROM payments WHERE booking_id = {id}").contains("came less what"));
    assert!(
        broken("UPDATE bookings SET total_minor = 9 WHERE id = {id}").contains("lines come to")
    );
    assert!(
        broken("INSERT INTO entry_lines (entry_id, position, account, about, minor) VALUES (1, 9, 'bank', 0, 5)")
            .contains("entry 1: off by 5")
    );
    assert!(
        broken("INSERT INTO charges (booking_id, at, rate, gross, tax) VALUES ({id}, 1, 0, 5, 0)")
            .contains("ledger charges what")
    );
    assert!(
        broken(
            "INSERT INTO documents (kind, year, number, booking_id, issued_at, total_minor, body)
            VALUES ('receipt', 2026, 2, {id}, 1, 7, '{}')"
        )
        .contains("without gaps")
    );
    assert!(
        broken("INSERT INTO refunds (id, payment_id, booking_id, amount_minor, reason, state, by_hand, made_at, who)
            VALUES ('r', 'payment-1', {id}, 99999, '', 'open', 1, 1, '')")
            .contains("more never goes back")
    );
    assert!(broken("DELETE FROM outbox").contains("confirmation planned"));
    assert!(
        broken("UPDATE attendees SET name = '' WHERE booking_id = {id} AND position = 0")
            .contains("has a name")
    );
    assert!(broken("UPDATE attendees SET presence = 'in', in_at = 1, in_door = 'x' WHERE booking_id = {id} AND position = 0; UPDATE dates SET inside = 1").contains("the last of their passages"));
    assert!(
        broken(
            "PRAGMA foreign_keys = OFF; COMMIT; PRAGMA foreign_keys = OFF; BEGIN; DELETE FROM hosts"
        )
        .contains("SQLite says: date_hosts")
    );
}

/// Faults that were planted in a house of a hundred thousand people and overlooked: each is named.
#[test]
fn planted_faults_are_found_and_what_follows_from_facts_is_mended() {
    let planted = |sql: &str| {
        let file = File::new();
        let (date, other) = (file.evening("one", 3), file.evening("two", 4));
        let id = file.confirmed(date, [1, 1], 1, "Ana");
        file.hold(date, [1, 0], 2, at(0));
        assert_eq!(check::faults(&file.conn).unwrap(), Vec::<String>::new());
        // What a check in the table forbids a file may hold all the same.
        file.conn
            .execute_batch(
                "COMMIT; PRAGMA ignore_check_constraints = ON; PRAGMA foreign_keys = OFF; BEGIN",
            )
            .unwrap();
        let sql = sql.replace("{id}", &id.to_string()).replace("{other}", &other.to_string());
        file.conn.execute_batch(&format!("SAVEPOINT whole; {sql}")).unwrap();
        (file, id, other)
    };
    let (whole, id, other) = planted("");
    let found = |sql: &str| {
        let sql = sql.replace("{id}", &id.to_string()).replace("{other}", &other.to_string());
        whole.conn.execute_batch(&sql).unwrap();
        let faults = check::faults(&whole.conn).unwrap().join("\n");
        whole.conn.execute_batch("ROLLBACK TO whole").unwrap();
        faults
    };
    let trigger = "DELETE FROM to_follow; DELETE FROM to_follow_dates";
    for (sql, said) in [
        (
            "UPDATE bookings SET deadline = deadline + 400 * 86400000000 WHERE state = 'held'",
            "not past the end of their date",
        ),
        ("UPDATE bookings SET deadline = NULL WHERE state = 'held'", "have a time that runs out"),
        ("DELETE FROM booking_draws WHERE booking_id = {id}", "draws what its tickets draw from"),
        (
            "UPDATE attendees SET date_id = {other} WHERE booking_id = {id}",
            "a date of their booking's event",
        ),
        (
            "UPDATE booking_lines SET kept_minor = 1, gone_minor = 1 WHERE booking_id = {id}",
            "what stands and what was kept",
        ),
        (
            "UPDATE attendees SET code = 'BBBBBBBBBBBC' WHERE booking_id = {id} AND position = 0",
            "has its check letters",
        ),
        (
            "UPDATE bookings SET reference = 'BBBBBBBC' WHERE id = {id}",
            "reference has its check letter",
        ),
        (
            "UPDATE outbox SET sent_at = NULL WHERE state = 'sent'; UPDATE outbox SET state = 'sent', next_try_at = NULL WHERE state = 'planned'",
            "has gone has its minute",
        ),
        ("UPDATE outbox SET next_try_at = NULL WHERE state = 'planned'", "at which it is tried"),
        (
            "INSERT INTO cues (happens, at, whom, only, way, template_id, late, added_at) VALUES ('changed', 'x', 'x', 'x', 'mail', 1, 'x', 1)",
            "broken is “it can be read”",
        ),
        ("UPDATE outbox SET knows = '{' WHERE booking_id = {id}", "broken is “it can be read”"),
        ("UPDATE bookings SET draft = '{' WHERE id = {id}", "broken is “it can be read”"),
        (
            "INSERT INTO calendar_said VALUES ({id}, -1, 'accepted', 9, 1, '')",
            "version never falls",
        ),
        (
            "DROP TRIGGER IF EXISTS entry_lines_stay; UPDATE entry_lines SET about = 99 WHERE account = 'income'",
            "income of a booking",
        ),
        (
            "UPDATE bookings SET made_at = made_at + 9000000000 WHERE id = {id}",
            "before its booking was made",
        ),
        ("UPDATE payments SET settled_at = NULL", "money that came has its minute"),
        (
            "INSERT INTO replies (event_id, email, reply, at) VALUES (1, 'nobody@post.example', 'yes', 1)",
            "whoever replied is invited",
        ),
        (
            "INSERT INTO promos (id, code, folded, percent, most, made_at) VALUES (1, 'BEE', 'bee', 10, 1, 1);
             INSERT INTO booking_promos SELECT id, 1, 0 FROM bookings",
            "promo code is used no oftener",
        ),
        (
            "INSERT INTO cards (code, kind_id, name, email, left, value, made_at) VALUES ('BBBB', 1, 'Ana', 'a@b.example', 0, 0, 1)",
            "stamp card begins with a move",
        ),
        ("DELETE FROM event_text", "an event is found by its words"),
        ("DELETE FROM plan_version", "how often plans changed"),
    ] {
        let faults = found(sql);
        assert!(faults.contains(said), "{sql}: {faults}");
    }
    let (file, ..) = planted(&format!("UPDATE bookings SET state = 'cancelled' WHERE id = {{id}};
        UPDATE outbox SET state = 'planned', next_try_at = 1, sent_at = NULL WHERE booking_id = {{id}}; {trigger}"));
    assert!(check::faults(&file.conn).unwrap().join("\n").contains("is true of its booking"));
    let late = check::ahead_of_time(&file.conn, at(-9_000)).unwrap().join("\n");
    assert!(late.contains("a booking has been made"), "a clock set back: {late}");
    // What follows from facts is worked out anew; nothing else is touched.
    let (file, ..) = planted(
        "UPDATE pools SET held = held + 1; UPDATE dates SET inside = 3; DELETE FROM booking_words WHERE rowid = {id};
         DELETE FROM event_text WHERE rowid = 1; DELETE FROM plan_version",
    );
    assert!(check::faults(&file.conn).unwrap().len() >= 5);
    let mended = check::mend(&file.conn).unwrap();
    assert!(mended.len() >= 5, "{mended:?}");
    assert_eq!(check::faults(&file.conn).unwrap(), Vec::<String>::new());
    // A rule that SQLite cannot answer hides no other.
    let (file, ..) = planted("UPDATE dates SET inside = 3; DROP TABLE replies");
    let faults = check::faults(&file.conn).unwrap().join("\n");
    assert!(faults.contains("no such table") && faults.contains("counts the people"), "{faults}");
}
