//! What people read: the main part of pages, frozen. The frame around it may change.

use axum::http::StatusCode;
use matricle_web::Limits;

use crate::site::{Browser, Reply, Site, site};

async fn open() -> Site {
    site(Limits { sign_in: 1000, booking: 1000 }, false).await
}

/// The main part of a page, without what differs from run to run, drawings left out.
fn main_of(reply: &Reply) -> String {
    let main = reply.body.split("<main").nth(1).unwrap_or_default();
    let main = main.split("</main>").next().unwrap_or_default();
    let main = main.split_once('>').map_or(main, |(_, rest)| rest);
    let token = reply.field("token");
    let main = if token.is_empty() { main.to_owned() } else { main.replace(&token, "TOKEN") };
    let mut text = String::new();
    for (i, part) in main.split("<svg").enumerate() {
        match (i, part.split_once("</svg>")) {
            (0, _) | (_, None) => text.push_str(part),
            (_, Some((_, after))) => {
                text.push_str("<svg/>");
                text.push_str(after);
            }
        }
    }
    let lines: Vec<&str> = text.lines().map(str::trim_end).filter(|l| !l.is_empty()).collect();
    lines.join("\n")
}

#[tokio::test(flavor = "multi_thread")]
async fn the_page_of_an_event() {
    let site = open().await;
    let page = Browser::new(&site).get("/events/pollen-under-the-lens").await;
    insta::assert_snapshot!(main_of(&page));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_form_as_it_comes_back_with_something_wrong() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let own = b.keep("pollen-under-the-lens", &[1, 0, 1]).await.location().to_owned();
    b.get(&own).await;
    let reply = b.post(&format!("{own}/book"), &[("name", "Ana"), ("attendee_1", "Kit")]).await;
    assert_eq!(reply.status, StatusCode::UNPROCESSABLE_ENTITY);
    insta::assert_snapshot!(main_of(&reply).replace(&own, "/booking/OWN"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_date_that_is_full_and_one_that_has_begun() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let full = b.get("/events/rearing-queens").await;
    assert!(full.body.contains("This date is full.") && !full.body.contains("Keep these seats"));
    assert_eq!(full.body.matches("none left").count(), 2);
    site.desk.clock.advance(jiff::SignedDuration::from_mins(55));
    let begun = b.get("/events/candles-from-our-own-wax").await;
    assert!(begun.body.contains("This date has begun; seats are no longer sold here."));
    let list = b.get("/").await;
    assert!(list.body.contains("under way"));
    site.desk.clock.advance(jiff::SignedDuration::from_hours(4));
    let over = b.get("/events/candles-from-our-own-wax").await;
    assert!(over.body.contains("No date is coming.") && over.status == StatusCode::OK);
    assert!(!b.get("/").await.body.contains("Candles from our own wax"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_stranger_reads_where_there_is_nothing() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let missing = b.get("/no/such/page").await;
    assert_eq!(missing.status, StatusCode::NOT_FOUND);
    insta::assert_snapshot!(main_of(&missing));
    let sign_in = b.get("/sign-in?back=/office/bookings").await;
    insta::assert_snapshot!(main_of(&sign_in));
}
