//! The manners of the pages: a form is answered at an address of its own, each act says what it
//! did and how to undo it, a preview is what a stranger sees, the house has its own face.

use std::sync::Arc;

use axum::http::{Request, StatusCode, header};
use image::{DynamicImage, ImageFormat, RgbaImage};
use matricle_desk::outside::provider::NoProvider;
use matricle_web::{Limits, Settings, router};
use tokio::sync::watch;

use crate::site::{Browser, Reply, Site, site};

async fn open() -> Site {
    site(Limits { sign_in: 1000, booking: 1000 }, false).await
}

/// The form with which the line about the last act undoes it: where to, and its fields.
fn undo(page: &str) -> Option<(String, Vec<(String, String)>)> {
    let line = page.split("class=\"note keep news undo\"").nth(1)?.split("</div>").next()?;
    let form = line.split("action=\"").nth(1)?;
    let value = |part: &str| part.split('"').next().unwrap_or_default().to_owned();
    let fields = form
        .split("name=\"")
        .skip(1)
        .filter_map(|f| Some((value(f), value(f.split("value=\"").nth(1)?).replace("&#38;", "&"))));
    Some((value(form), fields.filter(|(n, _)| n != "token").collect()))
}

/// Follows where an answer leads, and undoes what was done there.
async fn undone(b: &mut Browser<'_>, done: &Reply, said: &str) -> Reply {
    let page = b.get(done.location()).await;
    assert!(page.body.contains(said), "{said}: {}", page.body);
    let (to, fields) = undo(&page.body).expect("a way to undo it");
    let fields: Vec<(&str, &str)> = fields.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
    b.post(&to, &fields).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_refusal_has_an_address_that_is_read_again_by_whoever_got_it_alone() {
    let site = open().await;
    let (mut ilse, mut nia) = (Browser::new(&site), Browser::new(&site));
    ilse.sign_in(0).await;
    nia.sign_in(2).await;
    ilse.get("/office/events/new").await;
    let body = format!("token={}&title=Wax+%26+<wicks>&act=draft", ilse.token);
    let form = Request::post("/office/events/new")
        .header(header::CONTENT_TYPE, "application/x-www-form-urlencoded");
    let led = ilse.send_once(form, body.into_bytes()).await;
    assert_eq!(led.status, StatusCode::SEE_OTHER);
    let at = led.location().to_owned();
    for _ in 0..2 {
        let page = ilse.get(&at).await;
        assert_eq!(page.status, StatusCode::UNPROCESSABLE_ENTITY);
        assert!(
            page.body.contains("Choose a day.") && page.body.contains("Wax &#38; &#60;wicks&#62;")
        );
    }
    // Another person is led to the form itself; so is whoever comes too late. Where an address
    // takes forms only, the way leads up to a page.
    let elsewhere = nia.send_once(Request::get(&at), Vec::new()).await;
    assert_eq!(elsewhere.location(), "/office/events/new?kept=over");
    assert!(!nia.get("/office/events/new?kept=over").await.body.contains("wicks"));
    let late = Request::get("/office/dates/1/change?kept=over");
    let up = nia.send_once(late, Vec::new()).await;
    assert_eq!(up.location(), "/office/dates/1?kept=over");
    // Whoever comes to the same browser after them reads nothing of it.
    ilse.post("/sign-out", &[]).await;
    let after = ilse.send_once(Request::get(&at), Vec::new()).await;
    assert_eq!(after.location(), "/office/events/new?kept=over");
    // A part of a page is answered where it is, and so is a machine.
    let part = ilse.post_for_part("/events/candles-from-our-own-wax/choose", "date=1").await;
    assert_eq!(part.status, StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn each_act_says_what_it_did_and_is_undone_where_it_can_be() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    // A draft that nobody booked is thrown away: in no list, not on the board, and had back.
    let listed = async |b: &mut Browser<'_>| {
        let list = b.get("/office/events").await.body.contains("Mead, and how not to");
        let found = b.get("/office/find?q=mead").await.body.contains("Mead, and how not to");
        let board = b.get("/office/board?reach=month&day=2026-12-10").await.body;
        (list, found, board.contains("Mead, and how not to"))
    };
    let before = listed(&mut ilse).await;
    assert!(before.0 && before.1);
    let thrown = ilse.post("/office/events/11/throw", &[("away", "yes")]).await;
    ilse.get("/me").await;
    assert_eq!(listed(&mut ilse).await, (false, false, false));
    let refused = ilse.post("/office/events/11/programme", &[("shown", "yes")]).await;
    assert_eq!(refused.status, StatusCode::CONFLICT, "what was thrown away is not published");
    assert!(ilse.get("/office/events/11").await.body.contains("was thrown away"));
    ilse.post("/office/events/11/throw", &[("away", "no")]).await;
    let thrown_again = ilse.post("/office/events/11/throw", &[("away", "yes")]).await;
    assert_eq!(thrown.location(), thrown_again.location());
    let back = undone(&mut ilse, &thrown_again, "The draft is thrown away.").await;
    assert!(ilse.get(back.location()).await.body.contains("The draft is back."));
    assert_eq!(listed(&mut ilse).await, before);
    // What people have booked is not thrown away.
    let stays = ilse.post("/office/events/2/throw", &[("away", "yes")]).await;
    assert_eq!(stays.status, StatusCode::CONFLICT);
    // Published, and taken back; a venue retired, and offered again; a date moved, and moved back.
    let published = ilse.post("/office/events/11/programme", &[("shown", "yes")]).await;
    let draft = undone(&mut ilse, &published, "It is in the Programme.").await;
    assert!(ilse.get(draft.location()).await.body.contains("It is a draft again"));
    let retired = ilse.post("/office/house/venue/1", &[("act", "retire")]).await;
    let offered = undone(&mut ilse, &retired, "It is offered no more").await;
    assert!(ilse.get(offered.location()).await.body.contains("It is offered again."));
    let sheet = ilse.get("/office/events/11/dates").await.body;
    let date = sheet.split("/office/events/11/dates?date=").nth(1).unwrap();
    let date = date.split(['#', '"', '&']).next().unwrap().to_owned();
    let change = format!("/office/dates/{date}/change");
    let page = ilse.get(&format!("/office/events/11/dates?date={date}")).await;
    let all = ["day", "from", "until", "hosts", "setup", "pool_0"];
    let whole = |page: &Reply| all.map(|name| page.field(name));
    let before = whole(&page);
    let [_, from, until, ..] = &before;
    let fields = [("scope", "one"), ("from", from.as_str()), ("until", until), ("act", "save")];
    let other = [("day", "2027-03-03"), ("hosts", "Nobody Else"), ("setup", "25"), ("pool_0", "7")];
    let moved = [&fields[..], &other].concat();
    let moved = ilse.post(&change, &moved).await;
    let back = undone(&mut ilse, &moved, "Changed; nobody has to be told.").await;
    assert_eq!(back.status, StatusCode::SEE_OTHER, "{}", back.body);
    assert!(ilse.get(back.location()).await.body.contains("Changed; nobody has to be told."));
    let page = ilse.get(&format!("/office/events/11/dates?date={date}")).await;
    assert_eq!(whole(&page), before, "all of it is as it was");
    // The time at which a draft publishes itself goes back to the one before.
    let at = "/office/events/11/publish-at";
    ilse.post(at, &[("publish_at", "2027-01-05T09:00")]).await;
    let later = ilse.post(at, &[("publish_at", "2027-02-06T10:00")]).await;
    let back = undone(&mut ilse, &later, "It publishes itself then.").await;
    let sheet = ilse.get(back.location()).await.body;
    assert!(sheet.contains("publishes itself") && sheet.contains("5 January"), "{sheet}");
    let late =
        ilse.post("/office/events/2/publish-at", &[("publish_at", "2027-01-05T09:00")]).await;
    assert_eq!(late.status, StatusCode::CONFLICT, "it is published, and is not said to wait");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_told_with_a_word_of_ones_own() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let page = ilse.get("/office/events/2/dates").await.body;
    let date = page.split("/office/events/2/dates?date=").nth(1).unwrap();
    let date = date.split(['#', '"', '&']).next().unwrap().to_owned();
    let form = ilse.get(&format!("/office/events/2/dates?date={date}")).await;
    let (from, until) = (form.field("from"), form.field("until"));
    let fields =
        [("scope", "one"), ("day", "2026-12-20"), ("from", from.as_str()), ("until", &until)];
    let change = format!("/office/dates/{date}/change");
    let asked = ilse.post(&change, &fields).await;
    assert!(asked.body.contains("To be told:") && asked.body.contains("A word of your own"));
    let word = [&fields[..], &[("act", "save"), ("word", "The ford is under water.\nSorry!")]];
    let done = ilse.post(&change, &word.concat()).await;
    assert!(ilse.get(done.location()).await.body.contains("bookers are told."));
    while matricle_desk::timers::run_due(&site.desk).await.unwrap() {}
    let told: Vec<String> = site
        .mails
        .taken()
        .iter()
        .map(|m| String::from_utf8_lossy(m).into_owned())
        .filter(|m| m.contains("Subject: Moved"))
        .collect();
    assert!(!told.is_empty());
    for mail in told {
        assert!(mail.contains("Before: ") && mail.contains("The ford is under water."), "{mail}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_event_happens_once_each_week_as_a_course_or_by_appointment() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    ilse.get("/office/events/new").await;
    let make = async |b: &mut Browser<'_>, fields: &[(&str, &str)]| {
        let all = [("place", "Millrace Barn"), ("seats", "12"), ("act", "publish")];
        let fields = [&all[..], fields].concat();
        let made = b.post("/office/events/new", &fields).await;
        assert_eq!(made.status, StatusCode::SEE_OTHER, "{}", made.body);
        made.location().split('?').next().unwrap().to_owned()
    };
    let at = [("day", "2027-01-05"), ("from", "22:00"), ("until", "00:30"), ("overnight", "yes")];
    let weekly = [&at[..], &[("title", "Night hives"), ("how", "weekly"), ("weeks", "5")]].concat();
    let sheet = make(&mut ilse, &weekly).await;
    let dates = ilse.get(&format!("{sheet}/dates")).await.body;
    assert_eq!(dates.matches("<tr data-row").count(), 5);
    assert!(dates.contains("every week on Tuesday, 5 times"), "{dates}");
    assert!(dates.contains("Tue 2 February 2027"));
    let course =
        [&at[..], &[("title", "Night school"), ("how", "course"), ("weeks", "4")]].concat();
    make(&mut ilse, &course).await;
    let page = Browser::new(&site).get("/events/night-school").await.body;
    assert!(page.contains("One booking covers all 4 dates"));
    let slots = [("title", "Ask a keeper"), ("how", "slots"), ("minutes", "30"), ("seats", "2")];
    ilse.get("/office/events/new").await;
    let slots = ilse
        .post(
            "/office/events/new",
            &[&slots[..], &[("place", "Millrace Barn"), ("act", "publish")]].concat(),
        )
        .await;
    let page = ilse.get(slots.location()).await.body;
    assert!(page.contains("Ask a keeper"), "{page}");
    let week = Browser::new(&site).get("/events/ask-a-keeper").await.body;
    assert!(week.contains("2 left"), "cut from the opening hours: {week}");
    // A slot is chosen with its seat, and says when and where it is.
    let slot = week.split("<a class=\"slot").nth(1).unwrap().split("href=\"").nth(1).unwrap();
    let slot = slot.split('"').next().unwrap().replace("&#38;", "&").replace("#book", "");
    let slot = Browser::new(&site).get(&slot).await.body;
    let stub = slot.split("id=\"book\"").nth(1).unwrap();
    assert!(stub.contains("value=\"1\"") && stub.contains("Millrace Barn"), "{stub}");
    let odd = [("title", "x"), ("how", "weekly"), ("weeks", "1")];
    let refused = ilse.post("/office/events/new", &odd).await;
    assert!(refused.body.contains("whole number of weeks from 2 to 53"));
    assert!(refused.body.contains("value=\"weekly\" checked"), "what was chosen stays");
}

#[tokio::test(flavor = "multi_thread")]
async fn one_seat_is_chosen_and_too_many_of_one_ticket_leave_the_others() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let single = b.get("/events/is-beekeeping-for-me").await.body;
    let first = single.split("name=\"q_").nth(1).unwrap();
    assert!(first.split('>').next().unwrap().contains("value=\"1\""), "{first}");
    let page = b.get("/events/candles-from-our-own-wax").await;
    let date = page.field("date");
    let ids: Vec<String> = page
        .body
        .split("name=\"q_")
        .skip(1)
        .map(|t| t.split('"').next().unwrap().to_owned())
        .collect();
    assert!(ids.len() > 1 && page.body.contains("No seats chosen yet"));
    let body = format!("date={date}&q_{}=500&q_{}=2", ids[0], ids[1]);
    let stub = b.post_for_part("/events/candles-from-our-own-wax/choose", &body).await.body;
    let of = |id: &str| -> u32 {
        let field = stub.split(&format!("name=\"q_{id}\" value=\"")).nth(1).unwrap();
        field.split('"').next().unwrap().parse().unwrap()
    };
    assert_eq!(of(&ids[1]), 2, "the other row stays");
    assert!(of(&ids[0]) > 0 && of(&ids[0]) < 500 && stub.contains("id=\"choice-problem\""));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_preview_is_what_a_stranger_sees_and_a_test_is_marked_all_the_way() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let sheet = ilse.get("/office/events/11").await.body;
    let link = sheet.split("href=\"http://club.example").nth(1).unwrap().split('"').next().unwrap();
    let link = link.replace("&#38;", "&").replace("&amp;", "&");
    for (address, mark) in [(link.clone(), "Preview"), (format!("{link}&test=yes"), "Test")] {
        let page = ilse.get(&address).await.body;
        assert!(page.contains(&format!("<b>{mark}</b>")), "{page}");
        assert!(page.contains("href=\"/office/events/11\">Back to its sheet</a>"));
        assert!(!page.contains("Ilse") && !page.contains("ilse@") && !page.contains("Sign out"));
    }
    // Whoever has the link, and works nowhere here, has no way to the Office.
    let stranger = Browser::new(&site).get(&link).await.body;
    assert!(stranger.contains("<b>Preview</b>") && !stranger.contains("/office/"));
    // Kept, filled in, paid: each step is marked, at the card provider too.
    let page = ilse.get(&format!("{link}&test=yes")).await;
    let ticket = page.body.split("name=\"q_").nth(1).unwrap().split('"').next().unwrap();
    let (date, preview, ticket) =
        (page.field("date"), page.field("preview"), format!("q_{ticket}"));
    let fields = [("date", date.as_str()), ("preview", &preview), ("test", "yes"), (&ticket, "1")];
    let kept = ilse.post("/events/mead-and-how-not-to/keep", &fields).await;
    let own = kept.location().to_owned();
    let form = ilse.get(&own).await.body;
    assert!(form.contains("<b>Test</b>") && !form.contains("value=\"Ilse"), "{form}");
    let details = [("name", "Ana"), ("email", "ana@post.example"), ("agreed", "yes")];
    ilse.post(&format!("{own}/book"), &details).await;
    assert!(ilse.get(&own).await.body.contains("<b>Test</b>"));
}

fn png() -> Vec<u8> {
    let mut bytes = std::io::Cursor::new(Vec::new());
    let picture = RgbaImage::from_pixel(600, 300, image::Rgba([20, 80, 60, 128]));
    DynamicImage::ImageRgba8(picture).write_to(&mut bytes, ImageFormat::Png).unwrap();
    bytes.into_inner()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_house_has_its_own_colour_and_mark_and_gives_its_kinds_theirs() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    // Every field of the form, as it stands.
    let form = async |b: &mut Browser<'_>, path: &str, action: &str| -> Vec<(String, String)> {
        let page = b.get(path).await.body;
        let form = page.split(&format!("action=\"{action}\"")).nth(1).unwrap();
        let form = form.split("</form>").next().unwrap().to_owned();
        let inputs = form.split("<input").skip(1).filter_map(|i| {
            let part = |a: &str| Some(i.split(a).nth(1)?.split('"').next()?.to_owned());
            Some((part("name=\"")?, part("value=\"").unwrap_or_default()))
        });
        let areas = form.split("<textarea").skip(1).filter_map(|a| {
            let name = a.split("name=\"").nth(1)?.split('"').next()?.to_owned();
            let text = a.split_once('>')?.1.split("</textarea>").next()?.to_owned();
            Some((name, text))
        });
        inputs.chain(areas).filter(|(n, _)| n != "token").collect()
    };
    let house = form(&mut ilse, "/office/house", "/office/house").await;
    let with = |accent: &'static str| -> Vec<(String, String)> {
        let set = |(n, v): &(String, String)| {
            (n.clone(), if n == "accent" { accent.into() } else { v.clone() })
        };
        house.iter().map(set).collect()
    };
    let send = async |b: &mut Browser<'_>, to: &str, fields: &[(String, String)]| {
        let fields: Vec<_> = fields.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
        b.post(to, &fields).await
    };
    let refused = send(&mut ilse, "/office/house", &with("#ffcc00")).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    let nearest =
        refused.body.split("The nearest that will do is ").nth(1).unwrap()[..7].to_owned();
    assert!(nearest.starts_with('#') && refused.body.contains("value=\"#ffcc00\""));
    assert_eq!(Browser::new(&site).get("/house.css").await.body, "");
    send(&mut ilse, "/office/house", &with("7A3B8F")).await;
    let css = Browser::new(&site).get("/house.css").await;
    assert!(css.body.contains("--accent: #7a3b8f;") && css.header("set-cookie").is_empty());
    // A mark is checked and written anew.
    let mark = async |b: &mut Browser<'_>, file: &[u8]| {
        b.get("/office/house").await;
        let mut body = format!(
            "--xx\r\nContent-Disposition: form-data; name=\"token\"\r\n\r\n{}\r\n--xx\r\n\
             Content-Disposition: form-data; name=\"mark\"; filename=\"m.png\"\r\n\r\n",
            b.token
        )
        .into_bytes();
        body.extend(file);
        body.extend(b"\r\n--xx--\r\n");
        let request = Request::post("/office/house/mark")
            .header(header::CONTENT_TYPE, "multipart/form-data; boundary=xx");
        b.send_bytes(request, body).await
    };
    let refused = mark(&mut ilse, b"<svg onload=alert(1)>").await;
    assert!(refused.status == 422 && refused.body.contains("not a JPEG, PNG or WebP"));
    assert_eq!(Browser::new(&site).get("/house-mark.png").await.status, StatusCode::NOT_FOUND);
    assert_eq!(mark(&mut ilse, &png()).await.location(), "/office/house#mark");
    assert_eq!(
        Browser::new(&site).get("/house-mark.png").await.header("content-type"),
        "image/png"
    );
    assert!(Browser::new(&site).get("/house.css").await.body.contains("/house-mark.png?"));
    let mut bram = Browser::new(&site);
    bram.sign_in(1).await;
    assert_eq!(mark(&mut bram, &png()).await.status, StatusCode::FORBIDDEN);
    // An event has a colour of its own, on its page and where it is embedded.
    let wording = form(&mut ilse, "/office/events/2/wording", "/office/events/2/wording").await;
    let mut own: Vec<_> =
        wording.into_iter().filter(|(n, _)| n != "accent" && n != "drop_in").collect();
    own.push(("accent".into(), "#004488".into()));
    own.push(("format".into(), "in person".into()));
    let kept = send(&mut ilse, "/office/events/2/wording", &own).await;
    assert_eq!(kept.status, StatusCode::OK, "{}", kept.body);
    for page in ["/events/pollen-under-the-lens", "/embed/events/pollen-under-the-lens"] {
        assert!(Browser::new(&site).get(page).await.body.contains("/accent/004488"), "{page}");
    }
    assert!(Browser::new(&site).get("/accent/004488").await.body.contains("#004488"));
    for odd in ["ffffff", "x", "004488}body{display:none"] {
        let odd = Browser::new(&site).get(&format!("/accent/{odd}")).await;
        assert_eq!(odd.status, StatusCode::NOT_FOUND);
    }
    // Kinds are told apart in the month by their marks, each with its word beside it.
    let kinds = form(&mut ilse, "/office/house/tags", "/office/house/kinds").await;
    let twice: Vec<_> = (0..2).map(|i| (format!("mark_{i}"), "drop".to_owned())).collect();
    let refused = send(&mut ilse, "/office/house/kinds", &[&kinds[..], &twice].concat()).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    let marks =
        ["cell", "drop", "leaf", "hill", "kite", "ring", "bars", "half", "crossing", "wave"];
    let each = (0..kinds.len().min(10)).map(|i| (format!("mark_{i}"), marks[i].to_owned()));
    let each: Vec<_> = kinds.iter().cloned().chain(each).collect();
    send(&mut ilse, "/office/house/kinds", &each).await;
    // The mark of a kind that is not on the form stays its own.
    let alone = [("kind_0", kinds[1].1.as_str()), ("mark_0", "cell")];
    let refused = ilse.post("/office/house/kinds", &alone).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    let month = Browser::new(&site).get("/?view=month&month=2026-12").await.body;
    assert!(month.contains("class=\"kindmark\"") && month.contains("class=\"key kinds\""));
    // What fails carries the name of the house.
    let lost = Browser::new(&site).get("/nothing/here").await;
    assert!(
        lost.status == 404 && lost.body.contains("<span class=\"house\">Ostrel Vale Beekeepers")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_house_without_a_card_provider_says_how_else_to_pay() {
    let mut site = open().await;
    site.desk.provider = Arc::new(NoProvider);
    let settings = Settings {
        secure_cookies: false,
        behind_proxy: true,
        pay_origin: String::new(),
        limits: Limits { sign_in: 1000, booking: 1000 },
        demo: &[],
        observed: Default::default(),
    };
    let (stop, stopping) = watch::channel(false);
    (site.app, site.stop) = (router(site.desk.clone(), settings, stopping), stop);
    let mut b = Browser::new(&site);
    let own = b.keep("candles-from-our-own-wax", &[1]).await.location().to_owned();
    b.get(&own).await;
    let fields = [("name", "Ana"), ("email", "ana@post.example"), ("agreed", "yes")];
    b.post(&format!("{own}/book"), &fields).await;
    let page = b.get(&own).await.body;
    assert!(!page.contains("by card") && !page.contains(&format!("{own}/pay\"")), "{page}");
    assert!(page.contains("It cannot be paid here. Write to"), "too near for a transfer: {page}");
    let refused = b.get(&format!("{own}/pay")).await;
    assert!(refused.status == 409 && refused.body.contains("Nothing can be paid by card here"));
    // Nobody can sign a webhook with no secret.
    let hook = Request::post("/hooks/card")
        .header("webhook-id", "a")
        .header("webhook-timestamp", "1764092400")
        .header("webhook-signature", "v1,");
    assert_eq!(b.send(hook, "{}".into()).await.status, StatusCode::UNAUTHORIZED);
    let mut petra = Browser::new(&site);
    petra.sign_in(4).await;
    let compared = petra.get("/office/money/provider").await.body;
    assert!(compared.contains("This house has no card provider"));
    // What was begun lapses as it would, and the books stay sound.
    site.desk.clock.advance(jiff::SignedDuration::from_hours(5));
    while matricle_desk::timers::run_due(&site.desk).await.unwrap() {}
    let faults = site.desk.store.read(matricle_store::check::faults).await.unwrap();
    assert_eq!(faults, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_is_signed_in_is_not_asked_to_and_a_session_that_is_over_is_taken_away() {
    let site = open().await;
    let (mut here, mut there) = (Browser::new(&site), Browser::new(&site));
    let asks = |page: &Reply| page.body.contains("href=\"/sign-in\">For staff</a>");
    assert!(asks(&here.get("/").await));
    here.prove("ana@post.example").await;
    there.prove("ana@post.example").await;
    for page in ["/", "/events/is-beekeeping-for-me", "/me"] {
        let page = here.get(page).await;
        assert!(!asks(&page) && page.body.contains("My bookings"), "{}", page.body);
    }
    // Signed out everywhere from another device: the next look at *My bookings* sees that, and
    // the head says again where to sign in.
    there.get("/me").await;
    there.post("/me/out", &[]).await;
    let over = here.get("/me").await;
    assert!(over.body.contains("Sign in by mail") && asks(&over), "{}", over.body);
    assert!(over.headers.get_all("set-cookie").iter().any(|c| {
        let cookie = c.to_str().unwrap();
        cookie.starts_with("session=;") && cookie.contains("Max-Age=0")
    }));
    assert!(asks(&here.get("/").await));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_choice_that_cannot_be_kept_is_read_again_and_keeps_nothing() {
    let site = open().await;
    let mut b = Browser::new(&site);
    let page = b.get("/events/is-beekeeping-for-me").await;
    let date = page.field("date");
    let ticket = page.body.split("name=\"q_").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let free = async |b: &mut Browser<'_>| {
        let page = b.get("/events/is-beekeeping-for-me").await.body;
        page.split("<p class=\"left\"><b>").nth(1).unwrap().split('<').next().unwrap().to_owned()
    };
    let before = free(&mut b).await;
    // By the form of the page that is everybody's, from a browser that carries nothing yet.
    let body = format!("token={}&date={date}&q_{ticket}=500", page.field("token"));
    let form = Request::post("/events/is-beekeeping-for-me/keep")
        .header(header::CONTENT_TYPE, "application/x-www-form-urlencoded");
    let led = b.send_once(form, body.into_bytes()).await;
    assert_eq!(led.status, StatusCode::SEE_OTHER);
    assert!(led.location().starts_with("/events/is-beekeeping-for-me/keep?kept="));
    let at = led.location().to_owned();
    let first = b.get(&at).await;
    assert_eq!(first.status, StatusCode::CONFLICT);
    assert!(first.body.contains("id=\"choice-problem\""), "{}", first.body);
    let again = b.get(&at).await;
    assert_eq!(first.body, again.body, "loading again sends nothing");
    assert_eq!(first.header("cache-control"), "no-store");
    assert!(b.cookies.iter().all(|(name, _)| name != "hold"), "{:?}", b.cookies);
    assert_eq!(free(&mut b).await, before);
    // Gone from memory, the address leads to the event.
    let gone = Request::get("/events/is-beekeeping-for-me/keep?kept=AAAAAAAAAAAAAAAAAAAAAA");
    let gone = b.send_once(gone, Vec::new()).await;
    assert_eq!(gone.location(), "/events/is-beekeeping-for-me/keep?kept=over");
    let event = b.send_once(Request::get(gone.location()), Vec::new()).await;
    assert_eq!(event.location(), "/events/is-beekeeping-for-me");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_date_of_many_clashes_and_words_that_deceive_are_shown_in_measure() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    // Five evenings in one hall at one time: three clashes stand there, the rest are folded.
    for n in 0..5 {
        ilse.get("/office/events/new").await;
        let title = format!("Evening {n} \u{202e}gnp.exe");
        let fields = [
            ("title", title.as_str()),
            ("how", "weekly"),
            ("weeks", "5"),
            ("day", "2027-02-02"),
            ("from", "19:00"),
            ("until", "21:00"),
            ("place", "Millrace Barn, long room"),
            ("seats", "12"),
            ("act", "publish"),
        ];
        let made = ilse.post("/office/events/new", &fields).await;
        assert_eq!(made.status, StatusCode::SEE_OTHER, "{}", made.body);
    }
    let find = ilse.get("/office/find?q=Evening+4").await.body;
    let id = find.split("/office/events/").nth(1).unwrap().split(['"', '?']).next().unwrap();
    let sheet = ilse.get(&format!("/office/events/{id}")).await.body;
    let all = sheet.matches("clashnote").count();
    let folded = sheet.split(" more clash").next().unwrap().rsplit('>').next().unwrap();
    assert!(all > 3, "{sheet}");
    assert_eq!(folded.parse::<usize>().unwrap(), all - 3, "what is folded is counted");
    assert!(!sheet.contains('\u{202e}') && sheet.contains("Evening 4 gnp.exe"));
}
