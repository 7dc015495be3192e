//! Submitting and reviewing without script; who may open what.

use axum::http::StatusCode;
use matricle_core::SubmissionId;
use matricle_core::review::rules::{HouseRules, WhoMay};
use matricle_store::submissions;
use matricle_web::Limits;

use crate::site::{Browser, Site, site};

async fn open() -> Site {
    site(Limits { sign_in: 1000, booking: 1000 }, false).await
}

/// A form that can be sent, from a page that was loaded a while ago.
fn filled<'a>(stamp: &'a str, with: &[(&'a str, &'a str)]) -> Vec<(&'a str, &'a str)> {
    let usual = [
        ("title", "Knots & nets"),
        ("day", "2026-12-18"),
        ("from", "19:00"),
        ("until", "21:00"),
        ("place", "Hexley Library"),
        ("description", "Bring rope.\n\nAnd tea; ring 0412 55 61 20."),
        ("contact", "kit@post.example"),
        ("name", "Kit O’Hara"),
        ("email", "kit@post.example"),
        ("agreed", "yes"),
        ("act", "send"),
        ("stamp", stamp),
    ];
    let rest = usual.into_iter().filter(|(n, _)| with.iter().all(|(m, _)| m != n));
    rest.chain(with.iter().copied()).collect()
}

fn link_in(mail: &str) -> String {
    let from = mail.split("http://club.example").nth(1).unwrap();
    from.split_whitespace().next().unwrap().to_owned()
}

fn last_mail(site: &Site) -> String {
    let raw = site.mails.taken().last().unwrap().clone();
    let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
    mail.body_text(0).unwrap().into_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn without_script_it_is_kept_sent_proved_asked_answered_and_accepted() {
    let site = open().await;
    let mut kit = Browser::new(&site);
    let page = kit.get("/submit").await;
    assert_eq!(page.status, StatusCode::OK);
    let stamp = page.field("stamp");
    site.desk.clock.advance(jiff::SignedDuration::from_mins(2));
    // Kept for later; what is missing is said beside it, and all that was typed stays.
    let kept =
        kit.post("/submit", &[("title", "Knots & nets"), ("act", "keep"), ("stamp", &stamp)]).await;
    let address = kept.location().to_owned();
    let again = kit.get(&address).await;
    assert!(
        again.body.contains("Knots &#38; nets") && again.body.contains("Kept."),
        "{}",
        again.body
    );
    let (id, key) = (again.field("id"), again.field("key"));
    let with = [("id", id.as_str()), ("key", key.as_str()), ("day", ""), ("email", "kit@")];
    let odd = kit.post("/submit", &filled(&stamp, &with)).await;
    assert_eq!(odd.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(odd.body.contains("2 fields need") && odd.body.contains("Hexley Library"));
    let sent = kit.post("/submit", &filled(&stamp, &[("id", &id), ("key", &key)])).await;
    assert!(sent.body.contains("Look at your mail"), "{}", sent.body);
    let link = link_in(&last_mail(&site));
    // Whoever only opens the link changes nothing; a person's act hands it in.
    let mut phone = Browser::new(&site);
    let shown = phone.get(&link).await;
    assert!(shown.body.contains("It is not sent yet") && shown.body.contains("Bring rope."));
    let version = shown.field("version");
    let handed = phone.post(&format!("{link}/send"), &[("version", &version)]).await;
    let there = phone.get(handed.location()).await;
    assert!(there.body.contains("It has arrived") && there.body.contains("received"));
    // The browser that wrote it does not open it any more.
    assert_eq!(kit.get(&address).await.status, StatusCode::NOT_FOUND);
    // The reviewer, without script: sent back, answered, corrected, accepted, with undo.
    let mut rosalind = Browser::new(&site);
    rosalind.sign_in(5).await;
    let review = rosalind.get(&format!("/office/review/{id}")).await;
    assert!(review.body.contains("Knots &#38; nets") && review.body.contains("tel:0412556120"));
    let version = review.field("version");
    let none = rosalind
        .post(&format!("/office/review/{id}/send-back"), &[("version", &version), ("words", " ")])
        .await;
    assert!(none.status == StatusCode::CONFLICT && none.body.contains("Say why"), "{}", none.body);
    rosalind
        .post(
            &format!("/office/review/{id}/send-back"),
            &[("version", &version), ("words", "Which <knots>?")],
        )
        .await;
    site.desk.clock.advance(jiff::SignedDuration::from_mins(6));
    let asked = phone.get(&link).await;
    assert!(asked.body.contains("Which &#60;knots&#62;?"), "{}", asked.body);
    let answered = phone.post(&format!("{link}/change"), &[("note", "Bowlines.")]).await;
    assert_eq!(answered.location(), link);
    let stale = rosalind.post(&format!("/office/review/{id}/accept"), &[("version", "0")]).await;
    assert!(stale.body.contains("Its words are others"), "{}", stale.body);
    let version = rosalind.get(&format!("/office/review/{id}")).await.field("version");
    let fix = [("version", version.as_str()), ("title", "Knots, nets and splices")];
    rosalind.post(&format!("/office/review/{id}/correct"), &fix).await;
    let version = rosalind.get(&format!("/office/review/{id}")).await.field("version");
    let done =
        rosalind.post(&format!("/office/review/{id}/accept"), &[("version", &version)]).await;
    let queue = rosalind.get(done.location()).await;
    assert!(queue.body.contains("accepted.") && queue.body.contains("Undo"));
    let event = Browser::new(&site).get("/events/knots-nets-and-splices").await;
    assert!(event.body.contains("Just come") && event.body.contains("mailto:kit@post.example"));
    assert!(event.body.contains("<p>Bring rope.</p>"), "{}", event.body);
    // Twice clicked, it says what happened.
    let twice =
        rosalind.post(&format!("/office/review/{id}/accept"), &[("version", &version)]).await;
    assert!(
        twice.status == StatusCode::CONFLICT && twice.body.contains("Rosalind Hale accepted it")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn who_may_open_what() {
    let site = open().await;
    let find = |title: &'static str| {
        let desk = site.desk.clone();
        async move {
            let all = desk.store.read(|c| submissions::waiting(c, 50)).await.unwrap();
            all.into_iter().find(|s| s.title == title).unwrap()
        }
    };
    let s = find("Branch meeting, Hexley").await;
    let own = format!("/submissions/{}/{}", s.id, site.desk.secrets.submission_key(s.id, &s.email));
    let other = site.desk.secrets.submission_key(SubmissionId(s.id.0 + 1), &s.email);
    // Rows: who; columns: the queue, one of it, deciding, the house rules, their saving, the
    // submission by its link, by another's key, all of one's own.
    let mut rows = Vec::new();
    for who in [
        "nobody",
        "a stranger by mail",
        "the submitter by mail",
        "organiser",
        "door volunteer",
        "administrator",
        "host",
        "treasurer",
        "reviewer",
    ] {
        let mut b = Browser::new(&site);
        match who {
            "nobody" => drop(b.get("/me").await),
            "a stranger by mail" => b.prove("zara@post.example").await,
            "the submitter by mail" => b.prove(&s.email).await,
            staff => {
                let at =
                    matricle_demo::STAFF.iter().position(|(_, _, role, _)| role.word() == staff);
                b.sign_in(at.unwrap()).await;
            }
        }
        b.get("/me").await;
        let mut row = Vec::new();
        for path in [
            "/office/review".to_owned(),
            format!("/office/review/{}", s.id),
            "/office/house/submissions".into(),
            own.clone(),
            format!("/submissions/{}/{other}", s.id),
            "/submissions".into(),
            "/office/review/trusted".into(),
        ] {
            let reply = b.get(&path).await;
            let to = reply.headers.get("location").map_or("", |l| l.to_str().unwrap());
            row.push(format!("{}{}", reply.status.as_u16(), to.split('?').next().unwrap()));
        }
        for (path, fields) in [
            (format!("/office/review/{}/accept", s.id), vec![("version", "99")]),
            ("/office/house/submissions".into(), vec![("who", "named"), ("named", "")]),
            ("/office/review/complaint/1".into(), vec![("act", "nothing")]),
        ] {
            row.push(b.post(&path, &fields).await.status.as_u16().to_string());
        }
        rows.push(format!("{who}: {}", row.join(" ")));
    }
    insta::assert_snapshot!(rows.join("\n"));
    // Signed in as the submitter, theirs opens without a key; nobody else's does.
    let mut marit = Browser::new(&site);
    marit.prove(&s.email).await;
    let list = marit.get("/submissions?rows=30&days=numbers").await;
    assert!(
        list.body.contains("Branch meeting, Hexley") && list.body.contains("2026-12-11 19:00"),
        "{}",
        list.body
    );
    assert!(marit.get("/submissions").await.body.contains("2026-12-11 19:00"), "remembered");
    let led = marit.get("/office/bookings").await;
    assert_eq!(led.location(), "/submissions?from=office");
    assert!(
        marit.get(led.location()).await.body.contains("The Office is for those who run the house")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_house_rules_are_set_and_shown() {
    let site = open().await;
    let mut nia = Browser::new(&site);
    nia.sign_in(2).await;
    let page = nia.get("/office/house/submissions").await;
    assert!(page.body.contains("A stranger") && page.body.contains("A link goes to their address"));
    let rules = [
        ("who", "named"),
        ("named", "a@post.example\nno-address"),
        ("a_day", "0"),
        ("trust_after", "3"),
        ("told_at_once", "x@post.example"),
        ("told_daily", "X@post.example"),
        ("hour", "25:00"),
        ("keep", "days"),
        ("keep_days", "x"),
        ("ahead_days", "400"),
        ("bad_domains", "pills"),
        ("words", "Tell us."),
    ];
    let odd = nia.post("/office/house/submissions", &rules).await;
    assert_eq!(odd.status, StatusCode::UNPROCESSABLE_ENTITY);
    for said in [
        "“no-address” does not look like an e-mail address",
        "One address stands in both",
        "from 1 to 500",
        "“pills” is no domain",
        "Write the time",
        "Tell us.",
    ] {
        assert!(odd.body.contains(said), "{said}: {}", odd.body);
    }
    let good: Vec<(&str, &str)> = rules
        .into_iter()
        .filter(|(n, _)| {
            !["named", "a_day", "told_daily", "hour", "keep_days", "bad_domains"].contains(n)
        })
        .chain([
            ("named", "a@post.example"),
            ("a_day", "4"),
            ("hour", "18:30"),
            ("keep_days", "30"),
            ("withdraw", "yes"),
        ])
        .collect();
    let mut kit = Browser::new(&site);
    kit.get("/submit").await;
    let kept = nia.post("/office/house/submissions", &good).await;
    assert_eq!(kept.location(), "/office/house/submissions");
    let stored = site.desk.store.read(submissions::rules).await.unwrap();
    let expected = HouseRules {
        who: WhoMay::Named(vec!["a@post.example".into()]),
        a_day: 4,
        ..stored.clone()
    };
    assert_eq!(stored, expected);
    assert!(stored.withdraw && !stored.change_after && stored.keep_days == 30);
    // Whoever is not named is told so, and nothing is begun by a form that was kept open.
    let shut = kit.get("/submit").await;
    assert!(
        shut.body.contains("Only people whom the house has named")
            && shut.body.contains("Tell us.")
    );
    let tried = kit.post("/submit", &filled("x", &[])).await;
    assert!(tried.body.contains("Only people whom the house has named"));
    let unsent =
        site.desk.store.read(|c| submissions::unsent_before(c, jiff::Timestamp::MAX, 10)).await;
    assert!(unsent.unwrap().is_empty());
}
