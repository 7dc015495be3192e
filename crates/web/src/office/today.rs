//! `GET /office`: what is on, and what needs doing.

use askama::Template;
use axum::extract::Path;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::Timestamp;
use matricle_core::money::ledger::Method;
use matricle_core::people::staff::Right;
use matricle_desk::house::first::{self, Steps};
use matricle_desk::{DeskError, office};
use matricle_formats::words;
use matricle_store::bookings::{Found, MOST_COUNTED};

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html};
use crate::parts::rows::{DateRow, date_row};
use crate::wording;

#[derive(Template)]
#[template(path = "office/today.html")]
struct Today {
    f: Frame,
    day: String,
    dates: Vec<DateRow>,
    todo: Vec<Todo>,
    /// How many things there are to do, those that are not named with them.
    count: String,
    backup: String,
    steps: Vec<Step>,
    /// What a step that was tried came to, and whether it is well.
    said: Option<(bool, String)>,
}

/// One of the first steps in an empty house.
struct Step {
    done: bool,
    what: &'static str,
    why: &'static str,
    href: &'static str,
    /// It is tried by a button instead.
    tried: Option<&'static str>,
}

fn first_steps(steps: &Steps) -> Vec<Step> {
    let step = |done, what, why, href| Step { done, what, why, href, tried: None };
    let tried = |done, what, why, act| Step { done, what, why, href: "", tried: Some(act) };
    let mut all = vec![
        step(
            steps.event,
            "Plan the first event",
            "title, when, where, seats: half a minute",
            "/office/events/new",
        ),
        step(
            steps.published,
            "Publish it",
            "the sheet of the event has the button",
            "/office/events",
        ),
        step(
            steps.seller,
            "Write down who sells",
            "name and address for receipts and invoices",
            "/office/house#seller",
        ),
        tried(steps.mail, "Send yourself a test mail", "tickets go out by mail", "mail"),
        match steps.card {
            Some(done) => {
                tried(done, "Try the card provider", "whether it knows this house", "card")
            }
            None => step(
                steps.transfers,
                "Say how people pay",
                "there is no card provider: the account for bank transfers",
                "/office/house#iban",
            ),
        },
        step(
            steps.colleagues,
            "Give colleagues a role",
            "each signs in as themselves",
            "/office/house/people",
        ),
        step(
            steps.site,
            "Show it on your own site",
            "name the site, then copy two lines",
            "/office/house#embed_sites",
        ),
    ];
    // Once people book, only what is still to do stands in the way of other work.
    if steps.booked {
        all.retain(|s| !s.done);
    }
    all
}

/// `POST /office/first/{what}`: one of the first steps is tried.
pub(crate) async fn try_step(
    at: Clerk,
    Path(what): Path<String>,
    _posted: Posted,
) -> Result<Response, WebError> {
    let (desk, staff) = (&at.app.desk, &at.staff);
    let said = match what.as_str() {
        "mail" => match first::try_mail(desk, staff).await? {
            Ok(()) => (
                true,
                format!("The mail server took a mail to {}. Look whether it came.", staff.email),
            ),
            Err(why) => (
                false,
                format!(
                    "The mail server did not take it: {why}. Its address, name and password stand in the configuration under [mail]."
                ),
            ),
        },
        "card" => match first::try_card(desk, staff).await? {
            Ok(()) => (true, "The card provider answers, and knows this house.".into()),
            Err(why) => (
                false,
                format!(
                    "The card provider does not answer as it should: {why}. Its address and key stand in the configuration under [card]."
                ),
            ),
        },
        _ => return Err(DeskError::NotFound.into()),
    };
    page(at, Some(said)).await
}

/// Something that needs doing.
struct Todo {
    class: &'static str,
    href: String,
    what: String,
    about: String,
}

/// One line for the bookings that are not named, which leads to all of them. How many more there
/// are than that line.
fn more(
    todo: &mut Vec<Todo>,
    found: &Found,
    class: &'static str,
    (state, words): (&str, &str),
) -> usize {
    let shown = u32::try_from(found.rows.len()).unwrap_or(u32::MAX);
    let rest = found.count.saturating_sub(shown);
    if rest == 0 {
        return 0;
    }
    let n = if found.count > MOST_COUNTED {
        format!("more than {MOST_COUNTED}")
    } else {
        rest.to_string()
    };
    todo.push(Todo {
        class,
        href: format!("/office/bookings?q={}", crate::address::encode(words)),
        what: format!("{n} other bookings {state}"),
        about: "all of them in the list of bookings".into(),
    });
    usize::try_from(rest - 1).unwrap_or(usize::MAX)
}

/// Most things of one kind that are named each.
const NAMED: usize = 8;

/// Things of one kind past the first few become one line that leads to all of them; how many
/// more there are than that line.
fn fold(todo: &mut Vec<Todo>, from: usize, others: impl FnOnce(usize) -> Todo) -> usize {
    let rest = todo.len().saturating_sub(from + NAMED);
    if rest < 2 {
        return 0;
    }
    todo.truncate(from + NAMED);
    todo.push(others(rest));
    rest - 1
}

pub(crate) async fn show(at: Clerk) -> Result<Response, WebError> {
    // A host's Office is the list of their own dates.
    let role = at.staff.role;
    if !role.may(Right::SeeOffice) && role.may(Right::SeeOwnDates) {
        return Ok(Redirect::to("/office/mine").into_response());
    }
    page(at, None).await
}

fn booking(reference: &str) -> String {
    format!("/office/bookings/{}", reference.replace('-', ""))
}

/// What runs by itself and fails, and the backup.
fn by_itself(
    todo: &mut Vec<Todo>,
    today: &office::Today,
    backup: &str,
    clock: &impl Fn(Timestamp) -> String,
) {
    for (work, fares) in &today.fares {
        let about = |(_, why): &(_, String)| format!("{}: {why}", wording::work(*work));
        if let Some(failed) = &fares.failed {
            todo.push(Todo {
                class: "wrong",
                href: "/office".into(),
                what: format!("What runs by itself fails since {}; trying again", clock(failed.0)),
                about: about(failed),
            });
        }
        if let Some(started) = &fares.started {
            todo.push(Todo {
                class: "wrong",
                href: "/office".into(),
                what: format!(
                    "What runs by itself broke off and was started again at {}",
                    clock(started.0)
                ),
                about: about(started),
            });
        }
    }
    if let Some(fault) = today.backup.as_ref().and_then(|b| b.faults.first()) {
        todo.push(Todo {
            class: "wrong",
            href: "/office".into(),
            what: "The last backup has a fault of the house in it".into(),
            about: format!("{fault}. It is kept; matricle check names all, and --mend what can be worked out anew"),
        });
    }
    if today.backup_late {
        todo.push(Todo {
            class: "wrong",
            href: "/office".into(),
            what: "A backup is missing".into(),
            about: format!(
                "{backup} `matricle backup` makes one, the configuration makes them by a timer."
            ),
        });
    }
}

/// What reviewers decide.
fn to_review(todo: &mut Vec<Todo>, today: &office::Today, clock: &impl Fn(Timestamp) -> String) {
    if let (n @ 1.., oldest) = today.to_review {
        todo.push(Todo {
            class: "asking",
            href: "/office/review".into(),
            what: format!("{} to review", words::count(n, "submissions")),
            about: oldest.map_or_else(String::new, |o| format!("the oldest since {}", clock(o))),
        });
    }
    if today.complaints > 0 {
        todo.push(Todo {
            class: "wrong",
            href: "/office/review".into(),
            what: format!("{} to decide on", words::count(today.complaints, "complaints")),
            about: "about events in the Programme".into(),
        });
    }
}

/// What could not be done or sent. How many are not named.
fn set_aside(
    todo: &mut Vec<Todo>,
    today: &office::Today,
    clock: &impl Fn(Timestamp) -> String,
) -> usize {
    let mut hidden = 0;
    let from = todo.len();
    for row in &today.aside {
        let reference = row.reference.as_deref();
        todo.push(Todo {
            class: "wrong",
            href: reference.map_or_else(|| "/office".into(), booking),
            what: format!(
                "{} could not be done; tried again at {}",
                wording::set_aside(&row.work, &row.about, reference),
                clock(row.next_try_at)
            ),
            about: format!(
                "since {}, tried {}: {}",
                clock(row.first_at),
                words::count(row.tries, "times"),
                row.reason
            ),
        });
    }
    hidden += fold(todo, from, |n| Todo {
        class: "wrong",
        href: "/office".into(),
        what: format!("{n} other things could not be done and are tried again"),
        about: "the log of the program names each".into(),
    });
    let from = todo.len();
    for (message, _) in &today.messages {
        let tried = if message.state == matricle_store::outbox::MessageState::Failed {
            "could not be sent"
        } else {
            "is late; trying again"
        };
        todo.push(Todo {
            class: "wrong",
            href: format!("/office/messages/{}", message.id),
            what: { format!("The message “{}” {tried}", message.trigger.word()) },
            about: message.last_error.clone().unwrap_or_default(),
        });
    }
    hidden += fold(todo, from, |n| Todo {
        class: "wrong",
        href: "/office/messages/failed".into(),
        what: format!("{n} other messages could not be sent"),
        about: "all of them, with what the other side said".into(),
    });
    hidden
}

/// Rooms that are missing, rows that cannot be read, letters.
fn to_look_at(todo: &mut Vec<Todo>, today: &office::Today, clock: &impl Fn(Timestamp) -> String) {
    for (title, date, starts) in &today.without_room {
        todo.push(Todo {
            class: "wrong",
            href: format!("/office/dates/{date}/online"),
            what: format!("No room yet for {title}"),
            about: format!("it starts {}", clock(*starts)),
        });
    }
    for said in &today.left_out {
        todo.push(Todo {
            class: "wrong",
            href: "/office".into(),
            what: "Something in the house’s file cannot be read, and is left out".into(),
            about: format!("{said}. matricle check names the row"),
        });
    }
    let letters = [
        (
            today.unreadable,
            "wrong",
            "?list=unreadable",
            "mails",
            "could not be read",
            "kept as sent; the letter says why",
        ),
        (
            today.to_answer,
            "asking",
            "?list=answer",
            "letters",
            "to answer",
            "they found their booking, event or person",
        ),
        (
            today.tray,
            "asking",
            "",
            "letters",
            "in the tray",
            "they match no booking, no event and nobody known",
        ),
    ];
    for (n, class, list, of, what, about) in letters.into_iter().filter(|l| l.0 > 0) {
        todo.push(Todo {
            class,
            href: format!("/office/messages/letters{list}"),
            what: format!("{} {what}", words::count(n, of)),
            about: about.into(),
        });
    }
}

/// Bookers whom nothing reaches, and money to give back. How many are not named.
fn to_ring_and_give(todo: &mut Vec<Todo>, today: &office::Today) -> usize {
    let currency = today.house.currency;
    let mut hidden = 0;
    let from = todo.len();
    for (reference, name, said) in &today.unreachable {
        todo.push(Todo {
            class: "wrong",
            href: booking(reference),
            what: format!("No mail reaches {name}"),
            about: said.clone(),
        });
    }
    hidden += fold(todo, from, |n| Todo {
        class: "wrong",
        href: "/office/bookings".into(),
        what: format!("No mail reaches {n} other bookers"),
        about: "each booking says why".into(),
    });
    let from = todo.len();
    for (refund, reference, name) in &today.to_give_back {
        let how = match refund.method {
            Method::Card => "the card provider did not take it".into(),
            method => format!("it came by {}", method.word()),
        };
        todo.push(Todo {
            class: "pay",
            href: booking(reference),
            what: format!("Give {} back to {name}", currency.of(refund.minor)),
            about: format!("{}; {how}", refund.reason.trim_end_matches('.')),
        });
    }
    hidden += fold(todo, from, |n| {
        let rest = today.to_give_back.iter().skip(NAMED).map(|(r, ..)| r.minor).sum();
        Todo {
            class: "pay",
            href: "/office/money".into(),
            what: format!("Give {} back to {n} others", currency.of(rest)),
            about: "each stands under Money".into(),
        }
    });
    for (event, title, n) in &today.to_ring {
        todo.push(Todo {
            class: "asking",
            href: format!("/office/events/{event}/told"),
            what: format!("Ring {} without an address", words::count(*n, "bookers")),
            about: title.clone(),
        });
    }
    hidden
}

/// Bookings that ask or are to be paid. How many are not named.
fn to_decide(
    todo: &mut Vec<Todo>,
    today: &office::Today,
    clock: &impl Fn(Timestamp) -> String,
) -> usize {
    let mut hidden = 0;
    for row in &today.asking.rows {
        todo.push(Todo {
            class: "asking",
            href: booking(&row.booking.reference.to_string()),
            what: format!("{} asks for {}", row.booking.name, words::count(row.people, "seats")),
            about: row.title.clone(),
        });
    }
    hidden += more(todo, &today.asking, "asking", ("asking for seats", "asking"));
    for row in &today.to_pay.rows {
        let by = row.booking.deadline.map_or_else(String::new, |d| format!(", by {}", clock(d)));
        todo.push(Todo {
            class: "pay",
            href: booking(&row.booking.reference.to_string()),
            what: format!("{} has {} to pay{by}", row.booking.name, row.booking.due()),
            about: row.title.clone(),
        });
    }
    hidden += more(todo, &today.to_pay, "pay", ("to pay", "to pay"));
    hidden
}

async fn page(at: Clerk, said: Option<(bool, String)>) -> Result<Response, WebError> {
    let steps = first::steps(&at.app.desk, &at.staff).await?;
    let today = office::today(&at.app.desk, &at.staff).await?;
    let now = at.app.desk.clock.now();
    let zone = &today.house.zone;
    let mut todo = Vec::new();
    let clock = |at| words::moment(at, zone, now);
    let backup = today.backup.as_ref().map_or_else(
        || "No backup has been made of this house.".to_owned(),
        |last| format!("The last backup was made {}: {}", clock(last.at), last.file),
    );
    by_itself(&mut todo, &today, &backup, &clock);
    if at.staff.role.may(Right::Review) {
        to_review(&mut todo, &today, &clock);
    }
    let mut hidden = set_aside(&mut todo, &today, &clock);
    to_look_at(&mut todo, &today, &clock);
    hidden += to_ring_and_give(&mut todo, &today);
    hidden += to_decide(&mut todo, &today, &clock);
    let all = todo.len() + hidden;
    let count = if today.asking.count.max(today.to_pay.count) > MOST_COUNTED {
        format!("more than {MOST_COUNTED}")
    } else {
        all.to_string()
    };
    let f = at.frame("Today", &today.house.name).in_room("today");
    html(&Today {
        f,
        day: words::long_day(words::local(now, zone).date()),
        dates: today.dates.iter().map(|d| date_row(d, now)).collect(),
        count,
        todo,
        backup,
        steps: steps.as_ref().map(first_steps).unwrap_or_default(),
        said,
    })
}
