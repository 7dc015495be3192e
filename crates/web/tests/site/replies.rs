//! Replies to invitations: one press, no signing in; whatever only fetches changes nothing.

use axum::http::{Method, Request, StatusCode};
use matricle_core::forms::form::Form;
use matricle_core::messages::replies::{Reply, Stands};
use matricle_demo as demo;
use matricle_desk::planning::{asking, invitations, replies};
use matricle_desk::timers;
use matricle_store::{events, people};
use matricle_web::Limits;

use crate::site::{Browser, site};

const FREE: &str = "is-beekeeping-for-me";

#[tokio::test(flavor = "multi_thread")]
async fn a_reply_is_one_press_and_a_fetch_changes_nothing() {
    let site = site(Limits { sign_in: 10, booking: 1000 }, false).await;
    let find = |c: &matricle_store::Connection| {
        let ilse = people::by_email(c, demo::STAFF[0].1)?.unwrap().0;
        Ok::<_, matricle_store::StoreError>((ilse, events::by_slug(c, FREE)?.unwrap().id))
    };
    let (ilse, event) = site.desk.store.read(find).await.unwrap();
    let list: Vec<String> = (0..250).map(|n| format!("guest.{n}@post.example")).collect();
    let whom = Form::new(vec![("whom".to_owned(), list.join("\n"))]);
    invitations::add(&site.desk, &ilse, event, whom).await.unwrap();
    assert_eq!(asking::send(&site.desk, &ilse, event).await.unwrap(), 250);
    while timers::run_due(&site.desk).await.unwrap() {}
    let links: Vec<(String, String)> = site
        .mails
        .taken()
        .iter()
        .filter_map(|raw| {
            let mail = mail_parser::MessageParser::default().parse(raw)?;
            let to = mail.to()?.first()?.address()?.to_owned();
            let text = mail.body_text(0)?.into_owned();
            let path = text.split("/invited/").nth(1)?;
            let path = path.split(|c: char| c.is_whitespace() || c == ')').next()?;
            Some((to, format!("/invited/{path}")))
        })
        .collect();
    assert_eq!(links.len(), 250);
    let list = || replies::of_event(&site.desk, &ilse, event);
    let count = |all: &replies::Replies, stands| {
        all.counts[Stands::ALL.iter().position(|s| *s == stands).unwrap()]
    };

    // As a mail scanner would: a thousand links, each twice, by GET and by HEAD.
    let mut scanner = Browser::new(&site);
    for (_, link) in &links {
        for to in ["", "/reply?say=yes", "/reply?say=maybe", "/reply?say=no"] {
            let path = format!("{link}{to}");
            for method in [Method::GET, Method::HEAD, Method::GET, Method::HEAD] {
                let fetch = Request::builder().method(method).uri(&path);
                let status = scanner.send(fetch, String::new()).await.status;
                let wanted = if to.is_empty() { StatusCode::SEE_OTHER } else { StatusCode::OK };
                assert_eq!(status, wanted, "{path}");
            }
        }
    }
    assert_eq!(count(&list().await.unwrap(), Stands::None), 250, "nobody has said anything");

    // A person presses; the same link shows it, and changes it.
    let mut guest = Browser::new(&site);
    let (address, link) = &links[0];
    let page = guest.get(&format!("{link}/reply?say=maybe")).await.body;
    assert!(page.contains("Nothing is sent yet") && page.contains(address), "{page}");
    let nothing = guest.post(&format!("{link}/reply"), &[("word", "Can I bring a <dog>?")]).await;
    assert_eq!(nothing.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(nothing.body.contains("Press one of the three") && nothing.body.contains("&#60;dog"));
    let unnamed = guest.post(&format!("{link}/reply"), &[("reply", "yes")]).await;
    assert_eq!(unnamed.status, StatusCode::UNPROCESSABLE_ENTITY, "a yes books, in somebody's name");
    for reply in ["maybe", "yes"] {
        let sent = [("reply", reply), ("word", "Can I bring a <dog>?"), ("name", "Guest")];
        assert_eq!(guest.post(&format!("{link}/reply"), &sent).await.status, StatusCode::SEE_OTHER);
        assert!(
            guest.get(&format!("{link}/reply")).await.body.contains(&format!("You said {reply}"))
        );
    }
    assert!(guest.get(&format!("{link}/reply")).await.body.contains("You have booked."));
    guest.post(&format!("{}/reply", links[1].1), &[("reply", "no")]).await;
    // Whoever books has replied by that; a key of somebody else opens nothing.
    let mut booker = Browser::new(&site);
    booker.get(&links[2].1).await;
    let own = booker.keep(FREE, &[1]).await.location().to_owned();
    let book = [("name", "Ros"), ("email", links[2].0.as_str()), ("agreed", "yes")];
    assert_eq!(booker.post(&format!("{own}/book"), &book).await.status, StatusCode::SEE_OTHER);
    let bent = links[3].1.replace("/invited/", "/invited/9");
    assert_eq!(guest.get(&format!("{bent}/reply")).await.status, StatusCode::NOT_FOUND);
    let bent = guest.post(&format!("{bent}/reply"), &[("reply", "yes")]).await;
    assert_eq!(bent.status, StatusCode::NOT_FOUND);

    let all = list().await.unwrap();
    assert_eq!(count(&all, Stands::Said(Reply::Yes)), 1);
    assert_eq!(count(&all, Stands::Said(Reply::No)), 1);
    assert_eq!((count(&all, Stands::Booked), count(&all, Stands::None)), (1, 247));

    // The Office sees it, in a list and as files; it asks again once, and only who was silent.
    let mut office = Browser::new(&site);
    office.sign_in(0).await;
    let at = format!("/office/events/{event}/replies");
    let page = office.get(&at).await.body;
    for words in ["yes <b>1</b>", "none <b>247</b>", "“Can I bring a &#60;dog&#62;?”"] {
        assert!(page.contains(words), "{words}");
    }
    let one = office.get(&format!("{at}?only=no")).await.body;
    assert_eq!(one.matches("@post.example").count(), 1);
    let csv = office.get(&format!("{at}.csv")).await.body;
    assert_eq!(csv.lines().count(), 251);
    let mut treasurer = Browser::new(&site);
    treasurer.sign_in(4).await;
    assert!(!treasurer.get(&at).await.body.contains("once again who"));
    assert_eq!(treasurer.post(&at, &[]).await.status, StatusCode::FORBIDDEN);
    let before = site.mails.taken().len();
    for again in [247, 0] {
        assert_eq!(asking::ask_again(&site.desk, &ilse, event).await.unwrap(), again);
        while timers::run_due(&site.desk).await.unwrap() {}
    }
    // The booking's own mails aside, which went to whoever booked.
    let again = site.mails.taken()[before..]
        .iter()
        .filter(|raw| {
            let mail = mail_parser::MessageParser::default().parse(raw.as_slice()).unwrap();
            mail.subject().is_some_and(|s| s.starts_with("An invitation"))
        })
        .count();
    assert_eq!(again, 247);

    // Links that open are not counted, however many; those that do not are soon slowed down.
    let mut last = StatusCode::NOT_FOUND;
    for n in 0..20 {
        let guess = format!("/invited/{n}/AAAAAAAAAAAAAAAAAAAAAA/reply");
        last = scanner.get(&guess).await.status;
    }
    assert_eq!(last, StatusCode::TOO_MANY_REQUESTS);
}

#[tokio::test(flavor = "multi_thread")]
async fn people_are_put_on_the_list_from_text_file_and_elsewhere_and_hand_it_on() {
    let site = site(Limits { sign_in: 1000, booking: 1000 }, false).await;
    let find = |c: &matricle_store::Connection| events::by_slug(c, FREE);
    let event = site.desk.store.read(find).await.unwrap().unwrap().id;
    let at = format!("/office/events/{event}/invitations");
    let mut b = Browser::new(&site);
    b.sign_in(0).await;
    assert!(b.get(&at).await.body.contains("Nobody is invited yet"));
    let text = [("whom", "Ann O'Hara <ann@post.example>; nobody"), ("from", "members")];
    let file = "\u{feff}name,address\n\"Bo, Li\",bo@post.example\nAnn,ANN@post.example";
    let looked = b.post_with_file(&format!("{at}/look"), &text, file).await.body;
    for said in ["nothing kept yet", "One stood there twice", "nobody", "bo@post.example"] {
        assert!(looked.contains(said), "{said}: {looked}");
    }
    assert!(b.get(&at).await.body.contains("Nobody is invited yet"), "looking keeps nothing");
    let wrong = b.post_with_file(&at, &[("whom", "ann@post.example nobody@")], "").await;
    assert_eq!(wrong.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(wrong.body.contains("“nobody@” does not look like an e-mail address"));
    assert!(wrong.body.contains("ann@post.example nobody@"), "what was typed is kept");
    let kept = [("whom", "ann@post.example bo@post.example")];
    assert_eq!(b.post_with_file(&at, &kept, "").await.status, StatusCode::SEE_OTHER);
    assert!(b.get(&at).await.body.contains("2 people put on the list. Nothing is mailed yet."));
    // Taken off and put back by the line that says so.
    b.post(&format!("{at}/off"), &[("address", "bo@post.example")]).await;
    let page = b.get(&at).await.body;
    assert!(page.contains("bo@post.example is off the list") && page.contains("Undo"), "{page}");
    b.post(&format!("{at}/back"), &[("whom", "bo@post.example")]).await;
    let rules = [("maybe_days", "x"), ("only_domains", "po st")];
    let wrong = b.post(&format!("{at}/rules"), &rules).await;
    assert!(wrong.status == 422 && wrong.body.contains("Write a whole number from 0 to 365"));
    let rules = [("hand_on", "yes"), ("maybe_days", "2"), ("only_domains", "post.example")];
    b.post(&format!("{at}/rules"), &rules).await;
    b.post(&format!("/office/events/{event}/invite"), &[]).await;
    assert!(b.get(&at).await.body.contains("2 people get an invitation by mail"));
    let mut treasurer = Browser::new(&site);
    treasurer.sign_in(4).await;
    assert_eq!(treasurer.get(&at).await.status, StatusCode::FORBIDDEN);
    assert_eq!(treasurer.post_with_file(&at, &kept, "").await.status, StatusCode::FORBIDDEN);

    let csv = b.get(&format!("/office/events/{event}/replies.csv")).await.body;
    assert!(csv.contains("Reply,Name,Address,Word,Replied,Booked,Asked,Link"), "{csv}");
    let link = csv.split("http://club.example").nth(1).unwrap().split(['"', ',', '\r', '\n']);
    let link = link.into_iter().next().unwrap().trim_end_matches("/reply").to_owned();
    let mut ann = Browser::new(&site);
    let page = ann.get(&format!("{link}/reply")).await.body;
    assert!(page.contains("A maybe keeps a seat for you until the end of"), "{page}");
    ann.post(&format!("{link}/reply"), &[("reply", "maybe"), ("name", "Ann")]).await;
    let page = ann.get(&format!("{link}/reply")).await.body;
    assert!(page.contains("A seat is kept for you until the end of"), "{page}");
    let own = page.split("<a href=\"/booking/").nth(1).unwrap().split('"').next().unwrap();
    let form = ann.get(&format!("/booking/{own}")).await;
    assert!(form.body.contains("ann@post.example"), "what is known is filled in: {}", form.body);
    let outside = ann.post(&format!("{link}/hand"), &[("hand_to", "eve@evil.example")]).await;
    assert!(outside.status == 422 && outside.body.contains("Only addresses at post.example"));
    let handed = ann.post(&format!("{link}/hand"), &[("hand_to", "eve@post.example")]).await;
    assert_eq!(handed.status, StatusCode::SEE_OTHER);
    let page = ann.get(&format!("{link}/reply")).await.body;
    assert!(page.contains("You handed this invitation on to eve@post.example"), "{page}");
    let opened = ann.get(&link).await;
    assert_eq!(opened.location(), format!("{link}/reply"), "it says who has it, and opens nothing");
    assert!(!opened.headers.contains_key("set-cookie"));
    ann.post(&format!("{link}/back"), &[]).await;
    assert_eq!(ann.get(&link).await.location(), format!("/events/{FREE}"), "theirs again");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_has_a_sheet_that_leads_to_all_of_theirs() {
    let site = site(Limits { sign_in: 1000, booking: 1000 }, false).await;
    let find = |c: &matricle_store::Connection| {
        let sql = "SELECT l.from_email, l.id, b.reference FROM letters l JOIN bookings b ON b.id = l.booking_id
            WHERE l.kind = 'letter' AND b.mailbox <> '' AND lower(b.email) = lower(l.from_email)
                AND b.state <> 'lapsed' LIMIT 1";
        let found = c.query_row(sql, [], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?;
        Ok::<(String, i64, String), matricle_store::StoreError>(found)
    };
    let (email, letter, reference) = site.desk.store.read(find).await.unwrap();
    let mut office = Browser::new(&site);
    office.sign_in(0).await;
    let sheet = format!("/office/person?address={}", email.replace('@', "%40"));
    for page in
        [format!("/office/messages/letters/{letter}"), format!("/office/bookings/{reference}")]
    {
        let body = office.get(&page).await.body;
        assert!(body.contains(&format!("href=\"{sheet}\"")), "{page} leads to {sheet}: {body}");
    }
    let page = office.get(&sheet).await;
    assert_eq!(page.status, StatusCode::OK);
    for to in
        [format!("/office/bookings/{reference}"), format!("/office/messages/letters/{letter}")]
    {
        assert!(page.body.contains(&format!("href=\"{to}\"")), "{to}: {}", page.body);
    }
    // Of nobody who is known there is none, whatever the address says.
    let long = "a".repeat(5000);
    for nobody in ["", "nobody@post.example", "%27%20OR%201%3D1%20--", "%00", "%25", &long] {
        let status = office.get(&format!("/office/person?address={nobody}")).await.status;
        assert_eq!(status, StatusCode::NOT_FOUND, "{nobody}");
    }
    // Whoever does not see the Office sees nobody in it: the door, a host.
    for who in [1, 3] {
        let mut other = Browser::new(&site);
        other.sign_in(who).await;
        let page = other.get(&sheet).await;
        assert_eq!(page.status, StatusCode::FORBIDDEN);
        assert!(!page.body.contains(&email));
    }
    let mut stranger = Browser::new(&site);
    assert!(!stranger.get(&sheet).await.body.contains(&email));
}
