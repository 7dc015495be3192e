//! What is counted is all of it, and what is shown is what is done.

use matricle_core::booking::State;
use matricle_core::forms::form::Fault;
use matricle_core::money::transfer::IbanFault;
use matricle_desk::bookings::cancel::{self, By};
use matricle_desk::bookings::phone::{self, ByPhone};
use matricle_desk::planning::dates::{self, Scope};
use matricle_desk::planning::sheet;
use matricle_desk::{DeskError, office};
use matricle_store::bookings::{self, Filter, Which};
use matricle_store::events;
use matricle_store::outbox;

use crate::world::{BOOKER, CANDLES, FREE, World, form, look, world};

impl World {
    async fn by_phone(
        &self,
        slug: &str,
        fields: &[(&str, &str)],
    ) -> Result<matricle_core::words::codes::Reference, DeskError> {
        let ilse = self.staff(0).await;
        let (date, wanted) = self.choice(slug, &[1]).await;
        phone::by_phone(&self.desk, &ilse, ByPhone { date, wanted, by_hand: None }, form(fields))
            .await
    }
}

/// Whoever gave no address is counted, named and rung up, when a date moves and when it is
/// called off; who has cancelled, or was rung, is not waited for.
#[tokio::test(flavor = "multi_thread")]
async fn bookers_without_an_address_are_rung() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let mair = [("name", "Mair Pugh"), ("phone", "+353 1 555 0177")];
    let stays = w.by_phone(FREE, &mair).await.unwrap();
    let goes = w.by_phone(FREE, &[("name", "Tom Foyle")]).await.unwrap();
    let sheet = w.sheet(stays).await;
    assert_eq!(sheet.booking.phone, "+353 1 555 0177");
    let (event, date) = (sheet.event.id, sheet.date.clone());
    let day = date.span.starts.date().to_string();
    let later = [
        ("day", day.as_str()),
        ("from", "20:30"),
        ("until", "22:00"),
        ("venue", &date.venue),
        ("room", &date.room),
        ("hosts", &date.hosts),
    ];
    let touches =
        dates::what_it_touches(&w.desk, &ilse, date.id, Scope::One, form(&later)).await.unwrap();
    assert_eq!((touches.bookings >= 2, touches.to_ring), (true, 2));
    assert!(touches.people.iter().any(|n| n == "Mair Pugh"));
    dates::change(&w.desk, &ilse, date.id, Scope::One, form(&later), true).await.unwrap();
    // Moved once more before anybody was rung: there is one thing to tell each.
    let again = [&later[..1], &[("from", "20:00"), ("until", "21:30")], &later[3..]].concat();
    dates::change(&w.desk, &ilse, date.id, Scope::One, form(&again), true).await.unwrap();
    let rings = sheet::told(&w.desk, &ilse, event).await.unwrap().rings;
    assert_eq!(rings.len(), 2);
    let of = |name: &str| rings.iter().find(|r| r.name == name).unwrap().clone();
    assert_eq!(
        (of("Mair Pugh").phone.as_str(), of("Tom Foyle").phone.as_str()),
        ("+353 1 555 0177", "")
    );
    let today = office::today(&w.desk, &ilse).await.unwrap();
    assert!(today.to_ring.iter().any(|(id, _, n)| (*id, *n) == (event, 2)));
    cancel::cancel(&w.desk, By::Staff(ilse.clone(), None), goes, vec![]).await.unwrap();
    sheet::rung(&w.desk, &ilse, event, of("Mair Pugh").id.0).await.unwrap();
    let rings = sheet::told(&w.desk, &ilse, event).await.unwrap().rings;
    assert_eq!(rings.iter().map(|r| r.rung.is_some()).collect::<Vec<_>>(), [true]);
    let before = dates::before_calling_off(&w.desk, &ilse, event, None).await.unwrap();
    assert!(before.bookings.iter().any(|b| b.is_told() && b.email.is_empty()));
    dates::call_off(&w.desk, &ilse, event, None, "No bees.".into()).await.unwrap();
    let rings = sheet::told(&w.desk, &ilse, event).await.unwrap().rings;
    let open: Vec<_> = rings.iter().filter(|r| r.rung.is_none()).collect();
    assert_eq!(open.len(), 1);
    assert_eq!((open[0].name.as_str(), open[0].kind.as_str()), ("Mair Pugh", "called off"));
    w.sound().await;
}

/// Questions that need an answer need it on the telephone too; a line for each person, or one
/// for all.
#[tokio::test(flavor = "multi_thread")]
async fn a_booking_by_phone_asks_what_must_be_answered() {
    let w = world().await;
    let sheet = programme_of(&w, "apiary-open-day").await;
    let needed: Vec<_> = sheet.iter().filter(|q| q.needed).cloned().collect();
    assert!(!needed.is_empty(), "the open day asks something");
    let refused = w.by_phone("apiary-open-day", &[("name", "Mair Pugh")]).await;
    let Err(DeskError::Details(problems)) = refused else { panic!("{refused:?}") };
    assert_eq!(problems.len(), needed.len());
}

async fn programme_of(w: &World, slug: &str) -> Vec<matricle_core::booking::details::Question> {
    let event = matricle_desk::programme::event(&w.desk, look(slug)).await.unwrap().event.id;
    w.desk.store.read(move |c| events::questions(c, event)).await.unwrap()
}

/// The booker is put right, and what has not gone out goes to the new address.
#[tokio::test(flavor = "multi_thread")]
async fn a_booker_is_corrected() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let reference = w.by_phone(FREE, &[("name", "Siân"), ("email", BOOKER)]).await.unwrap();
    let wrong = [("booker_name", "Ana"), ("booker_email", "not an address"), ("phone", "12")];
    let refused = phone::correct_booker(&w.desk, &ilse, reference, form(&wrong)).await;
    let Err(DeskError::Form(wrong)) = refused else { panic!("{refused:?}") };
    let faults: Vec<_> = wrong.iter().map(|w| w.fault.clone()).collect();
    assert_eq!(faults, [Fault::NotAnAddress, Fault::NotAPhone]);
    let right = [("booker_name", "Ana Quill"), ("booker_email", "ana.quill@post.example")];
    phone::correct_booker(&w.desk, &ilse, reference, form(&right)).await.unwrap();
    let booking = w.sheet(reference).await.booking;
    assert_eq!(
        (booking.name.as_str(), booking.email.as_str()),
        ("Ana Quill", "ana.quill@post.example")
    );
    let ticket = &w.sheet(reference).await.attendees[0];
    assert_eq!(ticket.name, "Ana Quill", "the ticket bore the booker's name");
    let read = move |c: &matricle_store::Connection| outbox::of_booking(c, booking.id);
    let mails = w.desk.store.read(read).await.unwrap();
    assert!(!mails.is_empty() && mails.iter().all(|m| m.address == "ana.quill@post.example"));
    let filter =
        matricle_store::bookings::Filter { words: "quill".into(), most: 10, ..Default::default() };
    let found = office::bookings(&w.desk, &ilse, filter, false).await.unwrap();
    assert!(found.rows.iter().any(|r| r.booking.reference == reference));
    w.sound().await;
}

/// Rules of a run: a number and a last day are one too many; a run of which nothing is left
/// says so; a smaller room is named before it is saved; the same date twice is a clash, and a
/// venue without rooms is used once at a time.
#[tokio::test(flavor = "multi_thread")]
async fn dates_are_added_as_they_were_typed() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let event = matricle_desk::programme::event(&w.desk, look(FREE)).await.unwrap().event.id;
    let base = |more: &[(&'static str, &'static str)]| {
        let mut fields = more.to_vec();
        fields.extend([
            ("day", "2027-03-02"),
            ("from", "19:00"),
            ("until", "21:00"),
            ("venue", "Village Green"),
            ("pool_0", "60"),
        ]);
        form(&fields)
    };
    let faults = |outcome: Result<dates::Adding, DeskError>| match outcome {
        Err(DeskError::Form(wrong)) => wrong.into_iter().map(|w| (w.field, w.fault)).collect(),
        other => panic!("{other:?}"),
    };
    let adding = |f| dates::adding(&w.desk, &ilse, event, f);
    let both: Vec<_> =
        faults(adding(base(&[("repeat", "day"), ("count", "3"), ("last", "2027-03-09")])).await);
    assert_eq!(both, [("last".to_owned(), Fault::OneOfTwo)]);
    let none: Vec<_> = faults(
        adding(base(&[("repeat", "day"), ("count", "2"), ("but", "2027-03-02 2027-03-03")])).await,
    );
    assert_eq!(none, [("but".to_owned(), Fault::NoDate)]);
    let more = adding(base(&[
        ("repeat", "day"),
        ("count", "3"),
        ("but", "2027-03-03"),
        ("extra", "2027-03-20 2027-03-21"),
    ]))
    .await
    .unwrap();
    assert_eq!((more.dates.len(), more.left_out, more.extra), (4, 1, 2));
    // Once written down, the same again is a clash: with itself, and of the venue.
    dates::add(&w.desk, &ilse, event, base(&[])).await.unwrap();
    let again = adding(base(&[])).await.unwrap();
    let what: Vec<_> = again.clashes.iter().map(|c| c.what.as_str()).collect();
    assert_eq!(what, ["Village Green", "the same event"]);
    let after = adding(base(&[("from", "21:00"), ("until", "22:00")])).await.unwrap();
    assert_eq!(after.clashes, []);
}

/// The list of events tells seats by what they are, of dates that take place, no more than rooms
/// seat, a course's once.
#[tokio::test(flavor = "multi_thread")]
async fn the_list_of_events_counts_what_there_is() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let rows = || async { office::events(&w.desk, &ilse).await.unwrap().1 };
    for row in rows().await {
        let id = row.event.id;
        let sheet = office::event(&w.desk, &ilse, id).await.unwrap();
        let on: Vec<_> = sheet
            .dates
            .iter()
            .filter(|d| d.date.called_off.is_empty())
            .map(|d| d.main_pool())
            .collect();
        if sheet.slots.is_some() || on.is_empty() {
            continue;
        }
        if row.event.course {
            assert_eq!(
                row.seats.capacity,
                on.iter().map(|p| p.capacity).min().unwrap(),
                "{}",
                row.event.title
            );
            assert_eq!(
                row.seats.taken.confirmed,
                on.iter().map(|p| p.taken.confirmed).max().unwrap()
            );
            continue;
        }
        let sum = |of: fn(&matricle_core::seats::Pool) -> u32| on.iter().map(of).sum::<u32>();
        assert_eq!(row.seats.capacity, sum(|p| p.capacity), "{}", row.event.title);
        assert_eq!(row.seats.taken.confirmed, sum(|p| p.taken.confirmed), "{}", row.event.title);
        assert_eq!(row.seats.taken.awaiting_payment, sum(|p| p.taken.awaiting_payment));
    }
    let before = rows().await.into_iter().find(|r| r.dates > 2 && !r.event.course).unwrap();
    let id = before.event.id;
    let first = office::event(&w.desk, &ilse, id).await.unwrap().dates[0].clone();
    dates::call_off(&w.desk, &ilse, id, Some(first.date.id), "Rain.".into()).await.unwrap();
    let after = rows().await.into_iter().find(|r| r.event.id == id).unwrap();
    assert_eq!(after.dates, before.dates - 1);
    assert_eq!(after.seats.capacity, before.seats.capacity - first.main_pool().capacity);
}

/// Everybody with a ticket that lives stands on the list of their date, with their own answers;
/// who cancelled does not.
#[tokio::test(flavor = "multi_thread")]
async fn the_list_of_a_date_names_everybody_who_comes() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let reference = w.book(CANDLES, &[2, 0, 0]).await;
    let sheet = w.sheet(reference).await;
    let (event, date) = (sheet.event.id, sheet.date.id);
    let coming = |which| office::who_comes(&w.desk, &ilse, event, which);
    let all = coming(Which::Date(date)).await.unwrap().people;
    let live = w.desk.store.read(move |c| bookings::live_on(c, date)).await.unwrap();
    let mut tickets = 0;
    for b in live.iter().filter(|b| b.state != State::Held) {
        let people = w.sheet(b.reference).await.attendees;
        tickets += people.iter().filter(|a| !a.cancelled).count();
    }
    assert_eq!(all.len(), tickets, "counts equal people");
    let own: Vec<_> = all.iter().filter(|c| c.reference == reference).collect();
    assert_eq!(own.iter().map(|c| c.name.as_str()).collect::<Vec<_>>(), ["Person 1", "Person 2"]);
    assert!(
        own.iter().all(|c| c.due == sheet.booking.total.minor && c.state == State::AwaitingPayment)
    );
    let day = sheet.date.span.starts.date();
    assert_eq!(coming(Which::Days(day, day)).await.unwrap().people, all, "that day is that date");
    assert!(
        coming(Which::Days(day.yesterday().unwrap(), day.yesterday().unwrap()))
            .await
            .unwrap()
            .people
            .is_empty()
    );
    let filter =
        Filter { words: day.strftime("%-d %B").to_string(), most: 500, ..Filter::default() };
    let found = office::bookings(&w.desk, &ilse, filter, false).await.unwrap();
    assert!(found.rows.iter().any(|r| r.booking.reference == reference), "found by its day");
    assert!(found.rows.iter().all(|r| r.starts.date() == day));
    cancel::cancel(&w.desk, By::Booker, reference, vec![1]).await.unwrap();
    let left = coming(Which::Date(date)).await.unwrap().people;
    assert_eq!(left.iter().filter(|c| c.reference == reference).count(), 1);
}

/// What is wrong with a zone, an account and a line among many is said.
#[tokio::test(flavor = "multi_thread")]
async fn a_refused_setting_says_what_is_wrong_with_it() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let faults = |outcome: Result<(), DeskError>| match outcome {
        Err(DeskError::Form(wrong)) => wrong.into_iter().map(|w| w.fault).collect::<Vec<_>>(),
        other => panic!("{other:?}"),
    };
    let base =
        [("name", "A"), ("email", "a@club.example"), ("currency", "EUR"), ("terms", "I agree.")];
    let set = |more: &[(&'static str, &'static str)]| {
        matricle_desk::house::settings::keep(&w.desk, &ilse, form(&[&base[..], more].concat()))
    };
    assert_eq!(
        faults(set(&[("zone", "Dublin")]).await),
        [Fault::NoZone(Some("Europe/Dublin".into()))]
    );
    let account = |iban| [("zone", "Europe/Dublin"), ("iban", iban), ("bic", "AIB")];
    let bic = Fault::NotABic;
    for (iban, fault) in [
        ("IE29 AIBK 9311 5212 3456 87", IbanFault::Check),
        ("IE29 AIBK", IbanFault::Length(8)),
        ("29IE AIBK 9311 5212 3456 78", IbanFault::Head),
        ("IE29-AIBK-9311-5212-3456-78", IbanFault::Signs),
    ] {
        assert_eq!(
            faults(set(&account(iban)).await),
            [Fault::NotAnIban(fault), bic.clone()],
            "{iban}"
        );
    }
    let members = form(&[("members", "ana@post.example\nkit at post\nsam@post.example")]);
    let refused = matricle_desk::house::set_members(&w.desk, &ilse, members).await.map(drop);
    assert_eq!(faults(refused), [Fault::LineNotAnAddress("kit at post".into())]);
}

/// What a host is owed is what the shares come to less what was paid out, whenever it was booked.
#[tokio::test(flavor = "multi_thread")]
async fn what_hosts_are_owed_agrees_with_itself() {
    use matricle_desk::money::books;
    use matricle_desk::outside::provider::Status;
    let w = world().await;
    let petra = w.staff(4).await;
    let statement = async || books::hosts(&w.desk, &petra).await.unwrap().statements;
    let sum = |s: &books::Statement| s.shares.iter().map(|(_, minor)| minor).sum::<i64>();
    let before = statement().await;
    assert!(!before.is_empty() && sum(&before[0]) > 0);
    for s in &before {
        assert_eq!(s.owed + s.paid(), sum(s), "{}", s.name);
        assert_eq!(s.paid(), 0, "nobody has paid {} yet", s.name);
    }
    let host = before[0].host;
    let event = before[0].shares[0].0.event;
    let paid = books::pay_host(&w.desk, &petra, host).await.unwrap();
    assert_eq!(paid, before[0].owed);
    let after = statement().await;
    assert_eq!((after[0].owed, after[0].paid()), (0, paid));
    assert_eq!(books::pay_host(&w.desk, &petra, host).await.unwrap(), 0, "a second click");
    // Somebody books and pays: their part of it is owed at once, before anything was booked.
    let find = move |c: &matricle_store::Connection| events::by_id(c, event);
    let slug = w.desk.store.read(find).await.unwrap().unwrap().slug;
    w.book(&slug, &[1]).await;
    w.provider.decide(Status::Paid);
    w.desk.clock.advance(jiff::SignedDuration::from_mins(2));
    w.due().await;
    let again = statement().await;
    assert!(again[0].owed > 0 && again[0].paid() == paid, "{:?}", again[0]);
    assert_eq!(again[0].owed + again[0].paid(), sum(&again[0]));
    w.sound().await;
}

/// The money of each event is that of its bookings, added up one by one.
#[tokio::test(flavor = "multi_thread")]
async fn the_money_of_an_event_is_that_of_its_bookings() {
    use matricle_store::{books, payments, refunds};
    let w = world().await;
    matricle_demo::enlarge(&w.desk, 12, 144).await.unwrap();
    w.desk
        .store
        .read(|conn| {
            let sums = books::by_event(conn)?;
            let all = bookings::list(conn, &Filter { most: 10_000, ..Filter::default() })?.rows;
            let mut seen = 0;
            for sum in &sums {
                let (mut came, mut back, mut heads, mut discounts) = (0, 0, 0, 0);
                for row in &all {
                    let b = &row.booking;
                    let of = events::date_by_id(conn, b.date)?.map(|(e, _)| e.id);
                    if of != Some(sum.id) || b.test {
                        continue;
                    }
                    seen += 1;
                    let paid = payments::of_booking(conn, b.id)?;
                    let is_here = |p: &&payments::Payment| {
                        matches!(
                            p.state,
                            payments::PaymentState::Paid | payments::PaymentState::Surplus
                        )
                    };
                    came += paid.iter().filter(is_here).map(|p| p.amount_minor).sum::<i64>();
                    back += refunds::of_booking(conn, b.id)?.iter().map(|r| r.minor).sum::<i64>();
                    if b.state == State::Confirmed {
                        let people = bookings::attendees(conn, b.id)?;
                        heads += people.iter().filter(|a| !a.cancelled).count();
                    }
                    if matches!(b.state, State::Confirmed | State::AwaitingPayment) {
                        let lines = bookings::lines(conn, b)?;
                        discounts += lines.iter().map(|l| l.discount.minor).sum::<i64>();
                    }
                }
                let told = (sum.came, sum.refunds, sum.heads as usize, sum.discounts);
                assert_eq!(told, (came, back, heads, discounts), "{}", sum.title);
                assert!(sum.net() <= sum.sold, "{}", sum.title);
            }
            assert!(sums.len() > 10 && seen > 150, "{} events, {seen} bookings", sums.len());
            Ok::<_, matricle_store::StoreError>(())
        })
        .await
        .unwrap();
    w.sound().await;
}
