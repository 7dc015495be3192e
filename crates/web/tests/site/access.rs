//! What keeps strangers out.

use axum::http::{Request, StatusCode, header};
use matricle_demo as demo;
use matricle_web::Limits;

use crate::site::{Browser, site};

#[tokio::test(flavor = "multi_thread")]
async fn forms_need_the_token_of_a_page_made_for_this_browser() {
    let site = site(Limits::default(), false).await;
    let (mut mine, mut other) = (Browser::new(&site), Browser::new(&site));
    for named in [&mut mine, &mut other] {
        named.get("/me").await;
    }
    let date = mine.get("/events/is-beekeeping-for-me").await.field("date");
    other.get("/events/is-beekeeping-for-me").await;
    let path = "/events/is-beekeeping-for-me/keep";
    let good = mine.token.clone();
    for token in ["", "x", other.token.clone().as_str()] {
        mine.token = token.into();
        let reply = mine.post(path, &[("date", &date), ("q_1", "1")]).await;
        assert_eq!(reply.status, StatusCode::FORBIDDEN, "{token}");
        assert!(reply.body.contains("Nothing was done"));
    }
    mine.token = good;
    for (name, value) in [("sec-fetch-site", "cross-site"), ("origin", "https://evil.example")] {
        let form = Request::post(path)
            .header(header::CONTENT_TYPE, "application/x-www-form-urlencoded")
            .header(name, value);
        let body = format!("token={}&date={date}&q_1=1", mine.token);
        assert_eq!(mine.send(form, body).await.status, StatusCode::FORBIDDEN, "{name}");
    }
    // Every form address, with nothing in hand.
    for path in [
        "/sign-in",
        "/sign-out",
        "/door/1/scan",
        "/door/1/undo",
        "/office/bookings/BBBBBBBB/cancel",
        "/booking/BBBBBBBB/x/draft",
        "/booking/BBBBBBBB/x/book",
        "/booking/BBBBBBBB/x/again",
        "/booking/BBBBBBBB/x/give-back",
    ] {
        let mut stranger = Browser::new(&site);
        let status = stranger.post(path, &[]).await.status;
        assert!(
            matches!(status, StatusCode::FORBIDDEN | StatusCode::SEE_OTHER | StatusCode::NOT_FOUND),
            "{path}: {status}"
        );
    }
    let unsigned = Browser::new(&site).post("/hooks/card", &[]).await;
    assert_eq!(unsigned.status, StatusCode::UNAUTHORIZED);
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_is_served_with_a_strict_policy_and_closed_cookies() {
    let site = site(Limits::default(), true).await;
    let mut b = Browser::new(&site);
    for path in
        ["/", "/events/pollen-under-the-lens", "/sign-in", "/nothing-here", "/office", "/door"]
    {
        let reply = b.get(path).await;
        let policy = reply.header("content-security-policy");
        assert!(
            policy.contains("default-src 'none'") && policy.contains("frame-ancestors 'none'"),
            "{path}: {policy}"
        );
        assert!(!policy.contains("unsafe-inline") && !policy.contains("'unsafe-eval'"), "{path}");
        assert!(
            !reply.body.contains(" style=\"")
                && !reply.body.contains("onclick")
                && !reply.body.contains("<script>"),
            "{path}"
        );
        assert_eq!(reply.header("x-content-type-options"), "nosniff", "{path}");
        assert_eq!(reply.header("referrer-policy"), "same-origin");
        for cookie in reply.headers.get_all(header::SET_COOKIE) {
            let cookie = cookie.to_str().unwrap();
            for part in ["HttpOnly", "SameSite=Lax", "Secure"] {
                assert!(cookie.contains(part), "{path}: {cookie}");
            }
        }
    }
    let signed_in = b.sign_in(0).await;
    let session = signed_in.headers.get(header::SET_COOKIE).unwrap().to_str().unwrap();
    assert!(
        session.starts_with("session=")
            && session.contains("HttpOnly")
            && session.contains("Secure")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_in_an_address_can_be_guessed() {
    let site = site(Limits::default(), false).await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let list = ilse.get("/office/bookings").await;
    let reference =
        list.body.split("/office/bookings/").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let own = ilse.get(&format!("/office/bookings/{reference}")).await;
    let own = own.body.split("/booking/").nth(1).unwrap().split('<').next().unwrap().to_owned();
    let mut stranger = Browser::new(&site);
    assert_eq!(stranger.get(&format!("/booking/{own}")).await.status, StatusCode::OK);
    let (known, key) = own.split_once('/').unwrap();
    let mut bad_key = key.to_owned();
    bad_key.replace_range(..1, if key.starts_with('A') { "B" } else { "A" });
    let mut pages = Vec::new();
    for path in [
        format!("{known}/{bad_key}"),
        format!("{known}/x"),
        format!("BBBBBBBB/{key}"),
        "nonsense/x".into(),
    ] {
        let reply = stranger.get(&format!("/booking/{path}")).await;
        assert_eq!(reply.status, StatusCode::NOT_FOUND);
        pages.push(reply.body);
        assert_eq!(
            stranger.get(&format!("/booking/{path}/tickets.pdf")).await.status,
            StatusCode::NOT_FOUND
        );
    }
    assert!(pages.windows(2).all(|p| p[0] == p[1]), "wrong and unknown look alike");
    // A part that is no number is as little there as another number, and tells nothing of inside.
    for path in ["/office/events/abc", "/office/dates/1e9/door", "/office/events/1/dates?date=abc"]
    {
        let reply = ilse.get(path).await;
        let said = &reply.body;
        assert_eq!(reply.status, StatusCode::NOT_FOUND, "{path}");
        assert!(
            said.contains("There is nothing at this address") && !said.contains("i64"),
            "{said}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn each_role_sees_what_it_may() {
    let site = site(Limits::default(), false).await;
    let mut stranger = Browser::new(&site);
    let away = stranger.get("/office/bookings?q=a%20b").await;
    assert_eq!(away.location(), "/sign-in?back=%2Foffice%2Fbookings%3Fq%3Da%2520b");
    let wrong = {
        stranger.get("/sign-in").await;
        stranger.post("/sign-in", &[("email", demo::STAFF[0].1), ("password", "guess-guess")]).await
    };
    assert_eq!(wrong.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(wrong.body.contains("do not belong together") && wrong.body.contains(demo::STAFF[0].1));
    let mut bram = Browser::new(&site);
    assert_eq!(bram.sign_in(1).await.location(), "/door");
    for path in [
        "/office",
        "/office/events",
        "/office/events/1",
        "/office/bookings",
        "/office/events/1/live",
        "/office/events/1/messages",
        "/office/events/1/wording",
        "/office/events/1/dates",
        "/office/events/1/tickets",
        "/office/events/1/questions",
        "/office/events/1/who",
        "/office/events/1/told",
        "/office/events/1/call-off",
        "/office/board",
        "/office/house",
        "/office/house/people",
        "/office/mine",
    ] {
        let reply = bram.get(path).await;
        assert_eq!(reply.status, StatusCode::FORBIDDEN, "{path}");
        assert!(reply.body.contains("signed in as a door volunteer"));
    }
    let door = bram.get("/door/1").await;
    assert_eq!(door.status, StatusCode::OK);
    assert!(!door.body.contains("/office"), "the door shows no way to the Office");
    let mut ilse = Browser::new(&site);
    assert_eq!(ilse.sign_in(0).await.location(), "/office");
    for path in [
        "/office",
        "/office/events",
        "/office/events/1",
        "/office/bookings?q=to+pay",
        "/door/1",
        "/office/events/1/messages",
        "/office/events/1/wording",
        "/office/events/7/dates?date=12",
        "/office/events/2/tickets/4",
        "/office/events/2/questions/2",
        "/office/events/1/who",
        "/office/events/18/told",
        "/office/events/1/call-off",
        "/office/board?reach=day",
        "/office/board?reach=month&day=2027-01-01",
        "/office/house",
        "/office/house/venues",
        "/office/house/hosts",
        "/office/house/tags",
        "/office/house/money",
        "/office/house/hours",
        "/office/house/people",
        "/office/house/changes",
        "/office/house/feeds",
    ] {
        assert_eq!(ilse.get(path).await.status, StatusCode::OK, "{path}");
    }
    ilse.get("/office").await;
    ilse.post("/sign-out", &[]).await;
    assert_eq!(ilse.get("/office").await.status, StatusCode::SEE_OTHER, "signed out");
}

#[tokio::test(flavor = "multi_thread")]
async fn signing_in_and_booking_are_limited_for_each_address_alone() {
    let site = site(Limits { sign_in: 3, booking: 2 }, false).await;
    let mut b = Browser::new(&site);
    let date = b.get("/events/is-beekeeping-for-me").await.field("date");
    let mut keep = Vec::new();
    for _ in 0..3 {
        keep.push(b.post("/events/is-beekeeping-for-me/keep", &[("date", &date)]).await);
    }
    assert_eq!(keep.iter().map(|r| r.status.as_u16()).collect::<Vec<_>>(), [409, 409, 429]);
    assert!(
        keep[2].body.contains("Too often in a short time")
            && !keep[2].header("retry-after").is_empty()
    );
    b.get("/sign-in").await;
    let mut signs = Vec::new();
    for _ in 0..4 {
        signs.push(
            b.post("/sign-in", &[("email", "a@b.example"), ("password", "guess")])
                .await
                .status
                .as_u16(),
        );
    }
    assert_eq!(signs, [422, 422, 422, 429]);
    let elsewhere = Request::post("/sign-in")
        .header(header::CONTENT_TYPE, "application/x-www-form-urlencoded")
        .header("x-forwarded-for", "203.0.113.7");
    let body = format!("token={}&email=a@b.example&password=guess", b.token);
    assert_eq!(
        b.send(elsewhere, body).await.status.as_u16(),
        422,
        "another address is not held up"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failure_inside_shows_nothing_from_inside() {
    let site = site(Limits::default(), false).await;
    let mut b = Browser::new(&site);
    let page = b.get("/events/is-beekeeping-for-me").await;
    site.desk.store.close();
    let date = page.field("date");
    let reply = b.post("/events/is-beekeeping-for-me/keep", &[("date", &date), ("q_8", "1")]).await;
    assert_eq!(reply.status, StatusCode::INTERNAL_SERVER_ERROR);
    assert!(reply.body.contains("Something went wrong on our side"));
    assert_eq!(reply.header("x-content-type-options"), "nosniff", "a failure has the headers too");
    assert!(reply.header("content-security-policy").contains("default-src"));
    for word in ["store", "sqlite", "closed", "panick", "crates/"] {
        assert!(!reply.body.to_lowercase().contains(word), "{word}");
    }
    for path in
        ["/events/%FF", "/door/x", "/office/events/99999999999999999999", "/booking/a/b/c/d"]
    {
        let status = b.get(path).await.status;
        assert!(status.is_client_error() || status.is_redirection(), "{path}: {status}");
    }
}
