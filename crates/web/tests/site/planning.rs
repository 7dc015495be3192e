//! Planning and making known, without script: forms that need another look, previews,
//! pictures, feeds, stubs on other sites.

use axum::http::{Request, StatusCode, header};
use matricle_web::Limits;

use crate::site::{Browser, Site, site};

async fn open() -> Site {
    site(Limits { sign_in: 1000, booking: 1000 }, false).await
}

#[tokio::test(flavor = "multi_thread")]
async fn every_form_of_the_office_keeps_what_was_typed_beside_its_sentence() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    ilse.get("/office/events/2").await;
    let typed = "O'Hara & <b>";
    for (path, fields, say) in [
        (
            "/office/events/2/wording",
            &[("title", ""), ("lead", typed), ("slug", "!!")][..],
            "at least one letter",
        ),
        (
            "/office/events/2/tickets/0",
            &[("name", typed), ("price", "dear"), ("early_price", "3")],
            "an amount like 12.50",
        ),
        (
            "/office/events/2/questions/0",
            &[("label", typed), ("answering", "one"), ("options", "alone")],
            "at least two answers",
        ),
        (
            "/office/events/2/who",
            &[("who", "word"), ("who_domains", typed), ("hold_minutes", "0")],
            "from 1 to 240",
        ),
        (
            "/office/events/2/dates",
            &[("day", "soon"), ("venue", typed), ("pool_0", "many")],
            "days like 2026-12-31",
        ),
        ("/office/events/2/slots", &[("minutes", "1"), ("venue", typed)], "from 5 to 720"),
        ("/office/events/2/pools", &[("pool_name", typed), ("pool_seats", "")], "Fill this in"),
        ("/office/house/venue/0", &[("name", ""), ("address", typed)], "Fill this in"),
        ("/office/house/tax-rate/0", &[("name", typed), ("percent", "lots")], "a percentage"),
        (
            "/office/house/hours",
            &[("opens_0_0", "10:00"), ("closes_0_0", "09:00"), ("opens_1_0", typed)],
            "end after it starts",
        ),
        (
            "/office/house",
            &[("name", typed), ("email", "x"), ("zone", "Europe/Dublin"), ("terms", "t")],
            "e-mail address",
        ),
        ("/office/events/2/call-off", &[("reason", "")], "everybody booked will read it"),
        (
            "/office/events/new/from",
            &[("event", "2"), ("day", "2020-01-01"), ("title", typed)],
            "in the past",
        ),
    ] {
        let reply = ilse.post(path, fields).await;
        assert_eq!(reply.status, StatusCode::UNPROCESSABLE_ENTITY, "{path}: {}", reply.body);
        assert!(reply.body.contains(say), "{path}: {}", reply.body);
        if fields.iter().any(|(_, v)| *v == typed) && !path.ends_with("/from") {
            assert!(
                reply.body.contains("O&#39;Hara &#38; &#60;b&#62;"),
                "{path} keeps what was typed"
            );
        }
        assert!(!reply.body.contains("<b>\""), "{path}");
    }
    // Nothing of it was saved.
    let sheet = ilse.get("/office/events/2").await;
    assert!(
        sheet.body.contains("Pollen under the lens") && !sheet.body.contains("O&#39;Hara &#38;")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_is_looked_at_and_tried_by_its_link_only() {
    let site = open().await;
    let (mut ilse, mut friend) = (Browser::new(&site), Browser::new(&site));
    ilse.sign_in(0).await;
    let sheet = ilse.get("/office/events/11").await;
    let link =
        sheet.body.split("href=\"http://club.example").nth(1).unwrap().split('"').next().unwrap();
    let link = link.replace("&#38;", "&").replace("&amp;", "&");
    assert_eq!(friend.get("/events/mead-and-how-not-to").await.status, StatusCode::NOT_FOUND);
    assert_eq!(
        friend.get("/events/mead-and-how-not-to?preview=guess").await.status,
        StatusCode::NOT_FOUND
    );
    let page = friend.get(&link).await;
    assert!(
        page.body.contains("how a stranger will see")
            && page.body.contains("nobody can book it yet")
    );
    assert!(page.body.contains("noindex") && !page.body.contains("ld+json"));
    let page = friend.get(&format!("{link}&test=yes")).await;
    assert!(page.body.contains("Test booking"));
    let (date, preview) = (page.field("date"), page.field("preview"));
    let ticket = page.body.split("name=\"q_").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let ticket = format!("q_{ticket}");
    let fields =
        [("date", date.as_str()), ("preview", &preview), ("test", "yes"), (ticket.as_str(), "2")];
    let kept = friend.post("/events/mead-and-how-not-to/keep", &fields).await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER, "{}", kept.body);
    let form = friend.get(kept.location()).await;
    assert!(form.body.contains("This is a test"));
    let sheet = ilse.get("/office/events/11").await;
    assert!(!sheet.body.contains("test booking;"), "a hold nobody has put a name to is no news");
    // Without the key the same form is refused.
    let fields = [("date", date.as_str()), ("test", "yes"), (ticket.as_str(), "2")];
    assert_eq!(
        friend.post("/events/mead-and-how-not-to/keep", &fields).await.status,
        StatusCode::NOT_FOUND
    );
}

fn multipart(token: &str, alt: &str, file: &[u8]) -> (String, Vec<u8>) {
    let mut body = Vec::new();
    for (name, value) in [("token", token), ("alt", alt)] {
        body.extend(
            format!("--xx\r\nContent-Disposition: form-data; name=\"{name}\"\r\n\r\n{value}\r\n")
                .bytes(),
        );
    }
    body.extend(b"--xx\r\nContent-Disposition: form-data; name=\"picture\"; filename=\"a.png\"\r\nContent-Type: image/png\r\n\r\n");
    body.extend(file);
    body.extend(b"\r\n--xx--\r\n");
    ("multipart/form-data; boundary=xx".into(), body)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_picture_is_written_anew_and_what_is_none_is_refused() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    ilse.get("/office/events/2/wording").await;
    let png: &[u8] = include_bytes!("../../../../docs/screenshots/ticket.png");
    let send = async |b: &mut Browser<'_>, alt: &str, file: &[u8]| {
        let (kind, body) = multipart(&b.token.clone(), alt, file);
        let request = Request::post("/office/events/2/picture").header(header::CONTENT_TYPE, kind);
        b.send_bytes(request, body).await
    };
    let refused = send(&mut ilse, "A slide", b"<svg onload=alert(1)>").await;
    assert!(refused.status == 422 && refused.body.contains("not a JPEG, PNG or WebP"));
    let refused = send(&mut ilse, "", png).await;
    assert!(refused.status == 422 && refused.body.contains("cannot see it"));
    let done = send(&mut ilse, "A slide of \"pollen\"", png).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.body);
    let page = Browser::new(&site).get("/events/pollen-under-the-lens").await;
    assert!(page.body.contains("A slide of &#34;pollen&#34;") && page.body.contains("og:image"));
    let src = page.body.split("src=\"/pictures/").nth(1).unwrap().split('"').next().unwrap();
    let picture = Browser::new(&site).get(&format!("/pictures/{src}")).await;
    assert_eq!((picture.status, picture.header("content-type")), (StatusCode::OK, "image/jpeg"));
}

#[tokio::test(flavor = "multi_thread")]
async fn feeds_are_read_back_by_a_library_that_did_not_write_them() {
    let site = open().await;
    let mut anyone = Browser::new(&site);
    let ics = anyone.get("/feeds/all.ics").await;
    assert_eq!(ics.header("content-type"), "text/calendar; charset=utf-8");
    for line in ics.body.split_inclusive("\r\n") {
        assert!(line.ends_with("\r\n") && line.trim_end().len() <= 75, "{line:?}");
    }
    let mut events = 0;
    let mut off = 0;
    for calendar in ical::IcalParser::new(ics.body.as_bytes()) {
        let calendar = calendar.unwrap();
        assert_eq!(calendar.timezones.len(), 1);
        for event in calendar.events {
            let get = |name: &str| {
                event
                    .properties
                    .iter()
                    .find(|p| p.name == name)
                    .and_then(|p| p.value.clone())
                    .unwrap_or_default()
            };
            assert!(get("UID").starts_with("date-") && get("UID").ends_with("@club.example"));
            assert!(!get("SUMMARY").is_empty() && get("DTSTART").len() == 15);
            events += 1;
            off += usize::from(get("STATUS") == "CANCELLED");
        }
    }
    assert!(events > 50 && off == 1, "{events} {off}");
    assert!(!ics.body.contains("rooms.example"), "the link of an online talk is for people booked");
    let tag = anyone.get("/feeds/tag/families.ics").await;
    assert!(tag.body.contains("Thursday dipping") && !tag.body.contains("What the frost does"));
    for missing in [
        "/feeds/tag/none.ics",
        "/feeds/date/9999.ics",
        "/feeds/room/x.ics",
        "/feeds/all.exe",
        "/feeds/host/1/x.ics",
        "/feeds/event/mead-and-how-not-to.ics",
    ] {
        assert_eq!(anyone.get(missing).await.status, StatusCode::NOT_FOUND, "{missing}");
    }
    let json = anyone.get("/feeds/all.jsonld").await;
    let read: serde_json::Value = serde_json::from_str(&json.body).unwrap();
    assert!(read["@graph"].as_array().unwrap().len() > 50);
    let page = anyone.get("/events/vale-convention").await;
    let inside = page
        .body
        .split("<script type=\"application/ld+json\">")
        .nth(1)
        .unwrap()
        .split("</script>")
        .next()
        .unwrap();
    let read: serde_json::Value = serde_json::from_str(inside).unwrap();
    assert_eq!(read["@graph"][0]["name"], "The vale convention");
    let atom = anyone.get("/feeds/all.atom").await;
    assert_eq!(atom.header("content-type"), "application/atom+xml; charset=utf-8");
    let csv = anyone.get("/feeds/all.csv").await;
    assert!(
        csv.body.contains("Thursday dipping")
            && csv.header("content-disposition").contains("programme.csv")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn only_named_sites_may_frame_a_stub_and_nothing_else_may_be_framed() {
    let site = open().await;
    let mut anyone = Browser::new(&site);
    let policy = |r: &crate::site::Reply| r.header("content-security-policy").to_owned();
    assert!(policy(&anyone.get("/embed/list").await).contains("frame-ancestors 'none'"));
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    ilse.get("/office/house").await;
    let fields = [
        ("name", "Ostrel"),
        ("email", "o@ostrel.example"),
        ("zone", "Europe/Dublin"),
        ("terms", "I agree."),
        ("embed_sites", "https://club.example\nhttps://school.example"),
    ];
    assert_eq!(ilse.post("/office/house", &fields).await.status, StatusCode::OK);
    for page in [
        "/embed/list",
        "/embed/events/bring-us-a-frame",
        "/embed/events/thursday-dipping?q_30=2&step=30:1",
    ] {
        let reply = anyone.get(page).await;
        assert!(
            policy(&reply).contains("frame-ancestors https://club.example https://school.example"),
            "{page}"
        );
        assert!(!reply.body.contains("name=\"token\""), "nothing in it rests on a cookie");
    }
    assert!(
        policy(&anyone.get("/events/thursday-dipping").await).contains("frame-ancestors 'none'")
    );
    assert!(anyone.get("/embed.js").await.body.contains("data-matricle"));
}

#[tokio::test(flavor = "multi_thread")]
async fn many_events_are_acted_on_at_once_and_the_list_comes_out_as_shown() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let list = ilse.get("/office/events?q=draft").await;
    assert!(list.body.contains("Mead, and how not to") && !list.body.contains("Rearing queens"));
    let done =
        ilse.post("/office/events/many", &[("act", "publish"), ("id", "11"), ("id", "17")]).await;
    assert_eq!(done.location(), "/office/events?done=2");
    assert!(ilse.get("/office/events?q=draft").await.body.contains("Nothing fits"));
    let back =
        ilse.post("/office/events/many", &[("act", "draft"), ("id", "11"), ("id", "2")]).await;
    assert_eq!(back.location(), "/office/events?done=1", "what people have booked stays");
    let csv = ilse.get("/office/events.csv?q=draft").await;
    assert!(csv.body.contains("Mead") && csv.body.lines().count() == 2, "{}", csv.body);
    assert!(ilse.get("/office/events.xlsx?q=").await.body.starts_with("PK"));
    let mut petra = Browser::new(&site);
    petra.sign_in(4).await;
    assert_eq!(petra.get("/office/board").await.status, StatusCode::OK);
    assert_eq!(petra.get("/office/events/2/wording").await.status, StatusCode::FORBIDDEN);
    assert_eq!(
        petra.post("/office/events/many", &[("act", "publish"), ("id", "11")]).await.status,
        StatusCode::FORBIDDEN
    );
    let mut owen = Browser::new(&site);
    owen.sign_in(3).await;
    assert!(owen.get("/office/mine").await.body.contains("The beginners"));
    assert_eq!(owen.get("/office/events").await.status, StatusCode::FORBIDDEN);
}
