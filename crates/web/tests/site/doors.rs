//! The doors of a date at the Office: what holds at them, badges by mail, who is awaited. Wrong
//! input keeps everything and says what to do beside its field.

use matricle_web::Limits;

use crate::site::{Browser, site};

/// The number of today's date.
async fn date(b: &mut Browser<'_>) -> String {
    let page = b.get("/office/doors").await.body;
    let date = page.split("/office/doors/").nth(1).unwrap();
    date.split(|c: char| !c.is_ascii_digit()).next().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn doors_are_set_badges_go_by_mail_and_whoever_is_awaited_is_told_of() {
    let site = site(Limits { sign_in: 1000, booking: 1000 }, false).await;
    let (mut ilse, mut petra) = (Browser::new(&site), Browser::new(&site));
    ilse.sign_in(0).await;
    petra.sign_in(4).await;
    let date = date(&mut ilse).await;
    let doors = format!("/office/doors/{date}");

    // Everything typed stands there again, and each refusal beside its field.
    ilse.get(&doors).await;
    let wrong = [("name_0", "yard"), ("name_1", "yard"), ("most", "many"), ("again", "yes")];
    let page = ilse.post(&doors, &wrong).await;
    assert_eq!(page.status, 422);
    for words in ["value=\"yard\"", "value=\"many\"", "2 fields need another look"] {
        assert!(page.body.contains(words), "{words}");
    }
    assert_eq!(page.body.matches("class=\"wrong\"").count(), 2);
    let roll = [("badge_sheet", "a stone tablet"), ("name_0", "yard")];
    assert_eq!(ilse.post(&doors, &roll).await.status, 422, "no such sheet");
    let roll = [("badge_sheet", "roll, 62 × 100 mm"), ("name_0", "yard"), ("again", "yes")];
    assert_eq!(ilse.post(&doors, &roll).await.status, 303);
    let page = ilse.get(&doors).await.body;
    assert!(page.contains("<option value=\"roll, 62 × 100 mm\" selected>"), "{page}");

    // Badges by mail: to nobody, to what is no address, to each; a treasurer sends none.
    let papers = format!("{doors}/papers");
    assert!(!petra.get(&papers).await.body.contains("By mail"));
    let sent = [("kind", "badges"), ("with_code", "yes"), ("each", "yes")];
    assert_eq!(petra.post(&papers, &sent).await.status, 403);
    ilse.get(&papers).await;
    let page = ilse.post(&papers, &[("kind", "badges"), ("also", "printer at shop")]).await;
    assert_eq!(page.status, 422);
    assert!(page.body.contains("value=\"printer at shop\"") && page.body.contains("“printer”"));
    let kept = ilse.post(&papers, &sent).await;
    assert_eq!(kept.status, 303, "{}", kept.body);
    let page = ilse.get(kept.location()).await.body;
    assert!(page.contains("The badges of ") && page.contains(" mails."), "{page}");
    let drawn = ilse.get("/office/doors/papers/drawn?key=nothing").await.body;
    assert_eq!(drawn, "{\"drawn\":null}");
    let key = format!("{papers}.pdf?kind=badges&key=mine");
    assert!(ilse.get(&key).await.header("content-type").contains("pdf"));

    // Who is awaited: each asks for themselves alone.
    let list = ilse.get("/office/bookings?q=confirmed").await.body;
    let sheet = list.split("href=\"/office/bookings/").nth(1).unwrap();
    let sheet = format!("/office/bookings/{}", sheet.split('"').next().unwrap());
    let page = ilse.get(&sheet).await.body;
    let tell = page.split("id=\"awaits\"").nth(1).unwrap();
    let attendee = tell.split("name=\"attendee\" value=\"").nth(1).unwrap();
    let attendee = attendee.split('"').next().unwrap();
    ilse.post(&format!("{sheet}/await"), &[("attendee", attendee)]).await;
    let says = "you will have a mail when they come";
    assert!(ilse.get(&sheet).await.body.contains(says));
    assert!(!petra.get(&sheet).await.body.contains(says));
    ilse.post(&format!("{sheet}/await-not"), &[("attendee", attendee)]).await;
    assert!(!ilse.get(&sheet).await.body.contains(says));
}
