//! Adding and changing dates: what that would touch, then doing it.

use askama::Template;
use axum::extract::Path;
use axum::response::Response;
use matricle_core::{DateId, EventId};
use matricle_desk::planning::dates::{self, Scope, Touches};
use matricle_desk::{Clash, DeskError, office};
use matricle_formats::words;
use matricle_store::events::Choices;

use crate::asking::{Part, Posted};
use crate::error::WebError;
use crate::news::Undo;
use crate::office::Clerk;
use crate::office::dates::{Again, change_fields, page};
use crate::page::{Frame, html};
use crate::parts::fields::{Fields, form, wrong};

pub(crate) struct ClashLine {
    what: String,
    with: String,
    event: i64,
}

pub(crate) fn clash_lines(clashes: &[Clash], today: jiff::civil::Date) -> Vec<ClashLine> {
    clashes
        .iter()
        .map(|c| ClashLine {
            what: c.what.clone(),
            with: format!("“{}”, {}", c.title, words::span(c.span.0, c.span.1, today)),
            event: c.event.0,
        })
        .collect()
}

/// What would be saved, before it is.
#[derive(Template)]
#[template(path = "office/before.html")]
pub(crate) struct Before {
    pub(crate) f: Frame,
    pub(crate) heading: String,
    pub(crate) action: String,
    pub(crate) back: String,
    pub(crate) button: String,
    pub(crate) lines: Vec<String>,
    pub(crate) rule: Option<String>,
    pub(crate) dates: Vec<(String, String)>,
    pub(crate) people: Vec<String>,
    pub(crate) over: Vec<(String, String)>,
    pub(crate) clashes: Vec<ClashLine>,
    pub(crate) carried: Vec<(String, String)>,
}

/// `POST /office/events/{id}/dates`: what the form comes to, then the dates themselves.
pub(crate) async fn add(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let event = EventId(id);
    if posted.get("act") == "save" {
        return match dates::add(&at.app.desk, &at.staff, event, form(&posted)).await {
            Ok(_) => Ok(at.done(&format!("/office/events/{id}/dates"), "Added.")),
            Err(error) => {
                let add = Some(Fields::again(&posted, error)?);
                page(&at, id, None, Again { add, ..Again::default() }).await
            }
        };
    }
    let adding = match dates::adding(&at.app.desk, &at.staff, event, form(&posted)).await {
        Ok(adding) => adding,
        Err(error) => {
            let add = Some(Fields::again(&posted, error)?);
            return page(&at, id, None, Again { add, ..Again::default() }).await;
        }
    };
    let house = at.app.desk.house().await?;
    let today = words::local(at.app.desk.clock.now(), &house.zone).date();
    let n = u32::try_from(adding.dates.len()).unwrap_or(u32::MAX);
    let mut lines = vec![format!("{} will be added; nobody is told.", words::count(n, "dates"))];
    lines.extend(adding.capped.map(|(asked, seats)| {
        format!("The room seats {seats}, so {seats} are sold instead of {asked}.")
    }));
    lines.extend(adding.skipped.iter().map(|at| {
        format!(
            "{} at {} is left out: the clocks change, so that hour comes twice or not at all.",
            words::long_day(at.date()),
            words::clock(*at)
        )
    }));
    html(&Before {
        f: at.frame("New dates", &house.name).in_room("events"),
        heading: format!("Add {}?", words::count(n, "dates")),
        action: format!("/office/events/{id}/dates"),
        back: format!("/office/events/{id}/dates"),
        button: format!("Add {}", words::count(n, "dates")),
        lines,
        rule: adding.rule.as_ref().map(|rule| {
            let mut said = words::rule(rule);
            if adding.left_out > 0 {
                said.push_str(&format!("; without {}", words::count(adding.left_out, "days")));
            }
            if adding.extra > 0 {
                said.push_str(&format!("; and {} beside it", words::count(adding.extra, "days")));
            }
            said
        }),
        dates: adding
            .dates
            .iter()
            .map(|d| (words::span(d.span.starts, d.span.ends, today), String::new()))
            .collect(),
        people: Vec::new(),
        over: Vec::new(),
        clashes: clash_lines(&adding.clashes, today),
        carried: Fields::posted(&posted, &[]).pairs(),
    })
}

fn touched(touches: &Touches, today: jiff::civil::Date) -> (Vec<String>, Vec<(String, String)>) {
    let mut lines = Vec::new();
    if touches.past > 0 {
        lines.push(crate::wording::INTO_PAST.to_owned());
    }
    let told = u32::try_from(touches.people.len()).unwrap_or(u32::MAX);
    if touches.bookings == 0 {
        lines.push("Nobody has to be told.".into());
    } else {
        let (bookers, on) =
            (words::count(told, "bookers"), words::count(touches.bookings, "bookings"));
        let verb = if told == 1 { "gets" } else { "get" };
        lines.push(match touches.to_ring {
            0 => format!("{bookers} on {on} {verb} a mail with the new time or place."),
            n => format!(
                "{bookers} on {on} hear of the new time or place: by mail, and {n} by telephone, since they gave no address. People told has their numbers."
            ),
        });
    }
    lines.extend(touches.capped.iter().map(|(wanted, seats)| {
        format!("The room seats {seats}, so {seats} are sold instead of {wanted}.")
    }));
    if touches.messages > 0 {
        lines.push(format!(
            "{} not sent yet will carry the new time.",
            words::count(touches.messages, "messages")
        ));
    }
    let dates = touches
        .dates
        .iter()
        .map(|m| {
            let old = words::span(m.date.span.starts, m.date.span.ends, today);
            let new = words::span(m.span.starts, m.span.ends, today);
            if old == new { (old, String::new()) } else { (old, new) }
        })
        .collect();
    (lines, dates)
}

#[derive(Template)]
#[template(path = "office/touches.html")]
struct TouchesPart {
    token: String,
    action: String,
    lines: Vec<String>,
    dates: Vec<(String, String)>,
    people: Vec<String>,
    over: Vec<(String, String)>,
    clashes: Vec<ClashLine>,
    carried: Vec<(String, String)>,
}

/// Says what was changed, with the way back to how the date was before: at once where nobody has
/// booked it, otherwise by way of what that touches.
fn changed(at: &Clerk, back: &str, was: &Choices, done: &Touches) -> Response {
    let what = match done.people.len() {
        0 => "Changed; nobody has to be told.".to_owned(),
        1 => "Changed; one booker is told.".to_owned(),
        n => format!("Changed; {n} bookers are told."),
    };
    if done.dates.len() != 1 {
        return at.done(back, what);
    }
    // All of it: a host or a number of seats is put back with the time and the place.
    let before = change_fields(was);
    let mut fields: Vec<(&str, &str)> = before.all().collect();
    fields.extend([("scope", "one"), ("back", back)]);
    if done.people.is_empty() {
        fields.push(("act", "save"));
    }
    let undo = Undo::new(format!("/office/dates/{}/change", was.date.id), &fields);
    at.done_but(back, what, undo)
}

/// `POST /office/dates/{id}/change`: what it touches, then the change itself. The board
/// asks for the first as a part of its page.
pub(crate) async fn change(
    at: Clerk,
    Path(id): Path<i64>,
    Part(part): Part,
    posted: Posted,
) -> Result<Response, WebError> {
    let date = DateId(id);
    let scope = Scope::from_word(posted.get(dates::SCOPE.name)).unwrap_or_default();
    let sheet = office::date(&at.app.desk, &at.staff, date).await?;
    let event = sheet.event.id;
    let house = at.app.desk.house().await?;
    let today = words::local(at.app.desk.clock.now(), &house.zone).date();
    let back = if posted.get("back").starts_with("/office/board") {
        posted.get("back").to_owned()
    } else {
        format!("/office/events/{event}/dates?date={id}")
    };
    let _alone = at.keeping().await;
    let posted = match posted.over(&change_fields(&sheet)) {
        Ok(posted) => posted,
        Err(again) => {
            let again = Again { change: Some(*again), ..Again::default() };
            return page(&at, event.0, Some(id), again).await;
        }
    };
    if posted.get("act") == "save" {
        let accept = !posted.get("over_full").is_empty();
        let desk = at.app.desk.saying(posted.get("word"));
        match dates::change(&desk, &at.staff, date, scope, form(&posted), accept).await {
            Ok(done) => return Ok(changed(&at, &back, &sheet, &done)),
            // Somebody booked meanwhile: what it touches now is shown again.
            Err(DeskError::OverFull(_) | DeskError::IntoPast) => {}
            Err(error) => {
                let change = Some(Fields::again(&posted, error)?);
                let again = Again { change, ..Again::default() };
                return page(&at, event.0, Some(id), again).await;
            }
        }
    }
    let touches =
        match dates::what_it_touches(&at.app.desk, &at.staff, date, scope, form(&posted)).await {
            Ok(touches) => touches,
            Err(error) => {
                let wrong = wrong(error)?;
                if part {
                    let said = wrong.iter().map(|w| crate::wording::fault(&w.field, &w.fault));
                    let lines = said.collect();
                    return html(&TouchesPart {
                        token: String::new(),
                        action: String::new(),
                        lines,
                        dates: Vec::new(),
                        people: Vec::new(),
                        over: Vec::new(),
                        clashes: Vec::new(),
                        carried: Vec::new(),
                    });
                }
                let change = Some(Fields::posted(&posted, &wrong));
                let again = Again { change, ..Again::default() };
                return page(&at, event.0, Some(id), again).await;
            }
        };
    let (lines, moved) = touched(&touches, today);
    let over: Vec<(String, String)> = touches
        .over
        .iter()
        .map(|o| {
            let what = format!("{}: {} taken, {} wanted", o.pool, o.taken, o.capacity);
            (what, o.people.join(", "))
        })
        .collect();
    let clashes = clash_lines(&touches.clashes, today);
    let mut carried = Fields::posted(&posted, &[]).pairs();
    if touches.past > 0 {
        carried.push(("past".into(), "yes".into()));
    }
    let action = format!("/office/dates/{id}/change");
    if part {
        return html(&TouchesPart {
            token: at.app.desk.secrets.form_token(&at.visitor.0),
            action,
            lines,
            dates: moved,
            people: touches.people,
            over,
            clashes,
            carried,
        });
    }
    html(&Before {
        f: at.frame(sheet.event.title.clone(), &house.name).in_room("events"),
        heading: "What this touches".into(),
        action,
        back,
        button: "Change it".into(),
        lines,
        rule: None,
        dates: moved,
        people: touches.people,
        over,
        clashes,
        carried,
    })
}
