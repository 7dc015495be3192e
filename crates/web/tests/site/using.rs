//! What using it showed, on the pages: who has no address, who comes, first steps, the key *Enter*.

use axum::http::StatusCode;

use matricle_web::Limits;

use crate::site::{Browser, Site, site};

async fn open() -> Site {
    site(Limits { sign_in: 1000, booking: 1000 }, false).await
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_books_by_phone_is_asked_counted_and_rung() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    // What must be answered is asked, and the price is that of today.
    let page = ilse.get("/office/events/3/phone").await.body;
    assert!(
        page.contains("Has anybody reacted badly to a sting?") && page.contains("Telephone number")
    );
    let ticket = page.split("name=\"q_").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let date = page.split("<select").nth(1).unwrap().split("value=\"").nth(1).unwrap();
    let date = date.split('"').next().unwrap().to_owned();
    let quantity = format!("q_{ticket}");
    let fields =
        [("date", date.as_str()), (quantity.as_str(), "1"), ("name", "Mair Pugh"), ("phone", "12")];
    let refused = ilse.post("/office/events/3/phone", &fields).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        refused.body.contains("Write a telephone number") && refused.body.contains("Mair Pugh")
    );
    let fields = [&fields[..3], &[("phone", "+353 1 555 0177")]].concat();
    let refused = ilse.post("/office/events/3/phone", &fields).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        refused.body.contains("Choose one of these.") || refused.body.contains("class=\"wrong\"")
    );
    let fields = [&fields[..], &[("answer_4", "no")]].concat();
    let booked = ilse.post("/office/events/3/phone", &fields).await;
    let booking = ilse.get(booked.location()).await.body;
    assert!(booking.contains("tel:+353 1 555 0177") && booking.contains("Has anybody reacted"));
    // Named where it is decided, then on the list of those to ring, then rung.
    let before = ilse.get(&format!("/office/events/3/call-off?date={date}")).await.body;
    assert!(
        before.contains("One booker gave no address") && before.contains("Mair Pugh (to be rung")
    );
    let off = [("date", date.as_str()), ("reason", "Hail.")];
    let told = ilse.post("/office/events/3/call-off", &off).await;
    let list = ilse.get(told.location()).await.body;
    assert!(list.contains("To ring, because they gave no address") && list.contains("Mair Pugh"));
    assert!(ilse.get("/office").await.body.contains("Ring 1 booker without an address"));
    let ring =
        list.split("name=\"ring\" value=\"").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let rung = ilse.post("/office/events/3/rung", &[("ring", &ring)]).await;
    assert!(ilse.get(rung.location()).await.body.contains("rung today"));
    assert!(!ilse.get("/office").await.body.contains("without an address"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_list_of_who_comes_is_searched_sorted_printed_and_taken_along() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let page = ilse.get("/office/events/3/coming").await.body;
    assert!(page.contains("All on one page, to print"));
    let rows = |page: &str| page.matches("<tr data-row").count();
    let all = rows(&page);
    assert!(all > 3);
    let one = page.split("<td><b>").nth(1).unwrap().split("</b>").next().unwrap().to_owned();
    let q = one.replace(' ', "%20");
    let found = ilse.get(&format!("/office/events/3/coming?q={q}")).await.body;
    assert!(rows(&found) >= 1 && rows(&found) < all, "{one}");
    let csv = ilse.get("/office/events/3/coming.csv").await;
    assert_eq!(csv.body.lines().count(), all + 1, "a file has everybody");
    assert!(csv.body.contains(&one));
    // Slots: a week, and a day.
    let week = ilse.get("/office/events/14/coming").await.body;
    assert!(week.contains("Week after") && rows(&week) > 0);
    assert!(
        ilse.get("/office/events/14/coming?from=2026-11-25&days=1")
            .await
            .body
            .contains("Day after")
    );
    // Nobody else's business.
    let mut bram = Browser::new(&site);
    bram.sign_in(1).await;
    assert_eq!(bram.get("/office/events/3/coming").await.status, StatusCode::FORBIDDEN);
    assert_eq!(bram.get("/office/events/3/coming.csv").await.status, StatusCode::FORBIDDEN);
}

#[tokio::test(flavor = "multi_thread")]
async fn enter_books_and_loses_no_code() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let own = b.keep("candles-from-our-own-wax", &[1]).await.location().to_owned();
    let page = b.get(&own).await.body;
    // The first button of the form is the one that books.
    let form = page.split("id=\"details\"").nth(1).unwrap();
    let first = form.split("<button").nth(1).unwrap();
    assert!(!first.split('>').next().unwrap().contains("formaction"), "{first}");
    let fields = [
        ("name", "Ana Quill"),
        ("email", "ana@post.example"),
        ("agreed", "yes"),
        ("code", "nothing like it"),
    ];
    let refused = b.post(&format!("{own}/book"), &fields).await;
    assert_eq!(refused.status, StatusCode::CONFLICT);
    assert!(
        refused.body.contains("There is no code")
            || refused.body.contains("no code that can be used here")
    );
    let taken =
        b.post(&format!("{own}/book"), &[&fields[..3], &[("code", "clover10")]].concat()).await;
    assert_eq!(taken.location(), own, "the code is on it, and it is not booked yet");
    assert!(b.get(&own).await.body.contains("take it off"));
    let again = [&fields[..3], &[("code", "clover10"), ("tried", "clover10")]].concat();
    let booked = b.post(&format!("{own}/book"), &again).await;
    assert_eq!(booked.status, StatusCode::SEE_OTHER);
    assert!(!b.get(&own).await.body.contains("id=\"details\""), "it is booked");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_removed_says_so_where_it_is_and_steps_are_told_in_days() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let kept = ilse.post("/office/dates/1/remove", &[]).await;
    assert_eq!(kept.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        kept.body.contains("This date has been booked, so it stays")
            && kept.body.contains("Dates &amp; seats")
    );
    let mut anybody = Browser::new(&site);
    let page = anybody.get("/events/pollen-under-the-lens").await.body;
    assert!(
        page.contains("Cancelling gives back all of it until ") && page.contains("/search?query=")
    );
    let month = anybody.get("/?view=month").await.body;
    assert!(!month.contains("<small>full</small>") || month.contains("class=\"full\""));
    // The try-outs say what came of them.
    let mut nia = Browser::new(&site);
    nia.sign_in(2).await;
    let card = nia.post("/office/first/card", &[]).await;
    assert!(card.body.contains("The card provider answers"), "{}", card.body);
    let mail = nia.post("/office/first/mail", &[]).await;
    assert!(mail.body.contains("The mail server took a mail to nia@ostrel.example"));
    assert_eq!(nia.post("/office/first/nothing", &[]).await.status, StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn who_has_proved_an_address_need_not_type_it_again() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let first = b.keep("is-beekeeping-for-me", &[1]).await.location().to_owned();
    let fields = [("name", "Ana Quill"), ("email", "ana@post.example"), ("agreed", "yes")];
    b.get(&first).await;
    let booked = b.post(&format!("{first}/book"), &fields).await;
    assert_eq!(booked.status, StatusCode::SEE_OTHER, "{}", booked.body);
    let mut stranger = Browser::new(&site);
    let own = stranger.keep("candles-from-our-own-wax", &[1]).await.location().to_owned();
    assert!(!stranger.get(&own).await.body.contains("Ana Quill"), "nobody is known by nothing");
    b.prove("ana@post.example").await;
    let own = b.keep("candles-from-our-own-wax", &[1]).await.location().to_owned();
    let page = b.get(&own).await.body;
    assert!(
        page.contains("value=\"Ana Quill\"") && page.contains("value=\"ana@post.example\""),
        "{page}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_needs_doing_counts_what_it_does_not_name() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let count = |page: &str| -> usize {
        let after = page.split("class=\"count\">").nth(1).unwrap();
        after.split('<').next().unwrap().parse().unwrap()
    };
    let named = |page: &str| page.split("id=\"todo\"").nth(1).unwrap().matches("<li>").count();
    let before = ilse.get("/office").await.body;
    assert_eq!(count(&before), named(&before));
    let mut made = 0;
    for n in 0..16 {
        // Each has a few seats left.
        let address = format!("/office/events/{}/phone", if n < 8 { 3 } else { 2 });
        let form = ilse.get(&address).await.body;
        let first =
            |after: &str| form.split(after).nth(1).unwrap().split('"').next().unwrap().to_owned();
        let (ticket, date) = (format!("q_{}", first("name=\"q_")), first("<option value=\""));
        let name = format!("Caller {n}");
        let answers = form.split("name=\"answer_").skip(1).map(|rest| {
            let id = rest.split('"').next().unwrap();
            let option = rest.split("<option>").nth(1).unwrap_or("1<").split('<').next().unwrap();
            (format!("answer_{id}"), option.to_owned())
        });
        let mut fields =
            vec![("date".to_owned(), date), (ticket, "1".into()), ("name".into(), name)];
        fields.extend(answers);
        let fields: Vec<(&str, &str)> =
            fields.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
        let booked = ilse.post(&address, &fields).await;
        made += usize::from(booked.status == StatusCode::SEE_OTHER);
    }
    assert!(made > 5, "{made} seats were left");
    let after = ilse.get("/office").await.body;
    assert_eq!(count(&after), count(&before) + made);
    assert!(named(&after) < count(&after), "{made} {}", count(&after));
    assert!(after.contains("other bookings to pay"), "{after}");
    let all =
        after.split("other bookings to pay").next().unwrap().rsplit("href=\"").next().unwrap();
    let list = ilse.get(all.split('"').next().unwrap()).await.body;
    assert!(list.contains("Caller 0") && list.contains("Caller 5"));
}
