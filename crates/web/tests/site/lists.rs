//! Lists of many: of events by month and state, of dates as rows and pages, of what needs doing;
//! what they say of how many, and that nothing is left out without a word.

use axum::http::StatusCode;
use matricle_demo as demo;
use matricle_web::Limits;

use crate::site::{Browser, Site, site};

async fn open() -> Site {
    site(Limits { sign_in: 1000, booking: 1000 }, false).await
}

fn rows(page: &str) -> usize {
    page.matches("<tr data-row").count()
}

/// The numbers of `1 to 20 of 43`, if a page says so.
fn said(page: &str) -> Option<(usize, usize, usize)> {
    let line = page.split("<p class=\"pages\">").nth(1)?.split("<span>").nth(1)?;
    let line = line.split("</span>").next()?.replace(',', "");
    let numbers: Vec<usize> = line.split(' ').filter_map(|w| w.parse().ok()).collect();
    Some((*numbers.first()?, *numbers.get(1)?, *numbers.get(2)?))
}

/// Every page of a list, one after the other by its own link; how many rows they have in all.
async fn all_pages(b: &mut Browser<'_>, first: &str) -> (usize, usize) {
    let (mut seen, mut at) = (0, first.to_owned());
    for _ in 0..100 {
        let page = b.get(&at).await;
        assert_eq!(page.status, StatusCode::OK, "{at}");
        let here = rows(&page.body);
        let Some((from, to, all)) = said(&page.body) else { return (here, here) };
        assert_eq!((from, to), (seen + 1, seen + here), "{at}");
        seen += here;
        let next = page.body.split("\">Next page</a>").next().unwrap();
        if next.len() == page.body.len() {
            return (seen, all);
        }
        let link = next.rsplit("href=\"").next().unwrap();
        at = link.replace("&#38;", "&").replace("&amp;", "&");
    }
    panic!("{first} never ends");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_list_of_many_comes_in_pages_that_say_of_how_many_and_miss_nothing() {
    let site = open().await;
    demo::enlarge(&site.desk, 36, 432).await.unwrap();
    let faults = site.desk.store.read(matricle_store::check::faults).await.unwrap();
    assert_eq!(faults, Vec::<String>::new(), "a large house is a sound one");
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    for list in ["/office/events", "/office/money/ledger", "/office/money/movements"] {
        let (seen, all) = all_pages(&mut ilse, list).await;
        assert_eq!(seen, all, "{list}");
        let file = match list {
            "/office/events" => "/office/events.csv".to_owned(),
            list => format!("{list}.csv"),
        };
        let file = ilse.get(&file).await.body;
        assert!(file.lines().count() > seen, "{list}: the file has a head and at least the page");
    }
    // What needs doing names a few of each kind and counts all.
    let today = ilse.get("/office").await.body;
    let todo = today.split("id=\"todo\"").nth(1).unwrap();
    assert!(todo.contains(" others</b>"), "{todo}");
    assert!(todo.matches("<li>").count() < 60);
    // Money to give back by hand: some are named, all are counted and added up.
    let owed = ilse.get("/office/money").await.body;
    let give = owed.split("To be given back by hand").nth(1).unwrap();
    let (count, rest) = give.split("<p>").nth(1).unwrap().split_once(" in all, together ").unwrap();
    let count: usize = count.parse().unwrap();
    assert!(count > 12 && rest.contains("The first 12 stand here"));
    assert_eq!(give.split("</section>").next().unwrap().matches("<li>").count(), 12);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_event_with_forty_dates_opens_on_the_next_one() {
    let site = open().await;
    demo::enlarge(&site.desk, 1, 0).await.unwrap();
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let find = ilse.get("/office/find?q=more+about+candles").await.body;
    let id = find.split("/office/events/").nth(1).unwrap().split(['"', '?']).next().unwrap();
    let sheet = ilse.get(&format!("/office/events/{id}")).await.body;
    // The first of those to come in full, some as rows, the rest told.
    assert!(sheet.contains("Other dates") && sheet.contains("more <a href="));
    let dates = format!("/office/events/{id}/dates");
    let page = ilse.get(&dates).await.body;
    let (from, to, all) = said(&page).unwrap();
    assert_eq!((all, to - from + 1), (40, rows(&page)));
    assert!(from <= 11 && to >= 11, "ten weeks are over: {from} to {to}");
    // Chosen by its key, a date is on the page that opens.
    let ids = |page: &str| -> Vec<String> {
        let own = format!("{dates}?date=");
        page.split(&own).skip(1).map(|d| d.split('#').next().unwrap().to_owned()).collect()
    };
    let last = ilse.get(&format!("{dates}?page=1")).await.body;
    let last = ids(&last).last().unwrap().clone();
    let chosen = ilse.get(&format!("{dates}?date={last}")).await.body;
    assert!(chosen.contains("class=\"sel\"") && said(&chosen).unwrap().1 == 40);
    // One past the end is the last; one that is none is the first of them.
    assert_eq!(said(&ilse.get(&format!("{dates}?page=99")).await.body).unwrap().1, 40);
}

#[tokio::test(flavor = "multi_thread")]
async fn events_stand_by_month_and_a_click_narrows_them_to_a_state() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let page = ilse.get("/office/events").await.body;
    let heads: Vec<&str> = page
        .split("<tr class=\"month\">")
        .skip(1)
        .map(|h| h.split("</th>").next().unwrap().rsplit('>').next().unwrap())
        .collect();
    assert!(heads.contains(&"November 2026") && heads.contains(&"Over"), "{heads:?}");
    let mut once = heads.clone();
    once.sort_unstable();
    once.dedup();
    assert_eq!(once.len(), heads.len(), "each month stands once: {heads:?}");
    for state in ["published", "draft", "past", "called off"] {
        let narrowed = ilse.get(&format!("/office/events?q={}", state.replace(' ', "%20"))).await;
        assert!(narrowed.body.contains(&format!("aria-current=\"true\">{state}</a>")), "{state}");
        assert!(rows(&narrowed.body) <= rows(&page), "{state}");
    }
    assert_eq!(rows(&ilse.get("/office/events?q=draft").await.body), 2);
    // A published event has its link and a line for a poster to copy, and ways on.
    let sheet = ilse.get("/office/events/2").await.body;
    let tell = sheet.split("Tell people").nth(1).unwrap().split("</details>").next().unwrap();
    assert_eq!(tell.matches("data-copy=\"").count(), 2);
    assert!(tell.contains("/events/pollen-under-the-lens") && tell.contains("Put it on your site"));
    // Without script there is nothing to press.
    assert_eq!(tell.matches("hidden>Copy").count(), 2);
    // Tickets: a few fields, the rest folded by topic, each saying what is set inside.
    let ticket = ilse.get("/office/events/2/tickets").await.body;
    let form = ticket.split("/tickets/0\"").nth(1).unwrap();
    let open = form.split("<details").next().unwrap();
    assert!(open.matches("<input class=\"form-control").count() <= 7, "{open}");
    assert!(form.matches("<details").count() >= 3 && !ticket.contains("may stay empty"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_month_says_what_is_under_way_and_slots_without_hours_lead_there() {
    let site = open().await;
    // The candles are on: ten minutes ago they began.
    let date =
        site.desk.store.read(|c| matricle_store::events::date_by_id(c, matricle_core::DateId(1)));
    let (_, date) = date.await.unwrap().unwrap();
    let now = site.desk.clock.now();
    let ahead = date.span.starts_at.duration_since(now) + jiff::SignedDuration::from_mins(10);
    site.desk.clock.advance(ahead);
    let mut anybody = Browser::new(&site);
    let month = anybody.get("/?view=month").await.body;
    let day = month.split("Candles from our own wax").nth(1).unwrap().split("</a>").next().unwrap();
    assert!(day.contains("under way") && !day.contains("full"), "{day}");
    let list = anybody.get("/").await.body;
    assert!(list.contains("under way"));
    // Without opening hours there is nothing to cut appointments from.
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let hours = ilse.get("/office/house/hours").await.body;
    let fields: Vec<String> = hours
        .split("name=\"")
        .skip(1)
        .map(|f| f.split('"').next().unwrap().to_owned())
        .filter(|f| f.starts_with("opens_") || f.starts_with("closes_"))
        .collect();
    let empty: Vec<(&str, &str)> = fields.iter().map(|f| (f.as_str(), "")).collect();
    let kept = ilse.post("/office/house/hours", &empty).await;
    assert!(kept.status.is_success() || kept.status.is_redirection(), "{}", kept.body);
    let slots = ilse.get("/office/events/2/dates").await.body;
    assert!(slots.contains("The house has no opening hours yet"));
    assert!(slots.contains("href=\"/office/house/hours\">Write them down first</a>"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_transfer_is_copied_line_by_line_and_opened_where_programs_can() {
    let site = open().await;
    let mut b = Browser::new(&site);
    b.prove("ana@post.example").await;
    // An event far enough ahead that costs something and asks nothing.
    let all = b.get("/?month=2026-12").await.body;
    let mut own = String::new();
    for slug in all.split("href=\"/events/").skip(1) {
        let slug = slug.split(['?', '"']).next().unwrap();
        let kept = b.keep(slug, &[1]).await;
        if kept.status != StatusCode::SEE_OTHER || kept.location().is_empty() {
            continue;
        }
        let form = b.get(kept.location()).await.body;
        if form.contains("€") && !form.contains("name=\"answer_") && !form.contains("name=\"each_")
        {
            kept.location().clone_into(&mut own);
            break;
        }
    }
    assert!(!own.is_empty(), "{all}");
    let fields = [("name", "Ana Quill"), ("email", "ana@post.example"), ("agreed", "yes")];
    let booked = b.post(&format!("{own}/book"), &fields).await;
    assert_eq!(booked.status, StatusCode::SEE_OTHER, "{}", booked.body);
    let page = b.get(&own).await.body;
    assert!(page.contains("Pay by bank transfer instead"), "{page}");
    b.post(&format!("{own}/transfer"), &[]).await;
    let page = b.get(&own).await.body;
    let lines = page.split("class=\"transferwith\"").nth(1).unwrap();
    assert!(lines.matches("data-copy=\"").count() >= 4, "{lines}");
    let payto = page.split("href=\"payto://iban/").nth(1).unwrap().split('"').next().unwrap();
    assert!(payto.contains("amount=EUR:") && payto.contains("message="), "{payto}");
}

/// Addresses that a page leads to, by what they begin with.
fn links(page: &str, to: &str) -> Vec<String> {
    let plain = page.replace("&#38;", "&").replace("&amp;", "&");
    let links = plain.split("href=\"").skip(1).filter_map(|l| l.split('"').next());
    links.filter(|l| l.starts_with(to)).map(str::to_owned).collect()
}

/// Rows of a list, as tables and as entries have them.
fn all_rows(page: &str) -> usize {
    page.matches("data-row").count() + page.matches("data-mark=").count()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_list_is_ordered_narrowed_and_taken_away_by_what_its_columns_say() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let lists = [
        ("/office/events", "/office/events"),
        ("/office/bookings", "/office/bookings"),
        ("/office/events/2/coming", "/office/events/2/coming"),
        ("/office/doors/1/after", "/office/doors/1/after"),
        ("/office/messages/planned", "/office/messages"),
        ("/office/messages/letters", "/office/messages/letters"),
        ("/office/money", "/office/money/owed"),
        ("/office/money/movements", "/office/money/movements"),
        ("/office/money/events", "/office/money/events"),
        ("/office/money/promos", "/office/money/promos"),
    ];
    let mut taken = 0;
    for (list, file) in lists {
        let page = ilse.get(list).await.body;
        let rows = all_rows(&page);
        assert!(rows > 0, "{list} has rows in the demo house");
        let orders: Vec<String> =
            links(&page, list).into_iter().filter(|l| l.contains("sort=")).collect();
        assert!(!orders.is_empty(), "{list} can be ordered");
        for order in orders {
            let ordered = ilse.get(&order).await;
            assert_eq!(ordered.status, StatusCode::OK, "{order}");
            assert_eq!(all_rows(&ordered.body), rows, "{order} loses nobody");
            let body = &ordered.body;
            assert!(body.contains("aria-sort=") || body.contains("aria-current=\"true\" title="));
        }
        let narrowed = ilse.get(&format!("{list}?q=no+such+words+xyz")).await.body;
        assert_eq!(all_rows(&narrowed), 0, "{list}");
        assert!(narrowed.contains("fits “no such words xyz”"), "{list} says what was looked for");
        let files = links(&page, &format!("{file}.csv"));
        assert!(!files.is_empty(), "{list} can be taken away");
        let csv = ilse.get(&files[0]).await.body;
        assert!(csv.trim_end().lines().count() > rows.min(30), "{list}: {csv}");
        let book = ilse.get(&files[0].replace(".csv", ".xlsx")).await;
        assert_eq!(book.status, StatusCode::OK);
        taken += 2;
    }
    let log = ilse.get("/office/house/log").await;
    let log = if log.status == StatusCode::OK { log.body } else { String::new() };
    let noted = site.desk.store.read(|conn| matricle_store::audit::latest(conn, 50)).await.unwrap();
    let noted = noted.0.iter().filter(|n| n.what.starts_with("took a file away")).count();
    assert_eq!(noted, taken, "each is written down: {log}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_order_of_a_list_is_that_of_its_column_and_turns_round() {
    let site = open().await;
    let mut ilse = Browser::new(&site);
    ilse.sign_in(0).await;
    let mut names = async |query: &str| -> Vec<String> {
        let csv = ilse.get(&format!("/office/events/2/coming.csv?{query}")).await.body;
        csv.lines().skip(1).map(|l| l.split(',').nth(1).unwrap().to_owned()).collect()
    };
    let (rising, falling) = (names("sort=name").await, names("sort=name&back=1").await);
    assert!(rising.len() > 20 && rising.is_sorted_by_key(|n| matricle_core::words::fold(n)));
    assert!(falling.iter().rev().is_sorted_by_key(|n| matricle_core::words::fold(n)));
    let some = names("q=member").await;
    assert!(!some.is_empty() && some.len() < rising.len());
    let mut letters = async |query: &str| -> Vec<String> {
        let csv = ilse.get(&format!("/office/messages/letters.csv?list=all&{query}")).await.body;
        let rows = csv.lines().filter(|l| l.starts_with("20"));
        rows.map(|l| l.split(',').nth(2).unwrap_or_default().to_owned()).collect()
    };
    let (rising, falling) = (letters("sort=who").await, letters("sort=who&back=1").await);
    assert!(rising.len() > 1 && rising.iter().rev().eq(&falling), "{rising:?} {falling:?}");
    assert_eq!(letters("q=tombola").await.len(), 1);
}
