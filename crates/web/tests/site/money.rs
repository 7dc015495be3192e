//! The pages of bookings and money: every act of the Office by its form, with what is wrong
//! said beside it; the list and what can be done with many; a booker's own page; who may.

use axum::http::StatusCode;
use matricle_desk::outside::provider::Status;
use matricle_web::Limits;

use crate::site::{Browser, Reply, Site, site};

async fn open() -> Site {
    site(Limits { sign_in: 1000, booking: 1000 }, false).await
}

const WALK: &str = "apiary-open-day";

/// The sheet of the first booking that a list shows.
async fn first(b: &mut Browser<'_>, words: &str) -> String {
    let list = b.get(&format!("/office/bookings?q={words}")).await.body;
    let reference = list.split("/office/bookings/").nth(1).unwrap().split('"').next().unwrap();
    format!("/office/bookings/{reference}")
}

async fn due(site: &Site) {
    while matricle_desk::timers::run_due(&site.desk).await.unwrap() {}
}

/// A booking of two seats that is paid by card: its own page.
async fn paid(b: &mut Browser<'_>, slug: &str) -> String {
    let own = b.keep(slug, &[2]).await.location().to_owned();
    let form = b.get(&own).await;
    let mut fields = vec![
        ("name", "Siân O'Hara"),
        ("email", "sian@post.example"),
        ("attendee_1", "Sam <O'Hara>"),
        ("agreed", "yes"),
        ("again", "yes"),
    ];
    let choice = form.body.split("type=\"radio\" name=\"").nth(1).map(|t| {
        let name = t.split('"').next().unwrap().to_owned();
        (name, t.split("value=\"").nth(1).unwrap().split('"').next().unwrap().to_owned())
    });
    if let Some((name, value)) = &choice {
        fields.push((name, value));
    }
    let booked = b.post(&format!("{own}/book"), &fields).await;
    assert_eq!(booked.status, StatusCode::SEE_OTHER, "{}", booked.body);
    b.get(&format!("{own}/pay")).await;
    b.site.provider.decide(Status::Paid);
    assert!(b.get(&own).await.body.contains("Your seats are booked."));
    own
}

fn says(reply: &Reply, words: &str) {
    assert!(reply.status == 422 || reply.status == 409, "{}: {}", reply.status, reply.body);
    assert!(reply.body.contains(words), "{words}: {}", reply.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_sheet_of_a_booking_does_everything_and_says_what_is_wrong_beside_it() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let sheet = first(&mut ilse, "to+pay+course").await;
    let page = ilse.get(&sheet).await.body;
    for words in ["Take money", "Add tickets", "Swap a ticket", "Set a price by hand", "I-2026-"] {
        assert!(page.contains(words), "{words}");
    }
    let act = |act: &str| format!("{sheet}/{act}");
    for (path, fields, words) in [
        ("money", vec![("amount", "ten"), ("method", "cash")], "value=\"ten\""),
        ("money", vec![("amount", "1.00"), ("method", "barter")], "another look"),
        ("price", vec![("price", "1.00"), ("ticket", "1"), ("reason", "")], "another look"),
        ("put-off", vec![("until", "")], "another look"),
        ("note", vec![("note", " ")], "another look"),
        ("move", vec![("date", "999999")], ""),
        ("add", vec![("ticket", "999999"), ("quantity", "1")], "not offered any more"),
        ("yes", vec![], "cannot be done with it now"),
    ] {
        let reply = ilse.post(&act(path), &fields).await;
        if words.is_empty() {
            assert_eq!(reply.status, StatusCode::NOT_FOUND);
        } else {
            says(&reply, words);
        }
    }
    let note = ilse.post(&act("note"), &[("note", "Rang twice <b>today</b>.")]).await;
    assert_eq!(note.status, StatusCode::SEE_OTHER);
    let page = ilse.get(&sheet).await;
    assert!(page.body.contains("Rang twice &#60;b&#62;today&#60;/b&#62;."), "{}", page.body);
    let own = page.body.split("/booking/").nth(1).unwrap().split('<').next().unwrap();
    let own = format!("/booking/{own}");
    let mut stranger = Browser::new(&site);
    let seen = stranger.get(&own).await;
    assert!(!seen.body.contains("Rang twice"), "no booker sees a note");
    assert!(seen.body.contains("Payment QR code") && seen.body.contains("RF"));
    // A part of the money, then the rest.
    for amount in ["20.00", "100.00"] {
        let taken = ilse.post(&act("money"), &[("amount", amount), ("method", "cash")]).await;
        assert_eq!(taken.status, StatusCode::SEE_OTHER);
    }
    let page = ilse.get(&sheet).await.body;
    assert!(page.contains("confirmed") && page.contains("took €20.00 by cash"));
    let paper = page.split(&format!("{sheet}/documents/")).nth(1).unwrap();
    let paper = format!("{sheet}/documents/{}", paper.split('"').next().unwrap());
    let pdf = ilse.get(&paper).await;
    assert!(pdf.header("content-type") == "application/pdf" && pdf.body.starts_with("%PDF"));
    assert_eq!(stranger.get(&paper).await.status, StatusCode::SEE_OTHER, "sign in first");
    // Cancelled with a percentage of the clerk's own, then brought back.
    let before = ilse.get(&format!("{sheet}/cancel?percent=30")).await;
    assert!(before.body.contains("€36.00 goes back") && before.body.contains("€84.00 stays"));
    ilse.post(&format!("{sheet}/cancel"), &[("percent", "30")]).await;
    let page = ilse.get(&sheet).await.body;
    assert!(page.contains("Bring it back") && page.contains("credit note"), "{page}");
    let given = page.split("name=\"refund\" value=\"").nth(1).unwrap().split('"').next().unwrap();
    assert_eq!(ilse.post(&act("given"), &[("refund", given)]).await.status, 303);
    assert_eq!(ilse.post(&act("back"), &[]).await.status, StatusCode::SEE_OTHER);
    assert!(ilse.get(&sheet).await.body.contains("36.00</dd>"), "what went back is owed again");
    due(&site).await;
    assert_eq!(
        site.desk.store.read(matricle_store::check::faults).await.unwrap(),
        Vec::<String>::new()
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_booker_changes_corrects_passes_on_and_cancels_a_part_without_script() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let own = paid(&mut b, WALK).await;
    let page = b.get(&format!("{own}/change")).await.body;
    assert!(
        page.contains("Sam &#60;O&#39;Hara&#62;") && page.contains("Pass a ticket on"),
        "{page}"
    );
    let attendee = b.get(&format!("{own}/change")).await;
    let attendee = attendee
        .body
        .split("<option value=\"")
        .nth(1)
        .unwrap()
        .split('"')
        .next()
        .unwrap()
        .to_owned();
    let bad = [("attendee", attendee.as_str()), ("new_name", ""), ("new_email", "ros at post")];
    says(&b.post(&format!("{own}/change/pass"), &bad).await, "ros at post");
    let good =
        [("attendee", attendee.as_str()), ("new_name", "Ros"), ("new_email", "ros@post.example")];
    assert_eq!(b.post(&format!("{own}/change/pass"), &good).await.location(), own);
    assert!(b.get(&own).await.body.contains("Ros"));
    let names = b.get(&format!("{own}/names")).await.body;
    assert!(names.contains("Names and answers") && !names.contains("name=\"email\""));
    let seen = b.post(&format!("{own}/change/cancel"), &[("ticket", "1")]).await;
    assert!(seen.body.contains("These tickets are cancelled: Sam"), "{}", seen.body);
    let sure = [("ticket", "1"), ("sure", "yes")];
    assert_eq!(b.post(&format!("{own}/change/cancel"), &sure).await.location(), own);
    due(&site).await;
    let page = b.get(&own).await.body;
    assert!(page.contains("Your ticket<") && page.contains("given back by card"), "{page}");
    assert!(page.contains("receipt") && page.contains("credit note"));
    assert_eq!(b.get(&format!("{own}/change/cancel")).await.location(), own, "back leads home");
    let other = own.replace(&own[own.len() - 3..], "xxx");
    assert_eq!(b.get(&format!("{other}/change")).await.status, StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_list_shows_the_columns_asked_for_and_one_act_on_many_is_undone() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    paid(&mut Browser::new(&site), "pollen-under-the-lens").await;
    let query = "q=confirmed+pollen&col=booker&col=address&col=due&answers=yes&sort=booker";
    let page = ilse.get(&format!("/office/bookings?{query}")).await.body;
    assert!(page.contains("Soup at noon") && page.contains("@post.example"));
    assert!(!page.contains("<th scope=\"col\">Made"));
    let csv = ilse.get(&format!("/office/bookings.csv?{query}")).await;
    assert!(csv.header("content-disposition").contains("bookings.csv"));
    let head = csv.body.trim_start_matches('\u{feff}').lines().next().unwrap().to_owned();
    assert!(head.starts_with("Booking,Booker,Address,Due,"), "{head}");
    assert!(ilse.get(&format!("/office/bookings.xlsx?{query}")).await.body.starts_with("PK"));
    let kept = ilse.post("/office/views", &[("query", query), ("name", "Pollen & soup")]).await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER);
    let page = ilse.get("/office/bookings").await.body;
    assert!(page.contains("Pollen &#38; soup"), "{page}");
    // All that are found: first what it does, then the act, then back again.
    let many = [("query", "q=confirmed+pollen"), ("act", "cancel"), ("all", "yes")];
    let before = ilse.post("/office/many", &many).await.body;
    assert!(before.contains("confirmed, €") && before.contains("Do it"), "{before}");
    let references: Vec<String> = before
        .split("name=\"ref\" value=\"")
        .skip(1)
        .map(|t| t.split('"').next().unwrap().to_owned())
        .collect();
    assert!(references.len() >= 3);
    let mut fields = vec![("query", "q=confirmed+pollen"), ("act", "cancel"), ("sure", "yes")];
    fields.extend(references.iter().map(|r| ("ref", r.as_str())));
    let done = ilse.post("/office/many", &fields).await.body;
    assert!(
        done.contains(&format!("Done with {} bookings", references.len()))
            && done.contains("Undo it")
    );
    assert!(ilse.get("/office/bookings?q=confirmed+pollen").await.body.contains("Nothing fits"));
    fields[1].1 = "bring back";
    let undone = ilse.post("/office/many", &fields).await.body;
    assert!(undone.contains(&format!("Done with {} bookings", references.len())), "{undone}");
    let again = ilse.post("/office/many", &fields).await.body;
    assert!(
        again.contains("Not done with") && again.contains(": it is "),
        "twice does nothing twice"
    );
    assert_eq!(
        site.desk.store.read(matricle_store::check::faults).await.unwrap(),
        Vec::<String>::new()
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_date_offers_a_place_on_the_list_and_the_office_serves_out_of_turn() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let page = b.get("/events/rearing-queens").await.body;
    let wait = page.split("href=\"").find(|h| h.contains("/wait?date=")).unwrap();
    let wait = wait.split('"').next().unwrap().to_owned();
    let form = b.get(&wait).await;
    assert!(form.body.contains("2 parties wait before you"));
    let (date, ticket) = (
        form.field("date"),
        form.body.split("name=\"q_").nth(1).unwrap().split('"').next().unwrap().to_owned(),
    );
    let ticket = format!("q_{ticket}");
    let path = "/events/rearing-queens/wait";
    let bad = [("date", date.as_str()), (&ticket, "2"), ("name", ""), ("email", "greta")];
    says(&b.post(path, &bad).await, "value=\"greta\"");
    let none = [("date", date.as_str()), ("name", "Greta"), ("email", "greta@post.example")];
    says(&b.post(path, &none).await, "Choose at least one ticket");
    let good = [
        ("date", date.as_str()),
        (&ticket, "1"),
        ("name", "Greta"),
        ("email", "greta@post.example"),
    ];
    // Whoever merely types an address is told nothing but to look at its mail.
    let mailed = b.post(path, &good).await.location().to_owned();
    assert!(b.get(&mailed).await.body.contains("Look at your mail"));
    b.prove("greta@post.example").await;
    b.get(&wait).await;
    let place = b.post(path, &good).await.location().to_owned();
    assert!(b.get(&place).await.body.contains("Place 3 of 3"));
    assert_eq!(b.get(&format!("{place}x")).await.status, StatusCode::NOT_FOUND);
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let event = ilse.get("/office/events?q=queens").await.body;
    let id = event
        .split("/office/events/")
        .find_map(|t| t.split('"').next()?.parse::<i64>().ok())
        .unwrap();
    let rules = format!("/office/events/{id}/rules");
    let list = ilse.get(&rules).await.body;
    let waiter = list.split("name=\"waiter\" value=\"").nth(3).unwrap().split('"').next().unwrap();
    let mute = [("waiter", waiter), ("date", date.as_str()), ("reason", "")];
    says(&ilse.post(&format!("/office/events/{id}/offer"), &mute).await, "another look");
    let full = [("waiter", waiter), ("date", date.as_str()), ("reason", "He drives")];
    says(&ilse.post(&format!("/office/events/{id}/offer"), &full).await, "are left for this date");
    says(
        &ilse.post(&rules, &[("waiting", "off"), ("offer_hours", "soon")]).await,
        "value=\"soon\"",
    );
    let left = b.post(&place, &[]).await;
    assert_eq!(left.status, StatusCode::SEE_OTHER);
    assert!(b.get(&place).await.body.contains("You have left the list"));
    // Of an event that keeps no list there is none to join.
    let none = b.get("/events/vale-convention/wait?date=1").await;
    assert_eq!(none.status, StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_books_are_for_those_who_handle_money_and_every_form_keeps_what_was_typed() {
    let site = open().await;
    let mut petra = Browser::new(&site);
    petra.sign_in(4).await;
    for tab in ["", "/movements", "/events", "/ledger", "/provider", "/hosts", "/promos", "/cards"]
    {
        let page = petra.get(&format!("/office/money{tab}")).await;
        assert_eq!(page.status, StatusCode::OK, "{tab}");
    }
    for file in ["owed.csv", "ledger.xlsx?month=2026-11", "events.csv", "movements.csv"] {
        assert_eq!(
            petra.get(&format!("/office/money/{file}")).await.status,
            StatusCode::OK,
            "{file}"
        );
    }
    assert_eq!(petra.get("/office/money/nowhere").await.status, StatusCode::NOT_FOUND);
    for (act, fields, words) in [
        ("transfer", vec![("amount", "some"), ("references", "RF00")], "value=\"some\""),
        ("promo", vec![("code", "Comb 5"), ("percent", "120")], "value=\"120\""),
        ("promo", vec![("code", "clover10"), ("percent", "5")], "another look"),
        ("promo", vec![("code", "Both"), ("percent", "5"), ("amount", "5")], "another look"),
        (
            "promo",
            vec![
                ("code", "Back"),
                ("percent", "5"),
                ("good_from", "2027-02-01T10:00"),
                ("good_until", "2027-01-01T10:00"),
            ],
            "another look",
        ),
        (
            "share",
            vec![("host", "1"), ("event", "1"), ("kind", "percent"), ("share", "140")],
            "value=\"140\"",
        ),
        (
            "card-kind",
            vec![("card_name", "Dipping card"), ("card_stamps", "5"), ("card_price", "1")],
            "another look",
        ),
        (
            "sell-card",
            vec![("kind", "1"), ("name", "Ros"), ("email", "ros"), ("method", "cash")],
            "value=\"ros\"",
        ),
    ] {
        says(&petra.post(&format!("/office/money/{act}"), &fields).await, words);
    }
    let made = [("code", "Comb 5"), ("percent", "5"), ("once", "yes")];
    assert_eq!(petra.post("/office/money/promo", &made).await.status, StatusCode::SEE_OTHER);
    let share = [("host", "1"), ("event", "1"), ("kind", "per head"), ("share", "2.50")];
    assert_eq!(petra.post("/office/money/share", &share).await.status, StatusCode::SEE_OTHER);
    assert_eq!(petra.post("/office/money/pay-host", &[("host", "1")]).await.status, 303);
    assert!(petra.get("/office/money/ledger").await.body.contains("paid out to a host"));
    // The treasurer takes money, but changes no booking.
    let sheet = first(&mut petra, "to+pay+course").await;
    assert_eq!(petra.post(&format!("{sheet}/back"), &[]).await.status, StatusCode::FORBIDDEN);
    // A door volunteer sees no books at all; a stranger is asked to sign in.
    let mut bram = Browser::new(&site);
    bram.sign_in(1).await;
    assert_eq!(bram.get("/office/money").await.status, StatusCode::FORBIDDEN);
    assert_eq!(Browser::new(&site).get("/office/money").await.status, StatusCode::SEE_OTHER);
    // The house's account is checked by its digits.
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    ilse.get("/office/house").await;
    let fields = [
        ("name", "Ostrel"),
        ("email", "o@ostrel.example"),
        ("zone", "Europe/Dublin"),
        ("currency", "EUR"),
        ("terms", "Yes."),
        ("iban", "IE66 OVBK 9000 1712 3456 79"),
        ("transfer_days", "10"),
    ];
    says(&ilse.post("/office/house", &fields).await, "IE66 OVBK 9000 1712 3456 79");
    assert_eq!(
        site.desk.store.read(matricle_store::check::faults).await.unwrap(),
        Vec::<String>::new()
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_code_for_one_ticket_of_one_evening_is_taken_there_only() {
    let site = open().await;
    let mut petra = Browser::new(&site);
    petra.sign_in(4).await;
    let list = petra.get("/office/money/promos").await.body;
    let option = list.split(">Thursday dipping</option>").next().unwrap();
    let event = option.rsplit("value=\"").next().unwrap().split('"').next().unwrap().to_owned();
    let page = petra.get(&format!("/office/money/promos?event={event}")).await.body;
    let box_of = |name: &str, words: &str| {
        let before = page.split(&format!("> {words}</label>")).next().unwrap();
        let input = before.rsplit(&format!("name=\"{name}\" value=\"")).next().unwrap();
        input.split('"').next().unwrap().to_owned()
    };
    let seat = box_of("only_ticket", "Seat");
    let evening = box_of("only_date", "Thu 10 December, 18:30–20:30");
    let code = |percent: &'static str| {
        [
            ("code", "Wicks"),
            ("event", event.as_str()),
            ("percent", percent),
            ("only_ticket", seat.as_str()),
            ("only_date", evening.as_str()),
            ("only_date", "999999"),
        ]
    };
    let wrong = petra.post("/office/money/promo", &code("101")).await;
    says(&wrong, &format!("name=\"only_date\" value=\"{evening}\" checked"));
    assert_eq!(petra.post("/office/money/promo", &code("25")).await.status, StatusCode::SEE_OTHER);
    let list = petra.get("/office/money/promos").await.body;
    assert!(list.contains("Thursday dipping, Seat, Thu 10 December"), "{list}");
    let mut b = Browser::new(&site);
    let other = b.keep("thursday-dipping", &[1]).await.location().to_owned();
    b.get(&other).await;
    let typed = [("code", "WICKS"), ("name", "Kit <b>")];
    let refused = b.post(&format!("{other}/code"), &typed).await;
    says(&refused, "value=\"Kit &#60;b&#62;\"");
    assert!(refused.body.contains("“Wicks” is for other dates."), "{}", refused.body);
    b.post(&format!("{other}/give-back"), &[]).await;
    let page = b.get(&format!("/events/thursday-dipping?date={evening}")).await;
    let q = format!("q_{seat}");
    let keep = [("date", evening.as_str()), (q.as_str(), "2")];
    assert!(page.body.contains("Thu 10 December"));
    let own = b.post("/events/thursday-dipping/keep", &keep).await.location().to_owned();
    b.get(&own).await;
    assert_eq!(b.post(&format!("{own}/code"), &typed).await.location(), own);
    let taken = b.get(&own).await.body;
    assert!(taken.contains("€12.00") && taken.contains("−€4.00"), "{taken}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_double_click_at_the_office_does_it_once() {
    let site = open().await;
    let mut petra = Browser::new(&site);
    petra.sign_in(4).await;
    let sheet = first(&mut petra, "to+pay+course").await;
    let page = petra.get(&sheet).await;
    let once = page.field("once");
    let cash = |amount: &'static str| [("amount", amount), ("method", "cash"), ("once", &once)];
    let act = format!("{sheet}/money");
    for _ in 0..2 {
        assert_eq!(petra.post(&act, &cash("5.00")).await.location(), sheet);
    }
    let taken = petra.get(&sheet).await.body;
    assert_eq!(taken.matches("<b>5.00</b> paid by cash").count(), 1, "{taken}");
    // What was refused may be sent again as it is, and is refused again.
    for _ in 0..2 {
        says(&petra.post(&act, &cash("ten")).await, "value=\"ten\"");
    }
    // Something else on the same page is something else; a fresh page may do it again.
    petra.post(&act, &cash("6.00")).await;
    let fresh = petra.get(&sheet).await.field("once");
    petra.post(&act, &[("amount", "5.00"), ("method", "cash"), ("once", &fresh)]).await;
    let taken = petra.get(&sheet).await.body;
    assert_eq!(taken.matches("<b>5.00</b> paid").count(), 2);
    assert_eq!(taken.matches("<b>6.00</b> paid").count(), 1);
    let room = petra.get("/office/money/cards").await;
    let kind = room.body.split("name=\"kind\"").nth(1).unwrap();
    let kind = kind.split("value=\"").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let once = room.field("once");
    let sell = [
        ("kind", kind.as_str()),
        ("name", "Quill Twice"),
        ("email", "quill@post.example"),
        ("method", "cash"),
        ("once", &once),
    ];
    for _ in 0..2 {
        assert_eq!(
            petra.post("/office/money/sell-card", &sell).await.location(),
            "/office/money/cards"
        );
    }
    let cards = petra.get("/office/money/cards").await.body;
    assert_eq!(cards.matches("Quill Twice").count(), 1, "{cards}");
}

/// Of two, one is inside: the other's ticket is cancelled, by the clerk or the booker; the
/// whole is not offered, and what is asked for all the same is refused where it was asked.
#[tokio::test(flavor = "multi_thread")]
async fn with_somebody_inside_the_others_can_still_be_cancelled() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let sheet = first(&mut ilse, "birch+candles").await;
    let page = ilse.get(&sheet).await.body;
    assert!(page.contains("Cancel the ticket of Oona Birch"), "{page}");
    assert!(!page.contains("Cancel the ticket of Greta Birch"), "she is inside");
    assert!(!page.contains(">Cancel the booking<"));
    let own = page.split("/booking/").nth(1).unwrap().split('<').next().unwrap();
    let change = format!("/booking/{own}/change");
    let inside = "Greta Birch has been let in with this booking";
    says(&ilse.get(&format!("{sheet}/cancel")).await, inside);
    says(&ilse.post(&format!("{sheet}/cancel"), &[]).await, inside);
    let mut booker = Browser::new(&site);
    let theirs = booker.get(&change).await.body;
    assert!(theirs.contains("Which tickets; whoever has been let in keeps theirs"), "{theirs}");
    says(&booker.post(&format!("{change}/cancel"), &[]).await, inside);
    let oona = page.split("name=\"ticket\" value=\"").nth(1).unwrap().split('"').next().unwrap();
    let before = ilse.get(&format!("{sheet}/cancel?ticket={oona}")).await;
    assert!(
        before.body.contains("The tickets of Oona Birch open the door no more"),
        "{}",
        before.body
    );
    let done = ilse.post(&format!("{sheet}/cancel"), &[("ticket", oona)]).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.body);
    assert!(ilse.get(&sheet).await.body.contains("ticket cancelled"));
}
