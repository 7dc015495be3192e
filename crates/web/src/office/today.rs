//! `GET /office`: what is on, and what needs doing.

use askama::Template;
use axum::response::Response;
use matricle_core::ledger::Method;
use matricle_desk::office;
use matricle_formats::words;
use matricle_store::outbox::About;

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
    backup: String,
}

/// Something that needs doing.
struct Todo {
    class: &'static str,
    href: String,
    what: String,
    about: String,
}

pub(crate) async fn show(at: Clerk) -> Result<Response, WebError> {
    let today = office::today(&at.app.desk, &at.staff).await?;
    let now = at.app.desk.clock.now();
    let zone = &today.house.zone;
    let currency = today.house.currency;
    let booking = |reference: &str| format!("/office/bookings/{}", reference.replace('-', ""));
    let mut todo = Vec::new();
    let clock = |at| words::moment(at, zone, now);
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
    let backup = today.backup.as_ref().map_or_else(
        || "No backup has been made of this house.".to_owned(),
        |(at, file)| format!("The last backup was made {}: {file}", clock(*at)),
    );
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
    for (message, reference) in &today.messages {
        let tried =
            if message.state == "failed" { "could not be sent" } else { "is late; trying again" };
        todo.push(Todo {
            class: "wrong",
            href: match (message.about, reference) {
                (About::Event(event), _) => format!("/office/events/{event}/who"),
                (_, reference) => booking(reference.as_deref().unwrap_or_default()),
            },
            what: format!("A {} {tried}", message.kind.word()),
            about: message.last_error.clone().unwrap_or_default(),
        });
    }
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
    for row in &today.asking {
        todo.push(Todo {
            class: "asking",
            href: booking(&row.booking.reference.to_string()),
            what: format!("{} asks for {}", row.booking.name, words::count(row.people, "seats")),
            about: row.title.clone(),
        });
    }
    for row in &today.to_pay {
        let by = row
            .booking
            .deadline
            .map_or_else(String::new, |d| format!(", by {}", words::moment(d, zone, now)));
        todo.push(Todo {
            class: "pay",
            href: booking(&row.booking.reference.to_string()),
            what: format!("{} has {} to pay{by}", row.booking.name, row.booking.due()),
            about: row.title.clone(),
        });
    }
    let f = at.frame("Today", &today.house.name).in_room("today");
    html(&Today {
        f,
        day: words::long_day(words::local(now, zone).date()),
        dates: today.dates.iter().map(|d| date_row(d, now)).collect(),
        todo,
        backup,
    })
}
