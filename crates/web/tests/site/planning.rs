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
    assert!(form.body.contains("It takes no seats and counts nowhere."));
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
    let counted = format!("/pictures/{}/guess/large.jpg", src.split('/').next().unwrap());
    assert_eq!(Browser::new(&site).get(&counted).await.status, StatusCode::NOT_FOUND);
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

#[tokio::test(flavor = "multi_thread")]
async fn a_hidden_ticket_a_price_by_group_and_questions_of_each_go_all_the_way() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    ilse.get("/office/events/13/tickets").await;
    let hidden = [
        ("name", "Friends of the house"),
        ("price", "2.00"),
        ("word", "Propolis"),
        ("draw_0", "1"),
        ("least", "2"),
        ("most", "4"),
        ("admits", "1"),
    ];
    assert_eq!(
        ilse.post("/office/events/13/tickets/0", &hidden).await.status,
        StatusCode::SEE_OTHER
    );
    for (label, answering, each, needed) in [
        ("Age", "number", "yes", "yes"),
        ("Picture taken?", "consent", "", "yes"),
        ("Which wicks?", "several", "", ""),
    ] {
        let fields = [
            ("label", label),
            ("answering", answering),
            ("each", each),
            ("needed", needed),
            ("consent", "Pictures may be shown."),
            ("options", "cotton\nrush, peeled"),
        ];
        assert_eq!(
            ilse.post("/office/events/13/questions/0", &fields).await.status,
            StatusCode::SEE_OTHER,
            "{label}"
        );
    }
    let mut friend = Browser::new(&site);
    let page = friend.get("/events/thursday-dipping").await;
    assert!(page.body.contains("€6.50 each from 4 on") && page.body.contains("23 % tax contained"));
    assert!(
        page.body.contains("Have you been given a word?")
            && !page.body.contains("Friends of the house")
    );
    let page = friend.get("/events/thursday-dipping?word=PROPOLIS").await;
    assert!(page.body.contains("Friends of the house") && page.body.contains("from 2 on"));
    let tickets: Vec<String> = page
        .body
        .split("name=\"q_")
        .skip(1)
        .map(|t| format!("q_{}", t.split('"').next().unwrap()))
        .collect();
    // The last evening has seats enough for six.
    let last = page.body.rsplit("/events/thursday-dipping?date=").next().unwrap();
    let date = last.split(['#', '"', '&']).next().unwrap().to_owned();
    let choose = |seats: &'static str, friends: &'static str, word: &'static str| {
        vec![
            ("date", date.as_str()),
            (tickets[0].as_str(), seats),
            (tickets.last().unwrap().as_str(), friends),
            ("word", word),
        ]
    };
    let one = friend.post("/events/thursday-dipping/keep", &choose("0", "1", "propolis")).await;
    assert!(one.status == 409 && one.body.contains("is sold from 2 on"));
    let without = friend.post("/events/thursday-dipping/keep", &choose("0", "2", "")).await;
    assert!(without.status == 409 && without.body.contains("not offered any more"));
    let kept = friend.post("/events/thursday-dipping/keep", &choose("4", "2", "propolis")).await;
    let own = kept.location().to_owned();
    let form = friend.get(&own).await;
    assert!(
        form.body.contains("€26.00") && form.body.contains("€4.00"),
        "four in a group, two friends"
    );
    assert_eq!(form.body.matches("name=\"each_").count(), 6);
    let question =
        form.body.split("name=\"each_0_").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let answers: Vec<String> = form
        .body
        .split("name=\"answer_")
        .skip(1)
        .map(|a| format!("answer_{}", a.split('"').next().unwrap()))
        .collect();
    let (consent, wicks) = (answers[0].clone(), answers[1].clone());
    let each: Vec<String> = (0..6).map(|i| format!("each_{i}_{question}")).collect();
    let names: Vec<String> = (0..6).map(|i| format!("attendee_{i}")).collect();
    let mut fields = vec![
        ("name", "Ros Quill"),
        ("email", "ros@post.example"),
        ("agreed", "yes"),
        (wicks.as_str(), "rush, peeled"),
        (wicks.as_str(), "cotton"),
    ];
    fields.extend(names.iter().map(|n| (n.as_str(), "Somebody")));
    fields.extend(each.iter().take(5).map(|n| (n.as_str(), "12")));
    let again = friend.post(&format!("{own}/book"), &fields).await;
    assert_eq!(again.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(again.body.contains("2 fields need another look"), "an age, and the consent");
    assert_eq!(
        again.body.matches("value=\"rush, peeled\" checked").count(),
        1,
        "what was ticked stays ticked"
    );
    fields.push((each[5].as_str(), "9"));
    fields.push((consent.as_str(), "yes"));
    let done = friend.post(&format!("{own}/book"), &fields).await;
    assert_eq!(done.location(), own, "there is more than one way to pay: {}", done.body);
    let list = ilse.get("/office/bookings?q=ros+quill+dipping").await;
    let reference =
        list.body.split("/office/bookings/").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let sheet = ilse.get(&format!("/office/bookings/{reference}")).await;
    assert!(sheet.body.contains("cotton, rush, peeled") && sheet.body.contains("Which wicks?"));
    // The question changes its words; the answer keeps the old ones.
    let wicks_id = wicks.trim_start_matches("answer_");
    let reworded = [
        ("label", "Wicks, please"),
        ("answering", "several"),
        ("options", "linen\nhemp"),
        ("place", "1"),
    ];
    ilse.post(&format!("/office/events/13/questions/{wicks_id}"), &reworded).await;
    let sheet = ilse.get(&format!("/office/bookings/{reference}")).await;
    assert!(sheet.body.contains("Which wicks?") && !sheet.body.contains("Wicks, please"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_number_by_mail_signs_a_booker_in_and_shows_prices_for_members() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let id = ilse.get("/office/events?q=frost").await;
    let id =
        id.body.split("/office/events/").find_map(|t| t.split('"').next()?.parse::<i64>().ok());
    let tickets = format!("/office/events/{}/tickets/0", id.unwrap());
    let invited = |list: &'static str| [("name", "Guest"), ("draw_0", "1"), ("invited", list)];
    let refused = ilse.post(&tickets, &invited("marit at post")).await;
    assert!(refused.status == 422 && refused.body.contains("marit at post"), "{}", refused.body);
    let list = "ezra@post.example\nMarit.Solheim@post.example";
    assert_eq!(ilse.post(&tickets, &invited(list)).await.status, StatusCode::SEE_OTHER);
    let event = format!("/office/events/{}", id.unwrap());
    let mut ezra = Browser::new(&site);
    let list = format!("{event}/invitations");
    assert!(ilse.get(&list).await.body.contains("Mail 2 invitations"));
    assert_eq!(ilse.post(&format!("{event}/invite"), &[]).await.status, StatusCode::SEE_OTHER);
    while matricle_desk::timers::run_due(&site.desk).await.unwrap() {}
    assert!(ilse.get(&list).await.body.contains("Everybody on the list has an invitation"));
    let mails = site.mails.taken();
    let mail = mails.iter().map(|raw| mail_parser::MessageParser::default().parse(raw).unwrap());
    let mut mail = mail.rev();
    let mail = mail.find(|m| m.subject().is_some_and(|s| s.starts_with("An invitation"))).unwrap();
    let text = mail.body_text(0).unwrap().into_owned();
    let link = text.split("http://club.example").nth(1).unwrap().split_whitespace().next().unwrap();
    assert_eq!(ezra.get(&format!("{}x", &link[..link.len() - 1])).await.status, 404);
    let opened = ezra.get(link).await;
    assert!(opened.location().starts_with("/events/"), "{link} {}", opened.body);
    let page = ezra.get(opened.location()).await.body;
    assert!(page.contains("name=\"q_") && !page.contains("Have you been invited?"), "{page}");
    let mut marit = Browser::new(&site);
    let talk = marit.get("/").await.body;
    let talk = talk.split("href=\"").find(|t| t.starts_with("/events/") && t.contains("frost"));
    let talk = talk.unwrap().split('"').next().unwrap().to_owned();
    let page = marit.get(&talk).await.body;
    assert!(page.contains("by invitation") && page.contains("Have you been invited?"), "{page}");
    assert!(!page.contains("marit.solheim"));
    let page = marit.get("/events/beginners-course").await;
    assert!(
        page.body.contains("Members have prices of their own")
            && page.body.contains("€96.00 for members")
    );
    let form = marit.get("/me?back=/events/beginners-course").await;
    assert!(form.body.contains("Send me a number"));
    let wrong =
        marit.post("/me/number", &[("email", "marit at post"), ("back", "//evil.example")]).await;
    assert!(wrong.status == 422 && !wrong.body.contains("evil.example"));
    let fields = [("email", "marit.solheim@post.example"), ("back", "/events/beginners-course")];
    let sent = marit.post("/me/number", &fields).await;
    assert!(sent.body.contains("on its way to marit.solheim@post.example"));
    let code = site.mailed_number();
    let other = if code.starts_with('0') { "999999" } else { "000000" };
    let refused = marit.post("/me", &[fields[0], fields[1], ("code", other)]).await;
    assert!(refused.status == 422 && refused.body.contains("another number"));
    let done = marit.post("/me", &[fields[0], fields[1], ("code", &code)]).await;
    assert_eq!(done.location(), "/events/beginners-course", "{}", done.body);
    let page = marit.get(done.location()).await;
    assert!(
        page.body.contains("Signed in as marit.solheim@post.example")
            && page.body.contains("<s>€120.00</s> €96.00")
    );
    assert!(marit.get("/me").await.body.contains("a member"));
    assert!(!marit.get(&talk).await.body.contains("by invitation"));
    for closed in ["/office", "/office/events", "/door", "/office/mine"] {
        assert_eq!(marit.get(closed).await.status, StatusCode::SEE_OTHER, "{closed}");
    }
    // Bound to this visitor: a form without the token is refused.
    marit.token = "x".into();
    assert_eq!(
        marit.post("/me", &[fields[0], ("code", &code)]).await.status,
        StatusCode::FORBIDDEN
    );
    marit.get("/me").await;
    marit.post("/sign-out", &[]).await;
    assert!(!marit.get("/events/beginners-course").await.body.contains("Signed in as"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_programme_is_narrowed_by_address_and_shown_as_a_month() {
    let site = open().await;
    let mut anyone = Browser::new(&site);
    let list = anyone.get("/?q=cnadle&format=in%20person").await;
    assert!(
        list.body.contains("Candles from our own wax")
            && !list.body.contains("What the frost does")
    );
    let none = anyone.get("/?q=zeppelin").await;
    assert!(
        none.body.contains("Nothing fits") && none.body.contains("see everything that is coming")
    );
    let tag = anyone.get("/?tag=families").await;
    assert!(
        tag.body.contains("Children from eight years on")
            && tag.body.contains("/feeds/tag/families.ics")
    );
    for odd in [
        "/?month=2026-13",
        "/?month=x&page=-1&place=x&format=both",
        "/?page=99999999",
        "/?q=%00%22%27&view=month&month=9999-12",
    ] {
        assert_eq!(anyone.get(odd).await.status, StatusCode::OK, "{odd}");
    }
    let month = anyone.get("/?view=month&month=2026-12").await;
    assert!(month.body.contains("December 2026") && month.body.contains("18:30"));
    assert!(!month.body.contains("Bring us a frame"), "slots stand in the list");
    assert!(month.body.contains("view=month") || month.body.contains("As a list"));
    // A host that signs in lands with their dates; an old address leads on for good.
    let mut owen = Browser::new(&site);
    assert_eq!(owen.sign_in(3).await.location(), "/office/mine");
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    ilse.get("/office/events/13/wording").await;
    let words = [
        ("title", "Thursday dipping"),
        ("kind", "Candle-making"),
        ("slug", "dip on thursdays"),
        ("format", "in person"),
        ("listed", "yes"),
        ("description", "<h1>Hot</h1><script>x</script> www.bees.example"),
    ];
    assert_eq!(ilse.post("/office/events/13/wording", &words).await.status, StatusCode::OK);
    let moved = anyone.get("/events/thursday-dipping").await;
    assert_eq!(
        (moved.status, moved.location()),
        (StatusCode::PERMANENT_REDIRECT, "/events/dip-on-thursdays#book")
    );
    let page = anyone.get("/events/dip-on-thursdays").await;
    assert!(
        page.body.contains("<h3>Hot</h3>")
            && page.body.contains("href=\"https://www.bees.example\"")
    );
    assert!(!page.body.contains("<script>x"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_change_touches_is_shown_before_it_is_saved() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let sheet = ilse.get("/office/events/3/dates").await;
    let date = sheet.body.split("?date=").nth(1).unwrap().split('#').next().unwrap().to_owned();
    let page = ilse.get(&format!("/office/events/3/dates?date={date}")).await;
    assert!(page.body.contains("See what this touches"));
    let path = format!("/office/dates/{date}/change");
    let fields = [
        ("scope", "one"),
        ("day", "2026-12-06"),
        ("from", "13:00"),
        ("until", "16:00"),
        ("pool_0", "5"),
    ];
    let before = ilse.post(&path, &fields).await;
    for say in [
        "What this touches",
        "get a mail with the new time or place",
        "To be told:",
        "More people than seats",
        "Booked last:",
        "over-full on purpose",
    ] {
        assert!(before.body.contains(say), "{say}: {}", before.body);
    }
    assert!(
        ilse.get("/office/events/3").await.body.contains("Sat 5 December"),
        "nothing is saved yet"
    );
    // Saved without the word that it is meant: shown again, nothing done.
    let mut save = fields.to_vec();
    save.push(("act", "save"));
    assert!(ilse.post(&path, &save).await.body.contains("over-full on purpose"));
    save.push(("over_full", "yes"));
    save.push(("back", "https://evil.example/"));
    let done = ilse.post(&path, &save).await;
    assert_eq!(done.location(), format!("/office/events/3/dates?date={date}"));
    assert!(ilse.get("/office/events/3").await.body.contains("Sun 6 December"));
    assert!(ilse.get("/office/events/3/told").await.body.contains("moved"));
    // The board asks for the same as a part.
    let part = ilse
        .post_for_part(
            &path,
            "scope=one&day=2026-12-07&from=13:00&until=16:00&venue=Millrace+Barn&room=press+room",
        )
        .await;
    assert!(part.body.contains("Move it") && !part.body.contains("<html"));
    let part = ilse.post_for_part(&path, "scope=one&day=2027-03-28&from=01:30&until=16:00").await;
    assert!(part.body.contains("The clocks change") && !part.body.contains("Move it"));
    let off = ilse.get("/office/events/3/call-off").await;
    assert!(off.body.contains("This cannot be undone") && off.body.contains("to be given back"));
    let done = ilse.post("/office/events/3/call-off", &[("reason", "Foul brood <b>")]).await;
    assert_eq!(done.location(), "/office/events/3/told");
    let page = Browser::new(&site).get("/events/apiary-open-day").await;
    assert!(page.body.contains("Called off.") && page.body.contains("Foul brood &#60;b&#62;"));
}
