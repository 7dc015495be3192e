//! Events that members submit, in the real pages: thirty decided by keyboard without loading a
//! page, some with a thumb, and a stranger's own from the first letter to the Programme.

use anyhow::{Context, Result, ensure};
use matricle_browser_tests::{Browser, DESKTOP, House, PHONE, Screen};
use matricle_core::SubmissionId;
use matricle_core::forms::form::Form;
use matricle_core::review::rules::{HouseRules, WhoMay};
use matricle_core::review::submission::Act;
use matricle_desk::review::writing;
use matricle_desk::review::{Submitter, queue};
use matricle_desk::{Desk, programme};
use matricle_store::{StoreError, people, submissions};

const ENTER: &str = "\u{e007}";
const CONTROL_ENTER: &str = "\u{e009}\u{e007}";

/// What is wrong with a submission, and so what becomes of it.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Fault {
    None,
    NoPlace,
    WrongWeekday,
    Over,
    Spam,
    Copy,
}

impl Fault {
    const fn act(self) -> Act {
        match self {
            Self::None => Act::Accept,
            Self::NoPlace | Self::WrongWeekday => Act::SendBack,
            Self::Over => Act::TurnDown,
            Self::Spam => Act::Spam,
            Self::Copy => Act::Join,
        }
    }

    /// The keys that decide on it.
    const fn keys(self) -> &'static [&'static str] {
        match self {
            Self::None => &["a"],
            Self::NoPlace | Self::WrongWeekday => &["b", CONTROL_ENTER],
            Self::Over => &["t", CONTROL_ENTER],
            Self::Spam => &["s"],
            Self::Copy => &["j"],
        }
    }
}

/// Thirty submissions with known faults; a copy is of the one before it.
fn thirty() -> Vec<(Fault, Vec<(&'static str, String)>)> {
    use Fault::{Copy, NoPlace, None, Over, Spam, WrongWeekday};
    let faults = [
        None,
        None,
        Copy,
        None,
        NoPlace,
        None,
        Over,
        None,
        Spam,
        None,
        WrongWeekday,
        None,
        None,
        Copy,
        None,
        None,
        NoPlace,
        None,
        Spam,
        None,
        None,
        Copy,
        None,
        Over,
        None,
        WrongWeekday,
        None,
        None,
        NoPlace,
        None,
    ];
    let topics = [
        "Knots and nets",
        "Sourdough",
        "Owls at dusk",
        "Mending bicycles",
        "Folk songs",
        "The night sky",
        "Willow baskets",
        "Old maps",
        "Ferns",
        "Chess problems",
        "Letterpress",
        "Tea from hedges",
        "River stones",
        "Clay whistles",
        "Sea shanties",
    ];
    (0..30)
        .map(|n| {
            let fault = faults[n];
            let of = if fault == Copy { n - 1 } else { n };
            let topic = topics[of % topics.len()];
            let round = if of < topics.len() { "in the library" } else { "in the orchard" };
            let day = format!("2027-{:02}-{:02}", 1 + of / 10, 3 + 2 * (of % 10));
            let mut fields = vec![
                ("title", format!("{topic} {round}")),
                ("day", day),
                ("from", "19:00".to_owned()),
                ("until", "21:00".to_owned()),
                ("place", "Town library".to_owned()),
                ("contact", format!("p{n}@post.example")),
                ("description", format!("An evening about {topic}, with tea; everybody brings what they have.")),
            ];
            let mut set = |name: &'static str, value: String| {
                fields.retain(|(n, _)| *n != name);
                fields.push((name, value));
            };
            match fault {
                None => {}
                NoPlace => set("place", String::new()),
                WrongWeekday => set("description", "Every Easter Monday? No, but come and bring what you have to show; also on Monday.".into()),
                Over => set("day", "2026-10-01".into()),
                Spam => set("description", "cheap https://pills.example cheap https://pills.example/b cheap pills".into()),
                Copy => set("title", format!("{round}: {topic}, an evening")),
            }
            (fault, fields)
        })
        .collect()
}

async fn submit(desk: &Desk, n: usize, fields: &[(&'static str, String)]) -> Result<SubmissionId> {
    let stamp = desk.secrets.stamp(desk.clock.now() - jiff::SignedDuration::from_mins(3), 0);
    let work = (0..).map(|n: u32| n.to_string()).find(|w| writing::is_worked(&stamp, w));
    let mut all: Vec<(String, String)> =
        fields.iter().map(|(n, v)| ((*n).to_owned(), v.clone())).collect();
    for (name, value) in [
        ("name", format!("Person {n}")),
        ("email", format!("p{n}@post.example")),
        ("stamp", stamp),
        ("work", work.context("there is one")?),
    ] {
        all.push((name.to_owned(), value));
    }
    let form = Form::new(all);
    let nobody = Submitter::default();
    let (id, _) = writing::keep(desk, &nobody, None, &form).await?;
    writing::send(desk, &nobody, (id, desk.secrets.writing_key(id)), form).await?;
    let key = desk.secrets.submission_key(id, &format!("p{n}@post.example"));
    let found = desk.store.read(move |c| submissions::by_id(c, id)).await?;
    writing::confirm(desk, id, &key, found.context("it is there")?.version).await?;
    Ok(id)
}

/// A house with thirty submissions, and somebody signed in who reviews them.
async fn with_thirty(screen: Screen) -> Result<(House, Browser, Vec<(Fault, SubmissionId)>)> {
    let house = House::empty().await?;
    let b = Browser::open(screen, &[]).await?;
    house
        .desk
        .store
        .write(|tx| {
            let bad_domains = vec!["pills.example".to_owned()];
            let rules = HouseRules { who: WhoMay::Anybody, bad_domains, ..HouseRules::default() };
            submissions::set_rules(tx, &rules)?;
            matricle_store::places::venue_named(tx, "Town library").map(drop)
        })
        .await?;
    let mut all = Vec::new();
    for (n, (fault, fields)) in thirty().into_iter().enumerate() {
        all.push((fault, submit(&house.desk, n, &fields).await?));
    }
    b.driver.goto(format!("{}/sign-in", house.url)).await?;
    b.fill("#email", House::FIRST.0).await?;
    b.fill("#password", House::FIRST.1).await?;
    b.click("main button[type=submit]").await?;
    b.find(".faces").await?;
    Ok((house, b, all))
}

#[tokio::test(flavor = "multi_thread")]
async fn thirty_are_decided_by_keyboard_without_loading_a_page_again() -> Result<()> {
    let (house, b, all) = with_thirty(DESKTOP).await?;
    b.driver.goto(format!("{}/office/review", house.url)).await?;
    b.says("#waiting", "30").await?;
    b.is_fit_for_all().await?;
    // Frames from a key to the next one in view: at sixty a second, six are a tenth of a second.
    b.script(
        "window.here = true; window.frames = [];
         let pressed = null;
         const key = () => document.querySelector('#article article')?.dataset.key ?? '';
         document.addEventListener('keydown', (e) => { pressed = e.key.length === 1 || e.ctrlKey ? [key(), 0] : null; }, true);
         const tick = () => {
           if (pressed) {
             if (key() !== pressed[0]) { frames.push(pressed[1]); pressed = null; } else if (++pressed[1] > 600) pressed = null;
           }
           requestAnimationFrame(tick);
         };
         tick();",
    )
    .await?;
    let (mut keys, mut accepted) = (0, Vec::new());
    for (fault, id) in &all {
        let at = format!("article[data-id='{id}']");
        b.find(&at).await.with_context(|| format!("submission {id} is next"))?;
        // A person reads it; meanwhile the next one is loaded.
        tokio::time::sleep(std::time::Duration::from_millis(250)).await;
        for key in fault.keys() {
            if *key == CONTROL_ENTER {
                b.find("details.words[open] textarea").await?.send_keys(CONTROL_ENTER).await?;
            } else {
                b.press(key).await?;
            }
            keys += 1;
        }
        if fault.act() == Act::Accept {
            accepted.push(*id);
        }
        let word = match fault.act() {
            Act::Accept => "accepted",
            Act::SendBack => "sent back",
            Act::TurnDown => "turned down",
            Act::Spam => "spam",
            _ => "joined",
        };
        b.says("#said", word).await.with_context(|| format!("submission {id}"))?;
    }
    b.says(".nothing", "Nothing waits").await?;
    b.says(".nothing", "accepted").await?;
    b.is_fit_for_all().await?;
    ensure!(b.script("return window.here === true").await? == true, "a page was loaded on the way");
    ensure!(keys <= 4 * all.len(), "{keys} keys");
    let frames = b.script("return window.frames").await?;
    let frames: Vec<u64> =
        frames.as_array().context("frames")?.iter().filter_map(serde_json::Value::as_u64).collect();
    println!("{keys} keys for 30; frames until the next was drawn: {frames:?}");
    ensure!(frames.len() >= 25 && frames.iter().all(|n| *n <= 6), "{frames:?}");
    // What became of each is what was meant, and the catalogue holds those accepted, in order.
    for (fault, id) in &all {
        let id = *id;
        let happened = house.desk.store.read(move |c| submissions::happened(c, id)).await?;
        let last = happened.iter().rev().find(|h| h.act.is_decision()).context("decided")?;
        ensure!(last.act == fault.act(), "{id}: {:?}", last.act);
    }
    let wish = programme::Wish::default();
    let found = programme::catalogue(&house.desk, wish, 100).await?.found.dates;
    ensure!(found.len() == accepted.len(), "{} in the catalogue", found.len());
    ensure!(found.windows(2).all(|w| w[0].date.span.starts_at <= w[1].date.span.starts_at));
    let feed = reqwest::get(format!("{}/feeds/all.ics", house.url)).await?.text().await?;
    ensure!(feed.matches("BEGIN:VEVENT").count() == accepted.len());
    // The last one is taken back: it is in view, and out of the Programme.
    b.press("u").await?;
    b.says("#said", "Taken back").await?;
    b.find("article .decide").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn with_a_thumb_and_two_reviewers() -> Result<()> {
    let (house, b, all) = with_thirty(PHONE).await?;
    b.driver.goto(format!("{}/office/review", house.url)).await?;
    b.find(&format!("article[data-id='{}']", all[0].1)).await?;
    b.is_fit_for_all().await?;
    b.click("[data-act=accept] button").await?;
    b.says("#said", "accepted").await?;
    b.find(&format!("article[data-id='{}']", all[1].1)).await?;
    // Corrected in place: words where they stand.
    b.click(".p-title .correct > summary").await?;
    b.fill(".p-title [name=title]", "Sourdough, warm").await?;
    b.click(".p-title .correct button").await?;
    b.says(".title.big", "Sourdough, warm").await?;
    b.is_fit_for_all().await?;
    b.click("[data-skip]").await?;
    b.find(&format!("article[data-id='{}']", all[2].1)).await?;
    b.click("details[data-words-for=t] > summary").await?;
    b.click("[data-say]").await?;
    b.click("[data-act=turn-down] .btn-primary").await?;
    b.says("#said", "turned down").await?;
    b.click("[data-undo] button").await?;
    b.says("#said", "Taken back").await?;
    b.find(&format!("article[data-id='{}']", all[2].1)).await?;
    // Somebody else is faster: the second decision is refused with what happened.
    let nia = house.desk.store.read(|c| people::by_email(c, House::FIRST.0)).await?;
    let (nia, _) = nia.context("she is there")?;
    let a = queue::one(&house.desk, &nia, all[2].1, false).await?;
    let decision = matricle_desk::review::deciding::Decision {
        id: all[2].1,
        version: a.submission.version,
        act: Act::Spam,
        words: String::new(),
        with: None,
    };
    matricle_desk::review::deciding::decide(&house.desk, &nia, decision).await?;
    b.click("[data-act=accept] button").await?;
    b.says("#said", "put it aside as spam").await?;
    b.is_fit_for_all().await?;
    // All that look right, shown first.
    b.click("#accept-right").await?;
    b.says(".rightlist", "These will be in the Programme at once").await?;
    b.is_fit_for_all().await?;
    b.click(".rightlist .btn-primary").await?;
    b.says(".news", "accepted").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_strangers_event_from_the_first_letter_to_the_programme() -> Result<()> {
    for screen in [DESKTOP, PHONE] {
        let house = House::open().await?;
        let b = Browser::open(screen, &[]).await?;
        b.driver.goto(&house.url).await?;
        b.script("document.querySelector('a[href=\"/submit\"]').click()").await?;
        b.says("h1", "Submit an event").await?;
        b.is_fit_for_all().await?;
        // Sent empty, it says what is missing beside each field.
        b.tab_to("#title").await?;
        b.press("Lower Ostrel branch meeting").await?;
        b.says("#kept-at", "Kept at").await?;
        let address = b.driver.current_url().await?;
        ensure!(address.path().starts_with("/submissions/"), "{address}");
        b.press(ENTER).await?;
        b.says("#day-say", "Fill this in").await?;
        b.says("#email-say", "Fill this in").await?;
        b.is_fit_for_all().await?;
        let kept = b.script("return document.querySelector('#title').value").await?;
        ensure!(kept == "Lower Ostrel branch meeting", "{kept}");
        // What it would be the same as is said while one types.
        b.script(
            "const set = (n, v) => { const i = document.querySelector(n); i.value = v; i.dispatchEvent(new Event('input', { bubbles: true })); };
             set('#day', '2026-12-03'); set('#from', '18:30'); set('#until', '20:00'); set('#place', 'Lower Ostrel chapel room');",
        )
        .await?;
        b.says("#hints", "Nearly the same is in the Programme").await?;
        b.script(
            "const set = (n, v) => { const i = document.querySelector(n); i.value = v; i.dispatchEvent(new Event('input', { bubbles: true })); };
             set('#day', '2026-12-17'); set('#title', 'An evening on knots'); set('#place', 'Hexley Libary');",
        )
        .await?;
        b.says("#hints", "Do you mean").await?;
        b.click("[data-put]").await?;
        b.find("trix-editor").await?.click().await?;
        b.press("Bring rope, and ring 0412 55 61 20.").await?;
        b.says("#hints", "0412 55 61 20").await?;
        b.fill("#contact", "knots@post.example").await?;
        b.fill("#name", "Kit O’Hara").await?;
        b.fill("#email", "kit@post.example").await?;
        b.click("#agreed").await?;
        // It is on another device, as it was typed.
        b.says("#kept-at", "Kept at").await?;
        tokio::time::sleep(std::time::Duration::from_millis(900)).await;
        b.driver.goto(address.as_str()).await?;
        let title = b.script("return document.querySelector('#title').value + document.querySelector('#place').value").await?;
        ensure!(title == "An evening on knotsHexley Library", "{title}");
        b.click("#agreed").await?;
        b.click("#submission .btn-primary").await?;
        b.says("h1", "Look at your mail").await?;
        b.is_fit_for_all().await?;
        let link = link_in_mail(&house, "Hand in").await?;
        b.driver.goto(&link).await?;
        b.says("main", "It is not sent yet").await?;
        b.is_fit_for_all().await?;
        b.click(".btn-primary.big").await?;
        b.says(".news", "It has arrived").await?;
        b.says(".standing", "received").await?;
        // A reviewer asks; the answer goes by the mailed link alone.
        let other = Browser::open(DESKTOP, &[]).await?;
        other.sign_in(&house, 5).await?;
        let id = link.split('/').rev().nth(1).context("the number")?.to_owned();
        other.driver.goto(format!("{}/office/review/{id}", house.url)).await?;
        other.press("b").await?;
        let words = other.find("details.words[open] textarea").await?;
        words.send_keys("Which knots?").await?;
        words.send_keys(CONTROL_ENTER).await?;
        other.says("#said", "sent back").await?;
        stands(&house).await?;
        b.driver.goto(&link).await?;
        b.says(".standing", "sent back").await?;
        b.says("main", "Which knots?").await?;
        b.fill("#note", "Bowlines.").await?;
        b.click(".card-form .btn-primary").await?;
        b.says(".standing", "received").await?;
        other.driver.goto(format!("{}/office/review/{id}", house.url)).await?;
        other.find("article .decide").await?;
        other.click("article details.more > summary").await?;
        other.says("article .history", "Bowlines.").await?;
        other.press("a").await?;
        other.says("#said", "accepted").await?;
        stands(&house).await?;
        b.driver.goto(&link).await?;
        b.says(".standing", "accepted").await?;
        b.click("main a[href^='/events/']").await?;
        b.says("h1", "An evening on knots").await?;
        b.says(".stub", "Just come").await?;
        b.is_fit_for_all().await?;
        // Something is wrong with it: it comes to the same queue.
        b.click("a[href$='/complain']").await?;
        b.fill("#words", "It is on Friday.").await?;
        b.is_fit_for_all().await?;
        b.click(".card-form .btn-primary").await?;
        b.says(".news", "Somebody of the house reads it").await?;
        other.driver.goto(format!("{}/office/review", house.url)).await?;
        other.says("#queue", "a complaint").await?;
        // The house rules, and what they mean.
        other.driver.goto(format!("{}/office/house/submissions", house.url)).await?;
        other.says("#meets", "A stranger").await?;
        other.is_fit_for_all().await?;
    }
    Ok(())
}

/// The time in which decisions can be taken back is over.
async fn stands(house: &House) -> Result<()> {
    let over = |tx: &matricle_store::Tx<'_>| {
        tx.execute("UPDATE submissions SET undo_until = 1 WHERE undo_until IS NOT NULL", [])
            .map(drop)
            .map_err(StoreError::from)
    };
    Ok(house.desk.store.write(over).await?)
}

/// The latest link to a submission in the mailbox, in a mail with these words.
async fn link_in_mail(house: &House, words: &str) -> Result<String> {
    for _ in 0..100 {
        let mut found = None;
        for n in 1..500 {
            let page = reqwest::get(format!("{}/mail/{n}", house.mailbox)).await?;
            if !page.status().is_success() {
                break;
            }
            let text = page.text().await?;
            if text.contains(words)
                && let Some(at) = text.find("/submissions/")
            {
                let rest = &text[at..];
                let end = rest.find(|c: char| c.is_whitespace() || "\"<&".contains(c));
                found = Some(format!("{}{}", house.url, &rest[..end.unwrap_or(rest.len())]));
            }
        }
        if let Some(found) = found {
            return Ok(found);
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    anyhow::bail!("no mail says {words:?}")
}
