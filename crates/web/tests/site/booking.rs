//! Booking, without script.

use axum::http::StatusCode;
use jiff::SignedDuration;
use matricle_desk::outside::provider::Status;
use matricle_desk::timers;
use matricle_web::Limits;

use crate::site::{Browser, Site, site};

#[tokio::test(flavor = "multi_thread")]
async fn a_seat_is_booked_without_any_script() {
    let site = site(Limits::default(), false).await;
    let mut b = Browser::new(&site);
    let page = b.get("/events/is-beekeeping-for-me").await;
    assert!(page.body.contains("29 seats left"), "{}", page.body);
    let (date, ticket) = (
        page.field("date"),
        page.body.split("name=\"q_").nth(1).unwrap().split('"').next().unwrap().to_owned(),
    );
    let q = format!("q_{ticket}");
    let step = format!("{ticket}:1");
    let more = b
        .post("/events/is-beekeeping-for-me/choose", &[("date", &date), (&q, "1"), ("step", &step)])
        .await;
    assert_eq!(
        (more.status, more.location()),
        (
            StatusCode::SEE_OTHER,
            format!("/events/is-beekeeping-for-me?date={date}&{q}=2#book").as_str()
        )
    );
    let chosen = b.get(more.location()).await;
    assert_eq!(chosen.field(&q), "2");
    let nothing = b.post("/events/is-beekeeping-for-me/keep", &[("date", &date)]).await;
    assert!(
        nothing.status == StatusCode::CONFLICT
            && nothing.body.contains("Choose at least one ticket.")
    );
    let kept = b.post("/events/is-beekeeping-for-me/keep", &[("date", &date), (&q, "2")]).await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER);
    let own = kept.location().to_owned();
    let form = b.get(&own).await;
    assert!(form.body.contains("Kept for you until <b>17:55</b>"));
    // Going back to the event: the seats are still there, and can be gone on with.
    let back = b.get("/events/is-beekeeping-for-me").await;
    assert!(back.body.contains("You have 2 seats kept until 17:55."));
    assert!(back.body.contains("29 seats left"), "its own seats are free for it to choose again");
    let wrong = b
        .post(
            &format!("{own}/book"),
            &[("name", "Zoë <script>alert(1)</script>"), ("email", "zoe")],
        )
        .await;
    assert_eq!(wrong.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(wrong.body.contains("3 fields need another look"), "{}", wrong.body);
    assert!(wrong.body.contains("it should be like name@post.example"));
    assert!(
        wrong.body.contains("Zoë &#60;script&#62;") && !wrong.body.contains("<script>alert"),
        "kept, and escaped"
    );
    let done = b
        .post(
            &format!("{own}/book"),
            &[
                ("name", "Zoë O'Hara"),
                ("email", "zoe@post.example"),
                ("attendee_1", "Kit"),
                ("agreed", "yes"),
            ],
        )
        .await;
    assert_eq!((done.status, done.location()), (StatusCode::SEE_OTHER, own.as_str()));
    let page = b.get(&own).await;
    assert!(page.body.contains("Your seats are booked.") && page.body.contains("Your 2 tickets"));
    let pdf = b.get(&format!("{own}/tickets.pdf")).await;
    assert_eq!(pdf.header("content-type"), "application/pdf");
    let ics = b.get(&format!("{own}/date.ics")).await;
    assert!(ics.body.starts_with("BEGIN:VCALENDAR"));
    timers::run_due(&site.desk).await.unwrap();
    assert_eq!(site.mails.taken().len(), 1);
}

async fn open() -> Site {
    site(Limits { sign_in: 1000, booking: 1000 }, false).await
}

const CANDLES: &str = "candles-from-our-own-wax";
const COMPLETE: [(&str, &str); 3] =
    [("name", "Ana"), ("email", "ana@post.example"), ("agreed", "yes")];

#[tokio::test(flavor = "multi_thread")]
async fn a_choice_beyond_what_is_left_takes_what_there_is_and_says_so() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let page = b.get("/events/apiary-open-day").await;
    assert!(page.body.contains("takes 4 seats and 4 protective suits"));
    assert_eq!(page.body.matches("class=\"dates\"").count(), 1, "two dates to choose from");
    let stub = page.body.split("id=\"book\"").nth(1).unwrap();
    let family = stub.split("Family of four").next().unwrap().rsplit("for=\"q").next().unwrap();
    let family = family.split('"').next().unwrap().to_owned();
    let date = page.field("date");
    let part = b
        .post_for_part("/events/apiary-open-day/choose", &format!("date={date}&q_{family}=3"))
        .await;
    assert!(
        part.body.trim_start().starts_with("<form class=\"stub\""),
        "only the stub: {}",
        part.body
    );
    assert!(
        part.body.contains("You chose 12 protective suits, but only 6 are left. Choose fewer."),
        "{}",
        part.body
    );
    assert_eq!(part.field(&format!("q_{family}")), "1");
    assert!(part.body.contains("<b>€15.00</b>"));
    let silly = b
        .post_for_part(
            "/events/apiary-open-day/choose",
            &format!("date={date}&q_{family}=4000000000&q_x=1&step=zz"),
        )
        .await;
    assert_eq!(silly.status, StatusCode::OK);
    let gone = b.post_for_part("/events/no-such-event/choose", "date=1").await;
    assert_eq!(gone.status, StatusCode::NOT_FOUND);
    assert!(gone.body.starts_with("<p class=\"note wrong flash\">"), "in short: {}", gone.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_that_is_kept_is_never_older_than_the_last_booking_and_never_shared() {
    let site = open().await;
    let (mut one, mut other) = (Browser::new(&site), Browser::new(&site));
    for named in [&mut one, &mut other] {
        named.get("/me").await;
    }
    let first = one.get("/events/is-beekeeping-for-me").await;
    let second = other.get("/events/is-beekeeping-for-me").await;
    assert_ne!(first.field("token"), second.field("token"));
    assert_eq!(
        first.body.replace(&first.field("token"), ""),
        second.body.replace(&second.field("token"), "")
    );
    assert_eq!(first.header("cache-control"), "no-cache");
    one.keep("is-beekeeping-for-me", &[4]).await;
    let after = other.get("/events/is-beekeeping-for-me").await;
    assert!(after.body.contains("25 seats left"));
    site.desk.clock.advance(SignedDuration::from_mins(16));
    let free = other.get("/events/is-beekeeping-for-me").await;
    assert!(free.body.contains("29 seats left"), "a hold that ran out is free without any timer");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_typed_outlives_the_hold_and_the_same_seats_come_back_if_they_can() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let own = b.keep("a-hive-inspection", &[1]).await.location().to_owned();
    b.get(&own).await;
    let saved =
        b.post_for_part(&format!("{own}/draft"), "name=Half+typ&answer_x=1&attendee_99999=z").await;
    assert_eq!(saved.body, "Saved as you type.");
    // A part of the form changes that part, whatever another device typed.
    let part = b.post_for_part(&format!("{own}/draft"), "part=yes&email=half%40post.example").await;
    assert_eq!(part.body, "Saved as you type.");
    // What its form does not have is not kept, however often it is sent.
    for n in 0..20 {
        let odd = format!("part=yes&answer_{}=x&attendee_{}=y&each_7_{n}=z", 900 + n, 50 + n);
        b.post_for_part(&format!("{own}/draft"), &odd).await;
    }
    let reference =
        matricle_core::words::codes::Reference::parse(own.split('/').nth(2).unwrap()).unwrap();
    let of =
        move |c: &matricle_store::Connection| matricle_store::bookings::by_reference(c, reference);
    let kept = site.desk.store.read(of).await.unwrap().unwrap().draft;
    assert_eq!((kept.answers.len(), kept.attendees.len(), kept.each.len()), (0, 0, 0), "{kept:?}");
    let mut elsewhere = Browser::new(&site);
    assert_eq!(
        elsewhere.get(&own).await.field("name"),
        "Half typ",
        "by the link, in another browser"
    );
    site.desk.clock.advance(SignedDuration::from_mins(16));
    let late = b.get(&own).await;
    assert!(
        late.body.contains("Your time ran out, so the seats are no longer kept.")
            && late.field("name") == "Half typ"
    );
    let again = b.post_for_part(&format!("{own}/again"), "").await;
    assert!(
        again.body.contains("they are kept for you again")
            && again.body.contains("Kept for you until <b>18:11</b>"),
        "{}",
        again.body
    );
    site.desk.clock.advance(SignedDuration::from_mins(16));
    assert_eq!(elsewhere.keep("a-hive-inspection", &[1]).await.status, StatusCode::SEE_OTHER);
    let lost = b.post(&format!("{own}/again"), &[]).await;
    assert!(
        lost.status == StatusCode::CONFLICT
            && lost.body.contains("No seats are left for this date."),
        "{}",
        lost.body
    );
    let booked = b.post(&format!("{own}/book"), &COMPLETE).await;
    assert!(
        booked.status == StatusCode::CONFLICT && booked.field("name") == "Ana",
        "refused, and kept as typed"
    );
    for form in ["book", "again", "give-back"] {
        assert_eq!(
            b.get(&format!("{own}/{form}")).await.location(),
            own,
            "going back lands on the booking"
        );
    }
    assert_eq!(
        b.get("/events/a-hive-inspection/keep").await.location(),
        "/events/a-hive-inspection"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn paying_leads_to_the_provider_and_back_whatever_the_provider_does() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let own = b.keep(CANDLES, &[0, 1]).await.location().to_owned();
    b.get(&own).await;
    site.provider.go_away(true);
    let sent = b.post(&format!("{own}/book"), &COMPLETE).await;
    assert_eq!(sent.location(), format!("{own}/pay"));
    let away = b.get(&format!("{own}/pay")).await;
    assert!(
        away.status == StatusCode::BAD_GATEWAY && away.body.contains("Your seats are kept."),
        "{}",
        away.body
    );
    assert!(!away.body.contains("lunch"), "nothing from inside");
    site.provider.go_away(false);
    let there = b.get(&format!("{own}/pay")).await;
    assert_eq!(there.location(), "https://till.example/pay/r1");
    let waiting = b.get(&own).await;
    assert!(
        waiting.body.contains("€14.00 to pay")
            && waiting.body.contains("Kept for you until <b>18:10</b>")
    );
    let event = b.get(&format!("/events/{CANDLES}")).await;
    assert!(
        event.body.contains("You have 1 seat to pay for by 18:10: €14.00.")
            && event.body.contains("Go on and pay")
    );
    let news = b.get(&format!("{own}/state")).await;
    assert_eq!(news.header("hx-refresh"), "");
    site.provider.decide(Status::Declined);
    assert!(b.get(&own).await.body.contains("Your card was declined. Nothing was taken"));
    assert_eq!(b.get(&format!("{own}/pay")).await.location(), "https://till.example/pay/r2");
    site.provider.decide(Status::Paid);
    assert!(b.get(&own).await.body.contains("<dt>Paid</dt>"));
    assert_eq!(b.get(&format!("{own}/state")).await.header("hx-refresh"), "true");
    assert_eq!(b.get(&format!("{own}/pay")).await.location(), own, "nothing is paid twice");
    let late = b.post(&format!("{own}/again"), &[]).await;
    assert!(late.status.is_client_error() || late.location() == own);
    timers::run_due(&site.desk).await.unwrap();
    assert_eq!(site.mails.taken().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn choosing_again_replaces_what_this_browser_keeps() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let own = b.keep(CANDLES, &[2, 0, 0]).await.location().to_owned();
    let back = b.get(&format!("/events/{CANDLES}")).await;
    assert!(back.body.contains("You have 2 seats kept until 17:55."));
    assert_eq!(b.keep(CANDLES, &[0, 0, 3]).await.location(), own, "the same booking");
    let form = b.get(&own).await;
    assert!(
        form.body.contains("3 × Pair")
            && !form.body.contains("Member")
            && form.body.contains("The 6 people who come")
    );
    let given = b.post(&format!("{own}/give-back"), &[]).await;
    assert!(given.location().starts_with(&format!("/events/{CANDLES}?date=")));
    assert!(
        Browser::new(&site).get(&format!("/events/{CANDLES}")).await.body.contains("10 seats left")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_way_back_to_what_was_begun_is_mailed() {
    let site = site(Limits { sign_in: 1000, booking: 1000 }, false).await;
    let mut b = Browser::new(&site);
    let own = b.keep("thursday-dipping", &[1]).await.location().to_owned();
    b.get(&own).await;
    let link = format!("{own}/link");
    let typed = |email: &'static str| [("name", "Siân O'Hara"), ("email", email)];
    let none = b.post(&link, &typed("sian at post")).await;
    assert_eq!(none.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(none.body.contains("value=\"sian at post\"") && none.body.contains("is-invalid"));
    let sent = b.post(&link, &typed("sian@post.example")).await;
    assert_eq!(sent.location(), format!("{own}?mailed"));
    // The same address in another browser: all is there.
    let mut phone = Browser::new(&site);
    let there = phone.get(sent.location()).await.body;
    assert!(
        there.contains("value=\"Siân O&#39;Hara\"") && there.contains("The link is on its way")
    );
    phone.get(&own).await;
    let fields = [&typed("sian@post.example")[..], &[("agreed", "yes")]].concat();
    phone.post(&format!("{own}/book"), &fields).await;
    let pay = phone.get(&own).await.body;
    assert!(pay.contains("Change or cancel this booking") && pay.contains("Mail me the link"));
    for _ in 0..2 {
        assert_eq!(phone.post(&link, &[]).await.status, StatusCode::SEE_OTHER);
    }
    let enough = phone.post(&link, &[]).await;
    assert!(enough.status == StatusCode::CONFLICT && enough.body.contains("mailed three times"));
    while timers::run_due(&site.desk).await.unwrap() {}
    let mails: Vec<String> = site
        .mails
        .taken()
        .iter()
        .map(|raw| String::from_utf8_lossy(raw).replace("=\r\n", ""))
        .filter(|mail| mail.contains("Subject: Go on with your booking"))
        .collect();
    assert_eq!(mails.len(), 3);
    assert!(mails[0].contains(&own), "{}", mails[0]);
}
