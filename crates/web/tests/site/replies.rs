//! Replies to invitations: one press, no signing in; whatever only fetches changes nothing.

use axum::http::{Method, Request, StatusCode};
use matricle_core::form::Form;
use matricle_core::replies::{Reply, Stands};
use matricle_desk::planning::{invitations, replies, sheet};
use matricle_desk::{demo, timers};
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
    let list: Vec<String> = (0..100).map(|n| format!("guest.{n}@post.example")).collect();
    let fields = [("who", "invited"), ("who_invited", &list.join("\n")), ("hold_minutes", "15")];
    let fields = fields.map(|(n, v)| (n.to_owned(), v.to_owned())).to_vec();
    sheet::set_booking(&site.desk, &ilse, event, Form::new(fields)).await.unwrap();
    assert_eq!(invitations::send(&site.desk, &ilse, event).await.unwrap(), 100);
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
    assert_eq!(links.len(), 100);
    let list = || replies::of_event(&site.desk, &ilse, event);
    let count = |all: &replies::Replies, stands| {
        all.counts[Stands::ALL.iter().position(|s| *s == stands).unwrap()]
    };

    // As a mail scanner would: each of its links, twice, by GET and by HEAD.
    let mut scanner = Browser::new(&site);
    for (_, link) in &links {
        for say in ["yes", "maybe", "no"] {
            let path = format!("{link}/reply?say={say}");
            assert_eq!(scanner.get(&path).await.status, StatusCode::OK);
        }
        let head = Request::builder().method(Method::HEAD).uri(format!("{link}/reply"));
        assert_eq!(scanner.send(head, String::new()).await.status, StatusCode::OK);
    }
    assert_eq!(count(&list().await.unwrap(), Stands::None), 100, "nobody has said anything");

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
    assert_eq!((count(&all, Stands::Booked), count(&all, Stands::None)), (1, 97));

    // The Office sees it, in a list and as files; it asks again once, and only who was silent.
    let mut office = Browser::new(&site);
    office.sign_in(0).await;
    let at = format!("/office/events/{event}/replies");
    let page = office.get(&at).await.body;
    for words in ["yes <b>1</b>", "none <b>97</b>", "“Can I bring a &#60;dog&#62;?”"] {
        assert!(page.contains(words), "{words}");
    }
    let one = office.get(&format!("{at}?only=no")).await.body;
    assert_eq!(one.matches("@post.example").count(), 1);
    let csv = office.get(&format!("{at}.csv")).await.body;
    assert_eq!(csv.lines().count(), 101);
    let mut treasurer = Browser::new(&site);
    treasurer.sign_in(4).await;
    assert!(!treasurer.get(&at).await.body.contains("once again who"));
    assert_eq!(treasurer.post(&at, &[]).await.status, StatusCode::FORBIDDEN);
    let before = site.mails.taken().len();
    for again in [97, 0] {
        assert_eq!(replies::ask_again(&site.desk, &ilse, event).await.unwrap(), again);
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
    assert_eq!(again, 97);

    // Links that open are not counted, however many; those that do not are soon slowed down.
    let mut last = StatusCode::NOT_FOUND;
    for n in 0..20 {
        let guess = format!("/invited/{n}/AAAAAAAAAAAAAAAAAAAAAA/reply");
        last = scanner.get(&guess).await.status;
    }
    assert_eq!(last, StatusCode::TOO_MANY_REQUESTS);
}
