//! What those who were invited say: a strip, a list with their words, files; asking once again.

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::Uri;
use axum::response::Response;
use jiff::Timestamp;
use matricle_core::EventId;
use matricle_core::messages::replies::Stands;
use matricle_core::people::staff::Right;
use matricle_desk::planning::asking;
use matricle_desk::planning::replies::{self, ReplyRow};
use matricle_formats::table::Cell;
use matricle_formats::words;
use serde::Deserialize;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html};
use crate::parts::list::{Ask, Column, Columns, InFile, Shown, View};

#[derive(Template)]
#[template(path = "office/replies.html")]
struct RepliesPage {
    f: Frame,
    id: i64,
    title: String,
    /// Each way to stand: its word, class, how many.
    kinds: Vec<(&'static str, &'static str, u32)>,
    /// Their parts of the strip.
    strip: Vec<Segment>,
    people: u32,
    only: String,
    q: String,
    /// What the address of the same list says, up to its page.
    query: String,
    list: View,
    /// How many can be asked once again, when the latest of them was asked, and whether that is
    /// about to be done.
    silent: usize,
    latest: String,
    asks: bool,
    /// When a cue asks the first of them; empty where none does.
    again: String,
    may_ask: bool,
    /// How many said yes and have no seat, and the dates that one can be booked for.
    to_book: usize,
    dates: Vec<(i64, String)>,
    may_book: bool,
    /// How many have no link yet.
    without: usize,
    /// The words to copy, for whoever sends invitations by other means.
    words: String,
}

/// Most rows on a page; the files have all.
const MOST: usize = 40;

/// What the address says.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct RepliesQuery {
    #[serde(default)]
    only: String,
    #[serde(default)]
    again: String,
}

/// A class of the look for where somebody stands.
pub(crate) const fn class(stands: Stands) -> &'static str {
    use matricle_core::messages::replies::Reply;
    match stands {
        Stands::Said(Reply::Yes) => "yes",
        Stands::Booked => "booked",
        Stands::Said(Reply::Maybe) => "maybe",
        Stands::Said(Reply::No) => "no",
        Stands::None => "none",
        Stands::HandedOn => "handed",
        Stands::Bounced => "bounced",
        Stands::NotAsked => "notasked",
    }
}

/// When somebody was asked, or whom they handed it on to.
fn asked(row: &ReplyRow, moment: impl Fn(Timestamp) -> String) -> String {
    match (row.invited.asked, row.invited.asked_at) {
        _ if !row.invited.handed_to.is_empty() => format!("handed on to {}", row.invited.handed_to),
        (0, _) | (_, None) => String::new(),
        (1, Some(when)) => format!("asked {}", moment(when)),
        (_, Some(when)) => format!("asked again {}", moment(when)),
    }
}

/// What stands on the list of replies.
fn columns<'a>(at: &'a Clerk, zone: &'a str) -> Columns<'a, &'a ReplyRow> {
    let now = at.app.desk.clock.now();
    let moment = move |when| words::moment(when, zone, now);
    let time = move |when| Cell::at(when, zone);
    let replied = |r: &&ReplyRow| r.said.as_ref().map(|s| s.at);
    let word = |r: &&ReplyRow| r.said.as_ref().map_or_else(String::new, |s| s.word.clone());
    // A link answers in somebody's name: who may not invite is not given any.
    let may = at.staff.role.may(Right::PlanEvents);
    let link = move |r: &&ReplyRow| if may { r.link(&at.app.desk) } else { None };
    vec![
        Column::new("reply", "Reply", |r: &&ReplyRow| r.stands.word())
            .shown(|r| {
                Shown::from(r.stands.word()).strong().class(format!("nobr rk-{}", class(r.stands)))
            })
            .rising(),
        Column::new("name", "Name", |r: &&ReplyRow| r.name.clone())
            .shown(|r| Shown::from(r.name.as_str()).strong())
            .rising(),
        Column::new("address", "Address", |r: &&ReplyRow| r.invited.email.clone())
            .shown(|r| {
                Shown::from(r.invited.email.as_str()).to(crate::address::person(&r.invited.email))
            })
            .rising(),
        Column::new("word", "Word", word).shown(move |r| match word(r).as_str() {
            "" => String::new(),
            word => format!("“{word}”"),
        }),
        Column::new("replied", "Replied", move |r: &&ReplyRow| replied(r).map(time))
            .shown(move |r| replied(r).map_or_else(String::new, moment))
            .named()
            .falling(),
        Column::new("booked", "Booked", |r: &&ReplyRow| if r.booked { "yes" } else { "" })
            .shown(|r| if r.booked { "booked" } else { "" })
            .rising(),
        Column::new("asked", "Asked", move |r: &&ReplyRow| r.invited.asked_at.map(time))
            .shown(move |r| asked(r, moment))
            .falling(),
        Column::new("link", "Link", link).in_files(),
    ]
}

/// A part of the strip: those who stand in one way. It says so itself where it is wide enough, so
/// that nobody has to know the colours.
struct Segment {
    class: &'static str,
    /// From where, how wide, and its middle, in percent.
    from: String,
    wide: String,
    middle: String,
    says: String,
}

fn strip(kinds: &[(&'static str, &'static str, u32)], people: u32) -> Vec<Segment> {
    let mut before = 0;
    let segment = |(word, class, n): &(&'static str, &'static str, u32)| {
        let (start, end) = (before * 1000 / people.max(1), (before + n) * 1000 / people.max(1));
        before += n;
        let percent = |thousandths: u32| format!("{}.{}", thousandths / 10, thousandths % 10);
        Segment {
            class,
            from: percent(start),
            wide: percent(end - start),
            middle: percent((start + end) / 2),
            says: match end - start {
                0..40 => String::new(),
                40..120 => n.to_string(),
                _ => format!("{word} {n}"),
            },
        }
    };
    kinds.iter().map(segment).collect()
}

/// Those who stand as the address says: the latest reply first; who said nothing stands in the order
/// of the list.
fn fitting<'a>(all: &'a replies::Replies, only: &str) -> Vec<&'a ReplyRow> {
    let mut fits: Vec<&ReplyRow> =
        all.rows.iter().filter(|r| only.is_empty() || r.stands.word() == only).collect();
    fits.sort_by_key(|r| std::cmp::Reverse(r.said.as_ref().map(|s| s.at)));
    fits
}

/// `GET /office/events/{id}/replies`.
pub(crate) async fn show(
    at: Clerk,
    Path(id): Path<i64>,
    Query(RepliesQuery { only, again }): Query<RepliesQuery>,
    ask: Ask,
) -> Result<Response, WebError> {
    let house = at.app.desk.house().await?;
    let all = replies::of_event(&at.app.desk, &at.staff, EventId(id)).await?;
    let people: u32 = all.counts.iter().sum();
    let kinds: Vec<_> = Stands::ALL
        .into_iter()
        .zip(all.counts)
        .filter(|(_, n)| *n > 0)
        .map(|(stands, n)| (stands.word(), class(stands), n))
        .collect();
    let strip = strip(&kinds, people);
    let what = format!("only={}&", crate::address::encode(&only));
    let here = format!("/office/events/{id}/replies?{what}");
    let mut fits = fitting(&all, &only);
    let list = ask.page(&columns(&at, &house.zone), &mut fits, &here, MOST);
    html(&RepliesPage {
        f: at.frame(format!("Replies: {}", all.event.title), &house.name).in_room("events"),
        id,
        title: all.event.title.clone(),
        kinds,
        strip,
        people,
        list,
        query: format!("{what}{}", ask.query()),
        q: ask.q,
        only,
        silent: all.rows.iter().filter(|r| r.may_be_asked_again()).count(),
        latest: all
            .rows
            .iter()
            .filter(|r| r.may_be_asked_again())
            .filter_map(|r| r.invited.asked_at)
            .max()
            .map_or_else(String::new, |when| {
                words::moment(when, &house.zone, at.app.desk.clock.now())
            }),
        asks: again == "ask",
        again: all.again_at.map_or_else(String::new, |at_| {
            words::moment(at_.max(at.app.desk.clock.now()), &house.zone, at.app.desk.clock.now())
        }),
        to_book: all
            .rows
            .iter()
            .filter(|r| {
                r.stands == Stands::Said(matricle_core::messages::replies::Reply::Yes) && !r.booked
            })
            .count(),
        dates: all
            .dates
            .iter()
            .map(|d| (d.id.0, words::long_span(d.span.starts, d.span.ends)))
            .collect(),
        may_book: at.staff.role.may(matricle_core::people::staff::Right::ChangeBookings),
        without: all.rows.iter().filter(|r| r.invited.asked == 0).count(),
        words: words_to_copy(&all, &house),
        may_ask: at.staff.role.may(matricle_core::people::staff::Right::PlanEvents),
    })
}

/// `POST /office/events/{id}/replies/book`: a seat for everybody who said yes.
pub(crate) async fn book(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let there = format!("/office/events/{id}/replies");
    let form = crate::parts::fields::form(&posted);
    let done = match replies::book_yes(&at.app.desk, &at.staff, EventId(id), form).await {
        Ok(done) => done,
        Err(matricle_desk::DeskError::Form(_)) => {
            let said = "Nobody was booked: choose a date, and see that the event has a ticket without a price.";
            return Ok(at.done(&there, said));
        }
        Err(error) => return Err(error.into()),
    };
    let booked = words::people(u32::try_from(done.booked).unwrap_or(u32::MAX));
    let said = match &done.not[..] {
        [] => format!("{booked} booked; each gets the confirmation."),
        [(first, why), rest @ ..] => {
            let others =
                if rest.is_empty() { String::new() } else { format!(" and {} more", rest.len()) };
            format!("{booked} booked. Not booked: {first}{others}: {why}.")
        }
    };
    Ok(at.done(&there, said))
}

/// The words of an invitation that somebody sends by other means.
fn words_to_copy(all: &replies::Replies, house: &matricle_store::house::House) -> String {
    let when: Vec<String> =
        all.dates.iter().map(|d| words::long_span(d.span.starts, d.span.ends)).collect();
    format!(
        "{}\n{}\n\n{}\n\nAre you coming? Your own link: [link]\n\n{}",
        all.event.title,
        all.event.lead,
        when.join("\n"),
        house.name
    )
}

/// `POST /office/events/{id}/replies/links`: links for those who have none, and no mail.
pub(crate) async fn links(
    at: Clerk,
    Path(id): Path<i64>,
    _posted: Posted,
) -> Result<Response, WebError> {
    let made = asking::by_other_means(&at.app.desk, &at.staff, EventId(id)).await?;
    let many = words::count(u32::try_from(made).unwrap_or(u32::MAX), "links");
    let said = format!("{many} made. They stand in the files, one for each address.");
    Ok(at.done(&format!("/office/events/{id}/replies"), said))
}

/// `GET /office/events/{id}/replies.csv` and `.xlsx`: the list as shown, all of its rows.
pub(crate) async fn file(
    at: Clerk,
    Path(id): Path<i64>,
    uri: Uri,
    Query(RepliesQuery { only, .. }): Query<RepliesQuery>,
    ask: Ask,
) -> Result<Response, WebError> {
    let house = at.app.desk.house().await?;
    let all = replies::of_event(&at.app.desk, &at.staff, EventId(id)).await?;
    let columns = columns(&at, &house.zone);
    let mut fits = fitting(&all, &only);
    ask.narrow(&columns, &mut fits);
    let what = format!("replies to {}", all.event.title);
    InFile::of(&columns, &fits).hand_out((&at.app.desk, &at.staff), &uri, ("Replies", &what)).await
}

/// `POST /office/events/{id}/replies`: whoever has not replied is asked once again.
pub(crate) async fn again(
    at: Clerk,
    Path(id): Path<i64>,
    _posted: Posted,
) -> Result<Response, WebError> {
    let asked = asking::ask_again(&at.app.desk, &at.staff, EventId(id)).await?;
    let said = match u32::try_from(asked).unwrap_or(u32::MAX) {
        0 => "Nobody is left to be asked once again.".to_owned(),
        1 => "One person gets the invitation once again.".to_owned(),
        n => format!("{} get the invitation once again.", words::people(n)),
    };
    Ok(at.done(&format!("/office/events/{id}/replies"), said))
}
