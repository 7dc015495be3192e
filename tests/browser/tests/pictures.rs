//! Pictures of the main views for docs/screenshots: run by hand after a view changed,
//! `cargo test -p matricle-browser-tests --test pictures -- --ignored`.

use std::path::{Path, PathBuf};

use anyhow::{Context, Result, ensure};
use matricle_browser_tests::{Browser, DESKTOP, House, PHONE, expected};
use matricle_desk::DeskError;

fn place(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/screenshots").join(format!("{name}.png"))
}

async fn shoot(b: &Browser, name: &str) -> Result<()> {
    // Fonts, and parts that keep themselves up to date, are there by then.
    tokio::time::sleep(std::time::Duration::from_millis(700)).await;
    b.driver.screenshot(&place(name)).await.context(name.to_owned())
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "writes docs/screenshots"]
#[expect(clippy::too_many_lines, reason = "one view after the other")]
async fn the_main_views() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.driver.goto(&house.url).await?;
    shoot(&b, "programme").await?;
    b.driver.goto(format!("{}/events/pollen-under-the-lens", house.url)).await?;
    b.click("button[aria-label='One Visitor more']").await?;
    b.says(".sum", "€42.00").await?;
    b.click("button[aria-label='One Member more']").await?;
    b.says(".sum", "€78.00").await?;
    shoot(&b, "event").await?;
    b.click("#book .btn-primary").await?;
    b.fill("#name", "Siân O'Hara").await?;
    b.fill("#email", "sian@post.example").await?;
    b.fill("#attendee_1", "Sam O'Hara").await?;
    b.click("input[type=radio]").await?;
    b.click("#agreed").await?;
    b.click("#details .acts .btn-primary").await?;
    b.click("a[href$='/pay']").await?;
    b.click("button[value=paid]").await?;
    b.says("[role=status]", "Your seats are booked.").await?;
    shoot(&b, "booking").await?;
    let pdf = format!("{}/tickets.pdf", b.driver.current_url().await?);
    let folder = tempfile::tempdir()?;
    let file = folder.path().join("tickets.pdf");
    std::fs::write(&file, reqwest::get(&pdf).await?.bytes().await?)?;
    let ticket = matricle_browser_tests::picture(&file, folder.path())?;
    std::fs::copy(ticket, place("ticket"))?;

    b.sign_in(&house, 0).await?;
    shoot(&b, "today").await?;
    for (name, page) in [("sheet", "events/2"), ("bookings", "bookings?q=to+pay")] {
        b.driver.goto(format!("{}/office/{page}", house.url)).await?;
        shoot(&b, name).await?;
    }
    b.driver.goto(format!("{}/office/review", house.url)).await?;
    b.press("n").await?;
    b.press("n").await?;
    b.says("article", "Nearly the same").await?;
    shoot(&b, "review").await?;
    b.driver.goto(format!("{}/office/money", house.url)).await?;
    shoot(&b, "money").await?;
    b.driver.goto(format!("{}/office/board?reach=week&day=2026-12-08", house.url)).await?;
    shoot(&b, "board").await?;
    b.driver.goto(format!("{}/office/messages/letters?list=all", house.url)).await?;
    shoot(&b, "letters").await?;
    b.driver.goto(format!("{}/office/events/new", house.url)).await?;
    for (field, words) in [
        ("title", "Mite count"),
        ("kind", "Inspection"),
        ("place", "Millrace Barn"),
        ("seats", "9 or so"),
    ] {
        b.fill(&format!("#{field}"), words).await?;
    }
    b.script("day.value = '2027-01-09'; from.value = '10:00'; until.value = '09:30'").await?;
    b.click("button[value=publish]").await?;
    b.says("#seats-say", "whole number").await?;
    shoot(&b, "new-event").await?;
    b.driver.goto(format!("{}/office/bookings?q=ohara+sian", house.url)).await?;
    b.click("td.ref a").await?;
    b.says(".shead", "Siân").await?;
    shoot(&b, "booking-sheet").await?;

    b.driver.goto(format!("{}/office/events/2/messages", house.url)).await?;
    b.says("main", "planned").await?;
    shoot(&b, "messages").await?;

    let (code, name, date) = expected(&house).await?;
    b.driver.goto(format!("{}/door/{date}", house.url)).await?;
    b.says("#verdict", "Ready").await?;
    b.press(&format!("{code}\u{e007}")).await?;
    b.says("#verdict", &name).await?;
    shoot(&b, "door").await?;
    b.driver.goto(format!("{}/office/doors/{date}#flow", house.url)).await?;
    b.says("#flow", "still to come").await?;
    shoot(&b, "doors").await?;

    let p = Browser::open(PHONE, &[]).await?;
    p.driver.goto(format!("{}/events/apiary-open-day", house.url)).await?;
    p.click("button[aria-label='One Family of four more']").await?;
    p.says(".sum", "4 seats").await?;
    p.script("document.querySelector('#book').scrollIntoView()").await?;
    shoot(&p, "event-phone").await?;
    p.driver.goto(format!("{}/events/thursday-dipping", house.url)).await?;
    let evening = p.value("#book [name=date]").await?;
    p.click("button[aria-label='One Seat more']").await?;
    p.says(".sum", "€8.00").await?;
    p.click("#book .btn-primary").await?;
    p.fill("#name", "Nia O'Hara").await?;
    p.fill("#email", "nia@post.example").await?;
    p.click("#agreed").await?;
    p.click("#details .acts .btn-primary").await?;
    p.says("h1", "€8.00 to pay").await?;
    p.sign_in(&house, 1).await?;
    house.open_door(&evening).await?;
    p.driver.goto(format!("{}/door/{evening}", house.url)).await?;
    p.says("#verdict", "Ready").await?;
    p.find("#text").await?.send_keys("nia o").await?;
    p.click("#names button").await?;
    p.says("#verdict", "taken in cash").await?;
    shoot(&p, "door-phone").await?;
    let talk = "winter-feed-your-questions".to_owned();
    let reference = house
        .desk
        .store
        .read(move |c| {
            let event = matricle_store::events::by_slug(c, &talk)?.ok_or(DeskError::NotFound)?;
            let date = matricle_store::events::dates_of(c, event.id)?[0].id;
            let last = matricle_store::door::by_words(c, date, "", 99)?.pop();
            let booking = last.ok_or(DeskError::NotFound)?.booking;
            let booking = matricle_store::bookings::by_id(c, booking)?;
            Ok::<_, DeskError>(booking.ok_or(DeskError::NotFound)?.reference)
        })
        .await?;
    let sheet = matricle_desk::bookings::whole::of(&house.desk, reference).await?;
    let links = matricle_desk::messages::own_links(&house.desk, &sheet);
    p.driver.goto(&links.first().context("a link")?.1).await?;
    p.says("[data-count]", "begins in").await?;
    shoot(&p, "foyer-phone").await?;
    let shots = std::fs::read_dir(place("x").parent().context("a folder")?)?.count();
    ensure!(shots < 20, "{shots} pictures are too many");
    Ok(())
}
