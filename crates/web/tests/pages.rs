//! Pages asked for directly: the way without script, and what keeps strangers out.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::sync::Arc;

use axum::Router;
use axum::body::{Body, to_bytes};
use axum::http::{Request, StatusCode, header};
use matricle_desk::mailer::Recorder;
use matricle_desk::provider::Rehearsal;
use matricle_desk::{Clock, Desk, Secrets, demo, timers};
use matricle_store::Store;
use matricle_web::{Limits, Settings, router};
use tempfile::TempDir;
use tokio::sync::watch;
use tower::ServiceExt;

struct Site {
    app: Router,
    desk: Desk,
    mails: Arc<Recorder>,
    _folder: TempDir,
    _stop: watch::Sender<bool>,
}

struct Reply {
    status: StatusCode,
    headers: axum::http::HeaderMap,
    body: String,
}

impl Reply {
    fn location(&self) -> &str {
        self.headers.get(header::LOCATION).map_or("", |v| v.to_str().unwrap())
    }

    fn header(&self, name: &str) -> &str {
        self.headers.get(name).map_or("", |v| v.to_str().unwrap())
    }

    /// The value of the first form field of this name.
    fn field(&self, name: &str) -> String {
        let from = self.body.split(&format!("name=\"{name}\" value=\"")).nth(1).unwrap_or_default();
        from.split('"').next().unwrap_or_default().to_owned()
    }
}

async fn site(limits: Limits, secure: bool) -> Site {
    let folder = tempfile::tempdir().unwrap();
    let mails = Arc::new(Recorder::default());
    let desk = Desk {
        store: Store::open(folder.path()).unwrap(),
        clock: Clock::still("2026-11-25T17:40:00Z".parse().unwrap()),
        secrets: Arc::new(Secrets::new([1; 32])),
        provider: Arc::new(Rehearsal::default()),
        mailer: mails.clone(),
        public_url: "http://club.example".into(),
        wake: Arc::default(),
        sessions: Arc::default(),
    };
    demo::seed(&desk).await.unwrap();
    let settings = Settings {
        secure_cookies: secure,
        behind_proxy: true,
        pay_origin: "https://till.example".into(),
        limits,
        demo: false,
    };
    let (_stop, stopping) = watch::channel(false);
    let app = router(desk.clone(), settings, stopping);
    Site { app, desk, mails, _folder: folder, _stop }
}

/// A browser: keeps cookies, sends forms with the token of the last page.
struct Browser<'s> {
    site: &'s Site,
    cookies: Vec<(String, String)>,
    token: String,
}

impl<'s> Browser<'s> {
    fn new(site: &'s Site) -> Self {
        Self { site, cookies: Vec::new(), token: String::new() }
    }

    async fn send(&mut self, request: axum::http::request::Builder, body: String) -> Reply {
        let jar: Vec<String> = self.cookies.iter().map(|(n, v)| format!("{n}={v}")).collect();
        let request = request
            .header(header::COOKIE, jar.join("; "))
            .header(header::HOST, "club.example")
            .body(Body::from(body))
            .unwrap();
        let response = self.site.app.clone().oneshot(request).await.unwrap();
        let (status, headers) = (response.status(), response.headers().clone());
        for set in headers.get_all(header::SET_COOKIE) {
            let pair = set.to_str().unwrap().split(';').next().unwrap();
            let (name, value) = pair.split_once('=').unwrap();
            self.cookies.retain(|(known, _)| known != name);
            self.cookies.push((name.into(), value.into()));
        }
        let bytes = to_bytes(response.into_body(), 10_000_000).await.unwrap();
        let reply = Reply { status, headers, body: String::from_utf8_lossy(&bytes).into_owned() };
        if !reply.field("token").is_empty() {
            self.token = reply.field("token");
        }
        reply
    }

    async fn get(&mut self, path: &str) -> Reply {
        self.send(Request::get(path), String::new()).await
    }

    async fn post(&mut self, path: &str, fields: &[(&str, &str)]) -> Reply {
        let token = self.token.clone();
        let mut body = format!("token={token}");
        for (name, value) in fields {
            let value: String = value.bytes().map(|b| format!("%{b:02X}")).collect();
            body.push_str(&format!("&{name}={value}"));
        }
        let form =
            Request::post(path).header(header::CONTENT_TYPE, "application/x-www-form-urlencoded");
        self.send(form, body).await
    }

    async fn sign_in(&mut self, who: usize) -> Reply {
        self.get("/sign-in").await;
        let (_, email, _, password) = demo::STAFF[who];
        self.post("/sign-in", &[("email", email), ("password", password)]).await
    }
}

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

#[tokio::test(flavor = "multi_thread")]
async fn forms_need_the_token_of_a_page_made_for_this_browser() {
    let site = site(Limits::default(), false).await;
    let (mut mine, mut other) = (Browser::new(&site), Browser::new(&site));
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
            matches!(status, StatusCode::FORBIDDEN | StatusCode::SEE_OTHER),
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
    let own =
        own.body.split("href=\"/booking/").nth(1).unwrap().split('"').next().unwrap().to_owned();
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
        "/office/dates/1/live",
        "/office/events/1/confirmations",
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
        "/office/events/1/confirmations",
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
    assert!(keep[2].body.contains("A moment, please") && !keep[2].header("retry-after").is_empty());
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
    site.desk.store.close();
    let mut b = Browser::new(&site);
    b.get("/events/is-beekeeping-for-me").await;
    let reply = b.post("/events/is-beekeeping-for-me/keep", &[("date", "1"), ("q_1", "1")]).await;
    assert!(reply.status.is_server_error() || reply.status == StatusCode::NOT_FOUND);
    let date = b.get("/events/is-beekeeping-for-me").await.field("date");
    let reply = b.post("/events/is-beekeeping-for-me/keep", &[("date", &date), ("q_8", "1")]).await;
    assert_eq!(reply.status, StatusCode::INTERNAL_SERVER_ERROR);
    assert!(reply.body.contains("Something went wrong on our side"));
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

#[tokio::test(flavor = "multi_thread")]
async fn the_door_works_without_script_and_cancelling_shows_what_it_does_first() {
    let site = site(Limits::default(), false).await;
    let mut bram = Browser::new(&site);
    bram.sign_in(1).await;
    let door = bram.get("/door").await;
    let date =
        door.body.split("href=\"/door/").nth(1).unwrap().split('"').next().unwrap().to_owned();
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
    let list = ilse.get("/office/bookings?q=candles+confirmed+pair").await;
    assert!(list.body.contains("Nothing fits"), "a ticket's name is no word of a booking yet");
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
