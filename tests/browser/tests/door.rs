//! The door without network, on devices that have joined.

#![allow(clippy::too_many_lines, reason = "a test is one story")]

use anyhow::{Context, Result, ensure};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use matricle_browser_tests::cable::{Cable, State};
use matricle_browser_tests::{Browser, DESKTOP, House, PHONE};
use matricle_core::door::Presence;
use matricle_core::words::codes::{Reading, read};
use matricle_core::{AttendeeId, DateId};
use matricle_demo::STAFF;
use matricle_desk::door::after::{self, Mark};
use matricle_desk::door::report::{About, report};
use matricle_desk::door::{self, Device, Shown};
use matricle_store::people::{self, Staff};

/// Somebody with a ticket for today.
struct Person {
    id: AttendeeId,
    name: String,
    code: String,
}

async fn staff(house: &House, who: usize) -> Result<Staff> {
    let found = house.desk.store.read(move |c| people::by_email(c, STAFF[who].1)).await?;
    Ok(found.context("somebody of the demo")?.0)
}

/// Everybody whose ticket lets them in at today's first date.
async fn expected(house: &House) -> Result<(DateId, Vec<Person>)> {
    let bram = staff(house, 1).await?;
    let today = door::todays(&house.desk, &bram).await?;
    let here = today.iter().find(|d| d.event.slug == "candles-from-our-own-wax");
    let date = here.context("a date at a place")?.date.id;
    let names = door::names(&house.desk, &bram, (date, "gate"), "").await?;
    let ids: Vec<_> = names
        .into_iter()
        .filter(|n| n.verdict.admits() && n.person.ticket != "Pair")
        .map(|n| n.person)
        .collect();
    let all = house.desk.store.read(move |c| matricle_store::door::roster(c, date, 1000)).await?;
    let code = |id| all.iter().find(|(_, p)| p.facts.attendee == id).map(|(code, _)| code.clone());
    let person = |p: matricle_store::door::AtDoor| {
        let code = code(p.facts.attendee).context("a code")?;
        Ok(Person { id: p.facts.attendee, name: p.name, code })
    };
    Ok((date, ids.into_iter().map(person).collect::<Result<_>>()?))
}

async fn presence(house: &House, id: AttendeeId) -> Result<Presence> {
    let person = house.desk.store.read(move |c| matricle_store::door::by_id(c, id)).await?;
    Ok(person.context("the attendee")?.facts.presence)
}

/// The Office shows letters, and a device joins with them.
async fn joined(house: &House, cable: &Cable, name: &str) -> Result<Browser> {
    let office = Browser::open(DESKTOP, &[]).await?;
    office.sign_in(house, 0).await?;
    office.driver.goto(format!("{}/office/doors", house.url)).await?;
    office.is_fit_for_all().await?;
    office.fill("#name", name).await?;
    office.click("#money").await?;
    office.click("#join button[type=submit]").await?;
    let letters = office.text(".bigletters").await?;
    office.is_fit_for_all().await?;
    let device = Browser::open(PHONE, &[]).await?;
    device.driver.goto(format!("{}/door/join", cable.url)).await?;
    device.is_fit_for_all().await?;
    // Letters that are none are refused at their field, and stay.
    device.fill("#letters", "BCDF-GHJX").await?;
    device.click("main button[type=submit]").await?;
    device.says("#letters-wrong", "let nothing").await?;
    device.fill("#letters", &letters.to_lowercase()).await?;
    device.click("main button[type=submit]").await?;
    Ok(device)
}

async fn at_its_door(b: &Browser, url: &str, date: DateId) -> Result<()> {
    b.driver.goto(format!("{url}/door/{date}")).await?;
    b.find("#doorwrap[data-roster]").await?;
    // The worker that keeps the page has done so.
    let ready = b.later("await navigator.serviceWorker.ready; done(true)").await?;
    ensure!(ready == true, "{ready}");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_goes_on_without_network_and_settles_afterwards() -> Result<()> {
    let house = House::open().await?;
    let cable = Cable::to(&house.url).await?;
    let (date, people) = expected(&house).await?;
    let [first, second, third, fourth, ..] = people.as_slice() else { anyhow::bail!("too few") };
    let b = joined(&house, &cable, "Gate tablet").await?;
    at_its_door(&b, &cable.url, date).await?;
    b.says("#netsay", "In step").await?;
    b.is_fit_for_all().await?;

    // The network is gone. What stood there is gone with the next scan.
    cable.set(State::Cut);
    b.press(&format!("{}\n", first.code)).await?;
    b.says("#verdict", "Come in").await?;
    b.says("#verdict", &first.name).await?;
    b.says("#verdict", "not settled").await?;
    b.press(&format!("{}\n", first.code)).await?;
    b.says("#verdict", "Already in").await?;
    b.press("TTTTTTTTTTTX\n").await?;
    b.says("#verdict", "Misread").await?;
    b.says("#netsay", "No network").await?;
    b.says("#netsay", "3 scans wait").await?;
    b.is_fit_for_all().await?;

    // After a reload, and after the browser was closed, it goes on with what it knows.
    b.driver.refresh().await?;
    b.says("#doortitle", "Candles").await?;
    b.says("#netsay", "3 scans wait").await?;
    b.press(&format!("{}\n", second.code)).await?;
    b.says("#verdict", &second.name).await?;
    let b = b.again(PHONE).await?;
    b.driver.goto(format!("{}/door/{date}", cable.url)).await?;
    b.find("#doorwrap[data-roster]").await?;
    b.press(&format!("{}\n", second.code)).await?;
    b.says("#verdict", "Already in").await?;
    // What it did stands there and can be undone; who is inside is counted on; somebody without a
    // ticket buys one, with a receipt out of the device's own block.
    b.find("#undolast button:not([disabled])").await?;
    b.says("#log", "come in").await?;
    let inside = b.text("#board h2 b").await?.parse::<u32>()?;
    b.click("#walk summary").await?;
    b.says("#walk", "cash only").await?;
    b.click("#walk .wpick:not(.none)").await?;
    b.fill("#walk [name=typed]", "Wren O'Dea").await?;
    b.click("#walk .go").await?;
    b.says("#verdict", "Wren O'Dea").await?;
    b.says("#verdict", "taken, receipt D").await?;
    b.says("#board h2 b", &(inside + 1).to_string()).await?;
    b.is_fit_for_all().await?;
    // A booking is named by its letters.
    let id = second.id;
    let booking = move |c: &matricle_store::Connection| {
        let person = matricle_store::door::by_id(c, id)?;
        person.map(|p| matricle_store::bookings::by_id(c, p.booking)).transpose()
    };
    let booking = house.desk.store.read(booking).await?.flatten().context("its booking")?;
    let letters = booking.reference.to_string();
    b.fill("#text", &letters[..6]).await?;
    b.find(&format!("[aria-label=\"Check {}\"]", second.name)).await?;
    // By name; and undone while nobody was asked yet.
    let word = third.name.split(' ').next().unwrap_or_default().to_uppercase();
    b.fill("#text", &word).await?;
    b.click(&format!("[aria-label=\"Check {}\"]", third.name)).await?;
    b.says("#verdict", "Come in").await?;
    b.click("#undolast button").await?;
    b.says("#verdict", "Undone").await?;
    b.press(&format!("{}\n", fourth.code)).await?;
    b.says("#verdict", &fourth.name).await?;
    // Nothing of it lies open on the disk.
    let open = "const db = await new Promise((y, n) => { const r = indexedDB.open('door'); r.onsuccess = () => y(r.result); r.onerror = n; });
        const all = (s) => new Promise((y) => { const r = db.transaction(s).objectStore(s).getAll(); r.onsuccess = () => y(r.result); });
        const kept = [...await all('rosters'), ...await all('queue')];
        done(kept.map((k) => Object.keys(k).join() + ':' + (k.data instanceof ArrayBuffer) + new TextDecoder('latin1').decode(k.data)).join('\\n'))";
    let kept = b.later(open).await?.as_str().unwrap_or_default().to_owned();
    ensure!(kept.contains("iv,data:true"), "{kept}");
    ensure!(!kept.contains(&second.name) && !kept.contains(&first.code), "names lie open");

    // Meanwhile the second came in at another door, earlier by the clock of the house.
    let bram = staff(&house, 1).await?;
    let shown = Shown::Text(second.code.clone());
    door::show(&house.desk, &bram, date, Device::at("side gate", "key-side-gate"), shown).await?;

    // The network is back: each is settled once, and what went wrong waits to be read.
    cable.set(State::Whole);
    b.says("#tray", "let in twice").await?;
    b.says("#tray", &second.name).await?;
    b.says("#tray", "side gate").await?;
    b.says("#netsay", "In step").await?;
    // The page that was loaded without network is whole again.
    b.find("#doorwrap[data-date]:not([data-date=''])").await?;
    for person in [first, second, fourth] {
        let stands = presence(&house, person.id).await?;
        ensure!(matches!(stands, Presence::In { .. }), "{}: {stands:?}", person.name);
    }
    ensure!(presence(&house, third.id).await? == Presence::Expected, "undone before it was sent");
    let by_words =
        move |c: &matricle_store::Connection| matricle_store::door::by_words(c, date, "odea", 9);
    let walked = house.desk.store.read(by_words).await?;
    ensure!(walked.len() == 1, "{walked:?}");
    ensure!(walked[0].facts.due.minor == 0, "{walked:?}");
    ensure!(matches!(walked[0].facts.presence, Presence::In { .. }), "{walked:?}");
    let ilse = staff(&house, 0).await?;
    let lines = report(&house.desk, &ilse, date).await?;
    ensure!(lines.len() == 1 && matches!(lines[0].about, About::Twice(..)), "{lines:?}");
    b.driver.refresh().await?;
    b.click("#tray button").await?;
    // Read, one by one: the last one read, the box is gone.
    b.find("#traybox[hidden]").await?;
    ensure!(matricle_faults(&house).await?.is_empty(), "{:?}", matricle_faults(&house).await?);

    // The Office reads the same line, and sends the device away: it wipes what it keeps.
    let office = Browser::open(PHONE, &[]).await?;
    office.sign_in(&house, 0).await?;
    office.driver.goto(format!("{}/office/doors/{date}", house.url)).await?;
    office.says("#report", "let in twice").await?;
    office.is_fit_for_all().await?;
    office.click("#report button").await?;
    office.says(".news", "Looked into").await?;
    office.driver.goto(format!("{}/office/doors", house.url)).await?;
    office.says("#devices", "Gate tablet").await?;
    office.click("[aria-label='Send Gate tablet away']").await?;
    office.says(".news", "sent away").await?;
    b.says("#verdict", "sent away").await?;
    let left = "const db = await new Promise((y, n) => { const r = indexedDB.open('door'); r.onsuccess = () => y(r.result); r.onerror = n; });
        let n = 0; for (const s of db.objectStoreNames) n += await new Promise((y) => { const r = db.transaction(s).objectStore(s).count(); r.onsuccess = () => y(r.result); });
        done(n)";
    for _ in 0..50 {
        if b.later(left).await? == 0 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    ensure!(b.later(left).await? == 0, "it keeps nothing");
    office.driver.refresh().await?;
    office.says("#devices", "keeps nothing").await?;
    b.driver.goto(format!("{}/door/{date}", cable.url)).await?;
    b.says("main", "sent away").await?;
    Ok(())
}

async fn matricle_faults(house: &House) -> Result<Vec<String>> {
    Ok(house.desk.store.read(matricle_store::check::faults).await?)
}

#[tokio::test(flavor = "multi_thread")]
async fn half_a_network_lets_nobody_in_twice_and_forgets_nobody() -> Result<()> {
    let house = House::open().await?;
    let cable = Cable::to(&house.url).await?;
    let (date, people) = expected(&house).await?;
    let b = Browser::open(PHONE, &[]).await?;
    b.sign_in_at(&cable.url, 1).await?;
    at_its_door(&b, &cable.url, date).await?;
    let settled = async |b: &Browser| -> Result<()> {
        cable.set(State::Whole);
        for _ in 0..150 {
            let said = b.text("#netsay").await?;
            if said.contains("In step") && !said.contains("wait") {
                return Ok(());
            }
            tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        }
        anyhow::bail!("it never settles: {}", b.text("#netsay").await?)
    };
    // The server has it, the answer never comes; and a server that hangs.
    for (state, person) in [(State::OneWay, &people[0]), (State::Hangs, &people[1])] {
        cable.set(state);
        b.press(&format!("{}\n", person.code)).await?;
        // Until it is known nothing green stands there.
        let wait = b.script("return document.querySelector('#verdict').dataset.verdict").await?;
        ensure!(wait == "wait" || wait == "in", "{wait}");
        b.says("#verdict", "not settled").await?;
        b.says("#verdict", &person.name).await?;
        settled(&b).await?;
        ensure!(matches!(presence(&house, person.id).await?, Presence::In { .. }));
    }
    // The server let somebody in whom the device, knowing less, sent away: what the device did
    // is what happened.
    let ilse = staff(&house, 0).await?;
    ensure!(report(&house.desk, &ilse, date).await?.is_empty(), "nobody was in twice");
    let scans =
        house.desk.store.read(move |c| matricle_store::door::last_scans(c, date, 4)).await?;
    ensure!(scans.iter().filter(|s| s.attendee == Some(people[0].id)).count() == 1, "once each");

    // Two tabs of one device: what one keeps the other sends, once.
    let first = b.driver.window().await?;
    b.driver.new_tab().await?;
    let tab = b.driver.windows().await?.into_iter().find(|w| *w != first).context("a tab")?;
    b.driver.switch_to_window(tab).await?;
    at_its_door(&b, &cable.url, date).await?;
    cable.set(State::Cut);
    b.press(&format!("{}\n", people[2].code)).await?;
    b.says("#verdict", "not settled").await?;
    b.driver.switch_to_window(first).await?;
    b.press(&format!("{}\n", people[2].code)).await?;
    b.says("#verdict", "Already in").await?;
    settled(&b).await?;
    ensure!(report(&house.desk, &ilse, date).await?.is_empty());
    ensure!(matches!(presence(&house, people[2].id).await?, Presence::In { .. }));

    // What the program has already is undone while it cannot be asked: it hears of it later.
    b.press(&format!("{}\n", people[3].code)).await?;
    b.says("#verdict", &people[3].name).await?;
    b.says("#verdict", "Come in").await?;
    cable.set(State::Cut);
    b.says("#netsay", "No network").await?;
    b.click("#log [data-undo] button").await?;
    b.says("#verdict", "when the network is back").await?;
    settled(&b).await?;
    ensure!(presence(&house, people[3].id).await? == Presence::Expected);
    ensure!(matricle_faults(&house).await?.is_empty());
    Ok(())
}

/// Every case that a ticket can be in, judged by the device from its roster, then shown to the
/// program: word and reason are the same. And texts of all kinds are read alike.
#[tokio::test(flavor = "multi_thread")]
async fn a_device_judges_as_core_does() -> Result<()> {
    let house = House::open().await?;
    let (date, _) = expected(&house).await?;
    house
        .desk
        .store
        .write(move |tx| {
            // One state after the other over the bookings of today, owing and not, in and out.
            let states = [
                "confirmed", "requested", "confirmed", "awaiting payment", "confirmed", "cancelled",
                "confirmed", "declined", "confirmed", "lapsed",
            ];
            let ids: Vec<i64> = tx
                .prepare("SELECT id FROM bookings WHERE date_id = ?1 ORDER BY id")?
                .query_map([date.0], |r| r.get(0))?
                .collect::<Result<_, _>>()?;
            for (n, id) in ids.iter().enumerate() {
                let (state, due) = (states[n % 10], if n % 5 == 4 { 800 } else { 0 });
                tx.execute(
                    "UPDATE bookings SET state = ?2, total_minor = ?3, paid_minor = 0, test = ?4,
                        deadline = CASE WHEN ?2 = 'awaiting payment' THEN 1795000000000000 END WHERE id = ?1",
                    (id, state, due, n == 8),
                )?;
            }
            tx.execute_batch(
                "UPDATE attendees SET presence = 'expected', in_at = NULL, in_door = NULL WHERE presence <> 'expected' AND id % 2 = 0;
                 CREATE TEMP TABLE firm AS SELECT a.id, row_number() OVER (ORDER BY a.id) AS n FROM attendees a
                    JOIN bookings b ON b.id = a.booking_id WHERE b.state = 'confirmed' AND b.total_minor = 0 AND b.test = 0;
                 UPDATE attendees SET presence = 'left', in_at = NULL, in_door = NULL WHERE id IN (SELECT id FROM firm WHERE n % 5 = 1);
                 UPDATE attendees SET presence = 'missed', in_at = NULL, in_door = NULL WHERE id IN (SELECT id FROM firm WHERE n % 5 = 2);
                 UPDATE attendees SET presence = 'expected', in_at = NULL, in_door = NULL, given_up_at = 1764092400000000 WHERE id IN (SELECT id FROM firm WHERE n % 5 = 3);
                 UPDATE attendees SET note = 'speaker: green room' WHERE id % 4 = 1;",
            )?;
            tx.execute("UPDATE dates SET again = 0 WHERE id = ?1", [date.0])?;
            let one: i64 = tx.query_row("SELECT min(id) FROM attendees WHERE date_id = ?1", [date.0], |r| r.get(0))?;
            tx.execute("INSERT INTO dead_codes (code, attendee_id, died_at) VALUES (?1, ?2, 0)", (matricle_core::words::codes::TicketCode::from_random(77).as_str(), one))?;
            matricle_store::door::give_house_code(tx, "BAND 0042", (date, AttendeeId(one)), "Ilse", jiff::Timestamp::UNIX_EPOCH)
        })
        .await?;
    let roster =
        house.desk.store.read(move |c| matricle_store::door::roster(c, date, 1000)).await?;
    let mut shown: Vec<String> = roster.into_iter().map(|(code, _)| code).collect();
    shown.extend([
        "TTTTTTTTTTTX".into(),
        "4006381333931".into(),
        "band 0042 ".into(),
        "Привет".into(),
    ]);

    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 1).await?;
    b.driver.goto(format!("{}/door/{date}", house.url)).await?;
    b.find("#doorwrap[data-roster]").await?;
    let both = format!(
        "const shown = {}, token = document.querySelector('#doorwrap').dataset.token, keep = window.doorKeep;
         const roster = await keep.ready(await (await fetch('/door/{date}/roster')).json());
         const here = [];
         for (const text of shown) {{ const v = await keep.judge(roster, new Map(), {{ text }}); here.push([v.word, v.reason, v.name, v.note]); }}
         const there = [];
         for (const text of shown) {{
            const body = new URLSearchParams({{ text, by: 'scanner', key: crypto.randomUUID() }});
            const html = await (await fetch('/door/{date}/scan', {{ method: 'POST', body, headers: {{ 'x-form-token': token, 'HX-Request': 'true' }} }})).text();
            const part = document.createElement('template'); part.innerHTML = html;
            const say = (css) => part.content.querySelector(css)?.textContent ?? '';
            there.push([say('.word'), say('.what b'), say('.who'), say('.doornote')]);
         }}
         done([here, there])",
        serde_json::to_string(&shown)?
    );
    // Names of the list that was taken along are found in spite of a slip, and no others.
    let slips = format!(
        "const keep = window.doorKeep, roster = await keep.ready(await (await fetch('/door/{date}/roster')).json());
         const lost = [];
         for (const row of roster.byAttendee.values()) {{
            const word = keep.fold(row[3]).split(' ').find((w) => w.length > 4);
            if (!word) continue;
            for (const slip of [word.slice(0, 2) + word.slice(3), word.slice(0, 2) + 'q' + word.slice(2), word[1] + word[0] + word.slice(2)])
                if (!keep.names(roster, slip).some((r) => r[3] === row[3])) lost.push([row[3], slip]);
         }}
         done([roster.byAttendee.size, lost, keep.names(roster, 'qxqxqx').length])"
    );
    let slips = b.later(&slips).await?;
    ensure!(slips[0].as_u64() > Some(10) && slips[1] == serde_json::json!([]), "{slips}");
    ensure!(slips[2] == 0, "{slips}");

    let told = b.later(&both).await?;
    let (here, there) = (&told[0], &told[1]);
    let (here, there) =
        (here.as_array().context("verdicts here")?, there.as_array().context("there")?);
    ensure!(here.len() == shown.len() && here.len() > 25, "{}", here.len());
    let mut words = std::collections::BTreeSet::new();
    for ((text, here), there) in shown.iter().zip(here).zip(there) {
        // Shown by another of their codes, or with the ticket of a pair, they are in by then.
        let again = there[0] == "Already in" && here[0] == "Come in";
        ensure!(again || here == there, "{text}: here {here}, there {there}");
        words.insert(here[0].as_str().unwrap_or_default().to_owned());
    }
    for word in [
        "Come in",
        "To pay",
        "Cancelled",
        "A test",
        "Went out",
        "Seat given up",
        "Misread",
        "Unknown",
    ] {
        ensure!(words.contains(word), "no case of {word}: {words:?}");
    }

    // Reading: sound codes, one letter off, too long, with what scanners put before them.
    let mut texts: Vec<String> = Vec::new();
    for n in 0..60u64 {
        let code = matricle_core::words::codes::TicketCode::from_random(
            n.wrapping_mul(0x9E37_79B9_7F4A_7C15),
        );
        let plain = code.as_str();
        texts.extend([
            code.to_string(),
            plain.to_lowercase(),
            format!("]C0{plain}"),
            format!("+Q1{plain}"),
            plain[1..].to_owned(),
            format!("{plain}B"),
            format!("X{plain}BCDF"),
            plain.replacen(&plain[3..4], "Q", 1),
            format!("{}{}", &plain[6..], &plain[..6]),
            format!("é{plain}"),
        ]);
    }
    let read_here = b.later(&format!(
        "done({}.map((t) => {{ const r = window.doorKeep.read(t); return r.code ?? (r.misread ? 'misread' : 'not'); }}))",
        serde_json::to_string(&texts)?
    )).await?;
    for (text, here) in texts.iter().zip(read_here.as_array().context("readings")?) {
        let there = match read(text) {
            Reading::Code(code) => code.as_str().to_owned(),
            Reading::Misread => "misread".into(),
            Reading::NotACode => "not".into(),
        };
        ensure!(here == &there, "{text}: here {here}, there {there}");
    }
    Ok(())
}

/// AAA contrast (WCAG 2.2, 1.4.6) of everything on the page.
async fn is_seen_in_the_sun(b: &Browser) -> Result<()> {
    let axe =
        std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../assets/vendor/axe/axe.min.js");
    b.driver.execute(std::fs::read_to_string(axe)?, vec![]).await?;
    let found = b
        .later(
            "const r = await axe.run(document.querySelector('#doorwrap'), { runOnly: ['color-contrast-enhanced'], rules: { 'color-contrast-enhanced': { enabled: true } } });
             done(r.violations.flatMap((v) => v.nodes.map((n) => `${n.target.join(' ')}: ${n.any[0]?.data?.contrastRatio} ${n.html.slice(0, 80)}`)))",
        )
        .await?;
    ensure!(found.as_array().is_some_and(Vec::is_empty), "too pale: {found}");
    Ok(())
}

/// At the doors of rooms as well: who signed up here, elsewhere, for nothing; early, late, full.
#[tokio::test(flavor = "multi_thread")]
async fn a_device_judges_at_the_doors_of_rooms_as_core_does() -> Result<()> {
    let house = House::open().await?;
    let (date, people) = expected(&house).await?;
    let now = house.desk.clock.now();
    let rooms = [("loft", 1, 2), ("cellar", 10, 30), ("nook", 10, 1)];
    let span = |begun: i64| {
        let at = |minutes: i64| {
            let at = now + jiff::SignedDuration::from_mins(minutes);
            at.to_zoned_datetime(
                jiff::tz::TimeZone::get("Europe/Dublin").unwrap_or(jiff::tz::TimeZone::UTC),
            )
            .datetime()
        };
        matricle_core::dates::schedule::Span::new(at(-begun), at(60 - begun), "Europe/Dublin")
    };
    let ids: Vec<AttendeeId> = people.iter().map(|p| p.id).collect();
    let mut sessions = Vec::new();
    for (room, begun, seats) in rooms {
        let new = matricle_store::events::NewSession {
            title: format!("Talk in the {room}"),
            track: String::new(),
            room: room.into(),
            host: String::new(),
            span: span(begun)?,
            seats: Some(seats),
            sign_up: true,
        };
        sessions.push(new);
    }
    house
        .desk
        .store
        .write(move |tx| {
            for (n, new) in sessions.iter().enumerate() {
                let session = matricle_store::sessions::add(tx, date, new)?;
                // Two for the loft, two for the cellar, one for the nook.
                for id in ids.iter().skip(2 * n).take(2 - n / 2) {
                    matricle_store::sessions::sign_up(tx, *id, &[session], &[])?;
                }
            }
            Ok::<_, matricle_store::StoreError>(())
        })
        .await?;
    let ilse = staff(&house, 0).await?;
    let fields = [
        ("again", "yes"),
        ("free_after", "5"),
        ("name_0", "Loft"),
        ("room_0", "loft"),
        ("name_1", "Cellar"),
        ("room_1", "cellar"),
        ("name_2", "Nook"),
        ("room_2", "nook"),
    ];
    let form = fields.map(|(n, v)| (n.to_owned(), v.to_owned())).to_vec();
    door::set_up::keep(&house.desk, &ilse, date, matricle_core::forms::form::Form::new(form))
        .await?;
    let in_first = Shown::Text(people[6].code.clone());
    door::show(&house.desk, &ilse, date, Device::at("Nook", "key-in-the-nook"), in_first).await?;

    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 1).await?;
    b.driver.goto(format!("{}/door/{date}", house.url)).await?;
    b.find("#doorwrap[data-roster]").await?;
    b.is_fit_for_all().await?;
    let codes: Vec<&str> = people.iter().take(7).map(|p| p.code.as_str()).collect();
    let both = format!(
        "const keep = window.doorKeep, token = document.querySelector('#doorwrap').dataset.token, told = [];
         for (const door of ['Loft', 'Nook', 'Cellar']) {{
            await fetch('/door/{date}?door=' + door);
            const roster = await keep.ready(await (await fetch('/door/{date}/roster')).json());
            const here = [];
            for (const text of {codes}) {{ const v = await keep.judge(roster, new Map(), {{ text, door }}, roster.at); here.push([v.word, v.reason, v.name]); }}
            for (const [n, text] of {codes}.entries()) {{
                const body = new URLSearchParams({{ text, by: 'scanner', key: crypto.randomUUID() }});
                const html = await (await fetch('/door/{date}/scan', {{ method: 'POST', body, headers: {{ 'x-form-token': token, 'HX-Request': 'true' }} }})).text();
                const part = document.createElement('template'); part.innerHTML = html;
                const say = (css) => part.content.querySelector(css)?.textContent ?? '';
                told.push([door, here[n], [say('.word'), say('.what b'), say('.who')]]);
            }}
         }}
         done(told)",
        codes = serde_json::to_string(&codes)?
    );
    let told = b.later(&both).await?;
    let told = told.as_array().context("verdicts")?;
    let mut words = std::collections::BTreeSet::new();
    for case in told {
        ensure!(case[1] == case[2], "{case}");
        words.insert(format!("{}: {}", case[0], case[1][0]));
    }
    for word in [
        "\"Loft\": \"Come in\"",
        "\"Loft\": \"Other door\"",
        "\"Loft\": \"Sign-ups first\"",
        "\"Nook\": \"Full\"",
        "\"Nook\": \"Already in\"",
        "\"Cellar\": \"Come in\"",
    ] {
        ensure!(words.contains(word), "no case of {word}: {words:?}");
    }
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_walk_in_a_pair_and_the_waiting_list_by_thumb() -> Result<()> {
    let house = House::open().await?;
    let (ilse, bram) = (staff(&house, 0).await?, staff(&house, 1).await?);
    let (date, _) = expected(&house).await?;
    let cable = Cable::to(&house.url).await?;
    let b = joined(&house, &cable, "Yard phone").await?;
    at_its_door(&b, &cable.url, date).await?;
    is_seen_in_the_sun(&b).await?;

    // A walk-in in three touches: ticket, money, in.
    b.click("#walk summary").await?;
    b.click("#walk .wpick").await?;
    b.click("#walk [value=card]").await?;
    b.click("#walk form > .go").await?;
    b.says("#verdict", "Come in").await?;
    b.says("#verdict", "Walk-in").await?;
    is_seen_in_the_sun(&b).await?;
    b.is_fit_for_all().await?;

    // With the ticket of a pair both come in; who is missing takes one touch more.
    let all = house.desk.store.read(move |c| matricle_store::door::roster(c, date, 1000)).await?;
    let (code, pair) = all
        .iter()
        .find(|(_, p)| {
            p.ticket == "Pair" && p.facts.presence == Presence::Expected && p.facts.due.minor == 0
        })
        .context("a pair")?;
    let other = all
        .iter()
        .find(|(_, p)| p.booking == pair.booking && p.facts.attendee != pair.facts.attendee);
    let other = other.context("the other of the pair")?.1.clone();
    b.press(&format!("{code}\n")).await?;
    b.says("#verdict", &format!("{}, in as well", other.name)).await?;
    b.is_fit_for_all().await?;
    ensure!(matches!(presence(&house, other.facts.attendee).await?, Presence::In { .. }));
    b.click(".party button").await?;
    b.says("#verdict", "Undone").await?;
    ensure!(presence(&house, other.facts.attendee).await? == Presence::Expected);
    ensure!(matches!(presence(&house, pair.facts.attendee).await?, Presence::In { .. }));

    // Money taken by mistake is taken back with the undo.
    let owing =
        all.iter().map(|(_, p)| p).find(|p| p.facts.due.minor > 0).context("somebody who owes")?;
    b.fill("#text", &owing.name.to_uppercase()).await?;
    b.click(&format!("[aria-label=\"Check {}\"]", owing.name)).await?;
    b.says("#verdict", "To pay").await?;
    is_seen_in_the_sun(&b).await?;
    b.click(".paynow button[value=cash]").await?;
    b.says("#verdict", "Come in").await?;
    b.click("#undolast button").await?;
    b.says("#verdict", "back").await?;

    // The hall is full, somebody waits, and the minute comes.
    let set = matricle_core::forms::form::Form::new(vec![
        ("again".into(), "yes".into()),
        ("give_up".into(), "5".into()),
    ]);
    door::set_up::keep(&house.desk, &ilse, date, set).await?;
    let sold = door::walk_in::for_walk_ins(&house.desk, &bram, date).await?;
    let one = &sold.tickets[0];
    let wanted = vec![matricle_core::seats::Wanted { ticket: one.ticket, quantity: 1 }];
    for n in 0.. {
        let walk = door::walk_in::WalkIn {
            wanted: wanted.clone(),
            due_minor: one.price.minor,
            method: matricle_core::money::ledger::Method::Cash,
            name: String::new(),
            waiter: None,
        };
        let at = (date, Device::at("gate", &format!("key-fill-{n}")));
        if door::walk_in::walk_in(&house.desk, &bram, at, walk).await.is_err() {
            break;
        }
    }
    let fields = matricle_core::forms::form::Form::new(vec![
        ("name".into(), "Ros Hale".into()),
        ("email".into(), "ros@post.example".into()),
    ]);
    matricle_desk::bookings::waiting::join(&house.desk, date, wanted, &Default::default(), fields)
        .await?;
    b.driver.refresh().await?;
    b.click("#walk summary").await?;
    b.says("#walk", "kept until").await?;
    b.says(".walkline", "no seats for them yet").await?;
    // Two hours go by for the date; they are taken back before the books are looked at.
    let passes = async |us: i64| {
        let moved = move |tx: &matricle_store::Tx<'_>| {
            let sql = "UPDATE dates SET starts_at = starts_at - ?2 WHERE id = ?1";
            Ok::<_, matricle_store::StoreError>(tx.execute(sql, (date.0, us)).map(drop)?)
        };
        house.desk.store.write(moved).await
    };
    passes(7_200_000_000).await?;
    b.driver.refresh().await?;
    b.click("#walk summary").await?;
    b.says("#walk", "seats can be given now").await?;
    b.click(".walkline button").await?;
    b.says("#verdict", "Ros Hale").await?;
    b.says("#verdict", "Come in").await?;
    passes(-7_200_000_000).await?;
    ensure!(matricle_faults(&house).await?.is_empty(), "{:?}", matricle_faults(&house).await?);
    Ok(())
}

/// Keys as a device has them: what they give on its layout, and where they are.
async fn keys(b: &Browser, keys: &[(String, String)], ends: &[&str], gap: u64) -> Result<()> {
    keys_from(b, now()?, keys, ends, gap).await
}

/// What time it is, as keys are told it.
fn now() -> Result<std::time::Duration> {
    Ok(std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH)?)
}

/// The pace is that of the scanner, however busy the machine that tests it.
async fn keys_from(
    b: &Browser,
    began: std::time::Duration,
    keys: &[(String, String)],
    ends: &[&str],
    gap: u64,
) -> Result<()> {
    let ends = ends.iter().map(|e| ((*e).to_owned(), (*e).to_owned()));
    for (n, (key, code)) in keys.iter().cloned().chain(ends).enumerate() {
        let at = (began + std::time::Duration::from_millis(gap * n as u64)).as_secs_f64();
        let text = match key.as_str() {
            "Enter" => "\r".to_owned(),
            "Tab" => String::new(),
            key => key.to_owned(),
        };
        let number = match key.as_str() {
            "Enter" => 13,
            "Tab" => 9,
            _ => 0,
        };
        b.cdp("Input.dispatchKeyEvent", serde_json::json!({ "type": "keyDown", "key": key, "code": code, "text": text, "windowsVirtualKeyCode": number, "timestamp": at })).await?;
        b.cdp("Input.dispatchKeyEvent", serde_json::json!({ "type": "keyUp", "key": key, "code": code, "windowsVirtualKeyCode": number })).await?;
        tokio::time::sleep(std::time::Duration::from_millis(gap)).await;
    }
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn scanners_are_read_through_layouts_and_whatever_they_send_besides() -> Result<()> {
    let house = House::open().await?;
    let (date, people) = expected(&house).await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 1).await?;
    b.driver.goto(format!("{}/door/{date}", house.url)).await?;
    b.find("#doorwrap[data-roster]").await?;
    let plain = |code: &str| -> Vec<(String, String)> {
        code.chars().map(|c| (c.to_string(), format!("Key{c}"))).collect()
    };
    // The letters of our codes on a keyboard for another alphabet.
    let other = |code: &str| -> Vec<(String, String)> {
        let of = |c| match c {
            'B' => 'и',
            'C' => 'с',
            'D' => 'в',
            'F' => 'а',
            'G' => 'п',
            'H' => 'р',
            'J' => 'о',
            'K' => 'л',
            'L' => 'д',
            'N' => 'т',
            'P' => 'з',
            'R' => 'к',
            'S' => 'ы',
            'T' => 'е',
            'V' => 'м',
            _ => 'ч',
        };
        code.chars().map(|c| (of(c).to_string(), format!("Key{c}"))).collect()
    };
    let small = |code: &str| {
        plain(code).into_iter().map(|(k, c)| (k.to_lowercase(), c)).collect::<Vec<_>>()
    };
    // `]Q1` on a German keyboard.
    let marked = |code: &str| {
        let mut all = vec![
            ("+".to_owned(), "BracketRight".to_owned()),
            ("Q".into(), "KeyQ".into()),
            ("1".into(), "Digit1".into()),
        ];
        all.extend(plain(code));
        all
    };
    type Way<'a> = (&'a str, Vec<(String, String)>, &'a [&'a str], u64);
    let ways: [Way<'_>; 6] = [
        ("another alphabet", other(&people[0].code), &["Enter"], 2),
        ("Caps Lock", small(&people[1].code), &["Enter"], 2),
        ("no Enter", plain(&people[2].code), &[], 2),
        ("Enter twice", plain(&people[3].code), &["Enter", "Enter"], 2),
        ("a symbology identifier", marked(&people[4].code), &["Tab"], 2),
        ("slow Bluetooth", plain(&people[5].code), &["Enter"], 110),
    ];
    for (n, (way, typed, ends, gap)) in ways.into_iter().enumerate() {
        // Wherever the focus is: nothing changes there.
        let at = ["#text", "#door", "#sound"][n % 3];
        b.script(&format!("document.querySelector('{at}').focus()")).await?;
        keys(&b, &typed, ends, gap).await?;
        b.says("#verdict", &people[n].name).await.with_context(|| way.to_owned())?;
        b.says("#verdict", "Come in").await.with_context(|| way.to_owned())?;
        let left = b.script("return [document.querySelector('#text').value, document.querySelector('#door').value, document.querySelector('#sound').textContent]").await?;
        ensure!(left == serde_json::json!(["", "main door", "Sound on"]), "{way}: {left}");
    }
    // A foreign code, and letters of another alphabet that are none of ours: never silence.
    let foreign: Vec<(String, String)> =
        "4006381333931".chars().map(|c| (c.to_string(), format!("Digit{c}"))).collect();
    keys(&b, &foreign, &["Enter"], 2).await?;
    b.says("#verdict", "Unknown").await?;
    b.says("#giving", "4006381333931").await?;
    // It is a card of the house: given to somebody, it is theirs.
    b.fill("#text", &people[6].name.to_lowercase()).await?;
    b.click(&format!("[aria-label=\"Give it to {}\"]", people[6].name)).await?;
    b.says("#flash", "has it now").await?;
    keys(&b, &foreign, &["Enter"], 2).await?;
    b.says("#verdict", &people[6].name).await?;
    // A name that was begun, a touch, and a scan at once: what was typed before is over.
    b.script("document.querySelector('#text').focus()").await?;
    let (began, letters) =
        (now()?, [("r".to_owned(), "KeyR".to_owned()), ("o".into(), "KeyO".into())]);
    keys_from(&b, began, &letters, &[], 2).await?;
    b.click("#doortitle").await?;
    let soon = began + std::time::Duration::from_millis(200);
    keys_from(&b, soon, &foreign, &["Enter"], 2).await?;
    b.says("#verdict", "Already in").await?;
    // Without a touch in between, the pace alone tells a hand from a scanner.
    b.script("document.querySelector('#text').focus()").await?;
    let began = now()?;
    keys_from(&b, began, &letters, &[], 90).await?;
    let soon = began + std::time::Duration::from_millis(290);
    keys_from(&b, soon, &plain(&people[0].code), &["Enter"], 2).await?;
    b.says("#verdict", &people[0].name).await?;
    let strange: Vec<(String, String)> =
        "жжжжжжжжжжжж".chars().map(|c| (c.to_string(), "Semicolon".to_owned())).collect();
    keys(&b, &strange, &["Enter"], 2).await?;
    b.says("#verdict", "Unknown").await?;

    // The scanner that stands in types the same way, set to another layout than the device.
    let here = b.driver.window().await?;
    b.driver.goto(&house.scanner).await?;
    b.click("#open").await?;
    let door = b.driver.windows().await?.into_iter().find(|w| *w != here).context("the door")?;
    b.driver.switch_to_window(door.clone()).await?;
    b.find("#doorwrap[data-roster]").await?;
    b.driver.switch_to_window(here.clone()).await?;
    b.script("document.querySelector('#device').value = 'Czech'; document.querySelector('#small').checked = true").await?;
    b.click(&format!("[data-code={}]", people[7].code)).await?;
    b.driver.switch_to_window(door).await?;
    b.says("#verdict", &people[7].name).await?;
    b.driver.switch_to_window(here).await?;

    // What a volunteer has to know is one page, on A4 and on Letter.
    b.driver.goto(format!("{}/door/guide", house.url)).await?;
    b.is_fit_for_all().await?;
    for (width, height) in [(8.27, 11.69), (8.5, 11.0)] {
        let paper = serde_json::json!({ "paperWidth": width, "paperHeight": height });
        let printed = b.cdp("Page.printToPDF", paper).await?;
        let pdf = STANDARD.decode(printed["data"].as_str().context("a PDF")?)?;
        let pages = String::from_utf8_lossy(&pdf).matches("/Type /Page\n").count();
        ensure!(pages == 1, "{pages} pages of {width} by {height} inches");
    }

    // The page that sets a scanner up says what it is.
    b.driver.goto(format!("{}/door/scanner", house.url)).await?;
    b.is_fit_for_all().await?;
    let setup = b.find("[data-setup]").await?.attr("data-setup").await?.context("the code")?;
    let german = |c: char| match c {
        'Z' => 'Y',
        'Y' => 'Z',
        '-' => 'ß',
        c => c,
    };
    let typed: Vec<(String, String)> =
        setup.chars().map(|c| (german(c).to_string(), "KeyA".to_owned())).collect();
    keys(&b, &typed, &["Enter"], 2).await?;
    b.says("#scanfacts", "the device is set to German").await?;
    b.says("#scanadvice", "set the scanner's keyboard").await?;
    tokio::time::sleep(std::time::Duration::from_millis(700)).await;
    let typed: Vec<(String, String)> =
        setup.chars().map(|c| (c.to_string(), "KeyA".to_owned())).collect();
    keys(&b, &typed, &["Enter"], 2).await?;
    b.says("#scanword", "All is well").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn tickets_stand_on_the_booker_s_telephone_without_network() -> Result<()> {
    let house = House::open().await?;
    let cable = Cable::to(&house.url).await?;
    let (_, people) = expected(&house).await?;
    let id = people[0].id;
    let person = house
        .desk
        .store
        .read(move |c| matricle_store::door::by_id(c, id))
        .await?
        .context("them")?;
    let booking = person.booking;
    let found = house.desk.store.read(move |c| matricle_store::bookings::by_id(c, booking)).await?;
    let own = house.desk.booking_url(found.context("the booking")?.reference);
    let own = own.replace(&house.desk.public_url.to_string(), &cable.url);
    let b = Browser::open(PHONE, &[]).await?;
    b.cdp(
        "Emulation.setTouchEmulationEnabled",
        serde_json::json!({ "enabled": true, "maxTouchPoints": 1 }),
    )
    .await?;
    b.driver.goto(&own).await?;
    let kept = "for (let n = 0; n < 80; n += 1) { if ((await (await caches.open('tickets-pages')).keys()).length) { done('kept'); return; } await new Promise((r) => setTimeout(r, 100)); } done(matchMedia('(pointer: coarse)').matches)";
    ensure!(b.later(kept).await? == "kept", "{}", b.later(kept).await?);
    cable.set(State::Cut);
    b.driver.refresh().await?;
    b.says("main", "Without network").await?;
    b.click(".showtickets").await?;
    b.says("dialog .name", "").await?;
    let wide = b
        .script("return document.querySelector('dialog .qr').getBoundingClientRect().width")
        .await?;
    ensure!(wide.as_f64().is_some_and(|w| w > 300.0), "{wide}");
    b.is_fit_for_all().await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_camera_reads_what_is_dim_turned_and_cracked_and_a_sign_out_wipes() -> Result<()> {
    let house = House::open().await?;
    let (date, _) = expected(&house).await?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.driver.goto(format!("{}/pictures", house.scanner)).await?;
    let folder = tempfile::tempdir()?;
    for way in ["dim", "turned", "cracked"] {
        let figure = b.find(&format!(".held.{way}")).await?;
        let name = figure.text().await?.trim().trim_end_matches(&format!(", {way}")).to_owned();
        let picture = folder.path().join(format!("{way}.png"));
        std::fs::write(
            &picture,
            b.find(&format!(".held.{way} div")).await?.screenshot_as_png().await?,
        )?;
        let film = matricle_browser_tests::film(&picture, folder.path())?;
        let camera = format!("--use-file-for-fake-video-capture={}", film.display());
        let flags =
            ["--use-fake-device-for-media-stream", "--use-fake-ui-for-media-stream", &camera];
        let door = Browser::open(PHONE, &flags).await?;
        door.sign_in(&house, 1).await?;
        door.driver.goto(format!("{}/door/{date}", house.url)).await?;
        door.find("#doorwrap[data-roster]").await?;
        door.click("#camera").await?;
        door.says("#verdict", &name).await.with_context(|| way.to_owned())?;
        if way == "cracked" {
            // Whoever signs out leaves nobody's name on the device.
            let count = "const db = await new Promise((y, n) => { const r = indexedDB.open('door'); r.onsuccess = () => y(r.result); r.onerror = n; });
                let n = 0; for (const s of db.objectStoreNames) n += await new Promise((y) => { const r = db.transaction(s).objectStore(s).count(); r.onsuccess = () => y(r.result); }); done(n)";
            ensure!(door.later(count).await?.as_i64() > Some(0));
            door.click("footer .below button").await?;
            door.says("main", "").await?;
            for _ in 0..50 {
                if door.later(count).await? == 0 {
                    break;
                }
                tokio::time::sleep(std::time::Duration::from_millis(100)).await;
            }
            ensure!(door.later(count).await? == 0, "{}", door.later(count).await?);
        }
    }
    Ok(())
}

/// *Who came* is gone through by keys: each says something of one person, and none leaves the page.
#[tokio::test(flavor = "multi_thread")]
async fn who_came_is_gone_through_by_keys_and_counted_to_the_last() -> Result<()> {
    let house = House::open().await?;
    let ilse = staff(&house, 0).await?;
    let mut begun = None;
    for date in (1..200).map(DateId) {
        let Ok(told) = after::list(&house.desk, &ilse, date).await else { continue };
        let open = told.people.iter().filter(|p| p.mark == Mark::Open).count();
        if told.begun && told.closed.is_none() && open > 2 {
            begun = Some(date);
            break;
        }
    }
    let date = begun.context("a date that has begun, and its list is open")?;
    let b = Browser::open(DESKTOP, &[]).await?;
    b.sign_in(&house, 0).await?;
    let page = format!("{}/office/doors/{date}/after", house.url);
    b.driver.goto(&page).await?;
    b.is_fit_for_all().await?;
    let open = "return document.querySelectorAll('#afterlist [data-mark=open]').length";
    let before = b.script(open).await?.as_u64().context("how many are open")?;
    ensure!(before > 2, "{before}");
    // Where nobody is at hand, a key takes the first of those of whom nothing is said.
    b.script("document.activeElement.blur()").await?;
    b.press("m").await?;
    b.find("#afterlist [data-mark=open]:focus").await?;
    b.press("m").await?;
    b.says(".news", "missed").await?;
    b.press("c").await?;
    b.says(".news", "came").await?;
    ensure!(b.driver.current_url().await?.as_str().starts_with(&page), "the page stays");
    ensure!(b.script(open).await?.as_u64() == Some(before - 2), "one by one");
    let missed = "return document.querySelectorAll('#afterlist [data-mark=missed], #afterlist [data-mark=open]').length";
    let missed = b.script(missed).await?.as_u64().context("how many missed it")?;
    b.click("button[value=close]").await?;
    b.says(".news", &format!("{missed} people missed it")).await
}
