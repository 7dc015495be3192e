//! Two hundred people want the last ten seats at once.

use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use crate::town::{Person, Town, event};

#[tokio::test(flavor = "multi_thread")]
async fn of_two_hundred_bookers_for_ten_seats_ten_get_one_and_all_others_are_told() {
    let mut town = Town::found(&event(10, "5.00"));
    town.open().await;
    let booked = Arc::new(AtomicU32::new(0));
    let told = Arc::new(AtomicU32::new(0));
    let bookers = (0..200).map(|i| {
        let (url, booked, told) = (town.url.clone(), Arc::clone(&booked), Arc::clone(&told));
        tokio::spawn(async move {
            let mut person = Person::new();
            // Whoever is refused looks in again while others may still abandon.
            for attempt in 0..40 {
                match person.keep(&url, "1").await.unwrap() {
                    // Every third gives the seat back, once.
                    Ok(own) if i % 3 == 0 && attempt == 0 => {
                        let back = person.post(&format!("{own}/give-back"), &[]).await.unwrap();
                        assert_eq!(back.status, 303);
                    }
                    Ok(own) => {
                        let to_pay = person.book(&own, &format!("Person{i}"), 1).await.unwrap();
                        assert_eq!(to_pay.status, 303, "{}", to_pay.body);
                        let page = person.pay(&own).await.unwrap();
                        assert!(page.body.contains("Your seats are booked."), "{}", page.body);
                        booked.fetch_add(1, Ordering::Relaxed);
                        return;
                    }
                    Err(page) => {
                        assert!(
                            page.contains("No seats are left") || page.contains("full"),
                            "{page}"
                        );
                        if booked.load(Ordering::Relaxed) == 10 {
                            break;
                        }
                    }
                }
                tokio::time::sleep(std::time::Duration::from_millis(50)).await;
            }
            told.fetch_add(1, Ordering::Relaxed);
        })
    });
    for booker in bookers.collect::<Vec<_>>() {
        booker.await.unwrap();
    }
    assert_eq!((booked.load(Ordering::Relaxed), told.load(Ordering::Relaxed)), (10, 190));
    let page = Person::new().get(&format!("{}/events/evening", town.url)).await.unwrap();
    assert!(page.body.contains("This date is full."));
    // Kindly asked, it ends cleanly; and the file is sound: ten seats, paid, each once.
    assert!(town.stop().success());
    town.is_sound();
}
