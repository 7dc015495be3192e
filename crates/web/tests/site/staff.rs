//! Office and Door, without script.

use axum::body::Body;
use axum::http::{Request, StatusCode, header};
use futures_util::StreamExt;
use matricle_desk::timers;
use matricle_web::Limits;
use tower::ServiceExt;

use crate::site::{Browser, Site, site};

#[tokio::test(flavor = "multi_thread")]
async fn the_door_works_without_script_and_cancelling_shows_what_it_does_first() {
    let site = site(Limits::default(), false).await;
    let mut bram = Browser::new(&site);
    bram.sign_in(1).await;
    let door = bram.get("/door?all=yes").await;
    // Beside the talk that happens online.
    let here = door.body.split("Candles from our own wax").next().unwrap();
    let date = here.rsplit("href=\"/door/").next().unwrap().split('"').next().unwrap().to_owned();
    let path = format!("/door/{date}/scan");
    bram.get(&format!("/door/{date}?door=Side%20gate")).await;
    let names = bram.post(&path, &[("text", "solheim")]).await;
    assert!(names.body.contains("Let in Marit Solheim"), "{}", names.body);
    let attendee = names.field("attendee");
    let came = bram.post(&path, &[("attendee", &attendee), ("key", "key-00001")]).await;
    assert!(came.body.contains("data-verdict=\"in\"") && came.body.contains("Inside <b>7</b>"));
    let again = bram.post(&path, &[("attendee", &attendee), ("key", "key-00002")]).await;
    assert!(again.body.contains("Already in") && again.body.contains("Side gate"));
    let odd = bram.post(&path, &[("text", "4006381333931"), ("by", "scanner")]).await;
    assert!(odd.body.contains("Unknown"));
    let undone = bram.post(&format!("/door/{date}/undo"), &[("scan", &came.field("scan"))]).await;
    assert!(
        undone.body.contains("Undone") && undone.body.contains("Inside <b>6</b>"),
        "{}",
        undone.body
    );
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let list = ilse.get("/office/bookings?q=candles+confirmed+zebra").await;
    assert!(list.body.contains("Nothing fits “candles confirmed zebra”"));
    let list = ilse.get("/office/bookings?q=solheim+candles").await;
    let reference =
        list.body.split("/office/bookings/").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let before = ilse.get(&format!("/office/bookings/{reference}/cancel")).await;
    assert!(
        before.body.contains("Cancel this booking?")
            && before.body.contains("A mail tells Marit Solheim")
    );
    let done = ilse.post(&format!("/office/bookings/{reference}/cancel"), &[]).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER);
    let after = ilse.get(done.location()).await;
    assert!(
        after.body.contains("cancelled the booking") && !after.body.contains("Cancel the booking")
    );
    let refused = bram.post(&path, &[("attendee", &attendee), ("key", "key-00003")]).await;
    assert!(refused.body.contains("data-verdict=\"no\"") && refused.body.contains("Cancelled"));
}

async fn open() -> Site {
    site(Limits { sign_in: 1000, booking: 1000 }, false).await
}

#[tokio::test(flavor = "multi_thread")]
async fn today_shows_what_is_on_and_what_needs_doing() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let today = ilse.get("/office").await.body;
    assert!(
        today.contains("Wednesday 25 November 2026") && today.contains("Candles from our own wax")
    );
    assert!(
        today.contains("Give €42.00 back to")
            && today.contains("asks for 2 seats")
            && today.contains("€28.00 to pay, by today 18:30")
    );
    let list = ilse.get("/office/events?q=workshop+draft").await.body;
    assert!(list.contains("Mead, and how not to") && !list.contains("Rearing queens"));
    let none = ilse.get("/office/events?q=zzz").await.body;
    assert!(none.contains("Nothing fits “zzz”"));
    let sheet = ilse.get("/office/events/2").await.body;
    for part in [
        "Pollen under the lens",
        "6 free",
        "on sale until Thu 10 December, 20:00",
        "early price until Fri 27 November",
        "confirmation, 14 sent",
    ] {
        assert!(sheet.contains(part), "{part}");
    }
    assert!(ilse.get("/office/events/2/messages").await.body.contains("14 sent"));
    for missing in [
        "/office/events/999",
        "/office/bookings/BBBBBBBC",
        "/office/bookings/x",
        "/door/999",
        "/office/bookings/x/cancel",
    ] {
        assert_eq!(ilse.get(missing).await.status, StatusCode::NOT_FOUND, "{missing}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn find_opens_a_reference_and_lists_come_in_pages() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let first = ilse.get("/office/bookings").await.body;
    assert!(
        first.contains("1 to 30 of 2") && first.contains("Older") && !first.contains("Newer"),
        "{first}"
    );
    let last = ilse.get("/office/bookings?page=7").await.body;
    assert!(last.contains("211 to 2") && last.contains("Newer") && !last.contains("Older"));
    let empty = ilse.get("/office/bookings?page=4000000").await;
    assert_eq!(empty.status, StatusCode::OK);
    let reference = first.split("/office/bookings/").nth(1).unwrap().split('"').next().unwrap();
    let typed = format!("{}-{}", &reference[..4].to_lowercase(), &reference[4..]);
    let found = ilse.get(&format!("/office/find?q={typed}")).await;
    assert_eq!(found.location(), format!("/office/bookings/{reference}"));
    // Words find events, drafts too, days, bookings and their people, and pages of the House.
    let found = |q: &str| format!("/office/find?q={q}");
    for (q, shown) in [
        ("candles", "/office/events/1\""),
        ("iban", "/office/house\""),
        ("colleagues", "/office/house/people\""),
        ("zz%27qx%20%26", "Nothing fits “zz&#39;qx &#38;”"),
    ] {
        let page = ilse.get(&found(q)).await;
        assert_eq!(page.status, StatusCode::OK, "{q}");
        assert!(page.body.contains(shown), "{q}: {}", page.body);
    }
    let row = ilse.get("/office/bookings").await.body;
    let booker = row.split("<td class=\"ref\">").nth(1).unwrap().split("<td>").nth(1).unwrap();
    let name = booker.split("</td>").next().unwrap().to_lowercase().replace(' ', "%20");
    let people = ilse.get(&found(&name)).await.body;
    assert!(
        people.contains("Bookings and people") && people.contains("/office/bookings/"),
        "{people}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn names_with_odd_letters_are_shown_as_they_are_everywhere() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let own = b.keep("candles-from-our-own-wax", &[1]).await.location().to_owned();
    b.get(&own).await;
    let name = "Zoë <b>O'Hara</b> & \"Co\"";
    b.post(
        &format!("{own}/book"),
        &[("name", name), ("email", "zoe@post.example"), ("agreed", "yes")],
    )
    .await;
    b.get(&format!("{own}/pay")).await;
    site.provider.decide(matricle_desk::outside::provider::Status::Paid);
    b.get(&own).await;
    timers::run_due(&site.desk).await.unwrap();
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let reference = own.split('/').nth(2).unwrap();
    let shown = "Zoë &#60;b&#62;O&#39;Hara&#60;/b&#62; &#38; &#34;Co&#34;";
    for page in [
        format!("/office/bookings/{reference}"),
        "/office/bookings?q=zoe".into(),
        "/office/events/1".into(),
        own,
        "/door/1/names?text=zoe".into(),
    ] {
        let body = ilse.get(&page).await.body;
        assert!(body.contains(shown) && !body.contains("<b>O'Hara"), "{page}: {body}");
    }
    let scan = ilse.get("/door/1").await;
    assert_eq!(scan.status, StatusCode::OK);
    let names = ilse.get("/door/1/names?text=zoe").await;
    let came = ilse
        .post_for_part(
            "/door/1/scan",
            &format!("attendee={}&key=key-odd-01", names.field("attendee")),
        )
        .await;
    assert!(
        came.body.contains(shown) && came.body.contains("<template><li class=\"in\""),
        "{}",
        came.body
    );
    assert_eq!(ilse.get("/door/1/names?text=BCDFGHJKLNPR").await.body, "", "a code is no name");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_open_door_follows_every_change_and_ends_with_the_program() {
    let site = open().await;
    site.open_door("1").await;
    let mut bram = Browser::new(&site);
    bram.sign_in(1).await;
    let jar: Vec<String> = bram.cookies.iter().map(|(n, v)| format!("{n}={v}")).collect();
    let request = Request::get("/door/1/live")
        .header(header::HOST, "club.example")
        .header(header::COOKIE, jar.join("; "))
        .body(Body::empty())
        .unwrap();
    let response = site.app.clone().oneshot(request).await.unwrap();
    assert_eq!(response.headers()[header::CONTENT_TYPE], "text/event-stream");
    let mut stream = response.into_body().into_data_stream();
    let mut next =
        async || String::from_utf8(stream.next().await.unwrap().unwrap().to_vec()).unwrap();
    assert!(next().await.contains("Inside <b>6</b> of 18"));
    bram.get("/door/1").await;
    let names = bram.post("/door/1/scan", &[("text", "solheim")]).await;
    bram.post("/door/1/scan", &[("attendee", &names.field("attendee")), ("key", "key-live-1")])
        .await;
    assert!(next().await.contains("Inside <b>7</b> of 18"));
    // A change of another date is nothing to this door.
    bram.keep("is-beekeeping-for-me", &[1]).await;
    bram.keep("candles-from-our-own-wax", &[1]).await;
    let after = next().await;
    assert!(after.contains("1 held") && after.contains("Inside <b>7</b>"), "{after}");
    site.stop.send(true).unwrap();
    assert!(stream.next().await.is_none(), "the stream ends");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_event_of_one_small_form_is_in_the_programme_at_once_and_can_be_booked() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let form = ilse.get("/office/events/new").await;
    assert!(form.body.contains("<option value=\"Millrace Barn\">"), "known places are offered");
    let bad = ilse
        .post(
            "/office/events/new",
            &[
                ("title", "Honey & <i>wax</i>"),
                ("day", "2026-11-01"),
                ("from", "19:00"),
                ("until", "21:00"),
                ("seats", "none"),
                ("price", "9,5"),
            ],
        )
        .await;
    assert_eq!(bad.status, StatusCode::UNPROCESSABLE_ENTITY);
    for part in [
        "3 fields need another look",
        "That is in the past.",
        "Where is it?",
        "Write a whole number from 1 to 100000.",
        "value=\"Honey &#38; &#60;i&#62;wax&#60;/i&#62;\"",
    ] {
        assert!(bad.body.contains(part), "{part}: {}", bad.body);
    }
    let good = [
        ("title", "Honey & wax"),
        ("day", "2026-12-20"),
        ("from", "19:00"),
        ("until", "21:00"),
        ("place", "Millrace Barn"),
        ("seats", "12"),
        ("price", ""),
    ];
    let made = ilse.post("/office/events/new", &good).await;
    let sheet = ilse.get(made.location()).await;
    assert!(
        sheet.body.contains("12 free") && sheet.body.contains("Back to a draft"),
        "{}",
        sheet.body
    );
    let mut stranger = Browser::new(&site);
    let page = stranger.get("/events/honey-wax").await;
    assert!(page.body.contains("3 Weir Lane, Ostrel"), "a known place keeps its address");
    let draft = {
        let mut fields = good.to_vec();
        fields.push(("act", "draft"));
        ilse.post("/office/events/new", &fields).await.location().to_owned()
    };
    assert_eq!(
        stranger.get("/events/honey-wax-2").await.status,
        StatusCode::NOT_FOUND,
        "a draft is not shown"
    );
    ilse.post(&format!("{draft}/programme"), &[("shown", "yes")]).await;
    ilse.post(&format!("{draft}/programme"), &[("shown", "yes")]).await;
    assert_eq!(stranger.get("/events/honey-wax-2").await.status, StatusCode::OK);
    ilse.post(&format!("{draft}/programme"), &[("shown", "no")]).await;
    assert_eq!(stranger.get("/events/honey-wax-2").await.status, StatusCode::NOT_FOUND);
    let own = stranger.keep("honey-wax", &[2]).await.location().to_owned();
    stranger.get(&own).await;
    stranger
        .post(
            &format!("{own}/book"),
            &[
                ("name", "Ana"),
                ("email", "ana@post.example"),
                ("attendee_1", "Kit"),
                ("agreed", "yes"),
            ],
        )
        .await;
    assert!(stranger.get(&own).await.body.contains("Your seats are booked."));
    ilse.get(made.location()).await;
    let sheet = made.location().split('?').next().unwrap();
    let stays = ilse.post(&format!("{sheet}/programme"), &[("shown", "no")]).await;
    assert!(
        stays.status == StatusCode::CONFLICT && stays.body.contains("One booking is in the way"),
        "{}",
        stays.body
    );
    let mut bram = Browser::new(&site);
    bram.sign_in(1).await;
    assert_eq!(bram.get("/office/events/new").await.status, StatusCode::FORBIDDEN);
    bram.get("/door").await;
    assert_eq!(bram.post("/office/events/new", &good).await.status, StatusCode::FORBIDDEN);
}
