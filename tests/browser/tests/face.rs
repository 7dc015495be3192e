//! The face of the house and the manners of its pages, as they are drawn: its colour and mark,
//! marks of kinds in the month, previews on a phone, the board's day, the keys it shows.

use anyhow::{Result, ensure};
use matricle_browser_tests::{Browser, DESKTOP, House, PHONE};

async fn go(b: &Browser, house: &House, path: &str) -> Result<()> {
    b.driver.goto(format!("{}{path}", house.url)).await?;
    b.find("main").await.map(drop)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_house_shows_its_own_face_and_a_colour_that_cannot_be_read_is_refused() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 0).await?;
    go(&b, &house, "/office/house").await?;
    b.fill("#accent", "#ffdd33").await?;
    b.click("form[action='/office/house'] .btn-primary").await?;
    b.says("#accent-say", "Words in it could not be read").await?;
    ensure!(b.script("return document.activeElement.id").await? == "accent");
    let nearest = b.script("return document.querySelector('#accent-say').textContent").await?;
    let nearest = nearest.as_str().unwrap_or_default().trim().trim_end_matches('.').to_owned();
    let nearest = nearest.rsplit(' ').next().unwrap_or_default().to_owned();
    b.fill("#accent", &nearest).await?;
    b.is_fit_for_all().await?;
    b.click("form[action='/office/house'] .btn-primary").await?;
    b.says("[role=status]", "Kept.").await?;
    // The nearest that was offered passes, for links and for what stands in white on it.
    b.is_fit_for_all().await?;
    go(&b, &house, "/").await?;
    b.is_fit_for_all().await?;
    go(&b, &house, "/events/candles-from-our-own-wax").await?;
    let colour =
        "return getComputedStyle(document.querySelector('#book .btn-primary')).backgroundColor";
    let shown = b.script(colour).await?;
    let of = |at: usize| u8::from_str_radix(nearest.get(at..at + 2).unwrap_or("00"), 16);
    let wanted = format!("rgb({}, {}, {})", of(1)?, of(3)?, of(5)?);
    ensure!(shown == wanted.as_str(), "{shown} instead of {wanted}");
    // Seats keep their own colours and patterns.
    let seat = "return getComputedStyle(document.querySelector('.s-conf')).fill";
    ensure!(b.script(seat).await? == "rgb(29, 79, 63)");
    b.is_fit_for_all().await?;

    // Marks of kinds stand in the month, each with its word below.
    go(&b, &house, "/office/house/tags").await?;
    b.script(
        "['cell', 'drop', 'leaf', 'hill', 'kite', 'ring', 'bars', 'half', 'crossing', 'wave'].forEach((m, i) => \
         { const s = document.querySelector(`#mark_${i}`); if (s) s.value = m; })",
    )
    .await?;
    b.click("form[action='/office/house/kinds'] .btn-outline").await?;
    b.says(".news", "The marks are kept").await?;
    b.is_fit_for_all().await?;
    go(&b, &house, "/?view=month&month=2026-12").await?;
    let marks = "return [document.querySelectorAll('.weekrow .kindmark').length, \
         document.querySelectorAll('.kinds span').length]";
    let marks = b.script(marks).await?;
    let (drawn, said) = (marks[0].as_u64(), marks[1].as_u64());
    ensure!(drawn > said && said > Some(2), "{marks}");
    b.is_fit_for_all().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_preview_on_a_phone_is_marked_and_the_price_stays_in_view() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(PHONE, &[]).await?;
    b.sign_in(&house, 0).await?;
    go(&b, &house, "/office/events/11").await?;
    b.is_fit_for_all().await?;
    b.click(".draftnote a:last-of-type").await?;
    b.says(".trying", "It takes no seats and counts nowhere").await?;
    ensure!(b.script("return document.querySelector('.faces, .me')").await?.is_null());
    b.is_fit_for_all().await?;
    b.click(".trying a").await?;
    b.says(".shead", "Mead").await?;
    // Total and button are at the foot of the screen while tickets are chosen.
    go(&b, &house, "/events/apiary-open-day").await?;
    b.script("document.querySelector('#book .row').scrollIntoView({ block: 'center' })").await?;
    let foot = "const r = document.querySelector('.buybar').getBoundingClientRect(); \
         return r.bottom <= innerHeight + 1 && r.top > 0";
    ensure!(b.script(foot).await? == true, "the total is out of sight");
    // Filters are folded, so that events come first; a number that is typed replaces the other.
    go(&b, &house, "/").await?;
    ensure!(b.script("return document.querySelector('.narrower').open").await? == false);
    b.is_fit_for_all().await?;
    go(&b, &house, "/events/is-beekeeping-for-me").await?;
    b.script("document.querySelector('.stepper input').focus()").await?;
    b.press("3").await?;
    b.press("\u{e004}").await?;
    b.says(".sum", "3 seats").await?;
    b.is_fit_for_all().await
}

#[tokio::test(flavor = "multi_thread")]
async fn the_board_goes_to_a_day_shows_its_keys_and_undoes_a_move() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 0).await?;
    go(&b, &house, "/office/board").await?;
    b.press("?").await?;
    b.says("#keys", "take the date up that has the focus").await?;
    b.press("\u{e00c}").await?;
    b.script("document.querySelector('#board-day').value = '2027-01-04'").await?;
    b.click("form[action='/office/board'] button").await?;
    let block = "a[data-date='12']";
    b.find(block).await?;
    let starts = format!("return document.querySelector(\"{block}\").dataset.starts");
    let before = b.script(&starts).await?;
    b.script(&format!("document.querySelector(\"{block}\").focus()")).await?;
    b.press("m").await?;
    // While it moves it is drawn last, over every lane, and time and place are said in view.
    b.press("\u{e014}").await?;
    let last =
        "return document.querySelector('#board').lastElementChild.classList.contains('held')";
    ensure!(b.script(last).await? == true);
    b.says("#board-say", "Monday 4 January, 18:15").await?;
    b.press("\u{e007}").await?;
    b.says("#touches", "Monday 4 January, 18:15").await?;
    b.click("#touches button[value=save]").await?;
    b.says(".news", "Changed; nobody has to be told.").await?;
    ensure!(b.script(&starts).await? != before);
    b.click(".news button").await?;
    b.says(".news", "Changed; nobody has to be told.").await?;
    ensure!(b.script(&starts).await? == before);
    go(&b, &house, "/office/board?reach=month&day=2027-01-04").await?;
    b.is_fit_for_all().await
}
