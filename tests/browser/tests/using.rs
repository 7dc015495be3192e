//! What using it showed, in a real browser: the first run counted in steps, refusals that stand
//! at their field, and a house of many years in which every page opens and none goes on for ever.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::atomic::{AtomicU32, Ordering};

use anyhow::{Result, ensure};
use matricle_bench::pages::shape;
use matricle_browser_tests::{Browser, DESKTOP, House, PHONE, Screen};

/// A browser that counts what a person has to do.
struct Counted<'b> {
    b: &'b Browser,
    steps: AtomicU32,
}

impl Counted<'_> {
    async fn click(&self, css: &str) -> Result<()> {
        self.steps.fetch_add(1, Ordering::Relaxed);
        self.b.click(css).await
    }

    async fn fill(&self, css: &str, text: &str) -> Result<()> {
        self.steps.fetch_add(1, Ordering::Relaxed);
        self.b.fill(css, text).await
    }

    /// A day or a time: typed in the order of the browser's own language, so by script here.
    async fn set(&self, css: &str, value: &str) -> Result<()> {
        self.steps.fetch_add(1, Ordering::Relaxed);
        let set = format!("document.querySelector('{css}').value = '{value}'");
        self.b.script(&set).await.map(drop)
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_empty_house_leads_to_its_first_published_event_in_a_dozen_steps() -> Result<()> {
    let house = House::empty().await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    let me = Counted { b: &b, steps: AtomicU32::new(0) };
    b.driver.goto(format!("{}/office", house.url)).await?;
    me.fill("#email", House::FIRST.0).await?;
    me.fill("#password", House::FIRST.1).await?;
    me.click("main form button").await?;
    b.says("#first", "First steps").await?;
    me.click("form[action='/office/first/mail'] button").await?;
    b.says("[role=status]", "The mail server took a mail").await?;
    me.click("form[action='/office/first/card'] button").await?;
    b.says("[role=status]", "The card provider answers").await?;
    b.says(".firststeps .done", "Send yourself a test mail").await?;
    me.click(".firststeps a[href='/office/events/new']").await?;
    me.fill("#title", "Wax and wicks").await?;
    me.set("#day", "2026-12-12").await?;
    me.set("#from", "10:00").await?;
    me.set("#until", "12:00").await?;
    me.fill("#place", "Millrace Barn, Ford Lane 3").await?;
    me.fill("#seats", "12").await?;
    me.click("button[value=publish]").await?;
    b.says(".news", "It is in the Programme.").await?;
    b.says(".share", "Tell people").await?;
    let steps = me.steps.load(Ordering::Relaxed);
    ensure!(steps <= 13, "{steps} steps");
    b.driver.goto(format!("{}/", house.url)).await?;
    b.says("#found", "Wax and wicks").await?;
    // What was done is undone by the line that told it.
    b.driver.goto(format!("{}/office/events/1", house.url)).await?;
    b.click("form[action='/office/events/1/programme'] button").await?;
    b.says(".news", "It is a draft again").await?;
    b.click(".news button").await?;
    b.says(".news", "It is in the Programme.").await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_refusal_stands_at_its_field_and_back_and_reload_ask_nothing() -> Result<()> {
    let house = House::open().await?;
    let b = Browser::open(PHONE, &[]).await?;
    b.sign_in(&house, 0).await?;
    b.driver.goto(format!("{}/office/events/new", house.url)).await?;
    b.fill("#title", "Nothing but a title").await?;
    b.click("button[value=draft]").await?;
    b.says("#day-say", "Choose a day.").await?;
    let focus = "return document.activeElement.id";
    ensure!(b.script(focus).await? == "day", "{:?}", b.script(focus).await?);
    // Loaded again it is the same page, by an address of its own, with what was typed.
    ensure!(b.driver.current_url().await?.query().is_some_and(|q| q.starts_with("kept=")));
    b.driver.refresh().await?;
    b.says("#day-say", "Choose a day.").await?;
    let typed = b.script("return document.querySelector('#title').value").await?;
    ensure!(typed == "Nothing but a title", "{typed}");
    b.driver.back().await?;
    b.find("#title").await?;
    // The kind of event decides what is asked.
    let shown = "return document.querySelector('#minutes').offsetParent !== null";
    ensure!(b.script(shown).await? == false);
    b.click("input[value=slots]").await?;
    ensure!(b.script(shown).await? == true);
    b.is_fit_for_all().await
}

/// Two pages of each shape that links lead to, each no higher than this, in pixels.
const HIGHEST: u64 = 6000;

async fn walk(house: &House, screen: Screen, staff: bool) -> Result<Vec<String>> {
    let b = Browser::open(screen, &[]).await?;
    let mut waiting = VecDeque::from(["/".to_owned(), "/me".to_owned()]);
    if staff {
        b.sign_in(house, 0).await?;
        waiting.push_back("/office".into());
        // Of pages of one shape, those with most on them first.
        let find =
            |c: &matricle_store::Connection| matricle_store::events::by_slug(c, "winter-council");
        let council = house.desk.store.read(find).await?.map_or(0, |e| e.id.0);
        for page in ["replies", "replies?page=1", "invitations"] {
            waiting.push_front(format!("/office/events/{council}/{page}"));
        }
    }
    let (mut seen, mut counts) = (BTreeSet::new(), BTreeMap::<String, u32>::new());
    let mut wrong = Vec::new();
    while let Some(at) = waiting.pop_front() {
        let file = ["/feeds/", ".csv", ".xlsx", ".pdf", ".ics", "/documents/", "/papers/", "/live"]
            .iter()
            .any(|f| at.contains(f));
        let count = counts.entry(shape(&at)).or_default();
        if file || *count >= 2 || !seen.insert(at.clone()) {
            continue;
        }
        *count += 1;
        b.driver.goto(format!("{}{at}", house.url)).await?;
        let told = b
            .script(
                "return [document.documentElement.scrollHeight, document.documentElement.scrollWidth, \
                 [...document.querySelectorAll('a[href]')].map((a) => a.getAttribute('href'))]",
            )
            .await?;
        let (height, width) = (told[0].as_u64().unwrap_or(0), told[1].as_u64().unwrap_or(0));
        if height > HIGHEST || width > u64::from(screen.width) {
            wrong.push(format!("{at}: {width} by {height} pixels"));
        }
        for link in told[2].as_array().into_iter().flatten().filter_map(|l| l.as_str()) {
            let link = link.split('#').next().unwrap_or_default();
            let link = match link.strip_prefix('?') {
                Some(query) => format!("{}?{query}", at.split('?').next().unwrap_or_default()),
                None => link.to_owned(),
            };
            if link.starts_with('/') && !link.starts_with("//") {
                waiting.push_back(link);
            }
        }
    }
    ensure!(seen.len() > 15, "{} pages", seen.len());
    Ok(wrong)
}

#[tokio::test(flavor = "multi_thread")]
async fn in_a_house_of_many_years_no_page_goes_on_for_ever() -> Result<()> {
    let house = House::large().await?;
    let mut wrong = Vec::new();
    for (screen, staff) in [(DESKTOP, true), (PHONE, true), (PHONE, false)] {
        wrong.extend(walk(&house, screen, staff).await?);
    }
    ensure!(wrong.is_empty(), "{}", wrong.join("\n"));
    Ok(())
}
