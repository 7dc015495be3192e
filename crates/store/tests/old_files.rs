//! A file that an older version of the program wrote opens, with its books put in order.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::too_many_lines, reason = "a test is one story")]

use matricle_core::booking::State;
use matricle_core::booking::confirm::Way;
use matricle_core::money::ledger::Account;
use matricle_core::people::acting::Actor;
use matricle_core::people::who::Who;
use matricle_store::bookings::{self, Filter};
use matricle_store::{Connection, Store, check, events, house, invited, ledger, refunds};

/// Builds a file of version 2 and opens it.
fn opened() -> (tempfile::TempDir, Connection) {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("matricle.sqlite");
    let old = Connection::open(&file).unwrap();
    old.pragma_update(None, "foreign_keys", false).unwrap();
    for sql in [
        include_str!("../src/migrations/0001_line.sql"),
        include_str!("../src/migrations/0002_plan.sql"),
        "PRAGMA user_version = 2;",
        include_str!("before_money.sql"),
    ] {
        old.execute_batch(sql).unwrap();
    }
    drop(old);
    Store::open(folder.path()).unwrap().close();
    let conn = Store::writer(&file).unwrap();
    (folder, conn)
}

#[test]
fn what_was_booked_before_there_were_books_is_in_them() {
    let (folder, conn) = opened();
    assert_eq!(check::faults(&conn).unwrap(), Vec::<String>::new());
    // The file as it was lies beside it, and is read by the program of that time.
    let copy = Connection::open(folder.path().join("matricle.before-24.sqlite")).unwrap();
    let version = |c: &Connection| c.query_row("PRAGMA user_version", [], |r| r.get::<_, u32>(0));
    assert_eq!((version(&copy).unwrap(), version(&conn).unwrap()), (2, 24));
    let of = |id| bookings::by_id(&conn, matricle_core::BookingId(id)).unwrap().unwrap();
    // Tax that is contained: 12.00 at 23 % holds 2.24.
    let line = bookings::lines(&conn, &of(2)).unwrap().remove(0);
    assert_eq!((line.charge.minor, line.tax.minor, line.tax_basis), (1200, 224, 2300));
    let states = (1..=7).map(|id| of(id).state).collect::<Vec<_>>();
    assert_eq!(states[0], State::Confirmed);
    assert_eq!(states[6], State::Declined);
    // What came is the provider's to pay out, what is owed is owed, and what has to go back is
    // promised: of the date called off, and what came too late.
    let sums = ledger::balances(&conn).unwrap();
    assert_eq!(sums.values().sum::<i64>(), 0);
    assert_eq!(sums[&Account::Provider], 4200 + 500 + 1200);
    assert_eq!(sums[&Account::Receivable], 1200);
    assert_eq!(sums[&Account::Refunds], -1700);
    let back: Vec<i64> = refunds::open_ones(&conn).unwrap().iter().map(|r| r.0.minor).collect();
    assert_eq!(back.iter().sum::<i64>(), 1700, "{back:?}");
    assert_eq!((of(1).due().minor, of(2).due().minor, of(4).paid.minor), (0, 1200, 0));
    // People belong to lines by key, also where the type was renamed twice since; who acted is
    // of a kind.
    let types = |id| bookings::tickets_of_people(&conn, matricle_core::BookingId(id)).unwrap();
    let numbers = |id| types(id).iter().map(|t| t.0).collect::<Vec<_>>();
    assert_eq!((numbers(1), numbers(3)), (vec![2, 2, 2, 2, 1], vec![3, 3]));
    let told = bookings::timeline(&conn, matricle_core::BookingId(1)).unwrap();
    let kinds: Vec<_> = told.iter().map(|h| h.who.kind).collect();
    assert_eq!(kinds, [Actor::Booker, Actor::Program]);
}

#[test]
fn old_bookings_are_found_by_words_and_old_rules_are_rules() {
    let (_folder, conn) = opened();
    let find = |words: &str| {
        let filter = Filter { words: words.into(), most: 10, ..Filter::default() };
        let found = bookings::list(&conn, &filter).unwrap();
        found.rows.into_iter().map(|r| r.booking.name).collect::<Vec<_>>()
    };
    assert_eq!(find("ohara"), ["Siân O'Hara"]);
    assert_eq!(find("to pay december"), ["Ezra Quill"]);
    assert_eq!(find("suits"), ["Siân O'Hara"]);
    assert_eq!(find("").len(), 6, "a hold that has no name is no news");
    let rules = |slug| events::by_slug(&conn, slug).unwrap().unwrap().rules.confirm;
    assert_eq!((rules("talk").free, rules("talk").paid), (Way::AfterYes, Way::AfterYes));
    assert_eq!((rules("walk").free, rules("walk").paid), (Way::ByItself, Way::ByItself));
    let plan = |name: &str| -> String {
        conn.query_row("SELECT plan FROM patterns WHERE name = ?1", [name], |r| r.get(0)).unwrap()
    };
    assert!(plan("Asked").contains(r#""confirm":{"free":"after_yes","paid":"after_yes"}"#));
    assert!(!plan("Plain").contains("after_yes"));
    // Whoever was on a list is invited; one of a ticket's list to that ticket only.
    let talk = events::by_slug(&conn, "talk").unwrap().unwrap();
    assert_eq!(talk.who, Who::Invited);
    let all = invited::all(&conn, talk.id).unwrap();
    let all: Vec<_> = all.iter().map(|k| (k.invited.email.as_str(), k.invited.listed)).collect();
    let ana = ("Ana@post.example", true);
    assert_eq!(all, [("o'hara@post.example", true), ana, ("bo@post.example", false)]);
    assert!(plan("Plain").contains(r#""who":"invited""#));
    // A family ticket is one ticket, whoever came first.
    let numbers = |id| {
        let people = bookings::attendees(&conn, matricle_core::BookingId(id)).unwrap();
        people.iter().map(|p| p.ticket_no).collect::<Vec<_>>()
    };
    assert_eq!((numbers(1), numbers(3)), (vec![0, 0, 0, 0, 1], vec![0, 1]));
}

#[test]
fn the_settings_of_a_house_of_before_are_one_value_and_none_is_lost() {
    let (_folder, conn) = opened();
    let house = house::get(&conn).unwrap().unwrap();
    assert_eq!((house.name.as_str(), house.zone.as_str()), ("Old house", "Europe/Dublin"));
    assert_eq!(house.terms, r#"Be kind. "Quotes" \ and all."#);
    assert_eq!(house.embed_sites, ["https://a.example", "https://b.example:8443"]);
    assert_eq!((house.steps.as_slice(), house.transfer_days), (&[(30, 100), (7, 40)][..], 10));
    assert!(!house.names_in_feeds && house.web_calendars.is_empty());
    // A setting that a file does not have is as usual; one that is none is not taken for the usual.
    conn.execute("UPDATE house SET settings = json_remove(settings, '$.transfer_days')", [])
        .unwrap();
    assert_eq!(house::get(&conn).unwrap().unwrap().transfer_days, 10);
    conn.execute("UPDATE house SET settings = json_set(settings, '$.transfer_days', 'x')", [])
        .unwrap();
    assert!(house::get(&conn).is_err());
}
