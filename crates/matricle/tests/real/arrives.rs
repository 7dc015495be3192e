//! Whatever arrives, the house stands: mails, pictures, forms and files built to break their
//! reader are sent to the real program, which answers meanwhile and keeps its memory.

use std::io::Write;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use crate::town::{Person, Town, event};

/// Most memory that the program may ever have held, in kB.
const MOST_KB: u64 = 400 * 1024;

fn mail(head: &str, body: &str) -> Vec<u8> {
    format!("From: Mal <mal@other.example>\r\nSubject: hello\r\nMessage-ID: <{}@other.example>\r\n{head}\r\n\r\n{body}", body.len() + head.len())
        .into_bytes()
}

/// Mails: deep, wide, endless, of what is read line by line.
fn mails() -> Vec<Vec<u8>> {
    let calendar = "Content-Type: text/calendar; method=REPLY";
    let deep = format!("BEGIN:VCALENDAR\r\n{}", "BEGIN:A\r\n".repeat(1_500));
    let flat = format!(
        "BEGIN:VCALENDAR\r\nMETHOD:REPLY\r\n{}END:VCALENDAR\r\n",
        "BEGIN:VEVENT\r\nUID:x\r\nEND:VEVENT\r\n".repeat(160_000)
    );
    let parts = (0..60_000)
        .map(|n| format!("Content-Type: multipart/mixed; boundary=\"b{n}\"\r\n\r\n--b{n}\r\n"));
    vec![
        mail(calendar, &deep),
        mail(calendar, &flat),
        mail("Content-Type: text/plain", &"> x\r\n".repeat(40_000)),
        mail("Content-Type: text/html", &"<div><b>".repeat(200_000)),
        mail(&"Content-Type: message/rfc822\r\n\r\nFrom: a@b.example\r\n".repeat(90_000), ""),
        mail(&parts.collect::<String>(), ""),
        mail("Content-Type: multipart/mixed; boundary=b", &"--b\r\n\r\n".repeat(700_000)),
        mail(&"X: y\r\n".repeat(900_000), "words"),
        mail("Subject: second", &"=?utf-8?q?=40?= ".repeat(300_000)),
        vec![b'-'; 9_000_000],
        vec![0; 1_000_000],
    ]
}

/// A PNG picture of one colour (ISO/IEC 15948), small however large it says it is.
fn png(side: u32) -> Vec<u8> {
    fn crc(bytes: &[u8]) -> u32 {
        let mut crc = u32::MAX;
        for byte in bytes {
            crc ^= u32::from(*byte);
            for _ in 0..8 {
                crc = (crc >> 1) ^ (0xEDB8_8320 & 0_u32.wrapping_sub(crc & 1));
            }
        }
        !crc
    }
    let chunk = |kind: &[u8], data: &[u8]| {
        let named = [kind, data].concat();
        let length = u32::try_from(data.len()).unwrap().to_be_bytes();
        [&length[..], &named, &crc(&named).to_be_bytes()].concat()
    };
    let mut packed = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::fast());
    let row = vec![0; side as usize * 3 + 1];
    for _ in 0..side {
        packed.write_all(&row).unwrap();
    }
    let size = side.to_be_bytes();
    let head = [&size[..], &size, &[8, 2, 0, 0, 0]].concat();
    let packed = packed.finish().unwrap();
    [
        &b"\x89PNG\r\n\x1a\n"[..],
        &chunk(b"IHDR", &head),
        &chunk(b"IDAT", &packed),
        &chunk(b"IEND", &[]),
    ]
    .concat()
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_arrives_the_house_answers_and_keeps_its_memory() {
    let mut town = Town::found(&event(10, "0"));
    town.employ_a_clerk();
    town.open().await;
    let mut ilse = Person::new();
    ilse.sign_in_as_clerk(&town.url).await.unwrap();

    // Somebody looks at the event all the while.
    let over = Arc::new(AtomicBool::new(false));
    let looks = {
        let (over, url) = (Arc::clone(&over), format!("{}/events/evening", town.url));
        tokio::spawn(async move {
            let (mut took, mut somebody) = (Vec::new(), Person::new());
            while !over.load(Ordering::Relaxed) {
                let asked = Instant::now();
                let Ok(page) = somebody.get(&url).await else { continue };
                let status = page.status;
                took.push(asked.elapsed());
                assert_eq!(status, 200);
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
            took.sort_unstable();
            took
        })
    };

    let letters = format!("{}/office/messages/letters", town.url);
    let count = mails().len();
    for raw in mails() {
        let page = ilse.post_file(&letters, "mail", &[], "a.eml", &raw).await.unwrap();
        assert_eq!(page.status, 303, "{}", page.body);
    }
    let all = ilse.get(&format!("{letters}?list=all")).await.unwrap();
    assert_eq!(all.body.matches("data-row").count(), count, "each is kept");
    for n in 1..=count {
        let page = ilse.get(&format!("{letters}/{n}")).await.unwrap();
        assert_eq!(page.status, 200, "{n}");
    }

    // Pictures under a key that opens nothing, several at once; and where one may have them.
    let huge = Arc::new(png(9_000));
    let made_up = format!("{}/submissions/1/AAAAAAAAAAAAAAAAAAAAAA/picture", town.url);
    let mut sent = Vec::new();
    for _ in 0..4 {
        let (url, huge, there) = (town.url.clone(), Arc::clone(&huge), made_up.clone());
        sent.push(tokio::spawn(async move {
            let mut mal = Person::new();
            mal.get(&format!("{url}/events/evening")).await.unwrap();
            mal.post_file(&there, "picture", &[("alt", "x")], "a.png", &huge).await
        }));
    }
    for one in sent {
        // Refused before all of it has come, the connection may be closed.
        if let Ok(page) = one.await.unwrap() {
            assert_eq!(page.status, 404, "{}", page.body);
        }
    }
    let theirs = format!("{}/office/events/1/picture", town.url);
    let mut answered = None;
    for _ in 0..5 {
        // The browser's next connection: those that were answered early may be closing still.
        answered = ilse.post_file(&theirs, "picture", &[("alt", "x")], "a.png", &huge).await.ok();
        if answered.is_some() {
            break;
        }
    }
    assert!(answered.is_some_and(|page| page.status < 500));

    // Forms: marks inside each other without end, and more of everything than there is.
    let wording = format!("{}/office/events/1/wording", town.url);
    let deep = "<div><b>".repeat(30_000);
    let fields =
        [("title", "Evening"), ("kind", "Talk"), ("slug", "evening"), ("description", &*deep)];
    let page = ilse.post(&wording, &fields).await.unwrap();
    assert!(page.status < 500, "{}", page.body);
    let many: Vec<(&str, &str)> = (0..20_000).map(|_| ("x", "y")).collect();
    let page =
        Person::new().post(&format!("{}/events/evening/keep", town.url), &many).await.unwrap();
    assert!(page.status < 500, "{}", page.body);

    over.store(true, Ordering::Relaxed);
    let took = looks.await.unwrap();
    // Two cores and tests beside it: one look of twenty may have met another process.
    let nearly_all = took[took.len() * 19 / 20];
    assert!(nearly_all < Duration::from_secs(1), "{nearly_all:?} of {} looks", took.len());
    let held = town.most_memory_kb();
    assert!(held < MOST_KB, "it held {held} kB");
    assert!(town.stop().success());
    town.is_sound();
}
