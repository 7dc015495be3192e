//! Who is invited to an event: the list, where its people come from, and what an invitation allows.

use askama::Template;
use axum::extract::{Multipart, Path};
use axum::response::Response;
use matricle_core::{DateId, EventId};
use matricle_desk::DeskError;
use matricle_desk::planning::invitations::{self, From, Looked, MOST_EARLIER};
use matricle_desk::planning::replies::ReplyRow;
use matricle_desk::planning::{asking, replies, sheet};
use matricle_formats::words;
use matricle_store::bookings::Filter;
use matricle_store::events::EventState;

use matricle_desk::planning::invitations as on;

use crate::asking::{Mixed, Posted};
use crate::error::WebError;
use crate::news::Undo;
use crate::office::tab::{answer, frame};
use crate::office::{Clerk, bookings};
use crate::page::Frame;
use crate::parts::fields::{Fields, form};

/// Somebody on the list, and where the mail to them stands.
struct PastedLine {
    address: String,
    mail: String,
    /// On the list of the event: they can be taken off here.
    listed: bool,
    /// They have a link of their own.
    has_link: bool,
}

/// Places where people come from, under one heading.
struct Group {
    heading: String,
    choices: Vec<(String, String)>,
}

#[derive(Template)]
#[template(path = "office/invitations.html")]
struct InvitationsPage {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    published: bool,
    /// Only those invited may book.
    only: bool,
    d: Fields,
    looked: Option<Looked>,
    people: u32,
    fresh: u32,
    groups: Vec<Group>,
    /// More earlier dates there are than are offered.
    more_earlier: bool,
    lines: Vec<PastedLine>,
    more: usize,
}

/// Most of the list on the page; the files of the replies have all.
const MOST: usize = 25;

/// How the rules of an invitation stand in their fields.
fn rules(d: &mut Fields, s: &sheet::Settings) {
    let mut inviting = s.event.rules.inviting.clone();
    *d = std::mem::take(d).over(&Fields::filled(&s.house.locale(), |f| on::form(f, &mut inviting)));
}

fn line(at: &Clerk, row: &ReplyRow, zone: &str) -> PastedLine {
    let now = at.app.desk.clock.now();
    let mail = match (&row.mail, row.invited.elsewhere) {
        _ if !row.invited.handed_to.is_empty() => format!("handed on to {}", row.invited.handed_to),
        (None, _) => "not asked yet".to_owned(),
        (_, true) => "by other means".to_owned(),
        (Some((_, Some(sent))), _) => format!("sent {}", words::moment(*sent, zone, now)),
        (Some((state, None)), _) => state.word().to_owned(),
    };
    PastedLine {
        address: row.invited.email.clone(),
        mail,
        listed: row.invited.listed,
        has_link: row.invited.message.is_some() && row.invited.handed_to.is_empty(),
    }
}

fn groups(sources: &invitations::Sources) -> Vec<Group> {
    let mut groups: Vec<Group> = vec![Group {
        heading: "Lists".into(),
        choices: vec![("members".into(), "all members".into())],
    }];
    let first = &mut groups[0].choices;
    first.extend(sources.lists.iter().map(|(id, title, many)| {
        (format!("invited {id}"), format!("the {many} invited to {title}"))
    }));
    first.extend(
        sources
            .views
            .iter()
            .map(|(id, name, _)| (format!("view {id}"), format!("bookings: {name}"))),
    );
    let mut by_event: Vec<(EventId, Group)> = Vec::new();
    for e in &sources.earlier {
        let day = (format!("date {}", e.date), words::long_day(e.starts.date()));
        match by_event.iter_mut().find(|(id, _)| *id == e.event) {
            Some((_, group)) => group.choices.push(day),
            None => {
                let all = (format!("event {}", e.event), format!("all dates of {}", e.title));
                let heading = format!("Who booked {}", e.title);
                by_event.push((e.event, Group { heading, choices: vec![all, day] }));
            }
        }
    }
    groups.extend(by_event.into_iter().map(|(_, group)| group));
    groups
}

/// Where people come from, as it was chosen.
fn from(posted: &Posted, sources: &invitations::Sources) -> From {
    let words = posted.get(on::FROM_WORDS.name).trim();
    if !words.is_empty() {
        return From::Filter(Box::new(Filter { words: words.into(), ..Filter::default() }));
    }
    let (kind, key) = posted.get("from").split_once(' ').unwrap_or((posted.get("from"), ""));
    let came = match posted.get("came") {
        "came" => Some(true),
        "missed" => Some(false),
        _ => None,
    };
    let id = key.parse::<i64>().ok();
    match (kind, id) {
        ("members", _) => From::Members,
        ("invited", Some(id)) => From::Invited(EventId(id)),
        ("event", Some(id)) => From::Earlier { event: Some(EventId(id)), date: None, came },
        ("date", Some(id)) => From::Earlier { event: None, date: Some(DateId(id)), came },
        ("view", Some(id)) => sources
            .views
            .iter()
            .find(|(view, ..)| *view == id)
            .map_or(From::Nowhere, |(_, _, query)| From::Filter(Box::new(bookings::filter(query)))),
        _ => From::Nowhere,
    }
}

async fn page(
    at: &Clerk,
    id: i64,
    d: Option<Fields>,
    looked: Option<Looked>,
) -> Result<Response, WebError> {
    let desk = &at.app.desk;
    let s = sheet::settings(desk, &at.staff, EventId(id)).await?;
    let sources = invitations::sources(desk, &at.staff, EventId(id)).await?;
    let all = replies::of_event(desk, &at.staff, EventId(id)).await?;
    let mut d = d.unwrap_or_default();
    // What one form of the page has to say stands beside the others as they are.
    if d.v("form") != "rules" {
        rules(&mut d, &s);
    }
    let wrong = d.count();
    let (people, fresh) = sources.counts;
    let page = InvitationsPage {
        tab: "invitations",
        id,
        bookings: s.bookings,
        title: s.event.title.clone(),
        published: s.event.state == EventState::Published,
        only: s.event.who == matricle_core::people::who::Who::Invited,
        f: frame(at, &s),
        d,
        looked,
        people,
        fresh,
        groups: groups(&sources),
        more_earlier: sources.earlier.len() >= MOST_EARLIER as usize,
        lines: all.rows.iter().rev().take(MOST).map(|r| line(at, r, &s.house.zone)).collect(),
        more: all.rows.len().saturating_sub(MOST),
    };
    answer(wrong, &page)
}

fn here(id: i64) -> String {
    format!("/office/events/{id}/invitations")
}

/// `GET /office/events/{id}/invitations`.
pub(crate) async fn show(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    page(&at, id, None, None).await
}

/// `POST /office/events/{id}/invitations/look`: what a list comes to, before anything is kept.
pub(crate) async fn look(
    at: Clerk,
    Path(id): Path<i64>,
    parts: Multipart,
) -> Result<Response, WebError> {
    let Mixed { posted, file } = Mixed::read(&at.app, &at.visitor, parts).await?;
    let sources = invitations::sources(&at.app.desk, &at.staff, EventId(id)).await?;
    let file = String::from_utf8_lossy(&file);
    let text = format!("{}\n{}", posted.get("whom"), file.trim_start_matches('\u{feff}'));
    let from = from(&posted, &sources);
    let looked = invitations::look(&at.app.desk, &at.staff, EventId(id), text, from).await?;
    let mut d = Fields::posted(&posted, &[]);
    // What is no address stays where it was typed, to be mended; what was found stands there now.
    let mut lines: Vec<String> = looked
        .addresses
        .iter()
        .map(|address| match looked.names.get(address) {
            // Marks that would end the name are left out of it.
            Some(name) => format!("\"{}\" <{address}>", name.replace('"', "")),
            None => address.clone(),
        })
        .collect();
    lines.extend(looked.wrong.iter().cloned());
    d.set("whom", lines.join("\n"));
    for name in ["from", "from_words", "came"] {
        d.set(name, String::new());
    }
    page(&at, id, Some(d), Some(looked)).await
}

/// `POST /office/events/{id}/invitations`: puts addresses on the list.
pub(crate) async fn add(
    at: Clerk,
    Path(id): Path<i64>,
    parts: Multipart,
) -> Result<Response, WebError> {
    let Mixed { posted, .. } = Mixed::read(&at.app, &at.visitor, parts).await?;
    match invitations::add(&at.app.desk, &at.staff, EventId(id), form(&posted)).await {
        Ok(added) => {
            let people = |n: usize| words::people(u32::try_from(n).unwrap_or(u32::MAX));
            let said = match (added.new, added.known) {
                (0, _) => "They were all on the list.".to_owned(),
                (new, 0) => format!("{} put on the list. Nothing is mailed yet.", people(new)),
                (new, known) => format!(
                    "{} put on the list; {} were on it. Nothing is mailed yet.",
                    people(new),
                    people(known)
                ),
            };
            Ok(at.done(&here(id), said))
        }
        Err(error) => page(&at, id, Some(Fields::again(&posted, error)?), None).await,
    }
}

/// `POST /office/events/{id}/invitations/off`: takes somebody off the list.
pub(crate) async fn take_off(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let address = posted.get("address").trim().to_owned();
    let off = invitations::take_off(&at.app.desk, &at.staff, EventId(id), address.clone()).await?;
    if !off {
        return Ok(at.done(&here(id), format!("{address} is not on the list.")));
    }
    let undo = Undo::new(format!("{}/back", here(id)), &[("whom", &address)]);
    let said = format!("{address} is off the list; the link of the invitation opens nothing.");
    Ok(at.done_but(&here(id), said, undo))
}

/// `POST /office/events/{id}/invitations/link`: gives somebody's invitation another link.
pub(crate) async fn new_link(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let address = posted.get("address").trim().to_owned();
    let (desk, event) = (&at.app.desk, EventId(id));
    invitations::replace_link(desk, &at.staff, event, address.clone()).await?;
    let said = format!(
        "The link that {address} had opens nothing any more. The new one stands in the files of the replies, and in what they are sent next."
    );
    Ok(at.done(&here(id), said))
}

/// `POST /office/events/{id}/invitations/back`: puts somebody back who was taken off.
pub(crate) async fn put_back(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    invitations::add(&at.app.desk, &at.staff, EventId(id), form(&posted)).await?;
    Ok(at.done(&here(id), format!("{} is on the list again.", posted.get("whom"))))
}

/// `POST /office/events/{id}/invitations/rules`: what an invitation allows.
pub(crate) async fn set_rules(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    match invitations::set(&at.app.desk, &at.staff, EventId(id), form(&posted)).await {
        Ok(()) => Ok(at.done(&here(id), "Kept.")),
        Err(error) => {
            let mut d = Fields::again(&posted, error)?;
            d.set("form", "rules".into());
            page(&at, id, Some(d), None).await
        }
    }
}

/// `POST /office/events/{id}/invite`: mails an invitation to whoever has none yet.
pub(crate) async fn invite(
    at: Clerk,
    Path(id): Path<i64>,
    _posted: Posted,
) -> Result<Response, WebError> {
    let many = match asking::send(&at.app.desk, &at.staff, EventId(id)).await {
        Ok(many) => u32::try_from(many).unwrap_or(u32::MAX),
        Err(DeskError::NotPublished) => {
            let said = "Nothing is mailed: the event is not in the Programme.";
            return Ok(at.done(&here(id), said));
        }
        Err(error) => return Err(error.into()),
    };
    let said = match many {
        0 => "Everybody on the list has an invitation.".to_owned(),
        1 => "One person gets an invitation by mail.".to_owned(),
        n => format!("{} get an invitation by mail.", words::people(n)),
    };
    Ok(at.done(&here(id), said))
}
