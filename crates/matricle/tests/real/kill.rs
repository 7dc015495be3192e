//! The program is killed again and again amid bookings, payments and scans.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use crate::town::{Person, Town, event, json};

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

    // Everybody who is booked gets one mail. One that was being handed over when the
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
    assert!(again <= KILLS as u64, "{again} mails were handed over twice in {KILLS} kills");
    assert!(town.stop().success());
    town.is_sound();
    println!(
        "{booked} booked, {inside} let in, {} paid, {again} mails handed over twice",
        paid.len()
    );
}
