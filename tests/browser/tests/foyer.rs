//! The foyer of a date online, on a telephone: before, with a late address, open, twice, moved,
//! called off, afterwards; with a clock that is wrong.

use anyhow::{Context, Result, ensure};
use matricle_browser_tests::{Browser, DESKTOP, House, PHONE};
use matricle_core::DateId;
use matricle_core::door::Presence;
use matricle_core::forms::form::Form;
use matricle_core::words::codes::Reference;
use matricle_desk::bookings::whole;
use matricle_desk::door::online;
use matricle_desk::messages;
use matricle_desk::planning::dates as off;
use matricle_store::people::Staff;

fn form(fields: &[(&str, &str)]) -> Form {
    Form::new(fields.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect())
}

async fn ilse(house: &House) -> Result<Staff> {
    let find =
        |c: &matricle_store::Connection| matricle_store::people::by_email(c, "ilse@ostrel.example");
    Ok(house.desk.store.read(find).await?.context("Ilse")?.0)
}

/// The links and the date of those of an event who have not come yet, or of those who came.
async fn links(house: &House, slug: &str, came: bool) -> Result<(Vec<String>, DateId)> {
    let slug = slug.to_owned();
    let found: Vec<(Reference, DateId)> = house
        .desk
        .store
        .read(move |conn| {
            let event = matricle_store::events::by_slug(conn, &slug)?;
            let event = event.ok_or(matricle_desk::DeskError::NotFound)?;
            let date = matricle_store::events::dates_of(conn, event.id)?[0].id;
            let mut found = Vec::new();
            for p in matricle_store::door::by_words(conn, date, "", 99)? {
                let wanted = match p.facts.presence {
                    Presence::Expected => !came,
                    Presence::In { .. } | Presence::Left => came,
                    Presence::Missed => false,
                };
                if wanted && let Some(b) = matricle_store::bookings::by_id(conn, p.booking)? {
                    found.push((b.reference, date));
                }
            }
            Ok::<_, matricle_desk::DeskError>(found)
        })
        .await?;
    let mut links = Vec::new();
    for (reference, _) in &found {
        let sheet = whole::of(&house.desk, *reference).await?;
        links.extend(messages::own_links(&house.desk, &sheet).into_iter().map(|l| l.1));
    }
    Ok((links, found.first().context("somebody")?.1))
}

#[tokio::test(flavor = "multi_thread")]
async fn the_foyer_opens_the_room_by_itself_and_says_what_is_true() -> Result<()> {
    let house = House::open().await?;
    let ilse = ilse(&house).await?;
    let (links, date) = links(&house, "winter-feed-your-questions", false).await?;
    let how = |opens: &'static str, link: String| {
        let (desk, ilse) = (house.desk.clone(), ilse.clone());
        async move {
            let fields = [("room", "link"), ("link", link.as_str()), ("opens_minutes", opens)];
            online::save(&desk, &ilse, date, form(&fields)).await
        }
    };
    how("1", String::new()).await?;
    let b = Browser::open(PHONE, &[]).await?;
    // A clock that is seven minutes fast, as a telephone's may be.
    let wrong = "const real = Date.now; Date.now = () => real() + 7 * 60000;";
    b.cdp("Page.enable", serde_json::json!({})).await?;
    b.cdp("Page.addScriptToEvaluateOnNewDocument", serde_json::json!({ "source": wrong })).await?;
    b.driver.goto(&links[0]).await?;
    b.says(".foyerhead", "Not open yet").await?;
    b.says("[data-count]", "opens in").await?;
    b.says("[data-own]", "Where you are").await?;
    // The house of this test lives at another day than the machine: only that it is said.
    b.says("[data-said=clock]", "this page goes by the right one").await?;
    b.click("[data-try=sound]").await?;
    b.says("[data-said=sound]", "Three tones").await?;
    b.click("[data-try=window]").await?;
    b.says("[data-said=window]", "indows").await?;
    let first = b.driver.windows().await?;
    b.driver.switch_to_window(first[0].clone()).await?;
    b.is_fit_for_all().await?;
    // It is time, and the address is late: the page goes on by itself, twice.
    how("30", String::new()).await?;
    b.script("document.dispatchEvent(new Event('visibilitychange'))").await?;
    b.says(".foyerhead", "In a moment").await?;
    how("30", house.mailbox.clone()).await?;
    b.says(".foyerhead", "The room is open").await?;
    b.is_fit_for_all().await?;
    let source = b.driver.source().await?;
    ensure!(!source.contains(&house.mailbox), "where the room is stands behind the button alone");
    b.click("[data-go]").await?;
    b.says("h1", "Mails that arrived").await?;
    b.driver.goto(&links[0]).await?;
    b.says("[data-go]", "Go in again").await?;

    // The same link in another browser: seen in both places where it matters.
    let other = Browser::open(DESKTOP, &[]).await?;
    other.driver.goto(&links[0]).await?;
    other.says(".note.keep", "used in another browser").await?;
    other.click("[data-go]").await?;
    other.says("h1", "Mails that arrived").await?;
    other.sign_in(&house, 0).await?;
    other.driver.goto(format!("{}/office/dates/{date}/online", house.url)).await?;
    other.says("main", "used in 2 browsers").await?;
    other.is_fit_for_all().await?;
    other.fill("#link", "not a link").await?;
    other.click(".card-form .btn-primary").await?;
    other.says("#link-say", "https://").await?;
    other.click("button[name=replace]").await?;
    other.says(".news", "gets a new link").await?;

    // Moved by three days, it says when, and counts anew, on the page that stands open.
    b.driver.goto(&links[1]).await?;
    b.says(".foyerhead", "The room is open").await?;
    let of = move |c: &matricle_store::Connection| matricle_store::events::date_by_id(c, date);
    let (event, as_planned) = house.desk.store.read(of).await?.context("the event")?;
    let event = event.id;
    let day = as_planned.span.starts.date().checked_add(jiff::Span::new().days(3))?;
    let time = |at: jiff::civil::DateTime| at.strftime("%H:%M").to_string();
    let (from, until) = (time(as_planned.span.starts), time(as_planned.span.ends));
    let moved = form(&[
        ("day", &day.to_string()),
        ("from", &from),
        ("until", &until),
        ("venue", &as_planned.venue),
        ("hosts", &as_planned.hosts),
    ]);
    off::change(&house.desk, &ilse, date, off::Scope::One, moved, false).await?;
    b.script("document.dispatchEvent(new Event('visibilitychange'))").await?;
    b.says(".foyerhead", "Not open yet").await?;
    b.says(".foyer .facts", &day.strftime("%-d %B").to_string()).await?;
    b.says("[data-count]", "opens in").await?;
    ensure!(
        b.driver.find(thirtyfour::By::Css("[data-go]")).await.is_err(),
        "nobody is let in three days early"
    );

    // Called off, it says so.
    let why = "The speaker is ill.".to_owned();
    off::call_off(&house.desk, &ilse, event, Some(date), why).await?;
    b.script("document.dispatchEvent(new Event('visibilitychange'))").await?;
    b.says(".foyerhead", "Called off").await?;
    b.says(".foyer", "The speaker is ill.").await?;
    b.is_fit_for_all().await?;

    // Afterwards the link of whoever came shows the recording, and no page says where it lies.
    let (after, _) = crate::links(&house, "a-year-on-the-scales", true).await?;
    b.driver.goto(&after[0]).await?;
    b.says(".foyerhead", "It is over").await?;
    b.says(".foyer button", "See the recording").await?;
    b.is_fit_for_all().await?;
    let source = b.driver.source().await?;
    ensure!(!source.contains("rooms.example/recording"), "it stands behind the button alone");
    Ok(())
}
