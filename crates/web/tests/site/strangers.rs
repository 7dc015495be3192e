//! Strangers at the pages: what a link, a number and a typed address open, and what not.

use axum::http::StatusCode;
use matricle_core::forms::form::Form;
use matricle_demo as demo;
use matricle_store::{events, people};
use matricle_web::Limits;

use crate::site::{Browser, site};

const FREE: &str = "is-beekeeping-for-me";

fn form(fields: &[(&str, &str)]) -> Form {
    Form::new(fields.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_number_for_a_staff_address_opens_bookings_and_no_office() {
    let site = site(Limits::default(), false).await;
    let mut b = Browser::new(&site);
    let nia = demo::STAFF[2].1;
    b.prove(nia).await;
    let me = b.get("/me").await;
    assert!(me.body.contains("sign in with your password") && me.body.contains("(this one)"));
    for path in ["/office", "/office/house/people", "/door", "/you"] {
        let reply = b.get(path).await;
        assert!(reply.location().starts_with("/sign-in?back="), "{path}: {}", reply.status);
    }
    let given = [
        ("name", "Eve"),
        ("email", "eve@post.example"),
        ("role", "administrator"),
        ("password", "a-long-password"),
    ];
    assert!(b.post("/office/house/people", &given).await.location().starts_with("/sign-in"));
    // With the password: the Office, and the way out everywhere.
    b.sign_in(2).await;
    let you = b.get("/you").await;
    assert!(you.body.contains("Another password"));
    let wrong = b.post("/you", &[("old_password", "x"), ("new_password", "a-new-long-one")]).await;
    assert_eq!(wrong.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        wrong.body.contains("This is not the password you have.")
            && !wrong.body.contains("a-new-long-one")
    );
    b.post("/me/out", &[]).await;
    assert!(b.get("/office").await.location().starts_with("/sign-in"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_link_of_an_invitation_opens_its_event_alone() {
    let site = site(Limits::default(), false).await;
    let (ilse, event) = site
        .desk
        .store
        .read(|c| {
            let ilse = people::by_email(c, demo::STAFF[0].1)?.unwrap().0;
            Ok::<_, matricle_store::StoreError>((ilse, events::by_slug(c, FREE)?.unwrap().id))
        })
        .await
        .unwrap();
    let nia = demo::STAFF[2].1;
    let list = format!("{nia}\nros@post.example");
    let only = form(&[("who", "invited"), ("hold_minutes", "15")]);
    matricle_desk::planning::who::keep(&site.desk, &ilse, event, only).await.unwrap();
    let whom = form(&[("whom", &list)]);
    matricle_desk::planning::invitations::add(&site.desk, &ilse, event, whom).await.unwrap();
    matricle_desk::planning::asking::send(&site.desk, &ilse, event).await.unwrap();
    while matricle_desk::timers::run_due(&site.desk).await.unwrap() {}
    let mails = site.mails.taken();
    let link = |to: &str| {
        let raw = mails.iter().map(|m| String::from_utf8_lossy(m).replace("=\r\n", ""));
        let raw = raw.into_iter().find(|m| m.contains("/invited/") && m.contains(to)).unwrap();
        let path = raw.split("http://club.example/invited/").nth(1).unwrap();
        format!("/invited/{}", path.split_whitespace().next().unwrap())
    };
    // Mailed to somebody who works here: no session, no Office, no bookings.
    let mut b = Browser::new(&site);
    assert_eq!(b.get(&link(nia)).await.location(), format!("/events/{FREE}"));
    assert!(b.get("/office").await.location().starts_with("/sign-in"));
    assert!(b.get("/me").await.body.contains("Send me a number"));
    // It books this event with its own address, and with no other.
    let mut ros = Browser::new(&site);
    ros.get(&link("ros@post.example")).await;
    let own = ros.keep(FREE, &[1]).await.location().to_owned();
    ros.get(&own).await;
    let book = |email: &'static str| [("name", "Ros"), ("email", email), ("agreed", "yes")];
    let other = ros.post(&format!("{own}/book"), &book(demo::STAFF[2].1)).await;
    assert_eq!(other.status, StatusCode::FORBIDDEN);
    assert!(
        other.body.contains("Send a number to this address")
            && other.body.contains("value=\"Ros\"")
    );
    let booked = ros.post(&format!("{own}/book"), &book("ros@post.example")).await;
    assert_eq!(booked.status, StatusCode::SEE_OTHER, "{}", booked.body);
    // A link whose number was changed is nothing.
    let bent = link("ros@post.example").replace("/invited/", "/invited/9");
    assert_eq!(b.get(&bent).await.status, StatusCode::NOT_FOUND);
}

/// A field that is there three times is one wish; a stranger's address is not believed.
#[tokio::test(flavor = "multi_thread")]
async fn a_field_sent_three_times_is_one_wish() {
    let site = site(Limits { sign_in: 100, booking: 1000 }, false).await;
    let mut b = Browser::new(&site);
    let page = b.get(&format!("/events/{FREE}")).await;
    let ticket = page.body.split("name=\"q_").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let (date, q) = (page.field("date"), format!("q_{ticket}"));
    let path = format!("/events/{FREE}/keep");
    let kept = b.post(&path, &[("date", &date), (&q, "4"), (&q, "4"), (&q, "4")]).await;
    let own = kept.location().to_owned();
    assert!(b.get(&own).await.body.contains("4 people who come"), "{own}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_door_of_another_day_shows_no_names_and_an_organiser_opens_it() {
    let site = site(Limits { sign_in: 100, booking: 1000 }, false).await;
    let page = Browser::new(&site).get("/events/pollen-under-the-lens").await;
    let date = page.field("date");
    let (mut bram, mut ilse) = (Browser::new(&site), Browser::new(&site));
    bram.sign_in(1).await;
    ilse.sign_in(0).await;
    let door = format!("/door/{date}");
    let shut = bram.get(&door).await;
    assert_eq!(shut.status, StatusCode::FORBIDDEN);
    assert!(
        shut.body.contains("ask an organiser to open it") && !shut.body.contains("name=\"act\"")
    );
    for path in ["names?text=a", "live"] {
        assert_eq!(
            bram.get(&format!("{door}/{path}")).await.status,
            StatusCode::FORBIDDEN,
            "{path}"
        );
    }
    bram.get("/door").await;
    for attendee in 1..40 {
        let n = attendee.to_string();
        let told = bram
            .post(&format!("{door}/scan"), &[("attendee", &n), ("key", &format!("key-{n:0>8}"))])
            .await;
        assert_eq!(told.status, StatusCode::FORBIDDEN);
    }
    let asked = ilse.get(&door).await;
    assert!(asked.body.contains("Open this door all the same"));
    let opened =
        ilse.post(&format!("/office/dates/{date}/door"), &[("act", "open"), ("to", "door")]).await;
    assert_eq!(opened.location(), door);
    let open = bram.get(&door).await;
    assert!(
        open.status == StatusCode::OK
            && open.body.contains("Another day.")
            && open.body.contains("Ilse Karrow opened its door")
    );
}
