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
    b.says(".news", "The cue is added").await?;
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
    b.says(".news", "The cue is added").await?;
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
