//! `/foyer/{code}/{key}`: an attendee's own link to a date online, before, during and after.
//! Looking at it marks nobody: an act of the person opens the room.

use askama::Template;
use axum::extract::State as Shared;
use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::SessionId;
use matricle_core::door::foyer::{PartStands, Stands};
use matricle_desk::door::foyer::{self, Foyer, In};
use matricle_formats::words;

use crate::App;
use crate::asking::{Asker, Posted, Visitor};
use crate::error::WebError;
use crate::guard::{Often, counted};
use crate::page::{Face, Frame, html};
use crate::programme::ticket::Shown;

/// What changes by itself while somebody waits.
#[derive(Template)]
#[template(path = "programme/foyer_part.html")]
struct Part {
    token: String,
    link: String,
    /// A word for what it says, for the page's script.
    stands: &'static str,
    /// The line in large letters.
    head: String,
    /// What to do.
    says: String,
    day: String,
    times: String,
    zone: String,
    /// Instants in milliseconds since 1970: now, when the room opens, when it starts and ends.
    now_ms: i64,
    opens_ms: i64,
    starts_ms: i64,
    ends_ms: i64,
    opens: String,
    /// When it was used in another browser.
    elsewhere: String,
    been_in: bool,
    until: String,
    /// A line about what went wrong a moment ago.
    trouble: &'static str,
    event_href: String,
    /// There is a room for all of it.
    one_room: bool,
    /// Sessions with rooms of their own.
    sessions: Vec<SessionRow>,
}

/// A session with a room of its own.
struct SessionRow {
    id: i64,
    title: String,
    /// When, by whom, on which track.
    line: String,
    says: String,
    open: bool,
}

fn session_row(part: &foyer::Part, zone: &str) -> SessionRow {
    let s = &part.session;
    let clock = |at| words::clock(words::local(at, zone).datetime());
    let times = format!("{} to {}", words::clock(s.span.starts), words::clock(s.span.ends));
    let line: Vec<&str> =
        [times.as_str(), &s.host, &s.track].into_iter().filter(|p| !p.is_empty()).collect();
    SessionRow {
        id: s.facts.id.0,
        title: s.title.clone(),
        line: line.join(", "),
        says: match part.stands {
            PartStands::Before(at) => format!("opens {}", clock(at)),
            PartStands::NoRoom => "its room is not known yet".into(),
            PartStands::Open => String::new(),
            PartStands::Over => "over".into(),
            PartStands::NotTheirs => "for those who signed up".into(),
            PartStands::Shut => "not open to you".into(),
        },
        open: part.stands == PartStands::Open,
    }
}

#[derive(Template)]
#[template(path = "programme/foyer.html")]
struct Page {
    f: Frame,
    title: String,
    lead: String,
    hosts: String,
    name: String,
    prepare: Vec<String>,
    part: Part,
}

/// The address of the room and its passcode, shown once to whoever goes in.
#[derive(Template)]
#[template(path = "programme/foyer_in.html")]
struct InPage {
    f: Frame,
    title: String,
    to: String,
    passcode: String,
    back: String,
}

const fn word(stands: Stands) -> &'static str {
    match stands {
        Stands::Before(_) => "before",
        Stands::NoRoom => "noroom",
        Stands::Open => "open",
        Stands::Recording => "recording",
        Stands::NotForYou | Stands::Over => "over",
        Stands::CalledOff => "off",
        Stands::NotPaid(_) => "pay",
        Stands::Asked => "asked",
        Stands::Cancelled | Stands::Lapsed { .. } => "gone",
    }
}

/// What the foyer says: a line in large letters, and what to do.
fn says(f: &Foyer) -> (String, String) {
    let (head, says) = match f.stands {
        Stands::Before(_) => {
            ("Not open yet", "This page opens the room by itself: leave it open, or come back.")
        }
        Stands::NoRoom => (
            "In a moment",
            "The room’s address is not known yet. This page goes on as soon as it is.",
        ),
        Stands::Open if f.been_in => {
            ("The room is open", "You have been in; the same button leads back.")
        }
        Stands::Open if !f.one_room => {
            ("It is on", "Each session has a room of its own: go into the one you want.")
        }
        Stands::Open => ("The room is open", "Press the button to go in."),
        Stands::Recording => ("It is over", "You can see it again here."),
        Stands::NotForYou => (
            "It is over",
            "There is a recording for those who came. Write to the house if you were there and it is not for you.",
        ),
        Stands::Over => {
            ("It is over", "Thank you for coming. If there is a recording, it will stand here.")
        }
        Stands::CalledOff => {
            let why = &f.date.called_off;
            let why = if why.is_empty() { &f.event.called_off } else { why };
            let why = if why.is_empty() { String::new() } else { format!("{why} ") };
            return (
                "Called off".into(),
                format!(
                    "{why}Nothing happens at this time. The mail about it says what becomes of your booking."
                ),
            );
        }
        Stands::NotPaid(due) => {
            return (
                "Not paid yet".into(),
                format!("{due} is still to pay. Once it is, this page lets you in."),
            );
        }
        Stands::Asked => (
            "Waiting for a yes",
            "The organiser has not confirmed your booking yet. Once they do, this page lets you in.",
        ),
        Stands::Cancelled => (
            "This ticket does not stand any more",
            "It was cancelled, or passed on to somebody else.",
        ),
        Stands::Lapsed { full: true } => {
            ("This booking was not completed in time", "All seats are taken now.")
        }
        Stands::Lapsed { full: false } => {
            ("This booking was not completed in time", "There are seats left: book again.")
        }
    };
    (head.into(), says.into())
}

fn part(app: &App, visitor: &Visitor, link: &str, f: &Foyer, trouble: &'static str) -> Part {
    let now = app.desk.clock.now();
    let span = &f.date.span;
    let (head, says) = says(f);
    let opens = matricle_core::door::foyer::opens_at(span.starts_at, f.how.opens_minutes);
    let clock = |at| words::clock(words::local(at, &span.zone).datetime());
    Part {
        token: app.desk.secrets.form_token(&visitor.0),
        link: link.to_owned(),
        stands: word(f.stands),
        head,
        says,
        day: words::long_day(span.starts.date()),
        times: format!("{} to {}", words::clock(span.starts), words::clock(span.ends)),
        zone: span.zone.replace('_', " "),
        now_ms: now.as_millisecond(),
        opens_ms: opens.as_millisecond(),
        starts_ms: span.starts_at.as_millisecond(),
        ends_ms: span.ends_at.as_millisecond(),
        opens: clock(opens),
        elsewhere: f.elsewhere.map(clock).unwrap_or_default(),
        been_in: f.been_in,
        until: f
            .how
            .recording_until
            .map(|until| words::moment(until, &span.zone, now))
            .unwrap_or_default(),
        trouble,
        event_href: format!("/events/{}", f.event.slug),
        one_room: f.one_room,
        sessions: f.parts.iter().map(|p| session_row(p, &span.zone)).collect(),
    }
}

/// Nobody keeps a copy of it, and no address it leads to learns of it.
fn alone(mut response: Response) -> Response {
    let headers = response.headers_mut();
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("private, no-store"));
    headers.insert(header::REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    response
}

fn link(code: matricle_core::words::codes::TicketCode, key: &str) -> String {
    format!("/foyer/{}/{}", code.as_str(), crate::address::encode(key))
}

async fn shown(
    app: &App,
    visitor: &Visitor,
    link: String,
    f: &Foyer,
    trouble: &'static str,
) -> Result<Response, WebError> {
    let frame = Frame::new(app, Face::Programme, f.event.title.clone(), &f.house.0, visitor, None)
        .coloured(&f.event.accent);
    Ok(alone(html(&Page {
        title: f.event.title.clone(),
        lead: f.event.lead.clone(),
        hosts: f.date.hosts.clone(),
        name: f.name.clone(),
        prepare: f.how.prepare.lines().map(String::from).filter(|l| !l.is_empty()).collect(),
        part: part(app, visitor, &link, f, trouble),
        f: frame,
    })?))
}

/// `GET /foyer/{code}/{key}`.
pub(crate) async fn show(
    Shared(app): Shared<App>,
    Shown(code, key): Shown,
    asker: Asker,
    visitor: Visitor,
) -> Result<Response, WebError> {
    let f = counted(&app, &asker, foyer::look(&app.desk, code, &key, &visitor.0).await)?;
    shown(&app, &visitor, link(code, &key), &f, "").await
}

/// `GET /foyer/{code}/{key}/now`: the part that changes by itself.
pub(crate) async fn now(
    Shared(app): Shared<App>,
    Shown(code, key): Shown,
    asker: Asker,
    visitor: Visitor,
) -> Result<Response, WebError> {
    let f = counted(&app, &asker, foyer::look(&app.desk, code, &key, &visitor.0).await)?;
    Ok(alone(html(&part(&app, &visitor, &link(code, &key), &f, ""))?))
}

/// `POST /foyer/{code}/{key}/go`: into the room.
pub(crate) async fn go(
    Shared(app): Shared<App>,
    Shown(code, key): Shown,
    asker: Asker,
    visitor: Visitor,
    posted: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    let session = posted.get("session").parse().ok().map(SessionId);
    let went = foyer::go(&app.desk, code, &key, &visitor.0, session).await;
    let went = counted(&app, &asker, went)?;
    let back = link(code, &key);
    let trouble = match went {
        // Not by a redirect: a form of ours may lead to ourselves alone (CSP, form-action), and
        // where a room is may be anywhere.
        In::To(to) => return inside(&app, (&visitor, code, &key), (to, String::new()), back).await,
        In::With(to, passcode) => {
            return inside(&app, (&visitor, code, &key), (to, passcode), back).await;
        }
        In::Not => return Ok(Redirect::to(&back).into_response()),
        In::Full => {
            "The room is full just now. Try again in a moment; whoever leads it can make it larger."
        }
        In::Away => "The room does not answer just now. Try again in a moment.",
    };
    let f = foyer::look(&app.desk, code, &key, &visitor.0).await?;
    shown(&app, &visitor, back, &f, trouble).await
}

/// The page that leads on into the room.
async fn inside(
    app: &App,
    (visitor, code, key): (&Visitor, matricle_core::words::codes::TicketCode, &str),
    (to, passcode): (String, String),
    back: String,
) -> Result<Response, WebError> {
    let f = foyer::look(&app.desk, code, key, &visitor.0).await?;
    let title = f.event.title.clone();
    let frame = Frame::new(app, Face::Programme, title.clone(), &f.house.0, visitor, None)
        .coloured(&f.event.accent);
    Ok(alone(html(&InPage { f: frame, title, to, passcode, back })?))
}

/// `POST /foyer/{code}/{key}/recording`: to the recording.
pub(crate) async fn recording(
    Shared(app): Shared<App>,
    Shown(code, key): Shown,
    asker: Asker,
    visitor: Visitor,
    _posted: Posted,
) -> Result<Response, WebError> {
    let to = counted(&app, &asker, foyer::recording(&app.desk, code, &key).await)?;
    inside(&app, (&visitor, code, &key), (to, String::new()), link(code, &key)).await
}

#[derive(Template)]
#[template(path = "programme/foyer_try.html")]
struct Try {
    f: Frame,
}

/// `GET /foyer/try`: a window that opens if the browser lets one open.
pub(crate) async fn try_window(
    Shared(app): Shared<App>,
    visitor: Visitor,
) -> Result<Response, WebError> {
    let house = app.desk.house().await?;
    html(&Try { f: Frame::new(&app, Face::Programme, "It opens", &house.name, &visitor, None) })
}
