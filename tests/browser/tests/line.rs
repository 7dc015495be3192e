//! From a published event to a person let in, in a real browser.

use anyhow::{Context, Result};
use matricle_browser_tests::{
    Browser, DESKTOP, House, PHONE, expected, film, picture, picture_of_bars,
};
use thirtyfour::prelude::*;

const CANDLES: &str = "candles-from-our-own-wax";
/// Keys as WebDriver spells them (W3C WebDriver, keyboard actions).
const ENTER: &str = "\u{e007}";
const ESCAPE: &str = "\u{e00c}";

#[tokio::test(flavor = "multi_thread")]
async fn a_seat_is_booked_paid_mailed_and_let_in_by_camera_once() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.driver.goto(&house.url).await?;
    b.is_fit_for_all().await?;
    b.click(&format!("a[href^='/events/{CANDLES}']")).await?;
    b.says(".sum", "No seats chosen yet").await?;
    b.click("button[aria-label='One Visitor more']").await?;
    b.says(".sum", "€14.00").await?;
    b.is_fit_for_all().await?;
    b.click("#book .btn-primary").await?;
    b.says("#summary", "Kept for you until").await?;
    b.is_fit_for_all().await?;

    // Typed, not sent: a reload and a second tab still know it.
    b.fill("#name", "Siân O'Hara").await?;
    b.says("#saved", "Saved as you type").await?;
    let form = b.driver.current_url().await?;
    b.driver.refresh().await?;
    anyhow::ensure!(b.value("#name").await? == "Siân O'Hara");
    let first = b.driver.window().await?;
    b.driver.new_tab().await?;
    let second = b.driver.windows().await?.into_iter().find(|w| *w != first).context("a tab")?;
    b.driver.switch_to_window(second).await?;
    b.driver.goto(form.as_str()).await?;
    anyhow::ensure!(b.value("#name").await? == "Siân O'Hara");
    b.fill("#email", "sian@post").await?;
    b.click("#agreed").await?;
    b.click("#details .btn-primary").await?;
    b.says("#email-say", "it should be like name@post.example").await?;
    b.is_fit_for_all().await?;
    // Mended, and loaded again at once: what was typed last stands there, not what was refused.
    b.fill("#email", "sian@post.example").await?;
    b.driver.refresh().await?;
    let email = b.value("#email").await?;
    anyhow::ensure!(email == "sian@post.example", "{email}");
    b.click("#details .btn-primary").await?;

    // At the provider: declined, then paid with a second step.
    b.find("button[value=declined]").await?;
    b.is_fit_for_all().await?;
    b.click("button[value=declined]").await?;
    b.says(".note.wrong", "Your card was declined").await?;
    b.is_fit_for_all().await?;
    b.click("main .btn-primary").await?;
    b.click("button[value=second]").await?;
    b.fill("input[name=number]", "135790").await?;
    b.click("button[value=number]").await?;
    b.says("[role=status]", "Your seats are booked.").await?;
    b.is_fit_for_all().await?;

    // The mail, its ticket as a picture, the picture before a camera.
    b.driver.goto(&house.mailbox).await?;
    for _ in 0..50 {
        if b.driver.find(By::Css("td a")).await.is_ok() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        b.driver.refresh().await?;
    }
    b.click("td a").await?;
    b.says("pre", "your booking is confirmed").await?;
    b.is_fit_for_all().await?;
    // The codes as pictures came inside the mail; the tickets are the PDF.
    let pdf = "return [...document.querySelectorAll('a.attachment')]
        .find((a) => a.innerText.includes('.pdf'))?.href";
    let pdf = b.script(pdf).await?.as_str().context("the tickets")?.to_owned();
    let folder = tempfile::tempdir()?;
    let file = folder.path().join("ticket.pdf");
    std::fs::write(&file, reqwest::get(&pdf).await?.bytes().await?)?;
    let film = film(&picture(&file, folder.path())?, folder.path())?;

    let camera = format!("--use-file-for-fake-video-capture={}", film.display());
    let flags = ["--use-fake-device-for-media-stream", "--use-fake-ui-for-media-stream", &camera];
    let d = Browser::open(DESKTOP, &flags).await?;
    d.sign_in(&house, 1).await?;
    d.is_fit_for_all().await?;
    // Two taps and a scan.
    d.click("#camera").await?;
    d.says("#verdict", "Come in").await?;
    d.says("#verdict", "Siân O'Hara").await?;
    d.is_fit_for_all().await?;
    d.click("#camera").await?;
    tokio::time::sleep(std::time::Duration::from_millis(2700)).await;
    d.click("#camera").await?;
    d.says("#verdict", "Already in").await?;
    d.says("#verdict", "main door").await?;
    d.says("#board", "Inside 7").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_scanner_that_types_works_wherever_the_focus_is_and_every_open_page_follows() -> Result<()>
{
    let house = House::open().await?;
    let (code, name, date) = expected(&house).await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 0).await?;
    b.driver.goto(format!("{}/office/events", house.url)).await?;
    b.is_fit_for_all().await?;
    b.click("tbody a[href='/office/events/1']").await?;
    b.says(".shead", "Candles from our own wax").await?;
    b.is_fit_for_all().await?;
    let sheet = b.driver.window().await?;
    b.driver.new_tab().await?;
    let door = b.driver.windows().await?.into_iter().find(|w| *w != sheet).context("a tab")?;
    b.driver.switch_to_window(door.clone()).await?;
    b.driver.goto(format!("{}/door/{date}", house.url)).await?;
    b.says("#verdict", "Ready").await?;
    b.click("#sound").await?;
    b.says("#sound", "Sound off").await?;

    // Focus on a button.
    b.press(&format!("{code}{}", ENTER)).await?;
    b.says("#verdict", "Come in").await?;
    b.says("#verdict", &name).await?;
    b.says("#board", "Inside 7").await?;
    // Focus in the field.
    b.click("#text").await?;
    b.press(&format!("{code}{}", ENTER)).await?;
    b.says("#verdict", "Already in").await?;
    anyhow::ensure!(b.value("#text").await? == "");
    b.press(&format!("{}{}", &code[..11], ENTER)).await?;
    b.says("#verdict", "Misread").await?;
    b.press(&format!("4006381333931{}", ENTER)).await?;
    b.says("#verdict", "Unknown").await?;
    b.is_fit_for_all().await?;

    b.driver.switch_to_window(sheet.clone()).await?;
    b.says(".sl", "7 in").await.context("the sheet follows the scanner")?;
    b.driver.switch_to_window(door).await?;
    b.click("#undolast button").await?;
    b.says("#verdict", "Undone").await?;
    b.says("#board", "Inside 6").await?;

    // By name: the only one is let in by Enter.
    b.click("#text").await?;
    b.find("#text").await?.send_keys(&name).await?;
    b.says("#names", "Let in").await?;
    b.press(ENTER).await?;
    b.says("#verdict", "Come in").await?;
    b.driver.switch_to_window(sheet).await?;
    b.says(".sl", "7 in").await.context("the sheet follows the list of names")?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_phone_books_a_seat_with_a_thumb_and_no_page_is_too_wide() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(PHONE, &[]).await?;
    b.driver.goto(&house.url).await?;
    b.is_fit_for_all().await?;
    b.click("a[href^='/events/is-beekeeping-for-me']").await?;
    b.is_fit_for_all().await?;
    b.says(".sum", "1 seat").await.context("one of the only ticket is chosen already")?;
    b.click("button[aria-label='One Seat more']").await?;
    b.says(".sum", "2 seats").await?;
    let step = b.find(".step").await?.rect().await?;
    anyhow::ensure!(step.width >= 48.0 && step.height >= 48.0, "{step:?} is small for a thumb");
    b.click("#book .btn-primary").await?;
    b.is_fit_for_all().await?;
    b.fill("#name", "Łukasz Żak").await?;
    b.fill("#email", "lukasz@post.example").await?;
    b.fill("#attendee_1", "Ana Żak").await?;
    b.click("#agreed").await?;
    b.click("#details .btn-primary").await?;
    b.says("[role=status]", "Your seats are booked.").await?;
    b.is_fit_for_all().await?;
    b.sign_in(&house, 0).await?;
    for page in
        ["/office", "/office/events", "/office/events/1", "/office/bookings", "/door", "/door/1"]
    {
        b.driver.goto(format!("{}{page}", house.url)).await?;
        b.find("h1").await?;
        b.is_fit_for_all().await?;
    }
    b.driver.goto(format!("{}/office/bookings?q=zak", house.url)).await?;
    b.click("td.ref a").await?;
    b.is_fit_for_all().await?;
    b.click(".danger").await?;
    b.click(".btn-danger").await?;
    b.says(".shead", "cancelled").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn staff_go_about_by_keyboard() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 0).await?;
    b.press("b").await?;
    b.says("h1", "Bookings").await?;
    b.press("?").await?;
    b.says("#keys[open]", "find anything").await?;
    b.press(ESCAPE).await?;
    b.press("jj").await?;
    b.press("k").await?;
    b.find("tr.at").await?;
    b.press(ENTER).await?;
    b.says(".over", "Booking").await?;
    b.press("/").await?;
    b.press(&format!("wilma thorne{}", ENTER)).await?;
    b.says("main", "Bookings and people").await?;
    b.says("main", "Wilma Thorne").await?;
    b.is_fit_for_all().await?;
    // A new event in half a minute.
    b.press(ESCAPE).await?;
    b.driver.goto(format!("{}/office/events", house.url)).await?;
    b.press("n").await?;
    b.says("h1", "New event").await?;
    b.is_fit_for_all().await?;
    for (field, words) in
        [("title", "Mite count"), ("place", "Millrace Barn"), ("seats", "9"), ("price", "4")]
    {
        b.fill(&format!("#{field}"), words).await?;
    }
    b.press(ENTER).await?;
    b.says("#day-say", "Choose a day.").await?;
    b.is_fit_for_all().await?;
    // Date and time fields take their value as HTML says, whatever the browser's language shows.
    b.script("day.value = '2027-01-09'; from.value = '10:00'; until.value = '11:30'").await?;
    b.click("button[value=publish]").await?;
    b.says(".shead", "Saturday 9 January 2027, 10:00 to 11:30").await?;
    b.says(".sl", "9 free").await?;
    b.driver.goto(format!("{}/office/bookings?q=wilma", house.url)).await?;
    // A filter narrows the list as it is typed, and stands in the address.
    b.click("#q").await?;
    b.press(" nobody").await?;
    b.says("#rows", "Nothing fits").await?;
    let address = b.driver.current_url().await?;
    anyhow::ensure!(address.query().is_some_and(|q| q.contains("nobody")), "{address}");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_camera_that_is_missing_or_not_allowed_is_said_and_a_photo_does() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 1).await?;
    b.click("#camera").await?;
    b.says("#camerasay", "This device has no camera").await?;
    drop(b);
    let flags = ["--use-fake-device-for-media-stream", "--use-fake-ui-for-media-stream=deny"];
    let b = Browser::open(DESKTOP, &flags).await?;
    b.sign_in(&house, 1).await?;
    b.click("#camera").await?;
    b.says("#camerasay", "The camera was not allowed").await?;

    // A photo of a ticket needs no camera.
    let (code, name, _) = expected(&house).await?;
    let reference = house
        .desk
        .store
        .read(move |c| {
            let code = match matricle_core::words::codes::read(&code) {
                matricle_core::words::codes::Reading::Code(code) => code,
                _ => return Ok::<_, matricle_store::StoreError>(None),
            };
            let Some(person) = matricle_store::door::by_code(c, code, matricle_core::DateId(0))?
            else {
                return Ok(None);
            };
            Ok(matricle_store::bookings::by_id(c, person.booking)?.map(|b| b.reference))
        })
        .await?
        .context("the booking")?;
    let folder = tempfile::tempdir()?;
    let file = folder.path().join("ticket.pdf");
    std::fs::write(&file, matricle_desk::messages::tickets_of(&house.desk, reference).await?)?;
    let bars = picture_of_bars(&file, folder.path())?;
    b.find("#photo").await?.send_keys(bars.to_string_lossy()).await?;
    b.says("#verdict", "Come in").await.context("the Code 128 alone")?;
    b.says("#verdict", &name).await?;
    let whole = picture(&file, folder.path())?;
    b.find("#photo").await?.send_keys(whole.to_string_lossy()).await?;
    b.says("#verdict", "Already in").await?;
    // A picture without a code is said to be one.
    let mark =
        std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/screenshots/today.png");
    b.find("#photo").await?.send_keys(mark.canonicalize()?.to_string_lossy()).await?;
    b.says("#camerasay", "No code was found in this photo").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_seat_is_booked_by_keyboard_alone() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.driver.goto(format!("{}/events/is-beekeeping-for-me", house.url)).await?;
    b.says(".sum", "1 seat").await?;
    b.tab_to("button[aria-label='One Seat less']").await?;
    b.press(ENTER).await?;
    b.says(".sum", "No seats").await?;
    b.tab_to("button[aria-label='One Seat more']").await?;
    // The focus stays where it was, and each press counts, before the first is answered, too.
    b.press(ENTER).await?;
    b.press(ENTER).await?;
    b.says(".sum", "2 seats").await?;
    b.tab_to("#book .btn-primary").await?;
    let ring = b.script("return getComputedStyle(document.activeElement).outlineStyle").await?;
    anyhow::ensure!(ring == "solid", "a button shows that it has the focus: {ring}");
    b.press(ENTER).await?;
    b.says("#summary", "Kept for you until").await?;
    for (field, words) in
        [("#name", "Ana Brandt"), ("#email", "ana@post.example"), ("#attendee_1", "Kit")]
    {
        b.tab_to(field).await?;
        b.press(words).await?;
    }
    b.tab_to("#agreed").await?;
    b.press(" ").await?;
    b.tab_to("#details .btn-primary").await?;
    b.press(ENTER).await?;
    b.says("[role=status]", "Your seats are booked.").await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_scan_without_network_is_said_kept_and_counted_once_when_it_is_back() -> Result<()> {
    let house = House::open().await?;
    let (code, name, date) = expected(&house).await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 1).await?;
    b.driver.goto(format!("{}/door/{date}", house.url)).await?;
    b.find("#doorwrap[data-roster]").await?;
    b.cdp("Network.enable", serde_json::json!({})).await?;
    let network = |offline: bool| serde_json::json!({ "offline": offline, "latency": 0, "downloadThroughput": -1, "uploadThroughput": -1 });
    b.cdp("Network.emulateNetworkConditions", network(true)).await?;
    b.press(&format!("{code}{ENTER}")).await?;
    b.says("#verdict", "not settled").await?;
    b.says("#verdict", &name).await?;
    b.says("#net", "one scan waits to be sent").await?;
    b.cdp("Network.emulateNetworkConditions", network(false)).await?;
    b.says("#net", "In step").await?;
    b.says("#board", "Inside 7").await
}
