//! The Messages room and what bookers see of it: a cue that is refused with everything kept, who
//! may steer, an address that refuses mail corrected by its booker, announcements ended by a
//! person's act and not by a fetch.

use axum::http::{Request, StatusCode};
use matricle_demo as demo;
use matricle_desk::outside::mailer::SendError;
use matricle_desk::timers;
use matricle_web::Limits;

use crate::site::{Browser, Site, site};

const FREE: &str = "is-beekeeping-for-me";

async fn open() -> Site {
    site(Limits { sign_in: 1000, booking: 1000 }, false).await
}

async fn due(site: &Site) {
    while timers::run_due(&site.desk).await.unwrap() {}
}

/// The key of the first template of this name on the cue form.
fn template(page: &str, name: &str) -> String {
    let before = page.split(&format!(">{name}</option>")).next().unwrap();
    before.rsplit("value=\"").next().unwrap().split('"').next().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cue_is_refused_at_its_field_with_everything_kept_and_undone_once_added() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let form = ilse.get("/office/events/2/messages/cues/new").await;
    let reminder = template(&form.body, "Reminder");
    let to = "/office/events/2/messages/cues/new";
    let fields = |n: &'static str, whom: &'static str| {
        vec![
            ("happens", "the date starts"),
            ("when", "offset"),
            ("n", n),
            ("unit", "days"),
            ("side", "before"),
            ("whom", whom),
            ("way", "mail"),
            ("late", "never"),
            ("already", "no"),
        ]
    };
    let with = |mut all: Vec<(&'static str, &'static str)>| {
        all.retain(|(name, _)| *name != "template");
        all
    };
    let mut far = with(fields("999", "attendees"));
    let key: &str = &reminder;
    far.push(("template", Box::leak(key.to_owned().into_boxed_str())));
    let refused = ilse.post(to, &far).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(refused.body.contains("At most 730 days.") && refused.body.contains("value=\"999\""));
    let none = ilse.post(to, &fields("3", "attendees")).await;
    assert!(none.body.contains("One field needs another look"), "no template");
    let mut missed = with(fields("3", "missed"));
    missed.push(far[far.len() - 1]);
    let refused = ilse.post(to, &missed).await;
    assert!(refused.body.contains("that is known after the date ends"));
    let mut good = with(fields("3", "attendees"));
    good.push(far[far.len() - 1]);
    let done = ilse.post(to, &good).await;
    let sheet = ilse.get(done.location()).await;
    let said = "3 days before the date starts, to each attendee, by mail";
    assert!(sheet.body.contains(said) && sheet.body.contains("The automatic message is added."));
    // The same again is found, in words.
    let twice = ilse.post(to, &good).await;
    assert!(twice.body.contains("so somebody would get two"), "{}", twice.status);
    // Undo takes it away; a door volunteer does none of this.
    let cue = sheet.body.split("name=\"cue\" value=\"").nth(1).unwrap();
    let cue = cue.split('"').next().unwrap().to_owned();
    let undone =
        ilse.post("/office/events/2/messages/switch", &[("cue", &cue), ("act", "remove")]).await;
    assert!(!ilse.get(undone.location()).await.body.contains(said));
    let mut bram = Browser::new(&site);
    bram.sign_in(1).await;
    for page in ["/office/messages", "/office/events/2/messages", "/office/messages/went"] {
        assert_eq!(bram.get(page).await.status, StatusCode::FORBIDDEN, "{page}");
    }
    let refused = bram.post("/office/messages/steer", &[("message", "1"), ("how", "now")]).await;
    assert_eq!(refused.status, StatusCode::FORBIDDEN);
}

#[tokio::test(flavor = "multi_thread")]
async fn lists_take_words_come_out_whole_and_steer_what_has_not_gone() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    assert!(ilse.get("/office/messages/planned").await.body.contains("Next page"));
    let page = ilse.get("/office/messages/planned?event=2").await.body;
    assert!(page.contains("Reminder") && page.contains("Thanks, or We missed you"));
    let whole = ilse.get("/office/messages.csv?tab=planned&event=2").await.body;
    let count: usize = page
        .split("<span class=\"fine\">")
        .nth(1)
        .unwrap()
        .split(' ')
        .next()
        .unwrap()
        .parse()
        .unwrap();
    assert_eq!(whole.lines().count(), count + 1, "the file is whole, and the count true");
    let none = ilse.get("/office/messages/went?q=zzz").await.body;
    assert!(none.contains("Nothing fits “zzz”"));
    let id = page.split("name=\"message_").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let one = ilse.get(&format!("/office/messages/{id}")).await.body;
    assert!(one.contains("The words, as they would go now"), "{one}");
    let field = format!("message_{id}");
    let stopped = ilse
        .post(
            "/office/messages/steer",
            &[(&field, &id), ("how", "stop"), ("back", "/office/messages/not")],
        )
        .await;
    let after = ilse.get(stopped.location()).await.body;
    assert!(after.contains("Done: stopped.") && after.contains("stopped by Ilse Karrow"));
    let past = ilse
        .post("/office/messages/steer", &[(&field, &id), ("how", "at"), ("at", "2020-01-01T10:00")])
        .await;
    assert!(ilse.get(past.location()).await.body.contains("choose a time to come"));
    let away = ilse
        .post(
            "/office/messages/steer",
            &[(&field, &id), ("how", "now"), ("back", "https://evil.example/")],
        )
        .await;
    assert_eq!(away.location(), "/office/messages", "it leads nowhere else");
    for missing in
        ["/office/messages/999999", "/office/messages/nonsense", "/office/messages/templates/999"]
    {
        assert_eq!(ilse.get(missing).await.status, StatusCode::NOT_FOUND, "{missing}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_booker_sees_that_mail_is_refused_and_corrects_the_address() {
    let site = open().await;
    let mut booker = Browser::new(&site);
    site.mails.refuse(Some(SendError {
        for_good: true,
        reason: "permanent error (550): 5.1.1 no such mailbox".into(),
    }));
    let own = booker.keep(FREE, &[1]).await.location().to_owned();
    let page = booker.get(&own).await;
    assert_eq!(page.status, StatusCode::OK);
    let fields = [
        ("name", "Siân O'Hara"),
        ("email", "sian@pots.example"),
        ("attendee_1", "Siân O'Hara"),
        ("agreed", "yes"),
    ];
    booker.post(&format!("{own}/book"), &fields).await;
    let fine = booker.get(&own).await.body;
    assert!(fine.contains("way to sian@pots.example") && !fine.contains("is refused"));
    let early = booker.post(&format!("{own}/address"), &[("new_email", "x@y.example")]).await;
    assert!(early.location().ends_with(&own), "a fine address is the house's to correct");
    due(&site).await;
    let refused = booker.get(&own).await.body;
    assert!(refused.contains("Mail to sian@pots.example is refused"));
    assert!(!refused.contains("way to sian@pots.example"), "it does not say it is on its way");
    site.mails.refuse(None);
    let bad = booker.post(&format!("{own}/address"), &[("new_email", "sian at post")]).await;
    assert!(
        bad.body.contains("does not look like an e-mail address")
            && bad.body.contains("sian at post")
    );
    booker.post(&format!("{own}/address"), &[("new_email", "sian@post.example")]).await;
    due(&site).await;
    let fine = booker.get(&own).await.body;
    assert!(fine.contains("way to sian@post.example") && !fine.contains("is refused"));
    let to = |raw: &Vec<u8>| String::from_utf8_lossy(raw).contains("sian@post.example");
    assert!(site.mails.taken().iter().any(to), "the confirmation goes there");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_fetch_ends_no_announcements_and_one_request_does() {
    let site = open().await;
    let nia = demo::STAFF[2].1;
    let link = site.desk.unsubscribe_url(nia);
    let path = link.strip_prefix("http://club.example").unwrap().to_owned();
    let mut b = Browser::new(&site);
    let known = |site: &Site| {
        let desk = site.desk.clone();
        async move {
            let read =
                move |c: &matricle_store::Connection| matricle_store::outbox::address(c, nia);
            desk.store.read(read).await.unwrap().unsubscribed
        }
    };
    assert!(b.get(&path).await.body.contains("No more announcements"));
    assert!(!known(&site).await, "looking changes nothing");
    assert_eq!(b.get(&format!("{}x", path)).await.status, StatusCode::NOT_FOUND);
    // As a mail program sends it (RFC 8058): no cookie, no token, no page in between.
    let mut program = Browser::new(&site);
    let form = Request::post(&path).header("content-type", "application/x-www-form-urlencoded");
    let done = program.send_once(form, b"List-Unsubscribe=One-Click".to_vec()).await;
    assert_eq!(done.status, StatusCode::OK);
    assert!(done.body == "No more announcements." && known(&site).await);
    let mut person = Browser::new(&site);
    person.get("/").await;
    let told = person.post(&path, &[]).await;
    assert!(told.body.contains("gets no more announcements"), "{}", told.status);
}

/// A double click announces once; a form that was refused announces when it is mended.
#[tokio::test(flavor = "multi_thread")]
async fn a_double_click_announces_once() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let form = ilse.get("/office/events/2/announce").await;
    let date = form.body.split("name=\"date\" value=\"").nth(1).unwrap().split('"').next().unwrap();
    let (once, date) = (form.field("once"), date.to_owned());
    let typed = |subject: &'static str| {
        [
            ("once", once.as_str()),
            ("date", date.as_str()),
            ("confirmed", "yes"),
            ("subject", subject),
            ("words", "<div>Bring a coat.</div>"),
            ("act", "send"),
        ]
    };
    let there = "/office/events/2/announce";
    let refused = ilse.post(there, &typed("About {{evnt}}")).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    let announced = async || -> u32 {
        let read = |c: &matricle_store::Connection| {
            let sql = "SELECT count(*) FROM announcements WHERE event_id = 2";
            Ok::<_, matricle_store::StoreError>(c.query_row(sql, [], |r| r.get(0))?)
        };
        site.desk.store.read(read).await.unwrap()
    };
    let before = announced().await;
    for _ in 0..2 {
        let sent = ilse.post(there, &typed("About {{event}}")).await;
        assert_eq!(sent.status, StatusCode::SEE_OTHER, "{}", sent.body);
    }
    assert_eq!(announced().await, before + 1);
}

/// What somebody of the house is told is their own choice, with an hour that is one; a notice
/// stands on the event's page until it is taken down, and what it says is no HTML.
#[tokio::test(flavor = "multi_thread")]
async fn wishes_and_notices() {
    let site = open().await;
    let mut owen = Browser::new(&site);
    owen.sign_in(3).await;
    let page = owen.get("/you").await.body;
    assert!(page.contains("value=\"18:30\"") && !page.contains("name=\"money\""));
    let bad = [("kept", "yes"), ("attendees", "day"), ("attendees_at", "half six")];
    let refused = owen.post("/you/told", &bad).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        refused.body.contains("value=\"half six\"") && refused.body.contains("class=\"wrong\"")
    );
    let good = [("kept", "yes"), ("attendees", "day"), ("attendees_at", "06:15"), ("money", "yes")];
    let kept = owen.post("/you/told", &good).await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER, "{}", kept.body);
    let page = owen.get(kept.location()).await.body;
    assert!(page.contains("What you are told is kept.") && page.contains("value=\"06:15\""));

    let slug = "/events/forage-in-a-dry-summer";
    let mut anybody = Browser::new(&site);
    let up = anybody.get(slug).await.body;
    assert!(up.contains("aria-label=\"Notice\"") && up.contains("Moved: now"), "{up}");
    let feed = anybody.get("/feeds/all.atom").await.body;
    assert!(feed.contains("Forage in a dry summer: Moved: now"));
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let list = ilse.get("/office/messages/went?q=Forage&sort=way&back=1").await.body;
    let row = list.split("everybody, on the event’s page").next().unwrap();
    let href = row.rsplit("href=\"").next().unwrap().split('"').next().unwrap().to_owned();
    let id = href.rsplit('/').next().unwrap();
    let down = format!("/office/messages/notices/{id}");
    let done = ilse.post(&down, &[("act", "down")]).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{down}: {}", done.body);
    assert!(ilse.get(done.location()).await.body.contains("It was taken down."));
    assert!(!anybody.get(slug).await.body.contains("aria-label=\"Notice\""));
    assert!(!anybody.get("/feeds/all.atom").await.body.contains("Moved: now"));
    ilse.post(&down, &[("act", "up")]).await;
    assert!(anybody.get(slug).await.body.contains("aria-label=\"Notice\""));
    // A mail is no notice, and a treasurer plans no events.
    assert_eq!(
        ilse.post("/office/messages/notices/1", &[("act", "down")]).await.status,
        StatusCode::NOT_FOUND
    );
    let mut petra = Browser::new(&site);
    petra.sign_in(4).await;
    assert_eq!(petra.post(&down, &[("act", "down")]).await.status, StatusCode::FORBIDDEN);
}
