//! Planning and publishing in a real browser: a quick event, a course from a pattern, the
//! board by mouse and keyboard, sessions, slots on a phone, a stub on another site.

use anyhow::{Context, Result, ensure};
use axum::response::Html;
use axum::routing::get;
use matricle_browser_tests::{Browser, DESKTOP, House, PHONE};
use matricle_core::forms::form::Form;
use matricle_store::people;
use thirtyfour::prelude::*;

const ENTER: &str = "\u{e007}";
const RIGHT: &str = "\u{e014}";

async fn path(b: &Browser) -> Result<String> {
    Ok(b.driver.current_url().await?.path().to_owned())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_quick_event_and_a_course_from_a_pattern_are_published_in_a_minute() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 0).await?;
    b.press("n").await?;
    for (field, words) in [("title", "Mite count"), ("place", "Millrace Barn"), ("seats", "9")] {
        b.fill(&format!("#{field}"), words).await?;
    }
    b.script("document.querySelector('#day').value = '2027-01-09'; document.querySelector('#from').value = '10:00'; document.querySelector('#until').value = '11:30'").await?;
    b.is_fit_for_all().await?;
    b.click("button[value=publish]").await?;
    b.says(".shead", "Mite count").await?;
    b.is_fit_for_all().await?;
    b.driver.goto(format!("{}/?q=mite+cuont", house.url)).await?;
    b.says("#found", "Mite count").await?;
    b.is_fit_for_all().await?;

    b.driver.goto(format!("{}/office/events/new", house.url)).await?;
    b.script("document.querySelector('#p-day').value = '2027-03-02'").await?;
    b.fill("#p-title", "Spring course").await?;
    b.click("form[action='/office/events/new/from'] .btn-primary").await?;
    b.says(".shead", "Spring course").await?;
    b.says(".draftnote", "Only staff see this draft").await?;
    let sheet = path(&b).await?;
    b.driver.goto(format!("{}{sheet}/dates", house.url)).await?;
    b.says("tbody", "Tue 30 March 2027, 19:00").await?;
    b.is_fit_for_all().await?;
    // Two more evenings by rule: read back and shown before they are saved.
    b.script("document.querySelector('#a-day').value = '2027-04-13'").await?;
    b.script("const r = document.querySelector('#a-repeat'); r.value = 'month weekday'").await?;
    b.fill("#a-count", "2").await?;
    b.click("#add .btn-primary").await?;
    b.says(".lead", "every month on the 2nd Tuesday, 2 times").await?;
    b.says("#dates-shown", "Tue 11 May 2027").await?;
    b.is_fit_for_all().await?;
    b.click("button[value=save]").await?;
    b.says("tbody", "Tue 11 May 2027").await?;
    b.driver.goto(format!("{}{sheet}", house.url)).await?;
    b.click(".shead .btn-primary").await?;
    b.says(".shead", "published").await?;
    b.driver.goto(format!("{}/events/spring-course", house.url)).await?;
    b.says("#book", "One booking covers all 8 dates").await?;
    b.is_fit_for_all().await?;

    // The wording is written in an ordinary editor, its addresses come alive.
    b.driver.goto(format!("{}{sheet}/wording", house.url)).await?;
    b.find("trix-editor").await?;
    b.is_fit_for_all().await?;
    b.click("trix-editor").await?;
    b.press("See www.bees.example ").await?;
    b.click("button.big").await?;
    b.says("[role=status]", "Kept").await?;
    b.driver.goto(format!("{}/events/spring-course", house.url)).await?;
    b.find(".wording a[href='https://www.bees.example']").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_booked_date_moves_on_the_board_by_keyboard_and_by_mouse() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 0).await?;
    b.driver.goto(format!("{}/office/board?reach=week&day=2026-12-05", house.url)).await?;
    b.find("#board").await?;
    b.is_fit_for_all().await?;
    let block = "a[data-starts='2026-12-05T14:00']";
    b.script(&format!("document.querySelector(\"{block}\").focus()")).await?;
    b.press("m").await?;
    b.press(&RIGHT.repeat(4)).await?;
    b.says("#board-say", "Saturday 5 December, 15:00").await?;
    b.press(ENTER).await?;
    b.says("#touches", "get a mail with the new time or place").await?;
    b.says("#touches", "15:00–18:00").await?;
    b.is_fit_for_all().await?;
    b.click("#touches [data-close]").await?;
    b.find(block).await?;
    b.script(&format!("document.querySelector(\"{block}\").focus()")).await?;
    b.press("m").await?;
    b.press(&RIGHT.repeat(4)).await?;
    b.press(ENTER).await?;
    b.says("#touches", "15:00–18:00").await?;
    b.click("#touches button[value=save]").await?;
    b.find("a[data-starts='2026-12-05T15:00']").await?;

    // By mouse to another room: nobody is in the way there.
    b.driver.goto(format!("{}/office/board?reach=week&day=2026-12-08", house.url)).await?;
    let from = b.find("a[data-starts='2026-12-08T15:00'] .b-block").await?;
    let lane = b.find(".lane[data-room='press room'] rect").await?;
    let (at, to) = (from.rect().await?, lane.rect().await?);
    let whole = |n: f64| format!("{n:.0}").parse::<i64>().unwrap_or(0);
    let x = whole(at.x + at.width / 2.0);
    b.driver
        .action_chain()
        .move_to(x, whole(at.y + at.height / 2.0))
        .click_and_hold()
        .move_to(x + 4, whole(at.y + at.height / 2.0 + 10.0))
        .move_to(x, whole(to.y + to.height / 2.0))
        .release()
        .perform()
        .await?;
    b.says("#touches", "What this touches").await?;
    let clashes = b.text("#touches").await?;
    ensure!(!clashes.contains("long room"), "{clashes}");
    b.click("#touches button[value=save]").await?;
    b.find("a[data-starts='2026-12-08T15:00'][data-room='press room']").await?;

    // Those who had booked have been told, and stand on a list.
    b.driver.goto(format!("{}/office/events/3/told", house.url)).await?;
    for _ in 0..50 {
        if b.text("tbody").await?.contains("sent") {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        b.driver.refresh().await?;
    }
    b.says("tbody", "moved").await?;
    b.is_fit_for_all().await?;
    b.driver.goto(&house.mailbox).await?;
    b.says("table", "Moved: Apiary open day").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn sessions_are_signed_up_for_and_a_clash_is_said() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.driver.goto(format!("{}/events/vale-convention", house.url)).await?;
    b.find("svg.grid").await?;
    b.is_fit_for_all().await?;
    b.click("button[aria-label='One Member more']").await?;
    b.says(".sum", "€45.00").await?;
    b.click("#book .btn-primary").await?;
    b.fill("#name", "Siân O'Hara").await?;
    b.fill("#email", "sian@post.example").await?;
    b.click("#agreed").await?;
    b.click("#details .btn-primary").await?;
    b.click("a[href$='/pay']").await?;
    b.click("button[value=paid]").await?;
    b.says("[role=status]", "Your seats are booked.").await?;
    let tick = |title: &str| {
        format!(
            "[...document.querySelectorAll('.signups label')].find(l => l.textContent.includes('{title}')).click()"
        )
    };
    b.script(&tick("Grafting under a lamp")).await?;
    b.script(&tick("Labels that may be read")).await?;
    b.click("#sessions .btn-primary").await?;
    b.says("#sessions [role=alert]", "at the same time as “Grafting under a lamp”").await?;
    b.is_fit_for_all().await?;
    b.script(&tick("Labels that may be read")).await?;
    b.script(&tick("Mead: a sober view")).await?;
    b.click("#sessions .btn-primary").await?;
    for _ in 0..40 {
        if b.driver.find(By::Css("#sessions [role=alert]")).await.is_err() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    let ticked =
        b.script("return document.querySelectorAll('.signups input:checked').length").await?;
    ensure!(ticked == 2, "{ticked}");
    b.says(".signups", "4 of 14 left").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn an_appointment_is_booked_on_a_phone_and_the_programme_fits_it() -> Result<()> {
    let house = House::open().await?;
    let p = Browser::open(PHONE, &[]).await?;
    for page in [
        "/?view=month&month=2026-12",
        "/?tag=families&seats=yes",
        "/events/vale-convention",
        "/events/beginners-course",
    ] {
        p.driver.goto(format!("{}{page}", house.url)).await?;
        p.is_fit_for_all().await?;
    }
    p.driver.goto(format!("{}/events/bring-us-a-frame", house.url)).await?;
    p.is_fit_for_all().await?;
    let time = p.text("a.slot b").await?;
    p.click("a.slot").await?;
    p.find("a.slot.on").await?;
    p.says(".sum", "€15.00").await?;
    p.is_fit_for_all().await?;
    p.click("#book .btn-primary").await?;
    p.says("#summary", &time).await?;
    p.fill("#name", "Oona Birch").await?;
    p.fill("#email", "oona@post.example").await?;
    p.is_fit_for_all().await?;
    p.click("#agreed").await?;
    p.click("#details .btn-primary").await?;
    p.click("button[value=paid]").await?;
    p.says("[role=status]", "Your seats are booked.").await?;
    p.says(".facts", &time).await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stub_works_on_another_site_without_its_cookies() -> Result<()> {
    let house = House::open().await?;
    // The other site, on an origin of its own.
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let site = format!("http://localhost:{}", listener.local_addr()?.port());
    let snippet = format!(
        "<!doctype html><title>Another club</title><h1>Another club</h1>\
         <div data-matricle=\"{0}/embed/events/thursday-dipping\"></div>\
         <div data-matricle=\"{0}/embed/events/bring-us-a-frame\"></div>\
         <script async src=\"{0}/embed.js\"></script>",
        house.url
    );
    let app = axum::Router::new().route("/", get(move || async move { Html(snippet) }));
    tokio::spawn(async move { axum::serve(listener, app).await });
    let flags = ["--test-third-party-cookie-phaseout"];
    let b = Browser::open(DESKTOP, &flags).await?;

    // Not named in the house: the browser shows nothing of ours.
    b.driver.goto(&site).await?;
    b.find("iframe").await?;
    tokio::time::sleep(std::time::Duration::from_millis(800)).await;
    b.driver.enter_frame(0).await?;
    ensure!(b.driver.find(By::Css("#book")).await.is_err(), "shown to a site that is not named");
    b.driver.enter_default_frame().await?;

    let terms = [
        ("name", "Ostrel Vale Beekeepers"),
        ("email", "office@ostrel.example"),
        ("zone", "Europe/Dublin"),
        ("terms", "I agree."),
        ("embed_sites", site.as_str()),
    ];
    let form = Form::new(terms.iter().map(|(n, v)| ((*n).into(), (*v).into())).collect());
    let email = matricle_demo::STAFF[0].1;
    let ilse = house.desk.store.read(move |c| people::by_email(c, email)).await?.context("Ilse")?.0;
    matricle_desk::house::settings::keep(&house.desk, &ilse, form).await?;

    b.driver.goto(&site).await?;
    let frame = b.find("iframe").await?;
    for _ in 0..50 {
        if frame.rect().await?.height > 300.0 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    ensure!(frame.rect().await?.height > 300.0, "the frame is as high as it needs");
    b.driver.enter_frame(1).await?;
    b.says("#week", "1 left").await?;
    b.driver.enter_default_frame().await?;
    b.driver.enter_frame(0).await?;
    b.click("button[aria-label='One Seat more']").await?;
    b.says(".sum", "€8.00").await?;
    b.click("button[aria-label='One Seat more']").await?;
    b.says(".sum", "€16.00").await?;
    b.click("#book .btn-primary").await?;
    let first = b.driver.window().await?;
    let mut other = None;
    for _ in 0..50 {
        other = b.driver.windows().await?.into_iter().find(|w| *w != first);
        if other.is_some() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    b.driver.switch_to_window(other.context("our own page in a tab of its own")?).await?;
    b.says(".sum", "€16.00").await?;
    b.click("#book .btn-primary").await?;
    b.says("#summary", "Kept for you until").await?;
    Ok(())
}
