//! `/office/house`: places, hosts, tags, money, opening hours, terms, people, the log.

pub(super) mod hours;
pub(super) mod people;
mod shelves;
pub(super) mod submissions;

use askama::Template;
use axum::extract::{Multipart, Path, Query};
use axum::http::StatusCode;
use axum::response::Response;
use matricle_core::VenueId;
use matricle_core::dates::web_calendar::FIELDS;
use matricle_core::forms::form::Form;
use matricle_core::people::staff::{Right, Role};
use matricle_core::words::marks::Mark;
use matricle_desk::DeskError;
use matricle_desk::house::things::{self, Thing};
use matricle_desk::house::{self, Rooms, face, settings as on};
use matricle_desk::planning::slots;
use matricle_formats::words;

use serde::Deserialize;

use crate::asking::{Posted, WithFile};
use crate::error::WebError;
use crate::news::Undo;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form, wrong};
use crate::parts::marks;
use crate::parts::pager::{self, Pager};

use shelves::{Shelf, shelves};

#[derive(Template)]
#[template(path = "office/house.html")]
struct HousePage {
    f: Frame,
    tab: &'static str,
    title: &'static str,
    shelves: Vec<Shelf>,
    venues: Vec<(String, String)>,
    persons: Vec<(String, String)>,
    host_names: Vec<String>,
    d: Fields,
    hours: Vec<(String, usize)>,
    closed: Vec<(String, String, String)>,
    closing: Fields,
    said: String,
    staff: Vec<(i64, String, String, &'static str, bool)>,
    roles: Vec<(&'static str, &'static str)>,
    person: Fields,
    gives_roles: bool,
    changes: Vec<(String, String, String, String)>,
    pager: Pager,
    audit: Vec<(String, String, String)>,
    audited: u32,
    feeds: Vec<(String, String)>,
    /// Fields of a web calendar, each with what it says.
    calendar_fields: [(&'static str, &'static str); 8],
    embed: String,
    may_change: bool,
    /// Whether the house has a mark; what was wrong with one that was sent.
    marked: bool,
    mark_wrong: String,
    kinds: Vec<KindRow>,
}

/// A kind of events with its mark.
struct KindRow {
    name: String,
    drawn: String,
    chosen: String,
    wrong: String,
}

/// Forms that were sent and need another look: which, and as what.
enum Again {
    None,
    Thing(Thing, i64, Fields),
    Form(Fields),
    Closing(Fields),
    Person(Fields),
    Mark(Fields),
    Kinds(Fields),
    Said(String),
}

const TABS: [(&str, &str); 6] = [
    ("", "The house"),
    ("venues", "Venues and rooms"),
    ("hosts", "Hosts"),
    ("tags", "Tags"),
    ("money", "Tax rates"),
    ("hours", "Opening hours"),
];

impl Again {
    /// What was typed for a thing, if it was sent and needs another look.
    fn typed(&self, thing: Thing, id: i64) -> Option<Fields> {
        match self {
            Self::Thing(t, i, d) if *t == thing && *i == id => Some(d.clone()),
            _ => None,
        }
    }
}

/// The form of a tab as it stands.
fn filled(all: &Rooms, tab: &str) -> Fields {
    let mut house = all.house.clone();
    let mut hours = all.hours.clone();
    let mut members = all.members.clone();
    Fields::filled(&all.house.locale(), |f| match tab {
        "hours" => house::opening(f, &mut hours),
        "people" => f.bind(&house::MEMBERS, &mut members),
        "feeds" => on::calendars(f, &mut house),
        _ => on::form(f, &mut house),
    })
}

/// A form of a tab is kept, and the tab shown again with what was said of it.
async fn keep<T, F: Future<Output = Result<T, DeskError>>>(
    at: &Clerk,
    tab: &'static str,
    posted: Posted,
    act: impl FnOnce(Form) -> F,
    said: impl FnOnce(T) -> String,
) -> Result<Response, WebError> {
    let _alone = at.keeping().await;
    let all = house::all(&at.app.desk, &at.staff).await?;
    match Fields::keep(posted, &filled(&all, tab), act).await? {
        Ok(done) => page(at, tab, Again::Said(said(done))).await,
        Err(d) => page(at, tab, Again::Form(d)).await,
    }
}

async fn page(at: &Clerk, tab: &'static str, again: Again) -> Result<Response, WebError> {
    page_at(at, tab, 0, again).await
}

/// Addresses of feeds: what each tells, and where it is.
fn addresses(at: &Clerk, all: &house::Rooms) -> Vec<(String, String)> {
    let url = &at.app.desk.public_url;
    let mut feeds = vec![("Everything".to_owned(), format!("{url}/feeds/all.ics"))];
    feeds.extend(
        all.tags
            .iter()
            .filter(|t| t.retired_at.is_none())
            .map(|t| (format!("Tag: {}", t.name), format!("{url}/feeds/tag/{}.ics", t.slug))),
    );
    feeds.extend(
        all.rooms
            .iter()
            .filter(|r| r.retired_at.is_none())
            .map(|r| (format!("Room: {}", r.name), format!("{url}/feeds/room/{}.ics", r.id))),
    );
    feeds.extend(all.hosts.iter().filter(|h| h.retired_at.is_none()).map(|h| {
        let key = at.app.desk.secrets.feed_key(h.id);
        (
            format!("Host: {} (keep it to them)", h.name),
            format!("{url}/feeds/host/{}/{key}.ics", h.id),
        )
    }));
    feeds.push(("News reader (Atom)".into(), format!("{url}/feeds/all.atom")));
    feeds.push(("For other programs (JSON-LD)".into(), format!("{url}/feeds/all.jsonld")));
    feeds.push(("Table (CSV)".into(), format!("{url}/feeds/all.csv")));
    feeds.push(("Table (XLSX)".into(), format!("{url}/feeds/all.xlsx")));
    feeds
}

/// A line of what was changed: when, by whom, what, and what it is about.
fn changed(
    c: matricle_store::places::Change,
    moment: &impl Fn(jiff::Timestamp) -> String,
) -> (String, String, String, String) {
    let what = match c.title.as_str() {
        "" => c.what,
        title => format!("{title}: {}", c.what),
    };
    (moment(c.at), c.who, what, c.about)
}

/// A line of the audit log: when, what, and by whom.
fn noted(
    n: matricle_store::audit::Noted,
    moment: &impl Fn(jiff::Timestamp) -> String,
) -> (String, String, String) {
    let place =
        if n.from_where.is_empty() { String::new() } else { format!(" · {}", n.from_where) };
    (moment(n.at), n.what, format!("{}{place}", n.who))
}

/// A tab, and of the log of changes one of its pages.
async fn page_at(
    at: &Clerk,
    tab: &'static str,
    shown: usize,
    again: Again,
) -> Result<Response, WebError> {
    let all = house::all(&at.app.desk, &at.staff).await?;
    let now = at.app.desk.clock.now();
    let zone = all.house.zone.clone();
    let moment = |at| words::moment(at, &zone, now);
    let shelves = shelves(&all, tab, &again);
    let mut d = filled(&all, tab);
    let (mut closing, mut person, mut said) = (Fields::default(), Fields::default(), String::new());
    let (mut mark, mut kinds) = (Fields::default(), None);
    let mut refusal = true;
    match again {
        Again::None | Again::Thing(..) => refusal = matches!(again, Again::Thing(..)),
        Again::Form(fields) => d = fields,
        Again::Mark(fields) => mark = fields,
        Again::Kinds(fields) => kinds = Some(fields),
        Again::Closing(fields) => closing = fields,
        Again::Person(fields) => person = fields,
        Again::Said(text) => {
            said = text;
            refusal = false;
        }
    }
    let title = match tab {
        "people" => "People and roles",
        "changes" => "Who changed what",
        "audit" => "Audit log",
        "feeds" => "Feeds and other sites",
        tab => TABS.iter().find(|(t, _)| *t == tab).map_or("The house", |(_, title)| title),
    };
    let (audit, audited) = match tab {
        "audit" => matricle_desk::house::audit::log(&at.app.desk, &at.staff).await?,
        _ => (Vec::new(), 0),
    };
    let (mut changes, mut pager) = (Vec::new(), Pager::default());
    if tab == "changes" {
        let skip = |first: usize| u32::try_from(first).unwrap_or(u32::MAX);
        let most = u32::try_from(pager::ROWS).unwrap_or(u32::MAX);
        let first = house::changes(&at.app.desk, &at.staff, 0, 0).await?.1;
        let count = usize::try_from(first).unwrap_or(usize::MAX);
        pager = Pager::of(count, shown, pager::ROWS, "/office/house/changes?");
        changes = house::changes(&at.app.desk, &at.staff, skip(pager.first), most).await?.0;
    }
    let url = &at.app.desk.public_url;
    let feeds = addresses(at, &all);
    let f = at.frame(title, &all.house.name).in_room("house");
    let page = HousePage {
        f,
        tab,
        title,
        shelves,
        host_names: all
            .hosts
            .iter()
            .filter(|h| h.retired_at.is_none())
            .map(|h| h.name.clone())
            .collect(),
        venues: all.venues.iter().map(|v| (v.id.to_string(), v.name.clone())).collect(),
        persons: std::iter::once((String::new(), "nobody".to_owned()))
            .chain(all.staff.iter().map(|s| (s.id.to_string(), s.name.clone())))
            .collect(),
        d,
        hours: ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"]
            .iter()
            .enumerate()
            .map(|(i, name)| ((*name).to_owned(), i))
            .collect(),
        closed: all
            .closed
            .iter()
            .map(|(day, why)| (day.to_string(), words::long_day(*day), why.clone()))
            .collect(),
        closing,
        said,
        staff: all
            .staff
            .iter()
            .map(|s| (s.id.0, s.name.clone(), s.email.clone(), s.role.word(), s.id == at.staff.id))
            .collect(),
        // The least first, so that nobody is given more by a slip.
        roles: Role::ALL.iter().rev().map(|r| (r.word(), r.word())).collect(),
        person,
        gives_roles: at.staff.role.may(Right::GiveRoles),
        changes: changes.into_iter().map(|c| changed(c, &moment)).collect(),
        pager,
        audit: audit.into_iter().map(|n| noted(n, &moment)).collect(),
        audited,
        feeds,
        calendar_fields: FIELDS,
        embed: format!(
            "<div data-matricle=\"{url}/embed/list\"></div>\n<script async src=\"{url}/embed.js\"></script>"
        ),
        may_change: at.staff.role.may(Right::SetHouseUp),
        marked: tab.is_empty() && face::mark(&at.app.desk).await?.is_some(),
        mark_wrong: mark.w("mark").to_owned(),
        kinds: if tab == "tags" { kind_rows(at, kinds.as_ref()).await? } else { Vec::new() },
    };
    if refusal { refused(StatusCode::UNPROCESSABLE_ENTITY, &page) } else { html(&page) }
}

/// The kinds of events with their marks, as they are or as they were chosen.
async fn kind_rows(at: &Clerk, chosen: Option<&Fields>) -> Result<Vec<KindRow>, WebError> {
    let kinds = face::kinds(&at.app.desk).await?;
    let row = |(i, (name, mark)): (usize, (String, Option<Mark>))| {
        let own = mark.map_or("", Mark::word);
        let field = format!("mark_{i}");
        KindRow {
            drawn: mark.map_or_else(String::new, marks::svg),
            chosen: chosen.map_or(own, |d| d.v(&field)).to_owned(),
            wrong: chosen.map_or_else(String::new, |d| d.w(&field).to_owned()),
            name,
        }
    };
    Ok(kinds.into_iter().enumerate().map(row).collect())
}

/// `POST /office/house/kinds`: marks of the kinds of events.
pub(crate) async fn set_kinds(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let chosen = (0..)
        .map_while(|i| {
            let name = posted.starting("kind_").find(|(n, _)| *n == i.to_string())?.1;
            Some((name.to_owned(), Mark::from_word(posted.get(&format!("mark_{i}")))))
        })
        .collect();
    match face::set_kinds(&at.app.desk, &at.staff, chosen).await {
        Ok(()) => Ok(at.done("/office/house/tags", "The marks are kept; the month shows them.")),
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            page(&at, "tags", Again::Kinds(d)).await
        }
    }
}

/// `POST /office/house/mark`: a file, or away with it.
pub(crate) async fn set_mark(at: Clerk, parts: Multipart) -> Result<Response, WebError> {
    let WithFile { act, bytes, .. } = WithFile::read(&at.app, &at.visitor, "mark", parts).await?;
    let bytes = (act != "drop").then_some(bytes);
    let what = if bytes.is_some() { "The mark is kept." } else { "The mark is taken away." };
    match face::set_mark(&at.app.desk, &at.staff, bytes).await {
        Ok(()) => Ok(at.done("/office/house#mark", what)),
        Err(error) => {
            let mut d = Fields::default();
            d.mark(&wrong(error)?);
            page(&at, "", Again::Mark(d)).await
        }
    }
}

fn tab_of(word: &str) -> Result<&'static str, WebError> {
    ["venues", "hosts", "tags", "money", "hours", "people", "changes", "feeds", "audit"]
        .into_iter()
        .find(|t| *t == word)
        .ok_or(WebError::Desk(DeskError::NotFound))
}

pub(crate) async fn show(at: Clerk) -> Result<Response, WebError> {
    page(&at, "", Again::None).await
}

/// Which page of the log of changes.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct Shown {
    #[serde(default)]
    page: usize,
}

pub(crate) async fn part(
    at: Clerk,
    Path(tab): Path<String>,
    Query(shown): Query<Shown>,
) -> Result<Response, WebError> {
    page_at(&at, tab_of(&tab)?, shown.page, Again::None).await
}

/// `GET /office/house/calendars`: the tab that has them.
pub(crate) async fn feeds(at: Clerk) -> Result<Response, WebError> {
    page(&at, "feeds", Again::None).await
}

/// `POST /office/house/calendars`: web calendars, and whether the feeds of hosts have names.
pub(crate) async fn set_calendars(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let act = |form| on::keep_calendars(&at.app.desk, &at.staff, form);
    keep(&at, "feeds", posted, act, |()| "Kept.".into()).await
}

/// `POST /office/house`: name, address, zone, terms, cancellation steps, other sites.
pub(crate) async fn set_terms(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let act = |form| on::keep(&at.app.desk, &at.staff, form);
    keep(&at, "", posted, act, |()| "Kept.".into()).await
}

/// `POST /office/house/{thing}/{id}`: a change, an addition (`0`), retired or offered again.
pub(crate) async fn save(
    at: Clerk,
    Path((word, id)): Path<(String, i64)>,
    posted: Posted,
) -> Result<Response, WebError> {
    let thing = Thing::from_word(&word).ok_or(DeskError::NotFound)?;
    let act = posted.get("act");
    if matches!(act, "retire" | "offer") {
        things::retire(&at.app.desk, &at.staff, thing, id, act == "retire").await?;
        let (what, act) = match act {
            "retire" => ("It is offered no more; what has it keeps it.", "offer"),
            _ => ("It is offered again.", "retire"),
        };
        let undo = Undo::new(format!("/office/house/{word}/{id}"), &[("act", act)]);
        return Ok(at.done_but(thing.page(), what, undo));
    }
    let tab = tab_of(thing.page().rsplit('/').next().unwrap_or_default())?;
    if (thing, act) == (Thing::Venue, "join") {
        return match things::join_venues(&at.app.desk, &at.staff, VenueId(id), form(&posted)).await
        {
            Ok((name, dates)) => {
                let dates = words::count(u32::try_from(dates).unwrap_or(u32::MAX), "dates");
                Ok(at.done(thing.page(), format!("It is {name} now; {dates} went along.")))
            }
            Err(error) => {
                let d = Fields::again(&posted, error)?;
                page(&at, tab, Again::Thing(thing, id, d)).await
            }
        };
    }
    let _alone = at.keeping().await;
    let all = house::all(&at.app.desk, &at.staff).await?;
    let shelves = shelves(&all, tab, &Again::None);
    let shelf = shelves.iter().find(|shelf| shelf.thing == thing);
    let item = shelf.and_then(|shelf| shelf.items.iter().find(|item| item.id == id));
    let now = item.map_or_else(Fields::default, |item| item.d.clone());
    let done = format!("Kept: {}.", posted.get("name").trim());
    let act = |form| things::save(&at.app.desk, &at.staff, thing, id, form);
    match Fields::keep(posted, &now, act).await? {
        Ok(()) => Ok(at.done(thing.page(), done)),
        Err(d) => page(&at, tab, Again::Thing(thing, id, d)).await,
    }
}

struct OwnDate {
    id: i64,
    title: String,
    when: String,
    place: String,
    strip: String,
    /// It happens online, or that too, and is not over: whoever leads it goes in from here.
    online: bool,
    people: Vec<(String, String)>,
}

#[derive(Template)]
#[template(path = "office/mine.html")]
struct Mine {
    f: Frame,
    dates: Vec<OwnDate>,
}

/// `GET /office/mine`: the dates somebody leads, and who comes.
pub(crate) async fn mine(at: Clerk) -> Result<Response, WebError> {
    let (house, dates) = matricle_desk::office::own_dates(&at.app.desk, &at.staff).await?;
    let now = at.app.desk.clock.now();
    let today = words::local(now, &house.zone).date();
    let f = at.frame("My dates", &house.name);
    html(&Mine {
        f,
        dates: dates
            .iter()
            .map(|(d, people)| OwnDate {
                id: d.date.id.0,
                title: d.event.title.clone(),
                when: words::span(d.date.span.starts, d.date.span.ends, today),
                place: d.date.place(),
                online: d.event.format != matricle_store::events::Format::InPerson
                    && d.date.span.ends_at > now,
                strip: crate::parts::strip::svg(&d.pool, d.inside, crate::parts::strip::SMALL),
                people: people.iter().map(|p| (p.name.clone(), p.ticket.clone())).collect(),
            })
            .collect(),
    })
}
