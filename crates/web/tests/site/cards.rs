//! Stamp cards bought and used, money taken at the door, and the rules of confirming: the
//! pages, without script.

use axum::http::StatusCode;
use matricle_desk::outside::provider::Status;
use matricle_web::Limits;

use crate::site::{Browser, Reply, Site, site};

const DIPPING: &str = "thursday-dipping";

async fn open() -> Site {
    site(Limits { sign_in: 1000, booking: 1000 }, false).await
}

/// Keeps and books so many of each ticket; gives the booking's own address.
async fn book(b: &mut Browser<'_>, slug: &str, quantities: &[u32]) -> String {
    let own = b.keep(slug, quantities).await.location().to_owned();
    b.get(&own).await;
    let fields = [
        ("name", "Nia O'Hara"),
        ("email", "nia@post.example"),
        ("attendee_1", "Kit"),
        ("agreed", "yes"),
        ("again", "yes"),
    ];
    let booked = b.post(&format!("{own}/book"), &fields).await;
    assert_eq!(booked.status, StatusCode::SEE_OTHER, "{}", booked.body);
    own
}

/// The ticket codes or card letters that a page shows.
fn after<'r>(reply: &'r Reply, mark: &str) -> Vec<&'r str> {
    reply.body.split(mark).skip(1).map(|t| t.split('<').next().unwrap()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_card_is_bought_beside_a_seat_and_pays_at_the_door() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let page = b.get("/events/thursday-dipping").await;
    assert!(
        page.body.contains("a stamp card: 10 stamps, good for 365 days; mailed once it is paid")
    );
    let own = book(&mut b, DIPPING, &[0, 1]).await;
    let pay = b.get(&own).await;
    assert!(pay.body.contains("€70.00 to pay") && !pay.body.contains("Or with a stamp card"));
    b.get(&format!("{own}/pay")).await;
    site.provider.decide(Status::Paid);
    let paid = b.get(&own).await;
    assert!(paid.body.contains("It is paid. Thank you.") && !paid.body.contains("Your ticket"));
    let letters = after(&paid, "<b class=\"ref\">")[0].to_owned();
    assert!(paid.body.contains("Dipping card, 10 stamps left, good until"));
    let tickets = b.get(&format!("{own}/tickets.pdf")).await;
    assert_eq!(tickets.status, StatusCode::NOT_FOUND, "there is no ticket to print");

    // A seat that is not paid comes to the door.
    let unpaid = book(&mut b, DIPPING, &[1]).await;
    assert!(b.get(&unpaid).await.body.contains("1 stamp for €8.00"));
    let mut bram = Browser::new(&site);
    bram.sign_in(1).await;
    let date = b.get("/events/thursday-dipping").await.field("date");
    site.open_door(&date).await;
    let scan = format!("/door/{date}/scan");
    bram.get(&format!("/door/{date}?door=Barn")).await;
    let card = bram.post(&scan, &[("text", &letters), ("key", "card-0001")]).await;
    assert!(card.body.contains("data-verdict=\"card\"") && card.body.contains("10 stamps left"));
    assert!(!card.body.contains("taken in cash"), "a card owes nothing");
    let names = bram.post(&scan, &[("text", "nia")]).await;
    assert!(names.body.contains("€8.00 to pay") && names.body.contains("Check Nia O&#39;Hara"));
    let attendee = names.field("attendee");
    let shown = bram.post(&scan, &[("attendee", &attendee), ("key", "nia-0001")]).await;
    for words in
        ["€8.00 taken in cash", "€8.00 taken by card", "1 stamp off their card", "10 stamps left"]
    {
        assert!(shown.body.contains(words), "{words}: {}", shown.body);
    }
    let pay = format!("/door/{date}/pay");
    let (due, key) = (shown.field("due"), "nia-pay-0001");
    let with = |with: &'static str, code: &'static str| {
        vec![
            ("attendee", attendee.as_str()),
            ("due", due.as_str()),
            ("key", key),
            ("with", with),
            ("code", code),
        ]
    };
    let wrong = bram.post(&pay, &with("stamps", "BCDF")).await;
    assert_eq!(wrong.status, StatusCode::CONFLICT);
    assert!(wrong.body.contains("The card does not pay"), "{}", wrong.body);
    assert_eq!(bram.post(&pay, &[("attendee", "x")]).await.status, StatusCode::NOT_FOUND);
    let code = letters.replace(' ', "");
    let fields = [
        ("attendee", attendee.as_str()),
        ("due", due.as_str()),
        ("key", key),
        ("with", code.as_str()),
    ];
    let part = bram
        .post_for_part(&pay, &format!("attendee={attendee}&due={due}&key={key}&with={code}"))
        .await;
    assert!(
        part.body.contains("data-verdict=\"in\"")
            && part.body.contains("<template><li class=\"in\"")
    );
    let twice = bram.post(&pay, &fields).await;
    assert!(twice.body.contains("data-verdict=\"in\""), "sent again, it says the same");
    assert!(b.get(&own).await.body.contains("9 stamps left"));
    // Who has signed in sees their cards, and where more are sold.
    b.get("/me").await;
    b.post("/me/number", &[("email", "nia@post.example")]).await;
    let number = site.mailed_number();
    b.post("/me", &[("email", "nia@post.example"), ("code", &number)]).await;
    let me = b.get("/me").await;
    assert!(
        me.body.contains("9 stamps left") && me.body.contains("(Dipping card, €70.00)"),
        "{}",
        me.body
    );
    let faults = site.desk.store.read(matricle_store::check::faults).await.unwrap();
    assert_eq!(faults, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_booking_that_stands_still_owes_is_paid_on_its_own_page() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let own = book(&mut b, DIPPING, &[1]).await;
    b.get(&format!("{own}/pay")).await;
    site.provider.decide(Status::Paid);
    let paid = b.get(&own).await;
    assert!(paid.body.contains("Your seats are booked") && !paid.body.contains("still to pay"));
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let reference = own.split('/').nth(2).unwrap().to_owned();
    let office = format!("/office/bookings/{reference}");
    let sheet = ilse.get(&office).await.body;
    let seat = sheet.split("id=\"add-ticket\"").nth(1).unwrap();
    let seat = seat.split("value=\"").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let more = [("ticket", seat.as_str()), ("quantity", "1"), ("people", "Quill")];
    let added = ilse.post(&format!("{office}/add"), &more).await;
    assert_eq!(added.status, StatusCode::SEE_OTHER, "{}", added.body);
    let owing = b.get(&own).await;
    assert!(owing.body.contains("<h2>€8.00 still to pay</h2>") && owing.body.contains("RF"));
    assert!(owing.body.contains("Your 2 tickets"), "it stands all the same");
    let wrong = b.post(&format!("{own}/stamps"), &[("card", "BCDF <b>")]).await;
    assert_eq!(wrong.status, StatusCode::CONFLICT);
    assert!(wrong.body.contains("This is no card of ours"), "{}", wrong.body);
    b.get(&format!("{own}/pay")).await;
    site.provider.decide(Status::Declined);
    let declined = b.get(&own).await;
    assert!(declined.body.contains("Your card was declined. Nothing was taken."));
    b.get(&format!("{own}/pay")).await;
    site.provider.decide(Status::Paid);
    let all = b.get(&own).await;
    assert!(all.body.contains("<dd>€16.00</dd>") && !all.body.contains("still to pay"));
    let faults = site.desk.store.read(matricle_store::check::faults).await.unwrap();
    assert_eq!(faults, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_booker_did_is_taken_back_while_the_seats_are_there() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let own = book(&mut b, DIPPING, &[2]).await;
    b.get(&format!("{own}/change")).await;
    let cancel = |n: &'static str| [("sure", "yes"), ("ticket", n)];
    b.post(&format!("{own}/change/cancel"), &cancel("1")).await;
    let part = b.get(&own).await;
    assert!(part.body.contains("€6.50 to pay") || part.body.contains("€8.00 to pay"));
    assert!(part.body.contains("You cancelled tickets of it, today"), "{}", part.body);
    let undo = format!("{own}/undo");
    assert_eq!(b.post(&undo, &[]).await.location(), own);
    let again = b.get(&own).await;
    assert!(again.body.contains("€16.00 to pay") && !again.body.contains("take that back"));
    assert_eq!(b.post(&undo, &[]).await.location(), own, "twice is no fault");
    b.post(&format!("{own}/change/cancel"), &[("sure", "yes")]).await;
    let over = b.get(&own).await;
    assert!(over.body.contains("You cancelled this booking, today"), "{}", over.body);
    // Somebody else takes the seats meanwhile.
    let mut other = Browser::new(&site);
    let page = other.get("/events/thursday-dipping").await.body;
    let left = page.split("<b>").find_map(|t| t.split(" seats left</b>").next()?.parse().ok());
    let theirs = other.keep(DIPPING, &[left.unwrap_or(3)]).await.location().to_owned();
    let gone = b.post(&undo, &[]).await;
    assert_eq!(gone.status, StatusCode::CONFLICT, "{}", gone.body);
    assert!(gone.body.contains("It cannot be taken back any more."), "{}", gone.body);
    other.get(&theirs).await;
    other.post(&format!("{theirs}/give-back"), &[]).await;
    assert_eq!(b.post(&undo, &[]).await.location(), own);
    assert!(b.get(&own).await.body.contains("€16.00 to pay"));
    let faults = site.desk.store.read(matricle_store::check::faults).await.unwrap();
    assert_eq!(faults, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rule_that_is_turned_off_asks_what_becomes_of_those_who_wait() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let list = ilse.get("/office/events?q=dipping").await;
    let event = list.body.split("href=\"/office/events/").find_map(|t| {
        let id: String = t.chars().take_while(char::is_ascii_digit).collect();
        (!id.is_empty()).then_some(id)
    });
    let who = format!("/office/events/{}/who", event.unwrap());
    let form = ilse.get(&who).await;
    assert!(
        form.body.contains("Bookings that cost nothing")
            && form.body.contains("by themselves, once paid")
    );
    let rule = |paid: &'static str, waiting: &'static str| {
        vec![
            ("who", "anyone"),
            ("hold_minutes", "15"),
            ("confirm_free", "by itself"),
            ("confirm_paid", paid),
            ("waiting", waiting),
        ]
    };
    let mut filling = Browser::new(&site);
    filling.keep(DIPPING, &[1]).await;
    let kept = ilse.post(&who, &rule("after yes", "")).await;
    assert!(
        kept.body.contains("Kept. One that is being filled in now will wait for it too."),
        "{}",
        kept.body
    );
    let mut b = Browser::new(&site);
    let page = b.get("/events/thursday-dipping").await;
    assert!(page.body.contains("and the organiser answers by mail"));
    // Seats are kept for days by whoever reads the mail of the address only.
    b.prove("nia@post.example").await;
    let own = b.keep(DIPPING, &[1]).await.location().to_owned();
    assert!(b.get(&own).await.body.contains("Ask for these seats"));
    let own = book(&mut b, DIPPING, &[1]).await;
    assert!(b.get(&own).await.body.contains("You asked for seats."));
    let asked = ilse.post(&who, &rule("by itself", "")).await;
    assert_eq!(asked.status, StatusCode::OK);
    for words in [
        "One booking waits for your yes and would not need it any more",
        "Nia O&#39;Hara",
        "value=\"go on\"",
    ] {
        assert!(asked.body.contains(words), "{words}: {}", asked.body);
    }
    assert!(
        b.get(&own).await.body.contains("You asked for seats."),
        "nothing is done before it is said"
    );
    // A field that is wrong is told first; then they go on.
    let wrong = [rule("by itself", "go on"), vec![("hold_minutes", "none")]].concat();
    let wrong: Vec<_> =
        wrong.into_iter().filter(|(n, v)| *n != "hold_minutes" || *v == "none").collect();
    assert_eq!(ilse.post(&who, &wrong).await.status, StatusCode::UNPROCESSABLE_ENTITY);
    let done = ilse.post(&who, &rule("by itself", "go on")).await;
    assert!(done.body.contains("One booking that waited has gone on by itself."), "{}", done.body);
    assert!(b.get(&own).await.body.contains("€8.00 to pay"));
}
