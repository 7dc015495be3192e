//! Bookings and money in a real browser: codes, waiting, cancelling in part, the treasurer.

use anyhow::{Result, ensure};
use jiff::SignedDuration;
use matricle_browser_tests::{Browser, DESKTOP, House, PHONE};
use matricle_desk::timers;

const WALK: &str = "apiary-open-day";
const ENTER: &str = "\u{e007}";

/// The link into a booking in the latest mail with such a subject; waits for it.
async fn link_in_mail(house: &House, subject: &str) -> Result<String> {
    link_in(house, subject, "booking").await
}

/// The address of this kind in the newest mail of this subject.
async fn link_in(house: &House, subject: &str, kind: &str) -> Result<String> {
    for _ in 0..60 {
        let mut found = None;
        for n in 1..500 {
            let page = reqwest::get(format!("{}/mail/{n}", house.mailbox)).await?;
            if !page.status().is_success() {
                break;
            }
            let page = page.text().await?;
            if page.contains(subject) {
                let link = page.split(&format!("/{kind}/")).nth(1).unwrap_or_default();
                let link = link.split(['<', '&', '"', ' ', '\n', '\r']).next().unwrap_or_default();
                found = Some(format!("{}/{kind}/{link}", house.url));
            }
        }
        if let Some(link) = found {
            return Ok(link);
        }
        tokio::time::sleep(std::time::Duration::from_millis(150)).await;
    }
    anyhow::bail!("no mail about {subject:?}")
}

#[tokio::test(flavor = "multi_thread")]
async fn a_phone_books_with_a_code_through_reload_and_back_and_cancels_a_part() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(PHONE, &[]).await?;
    b.driver.goto(format!("{}/events/{WALK}", house.url)).await?;
    b.click("button[aria-label='One Grown-up more']").await?;
    b.says(".sum", "1 seat").await?;
    b.click("button[aria-label='One Grown-up more']").await?;
    b.says(".sum", "2 seats").await?;
    b.click("#book .btn-primary").await?;
    b.fill("#name", "Siân O'Hara").await?;
    b.fill("#email", "sian@post.example").await?;
    b.says("#saved", "Saved as you type").await?;
    b.driver.refresh().await?;
    b.driver.back().await?;
    b.driver.forward().await?;
    ensure!(b.value("#name").await? == "Siân O'Hara");
    let full = b.text("#summary").await?;
    // A code that is none, one that is, and the same again.
    b.click("details.promo summary").await?;
    b.fill("#code", "Clover 99").await?;
    b.click("button[formaction$='/code']:not([name])").await?;
    b.says("#code-say", "no code that can be used here").await?;
    b.is_fit_for_all().await?;
    ensure!(b.value("#name").await? == "Siân O'Hara");
    b.fill("#code", " clóver10").await?;
    b.click("button[formaction$='/code']:not([name])").await?;
    b.says(".promo .given", "Clover 10").await?;
    b.says("#summary", "Promo code").await?;
    ensure!(b.text("#summary").await? != full);
    b.fill("#code", "CLOVER 10").await?;
    b.click("button[formaction$='/code']:not([name])").await?;
    b.says("#code-say", "on this booking already").await?;
    b.fill("#attendee_1", "Sam O'Hara").await?;
    b.click("#agreed").await?;
    for question in ["input[type=radio]"] {
        if b.driver.find(thirtyfour::By::Css(question)).await.is_ok() {
            b.click(question).await?;
        }
    }
    b.click("#details .acts .btn-primary").await?;
    b.click("a[href$='/pay']").await?;
    b.click("button[value=paid]").await?;
    b.says("[role=status]", "Your seats are booked.").await?;
    b.is_fit_for_all().await?;
    // One of the two cannot come.
    b.click("a[href$='/change']").await?;
    b.is_fit_for_all().await?;
    b.click("input[name=ticket][value='1']").await?;
    b.click("form[action$='/change/cancel'] button").await?;
    b.says(".ask", "These tickets are cancelled: Sam O'Hara").await?;
    b.says(".ask", "goes back to you").await?;
    b.is_fit_for_all().await?;
    b.click(".btn-danger").await?;
    b.says("h2:first-of-type, main", "Your ticket").await?;
    for _ in 0..50 {
        let text = b.text("main").await?;
        if text.contains("given back by card") {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
        b.driver.refresh().await?;
    }
    b.says("main", "given back by card").await?;
    b.says("main", "credit note").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_seat_offered_from_the_waiting_list_is_taken_by_the_link_in_the_mail() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(PHONE, &[]).await?;
    b.driver.goto(format!("{}/events/rearing-queens", house.url)).await?;
    b.click(".waits a").await?;
    b.says(".lead", "2 parties wait before you").await?;
    b.is_fit_for_all().await?;
    b.click("main form .btn-primary").await?;
    b.says(".f-email", "address").await?;
    b.fill("#name", "Greta O'Hara").await?;
    b.fill("#email", "greta@post.example").await?;
    b.click("main form .btn-primary").await?;
    // Where they stand is told to the address alone.
    b.says("h1", "Look at your mail").await?;
    b.is_fit_for_all().await?;
    while timers::run_due(&house.desk).await? {}
    let place = link_in(&house, "On the waiting list", "waiting").await?;
    b.driver.goto(&place).await?;
    b.says("h1", "Place 3 of 3").await?;
    b.is_fit_for_all().await?;

    // At the Office four seats come free, by hand.
    let o = Browser::open(DESKTOP, &[]).await?;
    o.sign_in(&house, 0).await?;
    for _ in 0..4 {
        o.driver.goto(format!("{}/office/bookings?q=queens+confirmed", house.url)).await?;
        o.click("td.ref a").await?;
        o.click(".acts .danger").await?;
        o.is_fit_for_all().await?;
        o.click(".btn-danger").await?;
        o.says(".shead", "cancelled").await?;
        b.driver.goto(&place).await?;
        let said = b.text("h1").await?;
        if said == "Seats are kept for you" {
            break;
        }
    }
    b.says("h1", "Seats are kept for you").await?;
    b.is_fit_for_all().await?;
    while timers::run_due(&house.desk).await? {}
    let link = link_in_mail(&house, "Seats for you").await?;
    b.driver.goto(&link).await?;
    ensure!(!b.value("#name").await?.is_empty());
    b.is_fit_for_all().await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn an_approved_booking_whose_money_never_comes_lapses_and_is_brought_back() -> Result<()> {
    let house = House::open().await?;
    let o = Browser::open(DESKTOP, &[]).await?;
    o.sign_in(&house, 0).await?;
    o.driver.goto(format!("{}/office/bookings?q=asking", house.url)).await?;
    o.click("td.ref a").await?;
    let sheet = o.driver.current_url().await?;
    o.is_fit_for_all().await?;
    o.click("form[action$='/yes'] button").await?;
    o.find(".shead").await?;
    let state = o.text(".over").await?;
    if state.contains("to pay") {
        // Whose time is over is moved there: the demo's clock runs by itself.
        let over = house.desk.clock.now() - SignedDuration::from_mins(1);
        let reference = sheet.as_str().rsplit('/').next().unwrap_or_default().to_owned();
        house
            .desk
            .store
            .write(move |tx| {
                let reference =
                    matricle_core::words::codes::Reference::parse(&reference).expect("a reference");
                let booking =
                    matricle_store::bookings::by_reference(tx, reference)?.expect("a booking");
                matricle_store::bookings::set_deadline(tx, booking.id, over)
            })
            .await?;
        for _ in 0..100 {
            while timers::run_due(&house.desk).await? {}
            o.driver.goto(sheet.as_str()).await?;
            if o.text(".over").await?.contains("lapsed") {
                break;
            }
            tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        }
        o.says(".over", "lapsed").await?;
        o.click("form[action$='/back'] button").await?;
        o.says(".over", "to pay").await?;
        o.says("main", "brought the booking back").await?;
    } else {
        // Nothing was to pay: the yes is taken back, and asked again.
        o.click("form[action$='/reconsider'] button").await?;
        o.says(".over", "asking").await?;
    }
    o.says("main", "said yes").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn the_treasurer_books_a_transfer_and_reads_the_books() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 4).await?;
    b.driver.goto(format!("{}/office/money", house.url)).await?;
    b.is_fit_for_all().await?;
    let row = b.text("tbody tr").await?;
    let reference = b.text("tbody td:last-child").await?;
    let due = b.text("tbody td.n").await?;
    b.click("details.act summary").await?;
    b.fill("#amount", &due).await?;
    b.fill("#references", "RF00 BBBB BBBB").await?;
    b.click("form[action$='/transfer'] button").await?;
    b.is_fit_for_all().await?;
    ensure!(b.value("#amount").await? == due);
    b.fill("#references", &reference).await?;
    b.click("form[action$='/transfer'] button").await?;
    for _ in 0..50 {
        let first = b.text("tbody tr").await?;
        if first != row {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    ensure!(b.text("tbody tr").await? != row, "they no longer owe");
    for (tab, words) in [
        ("movements", "bank transfer"),
        ("events", "Net"),
        ("ledger", "receivables"),
        ("provider", "Ask for payouts"),
        ("hosts", "60 %"),
        ("promos", "Clover 10"),
        ("cards", "Dipping card"),
    ] {
        b.driver.goto(format!("{}/office/money/{tab}", house.url)).await?;
        b.says("main", words).await?;
        b.is_fit_for_all().await?;
    }
    let phone = Browser::open(PHONE, &[]).await?;
    phone.sign_in(&house, 0).await?;
    for page in [
        "money",
        "money/ledger",
        "money/promos",
        "money/cards",
        "events/2/rules",
        "events/2/phone",
        "bookings",
    ] {
        phone.driver.goto(format!("{}/office/{page}", house.url)).await?;
        phone.find("h1").await?;
        phone.is_fit_for_all().await?;
    }
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stamp_card_is_sold_at_the_office_and_pays_a_booking() -> Result<()> {
    let house = House::open().await?;
    let o = Browser::open(DESKTOP, &[]).await?;
    o.sign_in(&house, 4).await?;
    o.driver.goto(format!("{}/office/money/cards", house.url)).await?;
    o.click("form[action$='/sell-card'] button").await?;
    o.says(".f-name", "Holder").await?;
    o.is_fit_for_all().await?;
    o.fill("#name", "Siân O'Hara").await?;
    o.fill("#email", "sian@post.example").await?;
    o.click("form[action$='/sell-card'] button").await?;
    o.says("tbody tr", "Siân O'Hara").await?;
    let card = o.text("tbody td").await?;
    let b = Browser::open(PHONE, &[]).await?;
    b.driver.goto(format!("{}/events/thursday-dipping", house.url)).await?;
    b.click("button[aria-label='One Seat more']").await?;
    b.says(".sum", "€8.00").await?;
    b.click("#book .btn-primary").await?;
    b.fill("#name", "Siân O'Hara").await?;
    b.fill("#email", "sian@post.example").await?;
    b.click("#agreed").await?;
    b.click("#details .acts .btn-primary").await?;
    // There is more than one way to pay.
    b.says("h1", "€8.00 to pay").await?;
    b.is_fit_for_all().await?;
    let own = format!("{}/me", house.url);
    b.fill("#card", "BCDF GHJK LNPR").await?;
    b.click("form[action$='/stamps'] button").await?;
    b.says("#card-say", "no card of ours").await?;
    b.is_fit_for_all().await?;
    b.fill("#card", &card.to_lowercase()).await?;
    b.click("form[action$='/stamps'] button").await?;
    b.says("[role=status]", "Your seats are booked.").await?;
    o.driver.refresh().await?;
    o.says("tbody tr", "9").await?;
    b.driver.goto(&own).await?;
    b.is_fit_for_all().await?;
    Ok(())
}

/// Books tickets of Thursday dipping on a phone; gives the booking's address.
async fn dipping(b: &Browser, house: &House, ticket: &str) -> Result<String> {
    b.driver.goto(format!("{}/events/thursday-dipping", house.url)).await?;
    b.click(&format!("button[aria-label='One {ticket} more']")).await?;
    b.says(".sum", "€").await?;
    b.click("#book .btn-primary").await?;
    b.fill("#name", "Nia O'Hara").await?;
    b.fill("#email", "nia@post.example").await?;
    b.click("#agreed").await?;
    b.click("#details .acts .btn-primary").await?;
    if b.script("return !!document.querySelector('#again')").await? == true {
        b.click("#again").await?;
        b.click("#details .acts .btn-primary").await?;
    }
    b.says("h1", "to pay").await?;
    Ok(b.driver.current_url().await?.to_string())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stamp_card_is_bought_on_a_phone_and_used_up_at_the_door() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(PHONE, &[]).await?;
    b.driver.goto(format!("{}/events/thursday-dipping", house.url)).await?;
    let date = b.value("#book [name=date]").await?;
    let own = dipping(&b, &house, "Dipping card").await?;
    b.click(".acts .btn-primary").await?;
    b.click("button[value=paid]").await?;
    b.says("[role=status]", "It is paid.").await?;
    b.is_fit_for_all().await?;
    let card = b.text("b.ref").await?;
    // A seat, moved and moved back, cancelled and not cancelled.
    let seat = dipping(&b, &house, "Seat").await?;
    b.driver.goto(format!("{seat}/change")).await?;
    b.click("form[action$='/change/move'] button").await?;
    b.says(".undo", "You moved it").await?;
    b.is_fit_for_all().await?;
    b.click(".undo button").await?;
    b.says("#summary", "3 December").await?;
    b.driver.goto(format!("{seat}/change")).await?;
    b.click("form[action$='/change/cancel'] button").await?;
    b.click(".ask .btn-danger").await?;
    b.says(".over", "cancelled").await?;
    b.click(".undo button").await?;
    b.says("h1", "€8.00 to pay").await?;
    // The door finds it by its reference and takes a stamp, once.
    let door = Browser::open(PHONE, &[]).await?;
    door.sign_in(&house, 1).await?;
    house.open_door(&date).await?;
    door.driver.goto(format!("{}/door/{date}", house.url)).await?;
    door.press(&format!("{}{ENTER}", card.replace(' ', ""))).await?;
    door.says("#verdict", "Stamp card").await?;
    door.says("#verdict", "10 stamps left").await?;
    let reference = seat.split('/').nth(4).unwrap_or_default();
    door.find("#text").await?.send_keys(reference.to_lowercase()).await?;
    door.says("#names", "€8.00 to pay").await?;
    door.click("#names button").await?;
    door.says("#verdict", "1 stamp off their card").await?;
    door.is_fit_for_all().await?;
    door.fill("#code", "bcdf").await?;
    door.click(".bycode button").await?;
    door.says("#flash", "no card of ours").await?;
    door.click(&format!("[data-pay] button[value='{}']", card.replace(' ', ""))).await?;
    door.says("#verdict", "Come in").await?;
    door.says("#board", "Inside 1").await?;
    b.driver.goto(&own).await?;
    b.says("main", "9 stamps left").await?;
    b.driver.goto(&seat).await?;
    b.says("[role=status]", "Your seats are booked.").await?;
    b.is_fit_for_all().await?;
    Ok(())
}
