//! The program is killed again and again amid bookings, payments and scans.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use crate::town::{Person, Town, event, json};

/// Mails that are handed over at once, if nobody says otherwise.
const AT_ONCE: u64 = 4;
const KILLS: usize = 5;

/// What people were told before a kill, and so must stay true.
#[derive(Debug, Default)]
struct Told {
    /// Booking page and ticket code of bookings said to be confirmed.
    booked: Vec<(String, String)>,
    /// Codes that were let in.
    inside: BTreeSet<String>,
}

async fn life(url: String, told: Arc<Mutex<Told>>, name: String) -> Result<(), reqwest::Error> {
    let mut person = Person::new();
    let Ok(own) = person.keep(&url, "1").await? else { return Ok(()) };
    if person.book(&own, &name, 1).await?.status != 303 {
        return Ok(());
    }
    let page = person.pay(&own).await?;
    if page.body.contains("Your seats are booked.") {
        let code = page.body.split("class=\"code\">").nth(1).unwrap().split('<').next().unwrap();
        told.lock().unwrap().booked.push((own, code.to_owned()));
    }
    Ok(())
}

async fn volunteer(url: String, told: Arc<Mutex<Told>>, mut person: Person) {
    loop {
        let next = {
            let told = told.lock().unwrap();
            told.booked.iter().map(|(_, c)| c).find(|c| !told.inside.contains(*c)).cloned()
        };
        if let Some(code) = next {
            match person.scan(&url, &code).await {
                // "Already in" is the trace of a scan whose answer the kill swallowed.
                Ok(verdict) if verdict == "in" || verdict == "dup" => {
                    told.lock().unwrap().inside.insert(code);
                }
                Ok(verdict) => assert_eq!(verdict, "", "{code}"),
                Err(_) => {}
            }
        }
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_answer_given_before_a_kill_is_true_after_it() {
    let mut town = Town::found(&event(5000, "5.00"));
    let told = Arc::new(Mutex::new(Told::default()));
    town.open().await;
    for round in 0..KILLS {
        let mut door = Person::new();
        door.sign_in(&town.url).await;
        let mut at_work = vec![tokio::spawn(volunteer(town.url.clone(), Arc::clone(&told), door))];
        for lane in 0..8 {
            let (url, told) = (town.url.clone(), Arc::clone(&told));
            at_work.push(tokio::spawn(async move {
                for n in 0.. {
                    let name = format!("R{round}L{lane}N{n}");
                    if life(url.clone(), Arc::clone(&told), name).await.is_err() {
                        tokio::time::sleep(Duration::from_millis(10)).await;
                    }
                }
            }));
        }
        tokio::time::sleep(Duration::from_millis(900 + 130 * round as u64)).await;
        town.kill();
        for task in at_work {
            task.abort();
            let outcome = task.await;
            assert!(outcome.is_err_and(|e| e.is_cancelled()), "nobody gave up for another reason");
        }
        town.open().await;
        let (booked, inside) = {
            let told = told.lock().unwrap();
            (told.booked.clone(), told.inside.clone())
        };
        let mut person = Person::new();
        for (own, _) in &booked {
            assert!(
                person.get(own).await.unwrap().body.contains("Your seats are booked."),
                "{own}"
            );
        }
        let mut door = Person::new();
        door.sign_in(&town.url).await;
        for code in &inside {
            assert_eq!(door.scan(&town.url, code).await.unwrap(), "dup", "{code} was let in");
        }
    }
    let (booked, inside) = {
        let told = told.lock().unwrap();
        (told.booked.len(), told.inside.len())
    };
    assert!(
        booked >= KILLS * 2 && inside >= KILLS,
        "too little happened: {booked} booked, {inside} in"
    );

    // What the provider holds as paid is booked, once, after the program has asked about it.
    let till = json(&town.path("stand-ins/till.json"));
    let paid: BTreeSet<String> = till["payments"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|p| p["status"] == "paid")
        .map(|p| p["return_url"].as_str().unwrap().to_owned())
        .collect();
    assert!(paid.len() >= booked);
    let mut person = Person::new();
    for own in &paid {
        let page = person.get(own).await.unwrap();
        assert!(page.body.contains("Your seats are booked."), "paid, but not booked: {own}");
    }

    // Everybody who is booked gets one mail. Those that were being handed over when the
    // program was killed may be handed over again, under the same Message-ID.
    let mails = format!("{}/mails.json", town.mailbox);
    let mut arrived: BTreeMap<String, u64> = BTreeMap::new();
    for _ in 0..300 {
        let list: serde_json::Value = reqwest::get(&mails).await.unwrap().json().await.unwrap();
        arrived = list
            .as_array()
            .unwrap()
            .iter()
            .map(|m| (m["message_id"].as_str().unwrap().to_owned(), m["times"].as_u64().unwrap()))
            .collect();
        if arrived.len() >= paid.len() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    assert_eq!(arrived.len(), paid.len(), "a mail for each booking, and no other");
    let again: u64 = arrived.values().map(|times| times - 1).sum();
    let under_way = KILLS as u64 * AT_ONCE;
    assert!(again <= under_way, "{again} mails were handed over twice in {KILLS} kills");
    assert!(town.stop().success());
    town.is_sound();
    println!(
        "{booked} booked, {inside} let in, {} paid, {again} mails handed over twice",
        paid.len()
    );
}

/// What a device did without an answer: the key it gave, the code, and when.
type Kept = (String, String, i64);

/// A device at a door, which judges by itself when nobody answers.
struct AtDoor {
    person: Person,
    door: &'static str,
    seen: BTreeSet<String>,
    kept: Vec<Kept>,
    let_in: Vec<String>,
}

impl AtDoor {
    #[allow(clippy::disallowed_methods, reason = "a device asks its own clock")]
    async fn meet(&mut self, url: &str, code: &str, n: usize, offline: bool) {
        if !self.seen.insert(code.to_owned()) {
            return;
        }
        let (key, at) = (format!("{}-{n:06}", self.door), jiff::Timestamp::now().as_millisecond());
        if !offline {
            let fields = [("text", code), ("by", "scanner"), ("key", &key)];
            let asked = self.person.post(&format!("{url}/door/1/scan"), &fields).await;
            match asked.ok().filter(|page| page.status < 500) {
                Some(page) if page.body.contains("data-verdict=\"in\"") => {
                    self.let_in.push(code.to_owned());
                    return;
                }
                Some(page) if page.body.contains("data-verdict=\"dup\"") => return,
                // No answer: it goes by what it knows.
                _ => {}
            }
        }
        self.let_in.push(code.to_owned());
        self.kept.push((key, code.to_owned(), at));
    }

    /// Hands in what it kept, each until it is answered, and each once more than needed.
    async fn hand_in(&mut self, url: &str) {
        for (key, code, at) in &self.kept {
            for _ in 0..2 {
                let at = at.to_string();
                let fields = [
                    ("key", key.as_str()),
                    ("text", code),
                    ("did", "let in"),
                    ("at", &at),
                    ("behind", "0"),
                    ("door", self.door),
                ];
                let page =
                    self.person.post(&format!("{url}/door/1/settle"), &fields).await.unwrap();
                assert_eq!(page.status, 200, "{}", page.body);
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_devices_kept_is_settled_once_each_though_the_server_was_killed() {
    let mut town = Town::found(&event(200, "5.00"));
    town.open().await;
    let mut codes = Vec::new();
    for n in 0..30 {
        let mut person = Person::new();
        let own = person.keep(&town.url, "1").await.unwrap().unwrap();
        person.book(&own, &format!("Guest{n}"), 1).await.unwrap();
        let page = person.pay(&own).await.unwrap();
        let code = page.body.split("class=\"code\">").nth(1).unwrap().split('<').next().unwrap();
        codes.push(code.replace('-', ""));
    }
    let codes = Arc::new(codes);
    let mut devices = Vec::new();
    for door in ["gate", "side", "yard"] {
        let mut person = Person::new();
        person.sign_in(&town.url).await;
        devices.push(AtDoor {
            person,
            door,
            seen: BTreeSet::new(),
            kept: Vec::new(),
            let_in: Vec::new(),
        });
    }
    let mut at_work = Vec::new();
    for (lane, mut device) in devices.into_iter().enumerate() {
        let (url, codes) = (town.url.clone(), Arc::clone(&codes));
        at_work.push(tokio::spawn(async move {
            for n in 0..codes.len() * 2 {
                // Each device meets everybody, in an order of its own, now and then without network.
                let code = &codes[(n * 7 + lane * 11) % codes.len()];
                device.meet(&url, code, n, n % 5 == lane).await;
                tokio::time::sleep(Duration::from_millis(25)).await;
            }
            device
        }));
    }
    for _ in 0..3 {
        tokio::time::sleep(Duration::from_millis(350)).await;
        town.kill();
        tokio::time::sleep(Duration::from_millis(120)).await;
        town.open().await;
    }
    let (mut let_in, mut kept) = (Vec::new(), 0);
    for task in at_work {
        let mut device = task.await.unwrap();
        kept += device.kept.len();
        device.hand_in(&town.url).await;
        let_in.extend(device.let_in);
    }
    assert!(kept > 5, "too little happened without an answer: {kept}");
    assert!(town.stop().success());
    town.is_sound();
    let conn = matricle_store::Store::writer(&town.path("data/matricle.sqlite")).unwrap();
    let lines = matricle_desk::door::report::report_in(&conn, matricle_core::DateId(1)).unwrap();
    for code in codes.iter() {
        let times = let_in.iter().filter(|c| *c == code).count();
        let read = matricle_core::words::codes::read(code);
        let matricle_core::words::codes::Reading::Code(code) = read else { panic!("{code}") };
        let person =
            matricle_store::door::by_code(&conn, code, matricle_core::DateId(1)).unwrap().unwrap();
        let passages = matricle_store::door::passages(&conn, person.facts.attendee).unwrap();
        assert_eq!(passages.len(), times, "{}: each passage once", person.name);
        let told = lines.iter().filter(|l| l.name == person.name).count();
        assert_eq!(told, times.saturating_sub(1), "{}: each one too many is told", person.name);
        let first = passages.iter().min_by_key(|p| (p.at, p.scan)).unwrap();
        let stands = matricle_core::door::Presence::In { at: first.at, door: first.door.clone() };
        assert_eq!(person.facts.presence, stands, "the earliest stands");
    }
}
