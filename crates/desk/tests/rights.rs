//! Every use case that somebody of the house asks for wants a right, before anything else, and
//! the table of them is looked at by whoever adds one.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::too_many_lines, reason = "a test is one story")]

use std::path::{Path, PathBuf};

fn files(folder: &Path, into: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            files(&path, into);
        } else if path.extension().is_some_and(|e| e == "rs") {
            into.push(path);
        }
    }
}

/// The use cases of a file that take somebody of the house, or whoever calls a booking back:
/// their names and bodies.
fn use_cases(text: &str) -> Vec<(String, String)> {
    let mut found = Vec::new();
    for (at, start) in text.match_indices("\npub async fn ") {
        let rest = &text[at + start.len()..];
        let name = rest.split('(').next().unwrap().to_owned();
        let whole = rest.split("\n}\n").next().unwrap();
        let (head, body) = whole.split_once("{\n").unwrap();
        let asker = ["staff: &Staff", "by: By", "who: impl Into<Volunteer>"];
        if asker.iter().any(|a| head.contains(a)) {
            found.push((name, body.to_owned()));
        }
    }
    found
}

/// The right that a body asks for first, or whose own matter it is.
fn right(name: &str, body: &str) -> Option<String> {
    let asked = |before: &str| {
        let at = body.find(before)?;
        let rest = &body[at + before.len()..];
        let word: String = rest.chars().take_while(char::is_ascii_alphanumeric).collect();
        Some((at, word))
    };
    let asks = ["require(staff.role, Right::", "desk.turn_of(staff, Right::"];
    let first = asks.into_iter().filter_map(asked).min();
    // The store is not touched before the right is there.
    let touches =
        ["desk.store", "events::", "bookings::"].iter().filter_map(|t| body.find(t)).min();
    match first {
        Some((at, word)) if touches.is_none_or(|t| at < t) => Some(word),
        Some(_) => None,
        // Somebody with the right, or a device that was let join for this date.
        None if body
            .find(".checks_in")
            .is_some_and(|at| body.find(".store").is_none_or(|store| at < store)) =>
        {
            Some("CheckIn, or a device".into())
        }
        None if body.contains("by.turn(desk)?") => Some("ChangeBookings, or the booker".into()),
        None if body
            .find("desk.turn_of(staff, right_of(event))?")
            .is_some_and(|at| body.find(".store").is_none_or(|store| at < store)) =>
        {
            Some("PlanEvents, or SetHouseUp for the house".into())
        }
        // Their own password, sessions, saved views and wishes.
        None if matches!(
            name,
            "change_password" | "saved" | "forget" | "wishes" | "keep_wishes"
        ) =>
        {
            Some("their own".into())
        }
        None => None,
    }
}

#[test]
fn every_use_case_of_staff_asks_for_its_right_first() {
    let src = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut all = Vec::new();
    files(&src, &mut all);
    all.sort();
    let (mut rows, mut without) = (Vec::new(), Vec::new());
    for path in all {
        let text = std::fs::read_to_string(&path).unwrap();
        let room = path.strip_prefix(&src).unwrap().with_extension("");
        for (name, body) in use_cases(&text) {
            let name_there = format!("{}::{name}", room.display()).replace('/', "::");
            match right(&name, &body) {
                Some(right) => rows.push(format!("{name_there}: {right}")),
                None => without.push(name_there),
            }
        }
    }
    assert!(without.is_empty(), "these ask for no right, or too late: {without:#?}");
    assert!(rows.len() > 90, "the test sees {} of them", rows.len());
    insta::assert_snapshot!(rows.join("\n"));
}
