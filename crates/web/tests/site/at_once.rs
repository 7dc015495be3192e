//! Everybody at once: clerks, the treasurer, the door and bookers act on the same bookings,
//! each from a page that may be old by the time it is sent.

use axum::http::StatusCode;
use matricle_desk::outside::provider::Status;
use matricle_desk::timers;
use matricle_web::Limits;

use crate::site::{Browser, Site, site};

const ROUNDS: usize = 6;

/// An evening of Thursday dipping that has room, and its ticket.
async fn evening(site: &Site) -> (String, String) {
    let page = Browser::new(site).get("/events/thursday-dipping").await.body;
    let date = page.rsplit("?date=").next().unwrap();
    let date = date.chars().take_while(char::is_ascii_digit).collect();
    let ticket = page.split("name=\"q_").nth(1).unwrap().split('"').next().unwrap();
    (date, ticket.to_owned())
}

/// A booking of two seats; paid, or not yet.
async fn two_seats(site: &Site, n: usize, paid: bool) -> String {
    let mut b = Browser::new(site);
    let (date, ticket) = evening(site).await;
    b.get("/events/thursday-dipping").await;
    let chosen = [("date", date.as_str()), (&format!("q_{ticket}"), "2")];
    let own = b.post("/events/thursday-dipping/keep", &chosen).await.location().to_owned();
    b.get(&own).await;
    let email = format!("b{n}@post.example");
    let fields =
        [("name", "Nia O'Hara"), ("email", &email), ("attendee_1", "Kit"), ("agreed", "yes")];
    let booked = b.post(&format!("{own}/book"), &fields).await;
    assert_eq!(booked.status, StatusCode::SEE_OTHER, "{}", booked.body);
    if paid {
        b.get(&format!("{own}/pay")).await;
        site.provider.decide(Status::Paid);
        b.get(&own).await;
    }
    own
}

/// Sends a form, whatever the answer: only a failure inside is none.
async fn send(b: &mut Browser<'_>, path: &str, fields: &[(&str, &str)]) {
    let reply = b.post(path, fields).await;
    let status = reply.status;
    assert!(!status.is_server_error() && status != StatusCode::FORBIDDEN, "{path}: {status}");
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_acts_at_once_on_one_booking_leaves_the_books_right() {
    let site = site(Limits { sign_in: 100_000, booking: 100_000 }, false).await;
    let bookings = [two_seats(&site, 1, false).await, two_seats(&site, 2, true).await];
    let reference = |n: usize| bookings[n % 2].split('/').nth(2).unwrap();
    let (date, ticket) = evening(&site).await;
    let ticket = ticket.as_str();
    site.open_door(&date).await;
    let (mut clerk, mut other) = (Browser::new(&site), Browser::new(&site));
    let (mut petra, mut bram) = (Browser::new(&site), Browser::new(&site));
    let (mut booker, mut twin) = (Browser::new(&site), Browser::new(&site));
    for (browser, who) in [(&mut clerk, 0), (&mut other, 2), (&mut petra, 4), (&mut bram, 1)] {
        browser.sign_in(who).await;
    }
    for round in 0..ROUNDS {
        let (office, own) =
            (format!("/office/bookings/{}", reference(round)), &bookings[round % 2]);
        clerk.get(&office).await;
        other.get(&office).await;
        petra.get(&office).await;
        booker.get(own).await;
        twin.get(own).await;
        bram.get(&format!("/door/{date}")).await;
        let add = format!("{office}/add");
        let back = format!("{office}/back");
        let price = format!("{office}/price");
        let money = format!("{office}/money");
        let scan = format!("/door/{date}/scan");
        let cancel = format!("{own}/change/cancel");
        let undo = format!("{own}/undo");
        let whole = format!("{office}/cancel");
        tokio::join!(
            async {
                send(&mut clerk, &add, &[("ticket", ticket), ("quantity", "1")]).await;
                send(&mut clerk, &whole, &[("percent", "50")]).await;
                send(&mut clerk, &back, &[]).await;
            },
            async {
                let by_hand = [("ticket", ticket), ("price", "5.00"), ("reason", "as agreed")];
                send(&mut other, &price, &by_hand).await;
                send(&mut other, &back, &[]).await;
            },
            async {
                for amount in ["3.00", "40.00"] {
                    send(&mut petra, &money, &[("amount", amount), ("method", "cash")]).await;
                }
            },
            async {
                send(&mut booker, &cancel, &[("sure", "yes"), ("ticket", "0")]).await;
                send(&mut booker, &undo, &[]).await;
            },
            async {
                twin.get(&format!("{own}/pay")).await;
                site.provider.decide_all(Status::Paid);
                send(&mut twin, &cancel, &[("sure", "yes")]).await;
                send(&mut twin, &undo, &[]).await;
            },
            async { send(&mut bram, &scan, &[("text", "nia"), ("key", "at-once-0001")]).await },
        );
        while timers::run_due(&site.desk).await.unwrap() {}
        let faults = site.desk.store.read(matricle_store::check::faults).await.unwrap();
        assert_eq!(faults, Vec::<String>::new(), "after round {round}");
    }
    let histories = [clerk.get(&format!("/office/bookings/{}", reference(0))).await.body];
    assert!(histories[0].contains("Ilse Karrow") && histories[0].contains("the booker"));
}
