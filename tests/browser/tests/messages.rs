//! Messages that plan themselves, in the real pages: a cue that moves with its date, words that
//! are mended, what went proved, an announcement stopped and gone on with.

use anyhow::Result;
use matricle_browser_tests::{Browser, DESKTOP, House, PHONE};

#[tokio::test(flavor = "multi_thread")]
async fn a_cue_is_written_and_moves_with_its_date() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 0).await?;
    b.press("m").await?;
    b.says("h1", "Next hours").await?;
    b.driver.goto(format!("{}/office/events/2/messages", house.url)).await?;
    b.says("h1", "Pollen under the lens").await?;
    b.is_fit_for_all().await?;
    b.click(".acts .btn-primary").await?;
    b.says("h1", "Pollen under the lens").await?;
    b.is_fit_for_all().await?;
    // Nothing chosen: the field says so, and the rest stays.
    b.fill("#days", "3").await?;
    b.click("button.big").await?;
    b.says("#template-say", "Fill this in").await?;
    let kept = b.script("return document.querySelector('#days').value").await?;
    anyhow::ensure!(kept == "3", "{kept}");
    b.script(
        "const t = document.querySelector('#template');
         t.value = [...t.options].find((o) => o.text === 'Reminder').value",
    )
    .await?;
    b.click("button.big").await?;
    b.says("#already-field", "13 people who have booked already would get it too").await?;
    b.click("#already").await?;
    b.click("button.big").await?;
    b.says("main", "3 days before at 18:00, to each attendee, by mail").await?;
    b.says(".news", "The automatic message is added").await?;
    // The same once more would tell everybody twice.
    b.driver.goto(format!("{}/office/events/2/messages/cues/new", house.url)).await?;
    b.fill("#days", "3").await?;
    b.script(
        "const t = document.querySelector('#template');
         t.value = [...t.options].find((o) => o.text === 'Reminder').value",
    )
    .await?;
    b.click("button.big").await?;
    b.says("#happens-say", "somebody would get two").await?;
    b.is_fit_for_all().await?;
    // Joined, there is one, and the other is off; its words come to oneself.
    b.click("#join").await?;
    b.click("button.big").await?;
    b.says("#already-field", "who have booked already would get it too").await?;
    b.click("#already").await?;
    b.click("button.big").await?;
    b.says(".news", "The automatic message is added").await?;
    let off = "return document.querySelectorAll('.cues li.off').length";
    let joined = b.script(off).await?;
    anyhow::ensure!(joined.as_u64().is_some_and(|n| n >= 1), "{joined}");
    b.click("button[value=try]").await?;
    b.says(".news", "on their way to ilse@").await?;
    b.driver.goto(format!("{}/office/events/2/goes", house.url)).await?;
    b.says("main", "get it").await?;
    b.is_fit_for_all().await?;
    // What is planned stands in the list, and follows the date.
    let planned = format!("{}/office/messages/planned?event=2", house.url);
    b.driver.goto(&planned).await?;
    b.says(".msgs", "Reminder").await?;
    let minute = "return document.querySelector('.msgs li small:last-of-type') && [...document.querySelectorAll('.msgs li')].map((l) => l.innerText).join('|')";
    let before = b.script(minute).await?;
    b.driver.goto(format!("{}/office/events/2/dates", house.url)).await?;
    b.click("td a[href$='#change']").await?;
    b.find("#day").await?;
    b.script(
        "const next = new Date(day.value); next.setDate(next.getDate() + 1);
         day.value = next.toISOString().slice(0, 10); day.form.requestSubmit()",
    )
    .await?;
    b.says("main", "To be told:").await?;
    b.click("form.acts .btn-primary").await?;
    b.find(".news").await?;
    for _ in 0..100 {
        b.driver.goto(&planned).await?;
        if b.script(minute).await? != before {
            return Ok(());
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    anyhow::bail!("nothing moved: {before}")
}

#[tokio::test(flavor = "multi_thread")]
async fn a_template_with_a_wrong_field_is_mended() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 0).await?;
    b.driver.goto(format!("{}/office/messages/templates", house.url)).await?;
    b.says("main", "Confirmation").await?;
    b.click("a.daterow").await?;
    b.find("trix-editor").await?;
    b.is_fit_for_all().await?;
    b.fill("#subject", "Seats for {{evnt}}").await?;
    b.click("button[value=keep]").await?;
    b.says("#subject-say", "Is “event” meant?").await?;
    b.fill("#subject", "Seats for {{event}}").await?;
    b.click("button[value=look]").await?;
    b.says("#preview", "Seats for Is beekeeping for me?").await?;
    b.click("button[value=keep]").await?;
    b.says(".news", "Kept").await?;
    b.says("main", "Earlier wordings").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn you_never_told_me_is_answered_in_two_clicks_on_a_phone_too() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(PHONE, &[]).await?;
    b.sign_in(&house, 0).await?;
    b.driver.goto(format!("{}/office/messages/went?q=announcement", house.url)).await?;
    b.says("main", "sent").await?;
    b.is_fit_for_all().await?;
    b.click(".msgs a").await?;
    b.says("main", "exactly as sent").await?;
    b.says(".mailtext", "Park at the mill").await?;
    b.is_fit_for_all().await?;
    for page in [
        "/office/messages",
        "/office/messages/failed",
        "/office/messages/cues",
        "/office/messages/senders",
        "/office/messages/announcements",
        "/office/messages/files",
        "/office/messages/planned?sort=to&back=1",
        "/you",
    ] {
        b.driver.goto(format!("{}{page}", house.url)).await?;
        b.find("h1").await?;
        b.is_fit_for_all().await?;
    }
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn an_announcement_is_counted_sent_stopped_and_gone_on_with() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 0).await?;
    b.driver.goto(format!("{}/office/messages/announcements", house.url)).await?;
    // The demo's, half-way: it goes on.
    b.click("button[value=on]").await?;
    b.says(".news", "It goes on").await?;
    b.driver.goto(format!("{}/office/events/2/announce", house.url)).await?;
    b.fill("#subject", "A word about {{event}}").await?;
    b.click("trix-editor").await?;
    b.press("Bring a pencil.").await?;
    b.click("button[value=look]").await?;
    b.says("#who", "people get it").await?;
    b.is_fit_for_all().await?;
    b.click("button[value=send]").await?;
    b.says(".news", "On its way to").await?;
    b.says("main", "A word about").await?;
    Ok(())
}

/// The newest mail to somebody after one with a number: with this in its subject, or, with nothing,
/// one that brings a file for calendars. Its number, and that file.
async fn mailed(house: &House, to: &str, subject: &str, after: u64) -> Result<(u64, String)> {
    for _ in 0..200 {
        let list = reqwest::get(format!("{}/mails.json", house.mailbox)).await?.text().await?;
        let list: serde_json::Value = serde_json::from_str(&list)?;
        let of = |mail: &serde_json::Value| {
            let is = |name: &str, wanted: &str| {
                mail[name].as_str().is_some_and(|text| text.contains(wanted))
            };
            let id = mail["id"].as_u64().filter(|id| *id > after)?;
            let mut files = mail["attachments"].as_array().into_iter().flatten();
            let file = files.position(|f| f.as_str() == Some("for calendars"));
            let wanted = !subject.is_empty() || file.is_some();
            (is("to", to) && is("subject", subject) && wanted).then_some((id, file))
        };
        let found = list.as_array().and_then(|all| all.iter().filter_map(of).max());
        if let Some((id, file)) = found {
            let Some(file) = file else { return Ok((id, String::new())) };
            let at = format!("{}/mail/{id}/attachment/{file}", house.mailbox);
            return Ok((id, reqwest::get(at).await?.text().await?));
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    anyhow::bail!("no mail to {to} says {subject:?}")
}

fn line<'a>(file: &'a str, name: &str) -> &'a str {
    // What it says of itself, then of the date; what it says of its zone is no date.
    let (head, zone) = file.split_once("BEGIN:VTIMEZONE").unwrap_or((file, ""));
    let date = zone.split_once("BEGIN:VEVENT").map_or("", |(_, date)| date);
    let lines = || head.lines().chain(date.lines()).filter_map(|l| l.split_once(':'));
    lines().find(|(known, _)| known.split(';').next() == Some(name)).map_or("", |(_, v)| v.trim())
}

/// Asked, replied, booked, what a calendar sends back, moved, cancelled: through the pages, the
/// mailbox and the house's own mailbox.
#[tokio::test(flavor = "multi_thread")]
async fn an_invitation_goes_out_comes_back_moves_and_goes() -> Result<()> {
    const ANN: &str = "ann@post.example";
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 0).await?;
    let find =
        |c: &matricle_store::Connection| matricle_store::events::by_slug(c, "is-beekeeping-for-me");
    let event = house.desk.store.read(find).await?.map_or(0, |e| e.id.0);
    b.driver.goto(format!("{}/office/events/{event}/invitations", house.url)).await?;
    b.fill("#whom", "Ann O'Hara <ann@post.example>").await?;
    b.press("\t\t\t\t\t\n").await?;
    b.says("#looked", "One address").await?;
    b.is_fit_for_all().await?;
    b.click("#more .btn-primary").await?;
    b.says(".news", "1 person put on the list").await?;
    b.click("form[action$='/invite'] button").await?;
    b.says(".news", "One person gets an invitation").await?;

    // On a telephone: a click that opens a page, an act that sends the reply and books.
    let (asked, _) = mailed(&house, ANN, "An invitation", 0).await?;
    let words = reqwest::get(format!("{}/mail/{asked}", house.mailbox)).await?.text().await?;
    let link = words.split(&format!("{}/invited/", house.url)).nth(1).unwrap_or_default();
    let link = link.split(|c: char| c.is_whitespace() || "\"<&?)".contains(c)).next();
    let link = format!("{}/invited/{}", house.url, link.unwrap_or_default());
    let phone = Browser::open(PHONE, &[]).await?;
    phone.driver.goto(format!("{}/reply?say=yes", link.trim_end_matches("/reply"))).await?;
    phone.says("main", "Nothing is sent yet").await?;
    phone.is_fit_for_all().await?;
    phone.fill("#name", "Ann O'Hara").await?;
    phone.click("button[value=yes]").await?;
    phone.says("#said", "You have booked.").await?;

    // The confirmation brings an entry; Ann's calendar declines it, and the Office says so.
    let (first, file) = mailed(&house, ANN, "", asked).await?;
    anyhow::ensure!(line(&file, "METHOD") == "REQUEST", "{file}");
    // The calendar is a stand-in, not a page of ours: it is asked for by its address.
    let calendar = format!("{}/mail/{first}", house.mailbox);
    let said = reqwest::Client::new().post(calendar).body("how=decline&words=");
    let form = "application/x-www-form-urlencoded";
    said.header("content-type", form).send().await?.error_for_status()?;
    let of = |c: &matricle_store::Connection| {
        matricle_store::bookings::of_address(c, "ann@post.example")
    };
    let booking = house.desk.store.read(of).await?.remove(0).booking;
    // Of this booking: the demo's own calendars have said something before.
    let id = booking.id;
    let mut known = Vec::new();
    for _ in 0..100 {
        // The house's own round may be reading it already.
        matricle_desk::timers::turn(&house.desk, matricle_desk::rounds::Work::Letters).await?;
        let said =
            move |c: &matricle_store::Connection| matricle_store::letters::calendar_said(c, id);
        known = house.desk.store.read(said).await?;
        if !known.is_empty() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    anyhow::ensure!(!known.is_empty(), "the calendar's reply was read");
    let sheet = format!("{}/office/bookings/{}", house.url, booking.reference.as_str());
    b.driver.goto(&sheet).await?;
    b.says("main", "declined").await?;
    // All of hers stands on her own sheet: the booking, the invitation, what her calendar wrote.
    b.click("a[href^='/office/person']").await?;
    b.says("main", "Invitations").await?;
    b.says("#letters", "calendar").await?;
    b.is_fit_for_all().await?;

    // The date moves, and the entry with it; the booking is cancelled, and it goes.
    let find =
        move |c: &matricle_store::Connection| matricle_store::events::date_by_id(c, booking.date);
    let date = house.desk.store.read(find).await?.map(|d| d.1);
    let date = date.ok_or_else(|| anyhow::anyhow!("a date"))?;
    let later = |t: jiff::civil::DateTime| {
        t.checked_add(jiff::Span::new().hours(1)).map(|t| t.strftime("%H:%M").to_string())
    };
    let fields = [
        ("day", date.span.starts.date().to_string()),
        ("from", later(date.span.starts)?),
        ("until", later(date.span.ends)?),
        ("venue", date.venue.clone()),
        ("room", date.room.clone()),
        ("hosts", date.hosts.clone()),
    ];
    let form = matricle_core::forms::form::Form::new(
        fields.into_iter().map(|(n, v)| (n.to_owned(), v)).collect(),
    );
    let ilse =
        |c: &matricle_store::Connection| matricle_store::people::by_email(c, "ilse@ostrel.example");
    let ilse = house.desk.store.read(ilse).await?.ok_or_else(|| anyhow::anyhow!("Ilse"))?.0;
    let one = matricle_desk::planning::dates::Scope::One;
    matricle_desk::planning::dates::change(&house.desk, &ilse, date.id, one, form, true).await?;
    let (moved, new) = mailed(&house, ANN, "", first).await?;
    let sequence = |file: &str| line(file, "SEQUENCE").parse::<u32>();
    anyhow::ensure!(line(&new, "UID") == line(&file, "UID"), "{new}");
    anyhow::ensure!(line(&new, "METHOD") == "REQUEST" && sequence(&new)? > sequence(&file)?);
    anyhow::ensure!(line(&new, "DTSTART") != line(&file, "DTSTART"), "{new}");
    let own = house.desk.booking_url(booking.reference);
    phone.driver.goto(&own).await?;
    phone.is_fit_for_all().await?;
    let by = matricle_desk::bookings::cancel::By::Booker;
    matricle_desk::bookings::cancel::cancel(&house.desk, by, booking.reference, Vec::new()).await?;
    let (_, gone) = mailed(&house, ANN, "", moved).await?;
    anyhow::ensure!(line(&gone, "METHOD") == "CANCEL", "{gone}");
    anyhow::ensure!(line(&gone, "UID") == line(&file, "UID"));
    anyhow::ensure!(sequence(&gone)? > sequence(&new)?);
    Ok(())
}
