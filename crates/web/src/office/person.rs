//! Somebody by their address: what they booked, to what they are invited, what they wrote.

use askama::Template;
use axum::extract::Query;
use axum::response::Response;
use matricle_desk::office::person::{self, Person};
use matricle_formats::words;
use serde::Deserialize;

use crate::error::WebError;
use crate::office::Clerk;
use crate::office::messages::letters::{LetterRow, row};
use crate::office::replies::class;
use crate::page::{Frame, html};

/// What the address says.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct PersonQuery {
    #[serde(default)]
    address: String,
}

struct BookingLine {
    href: String,
    reference: String,
    title: String,
    when: String,
    class: &'static str,
    state: &'static str,
    passed: bool,
}

struct InvitedLine {
    href: String,
    title: String,
    stands: &'static str,
    class: &'static str,
    when: String,
    word: String,
}

#[derive(Template)]
#[template(path = "office/person.html")]
struct Page {
    f: Frame,
    address: String,
    name: String,
    member: bool,
    refused: String,
    unsubscribed: bool,
    bookings: Vec<BookingLine>,
    invited: Vec<InvitedLine>,
    letters: Vec<LetterRow>,
    /// How many letters there are in all, and where, if that is more than stand here.
    more: Option<(u32, String)>,
}

/// `GET /office/person`.
pub(crate) async fn show(
    at: Clerk,
    Query(PersonQuery { address }): Query<PersonQuery>,
) -> Result<Response, WebError> {
    let desk = &at.app.desk;
    let house = desk.house().await?;
    let now = desk.clock.now();
    let today = words::local(now, &house.zone).date();
    let Person {
        address,
        name,
        member,
        refused,
        unsubscribed,
        bookings,
        invited,
        letters,
        all_letters,
    } = person::person(desk, &at.staff, address).await?;
    let title = if name.is_empty() { address.clone() } else { name.clone() };
    let shown = letters.len();
    html(&Page {
        f: at.frame(title, &house.name).in_room("bookings"),
        name,
        member,
        refused: refused.unwrap_or_default(),
        unsubscribed,
        bookings: bookings
            .into_iter()
            .map(|b| BookingLine {
                href: format!("/office/bookings/{}", b.reference.as_str()),
                reference: b.reference.to_string(),
                title: b.title,
                when: words::day(b.starts.date(), today),
                class: crate::wording::state_class(b.state),
                state: crate::wording::state(b.state),
                passed: b.passed,
            })
            .collect(),
        invited: invited
            .into_iter()
            .map(|(event, title, row)| InvitedLine {
                href: format!("/office/events/{event}/replies"),
                title,
                stands: row.stands.word(),
                class: class(row.stands),
                when: row
                    .said
                    .as_ref()
                    .map(|s| s.at)
                    .or(row.invited.asked_at)
                    .map_or_else(String::new, |at| words::moment(at, &house.zone, now)),
                word: row.said.map_or_else(String::new, |s| s.word),
            })
            .collect(),
        letters: letters.iter().map(|l| row(&at, l, &house.zone)).collect(),
        more: all_letters
            .filter(|(all, _)| *all as usize > shown)
            .map(|(all, id)| (all, format!("/office/messages/letters?writer={id}"))),
        address,
    })
}
