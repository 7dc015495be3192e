//! Who is let in, what a link opens, and how much one person can do to others.

use matricle_core::booking::State;
use matricle_core::money::price::Buyer;
use matricle_core::people::who::WhoRefusal;
use matricle_core::seats::hold_limits::KeepRefusal;
use matricle_demo as demo;
use matricle_desk::bookings::cancel;
use matricle_desk::bookings::cancel::By;
use matricle_desk::bookings::{hold, move_date, pass_on, pay, submit, waiting};
use matricle_desk::door;
use matricle_desk::door::Device;
use matricle_desk::door::Shown;
use matricle_desk::people::asking::Asking;
use matricle_desk::people::signin;
use matricle_desk::people::signin::Browser;
use matricle_desk::{DeskError, house, messages};
use matricle_store::audit;
use matricle_store::bookings::HeldBy;

use crate::world::{BOOKER, FREE, World, form, text_of, world};

fn browser(name: &str) -> Browser {
    Browser { visitor: name.into(), agent: "A browser".into(), from_where: "203.0.113.0/24".into() }
}

async fn number(w: &World, email: &str, browser: &Browser) -> String {
    signin::send_code(&w.desk, email.into(), browser).await.unwrap();
    w.subjects().last().unwrap().split(' ').next().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mailed_number_gives_what_a_booker_has_never_the_rights_of_a_role() {
    let w = world().await;
    let (_, email, _, password) = demo::STAFF[0];
    let mine = browser("mine");
    let code = number(&w, email, &mine).await;
    // In another browser it opens nothing, and asking again leaves it as it is.
    let theirs = browser("theirs");
    assert!(signin::enter_code(&w.desk, email.into(), &code, &theirs).await.is_err());
    number(&w, email, &theirs).await;
    let token = signin::enter_code(&w.desk, email.into(), &code, &mine).await.unwrap();
    assert!(signin::session(&w.desk, &token).await.unwrap().is_none(), "no way into the Office");
    let known = signin::known(&w.desk, &token).await.unwrap().unwrap();
    assert!(known.staff && !known.by_password);
    // With the password it does; both stand in the list, and end together.
    let with = signin::sign_in(&w.desk, email.into(), password.into(), mine).await.unwrap();
    assert!(signin::session(&w.desk, &with).await.unwrap().is_some());
    let open = signin::sessions(&w.desk, &with).await.unwrap();
    assert_eq!(
        open.iter().map(|s| (s.staff, s.own)).collect::<std::collections::BTreeSet<_>>(),
        [(false, false), (true, true)].into()
    );
    assert_eq!(signin::sign_out_everywhere(&w.desk, &token).await.unwrap(), 2);
    assert!(signin::session(&w.desk, &with).await.unwrap().is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn numbers_and_passwords_are_counted_by_address_whoever_asks() {
    let w = world().await;
    let mut refused = 0;
    for n in 0..20 {
        let by = browser(&n.to_string());
        let asked = signin::send_code(&w.desk, "ros@post.example".into(), &by).await;
        refused += u32::from(matches!(asked, Err(DeskError::TooOften { .. })));
    }
    assert_eq!((refused, w.mails.taken().len()), (14, 6));
    let (_, email, _, password) = demo::STAFF[1];
    let mut tries = 0;
    while !matches!(
        signin::sign_in(&w.desk, email.into(), "wrong-wrong".into(), browser("x")).await,
        Err(DeskError::TooOften { .. })
    ) {
        tries += 1;
    }
    assert_eq!(tries, 20);
    w.pass(15);
    signin::sign_in(&w.desk, email.into(), password.into(), browser("x")).await.unwrap();
    let (log, _) = w.desk.store.read(|c| audit::latest(c, 30)).await.unwrap();
    assert_eq!(log[0].what, "signed in as door volunteer");
    assert_eq!((log[1].who.as_str(), log[1].what.as_str()), (email, "could not sign in"));
    assert_eq!(log[1].from_where, "203.0.113.0/24");
}

#[tokio::test(flavor = "multi_thread")]
async fn ones_own_password_is_changed_with_the_old_one_and_ends_every_session() {
    let w = world().await;
    let (_, email, _, password) = demo::STAFF[1];
    let bram = w.staff(1).await;
    let token =
        signin::sign_in(&w.desk, email.into(), password.into(), browser("x")).await.unwrap();
    for (old, new) in [("not-the-old-one", "a-new-long-one"), (password, "short")] {
        let fields = form(&[("old_password", old), ("new_password", new)]);
        let refused = signin::change_password(&w.desk, &bram, fields, browser("x")).await;
        assert!(matches!(refused, Err(DeskError::Form(_))));
    }
    let fields = form(&[("old_password", password), ("new_password", "a-new-long-one")]);
    signin::change_password(&w.desk, &bram, fields, browser("x")).await.unwrap();
    assert!(signin::session(&w.desk, &token).await.unwrap().is_none());
    signin::sign_in(&w.desk, email.into(), "a-new-long-one".into(), browser("x")).await.unwrap();
    // A role that is taken away ends what is remembered of its sessions at once.
    let mut ended = w.desk.sessions.listen();
    let nia = w.staff(2).await;
    house::take_role(&w.desk, &nia, bram.id).await.unwrap();
    assert!(ended.has_changed().unwrap() && ended.changed().await.is_ok());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_typed_proves_no_address_and_tells_nothing_of_it() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let draft_of = async |reference, email: &str| {
        let mut draft = w.draft(reference).await;
        draft.email = email.into();
        draft
    };
    let keep_from = async |address: &str, from: (i64, i64)| {
        let (date, wanted) = w.choice(FREE, &[1]).await;
        let buyer = Buyer { address: address.into(), ..Buyer::default() };
        hold::keep(&w.desk, date, wanted, HeldBy { buyer, from, ..HeldBy::default() }, None)
            .await
            .unwrap()
    };
    let keep = async |address: &str| keep_from(address, (0, 0)).await;
    // An address that has booked before: nothing of it on screen, a mail to it instead.
    let first = keep(BOOKER).await;
    let draft = draft_of(first, BOOKER).await;
    submit::submit(&w.desk, &Asking::default(), first, draft).await.unwrap();
    let second = keep("").await;
    let mut draft = draft_of(second, BOOKER).await;
    draft.again = false;
    submit::submit(&w.desk, &Asking::default(), second, draft.clone()).await.unwrap();
    w.due().await;
    assert_eq!(w.subjects().iter().filter(|s| s.starts_with("Two bookings")).count(), 1);
    // Whoever has proved it is asked.
    let third = keep("").await;
    let theirs = Asking { proved: Some(BOOKER.into()), ..Asking::default() };
    let asked = submit::submit(&w.desk, &theirs, third, draft.clone()).await;
    assert!(matches!(asked, Err(DeskError::BookedBefore { .. })), "{asked:?}");
    // So is whoever books from the browser that made the other, and nobody from another.
    let again = async |email: &str, from: (i64, i64)| {
        let reference = keep_from("", from).await;
        let mut draft = draft_of(reference, email).await;
        draft.again = false;
        submit::submit(&w.desk, &Asking::default(), reference, draft).await
    };
    assert!(again("kin@post.example", (5, 6)).await.is_ok());
    assert!(matches!(again("Kin@post.example", (5, 8)).await, Err(DeskError::BookedBefore { .. })));
    assert!(again("kin@post.example", (7, 6)).await.is_ok());
    // Once a person: counted by addresses that are proved.
    let event = w.sheet(third).await.event.id;
    let rule = form(&[("who", "anyone"), ("once", "yes"), ("hold_minutes", "15")]);
    matricle_desk::planning::who::keep(&w.desk, &ilse, event, rule).await.unwrap();
    draft.email = "new@post.example".into();
    let typed = submit::submit(&w.desk, &Asking::default(), third, draft.clone()).await;
    assert!(matches!(typed, Err(DeskError::Who(WhoRefusal::NotSignedIn))));
    assert_eq!(w.sheet(third).await.booking.draft.email, "new@post.example", "kept as typed");
    let proved = Asking { proved: Some("New@post.example".into()), ..Asking::default() };
    submit::submit(&w.desk, &proved, third, draft).await.unwrap();
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stranger_on_the_waiting_list_learns_nothing_and_mails_are_few() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let slug = "a-hive-inspection";
    let (date, wanted) = w.choice(slug, &[1]).await;
    let full = w.keep(slug, &[1]).await.unwrap();
    let event = w.sheet(full).await.event.id;
    let rules = form(&[("waiting", "offer to the first"), ("offer_hours", "24")]);
    matricle_desk::planning::after_booking::keep(&w.desk, &ilse, event, rules).await.unwrap();
    let join = async |email: &str, asking: &Asking| {
        let fields = form(&[("name", "Ros http://evil.example"), ("email", email)]);
        waiting::join(&w.desk, date, wanted.clone(), asking, fields).await
    };
    let first = join("ros@post.example", &Asking::default()).await.unwrap();
    let again = join("ROS@post.example", &Asking::default()).await.unwrap();
    assert_eq!((first.id, first.proved, again.proved), (again.id, false, false), "the same answer");
    let theirs = Asking { proved: Some("ros@post.example".into()), ..Asking::default() };
    assert!(join("ros@post.example", &theirs).await.unwrap().proved);
    // Sixty times over: a handful of mails, none with a live link but ours.
    let mut refused = 0;
    for _ in 0..60 {
        let asked =
            join("victim@post.example", &Asking { from: (7, 9), ..Asking::default() }).await;
        refused += u32::from(matches!(asked, Err(DeskError::TooOften { .. })));
    }
    assert!(refused >= 50, "{refused}");
    w.due().await;
    for raw in w.mails.taken() {
        let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
        let (text, html) = (text_of(&mail), mail.body_html(0).unwrap());
        assert!(!text.contains("evil.example") && !html.contains("href=\"http://evil"), "{html}");
    }
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tests_open_no_door_and_what_is_published_is_not_tried_out() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let (date, wanted) = w.choice(FREE, &[1]).await;
    let (by, opener) = (HeldBy::default(), ("", Some(&ilse)));
    let kept = hold::keep_test(&w.desk, date, wanted, by, None, opener).await;
    assert!(matches!(kept, Err(DeskError::NotFound)), "published");
    // One that was made while it was a draft.
    let reference = w.book(FREE, &[1]).await;
    let made = reference.as_str().to_owned();
    w.desk
        .store
        .write(move |tx| {
            tx.execute("UPDATE bookings SET test = 1 WHERE reference = ?1", [made])
                .map_err(matricle_store::StoreError::from)
        })
        .await
        .unwrap();
    let sheet = w.sheet(reference).await;
    door::open(&w.desk, &ilse, sheet.date.id, true, String::new()).await.unwrap();
    let told =
        w.scan(sheet.date.id, "gate", "key-0001", sheet.attendees[0].code.as_str()).await.told;
    assert_eq!((told.verdict.word(), told.name.is_empty()), ("a test", false));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_ticket_that_was_passed_on_opens_itself_and_nothing_else() {
    let w = world().await;
    let reference = w.book(FREE, &[2]).await;
    w.due().await;
    let before = w.sheet(reference).await.attendees[1].clone();
    let fields = form(&[("new_name", "Kit Marsh"), ("new_email", "kit@post.example")]);
    pass_on::pass_on(&w.desk, By::Booker, reference, before.id, fields).await.unwrap();
    w.due().await;
    // The booker hears of it, too, by a mail of their own.
    let mails = w.mails.taken();
    let mut mails =
        mails.iter().map(|raw| mail_parser::MessageParser::default().parse(raw).unwrap());
    let to_kit = |m: &mail_parser::Message<'_>| {
        m.to().unwrap().first().unwrap().address() == Some("kit@post.example")
    };
    let mail = mails.rfind(to_kit).unwrap();
    let secret = w.desk.booking_url(reference);
    let whole = format!("{}{}", text_of(&mail), mail.body_html(0).unwrap());
    use mail_parser::MimeHeaders;
    let reads = |p: &&mail_parser::MessagePart<'_>| {
        p.content_type().is_some_and(|t| t.subtype() == Some("calendar"))
    };
    let calendar = mail.parts.iter().find(reads).unwrap().contents();
    let calendar = String::from_utf8_lossy(calendar).replace("\r\n ", "");
    assert!(!whole.contains(&secret) && !calendar.contains(&secret), "{whole}");
    let code = w.sheet(reference).await.attendees[1].code;
    let own = w.desk.ticket_url(code);
    assert!(whole.contains(&own) && calendar.contains(&own) && whole.contains("Dear Kit Marsh"));
    let key = own.rsplit('/').next().unwrap();
    let sheet = messages::ticket(&w.desk, code, key).await.unwrap();
    assert_eq!(sheet.attendees.iter().map(|a| a.name.as_str()).collect::<Vec<_>>(), ["Kit Marsh"]);
    assert!(messages::ticket_file(&w.desk, code, key).await.unwrap().starts_with(b"%PDF"));
    assert!(messages::ticket_calendar(&w.desk, code, key).await.unwrap().contains(&own[..30]));
    for (code, key) in [(code, "AAAAAAAAAAAAAAAAAAAAAA"), (before.code, key)] {
        assert!(matches!(messages::ticket(&w.desk, code, key).await, Err(DeskError::NotFound)));
    }
    // Passed on once more, the link dies.
    let fields = form(&[("new_name", "Ana Quill"), ("new_email", "ana@post.example")]);
    pass_on::pass_on(&w.desk, By::Booker, reference, before.id, fields).await.unwrap();
    assert!(messages::ticket(&w.desk, code, key).await.is_err());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_volunteer_sees_no_names_of_another_day_until_an_organiser_opens_its_door() {
    let w = world().await;
    let (ilse, bram) = (w.staff(0).await, w.staff(1).await);
    let reference = w.paid("pollen-under-the-lens", &[1, 0, 0]).await;
    let far = w.sheet(reference).await;
    let (date, person) = (far.date.id, far.attendees[0].id);
    let show = async |date, shown| {
        let key = format!("key-{}", w.mails.taken().len());
        door::show(&w.desk, &bram, date, Device::at("gate", &key), shown).await
    };
    let shut =
        |outcome: Result<(), DeskError>| assert!(matches!(outcome, Err(DeskError::DoorShut)));
    shut(show(date, Shown::Attendee(person)).await.map(drop));
    shut(show(date, Shown::Text(far.attendees[0].code.as_str().into())).await.map(drop));
    shut(door::names(&w.desk, &bram, (date, "gate"), "").await.map(drop));
    shut(door::board(&w.desk, &bram, date).await.map(drop));
    shut(door::log(&w.desk, &bram, date).await.map(drop));
    // From today's door, people of other days are nobody.
    let today = door::todays(&w.desk, &bram).await.unwrap();
    let told = show(today[0].date.id, Shown::Attendee(person)).await.unwrap().told;
    assert_eq!((told.verdict.word(), told.name.as_str()), ("unknown", ""));
    assert!(matches!(
        door::open(&w.desk, &bram, date, true, String::new()).await,
        Err(DeskError::Right(_))
    ));
    door::open(&w.desk, &ilse, date, true, String::new()).await.unwrap();
    let board = door::board(&w.desk, &bram, date).await.unwrap();
    assert_eq!(board.opened_by.as_deref(), Some(ilse.name.as_str()), "and it says so");
    assert!(door::todays(&w.desk, &bram).await.unwrap().iter().any(|d| d.date.id == date));
    assert_eq!(
        w.scan(date, "gate", "key-far", far.attendees[0].code.as_str()).await.told.verdict.word(),
        "come in"
    );
    // Whoever is in is counted: the booking stays as it is, for the booker and for a clerk.
    for by in [By::Booker, By::Staff(ilse.clone(), None)] {
        let gone = cancel::cancel(&w.desk, by, reference, Vec::new()).await;
        assert!(matches!(gone, Err(DeskError::Inside { .. })), "{gone:?}");
    }
    door::open(&w.desk, &ilse, date, false, String::new()).await.unwrap();
    shut(door::names(&w.desk, &bram, (date, "gate"), "").await.map(drop));
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn one_network_keeps_half_of_a_hall_and_one_browser_three_bookings() {
    let w = world().await;
    let (date, some) = w.choice(FREE, &[2]).await;
    let hold = async |browser, network, address: &str| {
        let buyer = Buyer { address: address.into(), ..Buyer::default() };
        let by = HeldBy { buyer, test: false, from: (browser, network) };
        hold::keep(&w.desk, date, some.clone(), by, None).await
    };
    let free = w.free(FREE).await;
    for _ in 0..3 {
        hold(5, 1, "").await.unwrap();
    }
    let fourth = hold(5, 1, "").await;
    assert!(matches!(fourth, Err(DeskError::Keep(KeepRefusal::Browser { kept: 3 }))), "{fourth:?}");
    // Whatever cookies are thrown away, a network does not take the hall.
    let mut browser = 100;
    let refused = loop {
        browser += 1;
        match hold(browser, 1, "").await {
            Ok(_) => {}
            Err(refused) => break refused,
        }
    };
    assert!(matches!(refused, DeskError::Keep(KeepRefusal::Network { .. })), "{refused:?}");
    let left = w.free(FREE).await;
    assert!(left > 0 && left < free, "{left} of {free}");
    // Others, and whoever has proved an address, get through.
    hold(1, 2, "").await.unwrap();
    hold(2, 1, "proved@post.example").await.unwrap();
    // Two bookings that wait for money are what one address may have.
    let mut refused = None;
    for n in 0..4 {
        let (date, wanted) = w.choice("pollen-under-the-lens", &[1, 0, 0]).await;
        let by = HeldBy { from: (0, 0), ..HeldBy::default() };
        let reference = hold::keep(&w.desk, date, wanted, by, None).await.unwrap();
        let mut draft = w.draft(reference).await;
        draft.email = "many@post.example".into();
        if let Err(error) = submit::submit(&w.desk, &Asking::default(), reference, draft).await {
            refused = refused.or(Some((n, error)));
        }
    }
    assert!(matches!(refused, Some((2, DeskError::Keep(KeepRefusal::Address { kept: 2 })))));
    w.sound().await;
}

/// Moving to a far date first does not better what cancelling gives back.
#[tokio::test(flavor = "multi_thread")]
async fn moving_never_betters_what_cancelling_gives_back() {
    let w = world().await;
    let slug = "apiary-open-day";
    let page = matricle_desk::programme::event(&w.desk, crate::world::look(slug)).await.unwrap();
    assert!(page.dates.len() >= 2, "two dates");
    let reference = w.paid(slug, &[1]).await;
    let starts = w.sheet(reference).await.date.span.starts_at;
    // Two days before it, the steps give nothing.
    let wait = starts.duration_since(w.desk.clock.now()).as_mins() - 2 * 24 * 60;
    w.pass(wait);
    let now = cancel::preview(&w.desk, By::Booker, reference, Vec::new()).await.unwrap();
    let far = page.dates.last().unwrap().date.id;
    move_date::move_to(&w.desk, By::Booker, reference, far).await.unwrap();
    let moved = cancel::preview(&w.desk, By::Booker, reference, Vec::new()).await.unwrap();
    assert_eq!((moved.percent, moved.back), (now.percent, now.back));
    // The house may be kinder.
    let ilse = w.staff(0).await;
    let clerk =
        cancel::preview(&w.desk, By::Staff(ilse, None), reference, Vec::new()).await.unwrap();
    assert!(clerk.percent >= moved.percent);
    assert_eq!(w.state(reference).await, State::Confirmed);
}

/// Seats are kept for days by whoever reads the mail of the address only.
#[tokio::test(flavor = "multi_thread")]
async fn a_transfer_wants_a_proved_address() {
    let w = world().await;
    let (date, wanted) = w.choice("pollen-under-the-lens", &[1, 0, 0]).await;
    let reference = hold::keep(&w.desk, date, wanted, HeldBy::default(), None).await.unwrap();
    let draft = w.draft(reference).await;
    submit::submit(&w.desk, &Asking::default(), reference, draft).await.unwrap();
    let asked = pay::by_transfer(&w.desk, &Asking::default(), reference).await;
    assert!(matches!(asked, Err(DeskError::Who(WhoRefusal::NotSignedIn))), "{asked:?}");
    let theirs = Asking { proved: Some(BOOKER.into()), ..Asking::default() };
    pay::by_transfer(&w.desk, &theirs, reference).await.unwrap();
}
