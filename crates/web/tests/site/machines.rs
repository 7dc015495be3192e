//! What other programs ask for: tags and dates of change, parts, feeds, a site map, health.

use axum::body::Body;
use axum::http::{Request, StatusCode, header};
use tower::ServiceExt;

use crate::site::{Browser, Site, site};
use matricle_web::Limits;

async fn open() -> Site {
    site(Limits { sign_in: 1000, booking: 1000 }, true).await
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_public_is_asked_for_again_for_nothing_and_leaves_no_cookie() {
    let site = open().await;
    for path in [
        "/feeds/all.ics",
        "/feeds/all.atom",
        "/feeds/all.jsonld",
        "/sitemap.xml",
        "/favicon.ico",
        "/static/look.css",
    ] {
        let mut b = Browser::new(&site);
        let first = b.get(path).await;
        assert_eq!(first.status, StatusCode::OK, "{path}");
        assert!(b.cookies.is_empty(), "{path}");
        assert_eq!(first.header("x-content-type-options"), "nosniff", "{path}");
        assert!(first.header("strict-transport-security").contains("max-age"), "{path}");
        let known = Request::get(path).header(header::IF_NONE_MATCH, first.header("etag"));
        let again = b.send(known, String::new()).await;
        assert_eq!((again.status, again.body.as_str()), (StatusCode::NOT_MODIFIED, ""), "{path}");
        if path.starts_with("/feeds") {
            let since = first.header("last-modified");
            let known = Request::get(path).header(header::IF_MODIFIED_SINCE, since);
            assert_eq!(b.send(known, String::new()).await.status, StatusCode::NOT_MODIFIED);
        }
    }
    // Nor do the pages that are the same for everybody, though a form stands on one.
    let mut b = Browser::new(&site);
    for path in ["/", "/?q=wax", "/events/thursday-dipping"] {
        let page = b.get(path).await;
        assert!(page.status == StatusCode::OK && b.cookies.is_empty(), "{path}");
    }
    let nobodys = b.token.clone();
    b.get("/me").await;
    assert!(!b.cookies.is_empty() && b.token != nobodys, "another tab is named");
    let own = std::mem::replace(&mut b.token, nobodys.clone());
    let refused = b.post("/me/number", &[("email", "kim@club.example")]).await;
    assert_eq!(refused.status, StatusCode::FORBIDDEN, "what is everybody's opens nothing else");
    b.token = nobodys;
    let date = b.get("/").await.body.len().to_string();
    let chosen = b.post("/events/thursday-dipping/choose", &[("date", &date)]).await;
    assert!(chosen.status.is_redirection(), "the first tab's form is still good");
    let elsewhere = Request::post("/events/thursday-dipping/choose")
        .header(header::CONTENT_TYPE, "application/x-www-form-urlencoded")
        .header("sec-fetch-site", "cross-site");
    let token = format!("token={}", b.token);
    assert_eq!(b.send(elsewhere, token).await.status, StatusCode::FORBIDDEN);
    b.token = own;
    let begun = b.keep("thursday-dipping", &[1]).await;
    assert!(begun.location().starts_with("/booking/"), "{}", begun.body);
    let mut b = Browser::new(&site);
    assert_eq!(b.get("/feeds/tag/nothing.ics").await.status, StatusCode::NOT_FOUND);
    let page = b.get("/").await.body;
    let css = page.split("href=\"").find_map(|l| l.split_once("look.css").map(|(p, _)| p)).unwrap();
    let kept = b.get(&format!("{css}look.css")).await;
    assert!(kept.header("cache-control").contains("immutable"));
    assert_eq!(b.get("/static/look.css").await.header("cache-control"), "public, no-cache");
    let part = Request::get("/static/look.css").header(header::RANGE, "bytes=0-9");
    let part = b.send(part, String::new()).await;
    assert_eq!((part.status, part.body.len()), (StatusCode::PARTIAL_CONTENT, 10));
}

#[tokio::test(flavor = "multi_thread")]
async fn odd_requests_are_refused_by_their_numbers() {
    let site = open().await;
    let ask = async |hosts: &[&str]| {
        let mut request = Request::get("/");
        for host in hosts {
            request = request.header(header::HOST, *host);
        }
        site.app.clone().oneshot(request.body(Body::empty()).unwrap()).await.unwrap().status()
    };
    assert_eq!(ask(&[]).await, StatusCode::BAD_REQUEST);
    assert_eq!(ask(&["a.example", "b.example"]).await, StatusCode::BAD_REQUEST);
    assert_eq!(ask(&["club.example"]).await, StatusCode::OK);
    let mut b = Browser::new(&site);
    b.get("/me").await;
    let long = "x".repeat(2_000_000);
    let reply = b.post("/me/number", &[("email", &long)]).await;
    assert_eq!(reply.status, StatusCode::PAYLOAD_TOO_LARGE);
    assert!(reply.body.contains("<main"), "{}", reply.body);
    // What the fields say may be sent is taken: a description of 70 kB.
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    ilse.get("/office/events/2/wording").await;
    let long = format!("<div>{}</div>", "é".repeat(70_000));
    let fields = [
        ("title", "Wax"),
        ("slug", "wax"),
        ("kind", "Talk"),
        ("lead", "A"),
        ("description", &long),
    ];
    let kept = ilse.post("/office/events/2/wording", &fields).await;
    assert!(kept.status.is_success() || kept.status.is_redirection(), "{}", kept.status);
    let page = ilse.get("/office/events/2/wording").await.body;
    assert!(page.matches('é').count() >= 70_000, "{}", page.matches('é').count());
    // Two thousand words look for nothing, and fall over nothing.
    site.open_door("1").await;
    let words = (0..2000).map(|n| format!("w{n}")).collect::<Vec<_>>().join("+");
    for path in ["/?q=", "/office/find?q=", "/office/bookings?q=", "/door/1/names?text=", "/%00?q="]
    {
        let status = ilse.get(&format!("{path}{words}")).await.status;
        assert!(!status.is_server_error(), "{path}: {status}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn feeds_tell_what_is_so_and_nothing_by_number_that_is_not_listed() {
    let site = open().await;
    let mut b = Browser::new(&site);
    assert_eq!(b.get("/feeds/date/1.ics").await.status, StatusCode::OK);
    let was = b.get("/feeds/all.ics").await;
    site.desk
        .store
        .write(|tx| {
            tx.execute_batch(
                "UPDATE events SET listed = 0 WHERE id = (SELECT event_id FROM dates WHERE id = 1);
                 UPDATE ticket_types SET code = 'wax', minor = 123456
                    WHERE event_id = (SELECT id FROM events WHERE slug = 'thursday-dipping');",
            )
            .map_err(|_| matricle_desk::DeskError::NotFound)
        })
        .await
        .unwrap();
    assert_eq!(b.get("/feeds/date/1.ics").await.status, StatusCode::NOT_FOUND);
    // Gone without any date having changed: whoever asks by tag or by date gets it anew.
    let asked = Request::get("/feeds/all.ics");
    let now = b.send(asked.header(header::IF_NONE_MATCH, was.header("etag")), String::new()).await;
    assert_eq!(now.status, StatusCode::OK);
    let asked = Request::get("/feeds/all.ics");
    let since = asked.header(header::IF_MODIFIED_SINCE, was.header("last-modified"));
    assert_eq!(b.send(since, String::new()).await.status, StatusCode::OK);
    for path in ["/feeds/all.jsonld", "/feeds/all.csv", "/", "/feeds/all.atom"] {
        let text = b.get(path).await.body;
        assert!(!text.contains("1234.56") && !text.contains("1,234"), "{path}");
    }
    // A week of slots: the link to one chooses it, whatever week it is in.
    let list = b.get("/?q=frame").await.body;
    let link = list.split("href=\"/events/bring-us-a-frame?date=").nth(1).unwrap();
    let first: i64 = link.split('"').next().unwrap().parse().unwrap();
    let later = b.get("/events/bring-us-a-frame?week=2026-11-30").await.body;
    let later = later.split("date=").nth(1).unwrap().split('#').next().unwrap().parse().unwrap();
    assert_ne!(first, later);
    for slot in [first, later] {
        let page = b.get(&format!("/events/bring-us-a-frame?date={slot}")).await;
        assert_eq!(page.field("date"), slot.to_string());
    }
    // On the page of another site one stays there, also for the second date.
    let page = b.get("/embed/events/candles-from-our-own-wax").await.body;
    assert!(!page.contains("href=\"/events/"), "{page}");
}
