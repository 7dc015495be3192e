//! The rooms of each crate are built on one another: imports go from a room to those named
//! before it, never back.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::too_many_lines, reason = "a test is one story")]

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Rooms of a crate, from the ground up. What is named together stands on one floor, and does
/// not know of one another.
const CORE: &[&[&str]] = &[
    &["worded", "backups"],
    &["state"],
    &["words"],
    &["ids"],
    &["people", "dates", "seats"],
    &["money"],
    &["messages"],
    &["booking"],
    &["forms"],
    &["door", "review"],
];
/// The rooms of each room of core among themselves.
const CORE_SEATS: &[&[&str]] = &[&["waiting", "strip", "hold_limits"]];
const CORE_BOOKING: &[&[&str]] =
    &[&["confirm", "details", "undo"], &["event_rules"], &["choice"], &["acts", "pay_deadline"]];
const CORE_MESSAGES: &[&[&str]] = &[
    &["occasion", "text_message", "letters"],
    &["cue"],
    &["due", "template"],
    &["replies", "announced"],
];
const CORE_MONEY: &[&[&str]] = &[
    &["refund", "ledger", "transfer"],
    &["promo", "shares", "stamps", "documents"],
    &["price"],
    &["line_worth"],
];
const STORE: &[&[&str]] = &[
    &["error", "files"],
    &["convert", "unreadable", "plan_version"],
    &["migrate"],
    &["states", "store"],
    &["wishes"],
    &[
        "house",
        "house_files",
        "aside",
        "clock",
        "replaced",
        "audit",
        "views",
        "people",
        "places",
        "ledger",
        "documents",
        "outbox",
        "announcements",
        "cues",
        "senders",
        "templates",
    ],
    &["events"],
    &["bookings"],
    &[
        "clashes",
        "waiting",
        "readers",
        "payments",
        "refunds",
        "replies",
        "invited",
        "letters",
        "own_feeds",
        "promos",
        "cards",
        "devices",
        "door",
        "online",
        "measures",
        "submissions",
        "complaints",
    ],
    &["books", "check"],
    &["backup"],
];
/// The rooms of the store's events among themselves.
const EVENTS: &[&[&str]] = &[
    &["event"],
    &["new", "pictures", "rows"],
    &["patterns", "tickets", "sessions", "slots"],
    &["dates", "questions"],
    &["choices"],
    &["list", "change"],
    &["plan"],
];
const DESK: &[&[&str]] = &[
    &["outside"],
    &["clock", "secrets"],
    &["error"],
    &["bench", "drawn", "acting"],
    &["rounds"],
    &["people"],
    &["telling"],
    &["money"],
    &["bookings"],
    &["badges"],
    &["planning"],
    &["review"],
    &["messages"],
    &["letters"],
    &["house"],
    &["programme"],
    &["office"],
    &["door"],
    &["timers"],
];
/// The rooms of the desk's bookings among themselves.
const BOOKINGS: &[&[&str]] = &[
    &["acts", "by", "bills", "reference"],
    &["serving"],
    &["moves"],
    &["change", "codes", "confirm", "decide", "seats", "stamps", "waiting"],
    &["address", "calendars", "cancel", "hold", "keys", "move_date", "pass_on", "pay", "taking"],
    &["many", "phone", "undo"],
    &["whole"],
    &["submit"],
];

const STANDINS: &[&[&str]] = &[
    &["kept", "pages"],
    &["letters", "meeting", "phone", "scanner", "till"],
    &["mailbox"],
    &["letterbox"],
    &["beside"],
];
const SERVE: &[&[&str]] = &[
    &["config"],
    &["args", "listening", "logging"],
    &["serve"],
    &["backup", "check", "import", "person"],
];
const WEB: &[&[&str]] = &[
    &["address", "again", "news", "serving", "observe", "cache", "wording"],
    &["assets"],
    &["error"],
    &["cookies"],
    &["asking", "static_files", "hooks", "live"],
    &["guard", "page"],
    &["parts"],
    &["programme", "office", "door"],
];
/// The rooms of the Programme among themselves.
const PROGRAMME: &[&[&str]] = &[
    &[
        "asked",
        "at",
        "certificate",
        "stub",
        "summary",
        "refused",
        "catalogue",
        "feeds",
        "machines",
        "invited",
        "me",
        "submitting",
    ],
    &["choosing", "form", "pay", "ticket", "waiting"],
    &["event", "own", "foyer"],
    &["keeping", "shown", "embed"],
    &["booking", "change", "own_acts"],
];
/// The rooms of the Office among themselves.
const OFFICE: &[&[&str]] = &[
    &["tab"],
    &["messages"],
    &["booking", "bookings", "board", "event", "events", "coming", "find", "help", "dates"],
    &[
        "doors", "house", "money", "online", "papers", "quick", "replies", "rules", "signin",
        "today", "you", "review",
    ],
    &[
        "acts",
        "as_booker",
        "calling_off",
        "person",
        "phone",
        "publishing",
        "questions",
        "tickets",
        "touches",
        "who_came",
        "wording",
    ],
    &["sessions", "who", "invitations"],
];

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

/// The rooms that a text names: the first word after a prefix, also in braces.
fn named(text: &str, prefix: &str) -> Vec<String> {
    let mut all = Vec::new();
    for (at, _) in text.match_indices(prefix) {
        let rest = &text[at + prefix.len()..];
        let list = match rest.strip_prefix('{') {
            Some(inside) => inside.split('}').next().unwrap_or_default(),
            None => rest,
        };
        let words: Vec<&str> =
            if rest.starts_with('{') { list.split(',').collect() } else { vec![list] };
        for word in words {
            let word = word.trim();
            let end = word.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(word.len());
            all.push(word[..end].to_owned());
        }
    }
    all
}

/// Every import that goes up, and every room that no floor names. Tests may look anywhere.
fn wrong(folder: &str, prefix: &str, floors: &[&[&str]]) -> Vec<String> {
    let src = Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(folder);
    let level: BTreeMap<&str, usize> = floors
        .iter()
        .enumerate()
        .flat_map(|(n, rooms)| rooms.iter().map(move |room| (*room, n)))
        .collect();
    let mut all = Vec::new();
    files(&src, &mut all);
    let mut wrong = Vec::new();
    for path in all {
        let inside = path.strip_prefix(&src).unwrap();
        let first = inside.iter().next().unwrap().to_str().unwrap();
        let room = first.trim_end_matches(".rs");
        if room == "lib" {
            continue;
        }
        let Some(own) = level.get(room) else {
            wrong.push(format!("{folder}: {room} stands on no floor"));
            continue;
        };
        let text = std::fs::read_to_string(&path).unwrap();
        let text = text.split("#[cfg(test)]").next().unwrap_or_default();
        for other in named(text, prefix) {
            if other != room && level.get(other.as_str()).is_some_and(|there| there >= own) {
                wrong.push(format!("{folder}/{} uses {other}", inside.display()));
            }
        }
    }
    wrong.sort();
    wrong.dedup();
    wrong
}

#[test]
fn imports_go_down_only() {
    let all = [
        ("core/src", "crate::", CORE),
        ("core/src/seats", "crate::seats::", CORE_SEATS),
        ("core/src/booking", "crate::booking::", CORE_BOOKING),
        ("core/src/messages", "crate::messages::", CORE_MESSAGES),
        ("core/src/money", "crate::money::", CORE_MONEY),
        ("store/src", "crate::", STORE),
        ("store/src/events", "crate::events::", EVENTS),
        ("desk/src", "crate::", DESK),
        ("desk/src/bookings", "crate::bookings::", BOOKINGS),
        ("standins/src", "crate::", STANDINS),
        ("serve/src", "crate::", SERVE),
        ("web/src", "crate::", WEB),
        ("web/src/programme", "crate::programme::", PROGRAMME),
        ("web/src/office", "crate::office::", OFFICE),
    ];
    let wrong: Vec<String> = all.iter().flat_map(|(f, p, floors)| wrong(f, p, floors)).collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn no_line_of_a_page_is_longer_than_can_be_read() {
    let mut templates = Vec::new();
    for root in ["../web/templates", "../standins/templates"] {
        let mut folders = vec![Path::new(env!("CARGO_MANIFEST_DIR")).join(root)];
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                if path.is_dir() { folders.push(path) } else { templates.push(path) }
            }
        }
    }
    assert!(templates.len() > 100);
    let mut long = Vec::new();
    for path in templates {
        let text = std::fs::read_to_string(&path).unwrap();
        let lines = text.lines().enumerate().filter(|(_, l)| l.chars().count() > 140);
        long.extend(lines.map(|(n, _)| format!("{}:{}", path.display(), n + 1)));
    }
    assert!(long.is_empty(), "longer than 140 characters: {long:#?}");
}
