//! The cue sheet of an event, and of the house.

use askama::Template;
use axum::extract::{Path, Query};
use axum::response::Response;
use matricle_core::forms::form::Fault;
use matricle_core::messages::cue::{
    Cue, CueRefusal, Late, Part, Paying, Side, Trigger, Unit, Way, When, Whom,
};
use matricle_core::messages::due::Outcome;
use matricle_core::messages::occasion::{Moment, Occasion};
use matricle_core::people::staff::{Right, Role};
use matricle_core::words::fold;
use matricle_core::{CueId, DateId, EventId};
use matricle_desk::DeskError;
use matricle_desk::messages::cues::{self, CueLine, Sheet};
use matricle_desk::messages::{senders, wordings};
use matricle_desk::telling::GoingLine;
use matricle_formats::words;
use serde::Deserialize;

use crate::asking::Posted;
use crate::error::WebError;
use crate::news::Undo;
use crate::office::Clerk;
use crate::office::messages::put_in::Choices;
use crate::office::tab::{answer, with_editor, word};
use crate::page::{Frame, html};
use crate::parts::cue_words::{self, Names};
use crate::parts::fields::{Fields, form, wrong};
use crate::parts::new_or::NewOr;
use crate::wording;

/// A cue of the sheet.
struct CueRow {
    id: i64,
    said: String,
    late: String,
    subject: String,
    template: String,
    on: bool,
    own: bool,
    counts: String,
    href: String,
    wrong: String,
}

#[derive(Template)]
#[template(path = "messages/sheet.html")]
struct SheetPage {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    moments: Vec<CueRow>,
    occasions: Vec<CueRow>,
    /// Cues that are off, folded unless one of them was refused.
    off: Vec<CueRow>,
    off_open: bool,
    left: u32,
    base: String,
    cues: String,
    may: bool,
    is_house: bool,
    senders: Vec<(String, String)>,
    sender: String,
}

fn names(sheet: &Sheet) -> Names<'_> {
    Names { tickets: &sheet.tickets, questions: &sheet.questions, tags: &sheet.tags }
}

fn base(event: Option<EventId>) -> String {
    event.map_or_else(|| "/office/messages/cues".into(), |e| format!("/office/events/{e}/messages"))
}

/// Where the cues of a sheet are changed.
fn cues_at(event: Option<EventId>) -> String {
    match event {
        Some(_) => format!("{}/cues", base(event)),
        None => base(event),
    }
}

fn row(line: &CueLine, sheet: &Sheet, event: Option<EventId>, wrong: &[(CueId, String)]) -> CueRow {
    let cue = &line.cue;
    let counts = line.counted.map_or_else(String::new, |c| {
        let mut said = Vec::new();
        if c.sent > 0 {
            said.push(format!("{} sent", c.sent));
        }
        // Until it is known who came, both are planned for everybody, and one of the two goes.
        if c.planned > 0 {
            let whom = match cue.whom {
                Whom::Came => ", for whoever comes",
                Whom::Missed => ", for whoever misses it",
                _ => "",
            };
            said.push(format!("{} planned{whom}", c.planned));
        }
        if c.failed > 0 {
            said.push(format!("{} failed", c.failed));
        }
        said.join(", ")
    });
    CueRow {
        id: cue.id.0,
        said: cue_words::cue(cue, names(sheet)),
        late: cue_words::late(cue),
        subject: line.subject.clone(),
        template: line.template.clone(),
        on: cue.on,
        own: event.is_some() && cue.event == event,
        counts,
        href: format!("{}/{}", cues_at(event), cue.id),
        wrong: wrong.iter().find(|w| w.0 == cue.id).map_or_else(String::new, |w| w.1.clone()),
    }
}

/// The title of a sheet, its frame, and the tab it stands in.
fn head(at: &Clerk, sheet: &Sheet) -> (String, Frame, &'static str) {
    let (title, room, tab) = match &sheet.event {
        Some(event) => (event.title.clone(), "events", "messages"),
        None => ("Automatic messages of the house".to_owned(), "messages", "cues"),
    };
    let f = at.frame(title.clone(), &sheet.house.name).in_room(room);
    (title, f, tab)
}

async fn page(
    at: &Clerk,
    event: Option<EventId>,
    wrong: &[(CueId, String)],
) -> Result<Response, WebError> {
    let sheet = cues::load(&at.app.desk, &at.staff, event).await?;
    let (on, off): (Vec<_>, Vec<_>) = sheet.cues.iter().partition(|c| c.cue.on);
    let (moments, occasions): (Vec<_>, Vec<_>) =
        on.into_iter().partition(|c| matches!(c.cue.trigger, Trigger::At(_)));
    let rows = |lines: Vec<&CueLine>| -> Vec<CueRow> {
        lines.into_iter().map(|l| row(l, &sheet, event, wrong)).collect()
    };
    let (title, f, tab) = head(at, &sheet);
    let right = if event.is_some() { Right::PlanEvents } else { Right::SetHouseUp };
    let page = SheetPage {
        f,
        tab,
        id: event.map_or(0, |e| e.0),
        bookings: sheet.bookings,
        title,
        moments: rows(moments),
        occasions: rows(occasions),
        off_open: off.iter().any(|c| wrong.iter().any(|w| w.0 == c.cue.id)),
        off: rows(off),
        left: sheet.left,
        base: base(event),
        cues: cues_at(event),
        may: at.staff.role.may(right),
        is_house: event.is_none(),
        senders: sheet
            .senders
            .iter()
            .map(|s| (s.id.to_string(), format!("{} ‹{}›", s.name, s.email)))
            .collect(),
        sender: sheet.sender.map_or_else(String::new, |s| s.to_string()),
    };
    answer(wrong.len(), &page)
}

/// `GET /office/events/{id}/messages`.
pub(crate) async fn of_event(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    page(&at, Some(EventId(id)), &[]).await
}

/// `POST /office/events/{id}/messages/sender`.
pub(crate) async fn choose_sender(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let sender = posted.get("sender").parse().ok();
    senders::choose(&at.app.desk, &at.staff, EventId(id), sender).await?;
    Ok(at.done(&base(Some(EventId(id))), "Its messages come from there, from now on."))
}

/// `GET /office/messages/cues`.
pub(crate) async fn of_house(at: Clerk) -> Result<Response, WebError> {
    page(&at, None, &[]).await
}

async fn switch(at: Clerk, event: Option<EventId>, posted: Posted) -> Result<Response, WebError> {
    let id = CueId(posted.get("cue").parse().unwrap_or(0));
    let to = base(event);
    if posted.get("act") == "remove" {
        cues::remove(&at.app.desk, &at.staff, event, id).await?;
        return Ok(
            at.done(&to, "The automatic message is removed; what it sent stays in the outbox.")
        );
    }
    if posted.get("act") == "try" {
        let sent = wordings::try_cue(&at.app.desk, &at.staff, event, id).await;
        return Ok(match sent {
            Ok(address) => at.done(&to, format!("Its words are on their way to {address}.")),
            Err(DeskError::MailAway) => at.done(
                &to,
                "Nothing was sent: the mail server does not take mails now. Try again later.",
            ),
            Err(error) => return Err(error.into()),
        });
    }
    let on = posted.get("act") == "on";
    match cues::switch(&at.app.desk, &at.staff, event, id, on).await {
        Ok(saved) => {
            let (said, back) = if on {
                ("It is on.", "off")
            } else {
                ("It is off; what it had planned is withdrawn.", "on")
            };
            let undo =
                Undo::new(format!("{to}/switch"), &[("cue", &saved.to_string()), ("act", back)]);
            Ok(at.done_but(&to, said, undo))
        }
        Err(error) => {
            let said: Vec<(CueId, String)> =
                wrong(error)?.iter().map(|w| (id, wording::fault(&w.field, &w.fault))).collect();
            page(&at, event, &said).await
        }
    }
}

/// `POST /office/events/{id}/messages/switch`.
pub(crate) async fn switch_event(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    switch(at, Some(EventId(id)), posted).await
}

/// `POST /office/messages/cues/switch`.
pub(crate) async fn switch_house(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    switch(at, None, posted).await
}

#[derive(Template)]
#[template(path = "messages/cue.html")]
struct CuePage {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    d: Fields,
    action: String,
    base: String,
    is_new: bool,
    is_house: bool,
    occasions: Vec<(&'static str, String)>,
    moments: Vec<(&'static str, String)>,
    units: Vec<(&'static str, &'static str)>,
    whom: Vec<(String, String)>,
    ways: Vec<(&'static str, &'static str)>,
    templates: Vec<(String, String)>,
    tickets: Vec<(String, String)>,
    questions: Vec<(String, String)>,
    tags: Vec<(String, String)>,
    asks_already: bool,
    /// The cue that tells the same people, in words, where the two can be joined.
    twice: String,
    nonce: String,
    /// The number of the message; 0 for a new one.
    cue: i64,
    words: Words,
    choices: Choices,
}

/// The words of a template, to be written where it is chosen.
struct Words {
    d: Fields,
    /// Other automatic messages that say the same.
    also: Vec<String>,
    /// The page of the template, where it has more: its text part, what goes with it.
    href: String,
    by_hand: bool,
}

/// The words alone, for another template that was chosen.
#[derive(Template)]
#[template(path = "messages/words.html")]
struct WordsPart {
    words: Words,
    choices: Choices,
}

/// The fields of a form for the words of a template, and of none.
const WORDS: [&str; 3] = ["words_of", "subject", "body"];

fn set_words(d: &mut Fields, words: Option<&matricle_store::templates::Template>) {
    let none = (String::new(), String::new(), String::new());
    let (of, subject, body) =
        words.map_or(none, |t| (t.id.to_string(), t.subject.clone(), t.body.clone()));
    for (name, value) in WORDS.into_iter().zip([of, subject, body]) {
        d.set(name, value);
    }
}

/// What stands below the chosen template, as it was typed or as it stands.
fn words_of(sheet: &Sheet, d: Fields, event: Option<EventId>, but: Option<i64>) -> Words {
    let of = d.v("words_of").to_owned();
    let found = sheet.templates.iter().find(|t| t.id.to_string() == of);
    let also = sheet.cues.iter().filter(|c| c.cue.template.to_string() == of);
    Words {
        also: also
            .filter(|c| Some(c.cue.id.0) != but)
            .map(|c| cue_words::cue(&c.cue, names(sheet)))
            .collect(),
        by_hand: found.is_some_and(|t| !t.plain.is_empty()),
        href: found.map_or_else(String::new, |t| {
            let event = event.map_or_else(String::new, |e| format!("?event={e}"));
            format!("/office/messages/templates/{}{event}", t.id)
        }),
        d,
    }
}

#[derive(Debug, Default, Deserialize)]
pub(crate) struct OfTemplate {
    #[serde(default)]
    template: String,
    event: Option<i64>,
    cue: Option<i64>,
}

/// `GET /office/messages/words`: the words of a template that was chosen.
pub(crate) async fn words(
    at: Clerk,
    Query(asked): Query<OfTemplate>,
) -> Result<Response, WebError> {
    let event = asked.event.map(EventId);
    let sheet = cues::load(&at.app.desk, &at.staff, event).await?;
    let mut d = Fields::default();
    set_words(&mut d, sheet.templates.iter().find(|t| t.id.to_string() == asked.template));
    let cue = sheet.cues.iter().map(|line| &line.cue).find(|c| Some(c.id.0) == asked.cue);
    let choices = Choices::of(cue);
    html(&WordsPart { words: words_of(&sheet, d, event, asked.cue), choices })
}

fn fields_of(cue: &Cue) -> Fields {
    let mut d = Fields::of([
        ("happens", cue.trigger.word().to_owned()),
        ("way", cue.way.word().into()),
        ("template", cue.template.to_string()),
    ]);
    let side = |side: Side| if side == Side::Before { "before" } else { "after" }.to_owned();
    match cue.when {
        When::AtOnce => d.set("when", "at once".into()),
        When::Offset { n, unit, side: s } => {
            d.set("when", "offset".into());
            d.set("n", n.to_string());
            d.set("unit", unit.word().into());
            d.set("side", side(s));
        }
        When::Clock { days, side: s, at } => {
            d.set("when", "clock".into());
            d.set("days", days.to_string());
            d.set("side", side(s));
            d.set("at", at.strftime("%H:%M").to_string());
        }
    }
    match &cue.whom {
        Whom::Attendees => d.set("whom", "attendees".into()),
        Whom::Booker => d.set("whom", "booker".into()),
        Whom::Hosts => d.set("whom", "hosts".into()),
        Whom::Waiting => d.set("whom", "waiting".into()),
        Whom::Silent => d.set("whom", "silent".into()),
        Whom::Came => d.set("whom", "came".into()),
        Whom::Missed => d.set("whom", "missed".into()),
        Whom::Role(role) => d.set("whom", format!("role {}", role.word())),
        Whom::Address(address) => {
            d.set("whom", "address".into());
            d.set("address", address.clone());
        }
    }
    let only = &cue.only;
    match only.part {
        Some(Part::InPerson) => d.set("part", "in person".into()),
        Some(Part::Online) => d.set("part", "online".into()),
        None => {}
    }
    only.tickets.iter().for_each(|t| d.add("ticket", t.to_string()));
    if let Some((question, answer)) = &only.answer {
        d.set("question", question.to_string());
        d.set("answer", answer.clone());
    }
    if let Some(tag) = only.tag {
        d.set("tag", tag.to_string());
    }
    d.tick("first_visit", only.first_visit);
    d.tick("nobody", only.nobody);
    match only.paying {
        Some(Paying::Card) => d.set("paying", "card".into()),
        Some(Paying::Transfer) => d.set("paying", "transfer".into()),
        None => {}
    }
    match cue.late {
        Late::AtOnce => d.set("late", "at once".into()),
        Late::Never => d.set("late", "never".into()),
        Late::UntilHours(hours) => {
            d.set("late", "until".into());
            d.set("late_hours", hours.to_string());
        }
    }
    d
}

#[derive(Debug, Default, Deserialize)]
pub(crate) struct From {
    from: Option<i64>,
}

/// A form that comes back: what was typed, whether it asks about those who have booked already,
/// and the cue that tells the same people.
struct Again {
    d: Fields,
    already: bool,
    twice: Option<CueId>,
}

async fn cue_page(
    at: &Clerk,
    event: Option<EventId>,
    id: Option<i64>,
    from: Option<i64>,
    again: Option<Again>,
) -> Result<Response, WebError> {
    let sheet = cues::load(&at.app.desk, &at.staff, event).await?;
    let find = |id: i64| sheet.cues.iter().find(|c| c.cue.id.0 == id);
    let count = again.as_ref().map_or(0, |a| a.d.count());
    let by = again.as_ref().and_then(|a| a.twice).and_then(|by| find(by.0));
    let twice = by.map_or_else(String::new, |c| cue_words::cue(&c.cue, names(&sheet)));
    let (d, asks_already) = match (again, id.or(from)) {
        (Some(again), _) => (again.d, again.already),
        (None, Some(id)) => {
            let line = find(id).ok_or(DeskError::NotFound)?;
            let mut d = fields_of(&line.cue);
            set_words(&mut d, sheet.templates.iter().find(|t| t.id == line.cue.template));
            (d, false)
        }
        (None, None) => (
            Fields::of([
                ("happens", Trigger::At(Moment::Starts).word().to_owned()),
                ("when", "clock".into()),
                ("days", "1".into()),
                ("side", "before".into()),
                ("at", "18:00".into()),
                ("whom", "attendees".into()),
                ("way", Way::Mail.word().into()),
                ("late", "until".into()),
                ("late_hours", "3".into()),
            ]),
            false,
        ),
    };
    let (title, f, tab) = head(at, &sheet);
    let nonce = word();
    let known = id.or(from).and_then(find).map(|line| &line.cue);
    let fixed = [
        ("attendees", "each attendee"),
        ("booker", "the booker"),
        ("hosts", "the hosts of the date"),
        ("waiting", "those who wait"),
        ("silent", "those who were invited and have not replied"),
        ("came", "those who came"),
        ("missed", "those who missed it"),
        ("address", "an address"),
    ];
    let roles =
        Role::ALL.iter().map(|r| (format!("role {}", r.word()), format!("every {}", r.word())));
    let page = CuePage {
        f,
        tab,
        id: event.map_or(0, |e| e.0),
        bookings: sheet.bookings,
        title,
        action: format!("{}/{}", cues_at(event), id.map_or("new".into(), |id| id.to_string())),
        base: base(event),
        is_new: id.is_none(),
        is_house: event.is_none(),
        occasions: Occasion::ALL
            .into_iter()
            .filter(|o| Trigger::On(*o).sets_cues_off())
            .map(|o| (o.word(), format!("when {}", cue_words::trigger(Trigger::On(o)))))
            .collect(),
        moments: Moment::ALL
            .into_iter()
            .filter(|m| Trigger::At(*m).sets_cues_off())
            .map(|m| (m.word(), cue_words::trigger(Trigger::At(m)).to_owned()))
            .collect(),
        units: Unit::ALL.map(|u| (u.word(), u.word())).to_vec(),
        whom: fixed.into_iter().map(|(v, w)| (v.to_owned(), w.to_owned())).chain(roles).collect(),
        ways: Way::OF_CUES.map(|w| (w.word(), w.word())).to_vec(),
        templates: sheet.templates.iter().map(|t| (t.id.to_string(), t.name.clone())).collect(),
        tickets: sheet.tickets.iter().map(|t| (t.0.to_string(), t.1.clone())).collect(),
        questions: std::iter::once((String::new(), "–".to_owned()))
            .chain(sheet.questions.iter().map(|q| (q.0.to_string(), q.1.clone())))
            .collect(),
        tags: std::iter::once((String::new(), "any".to_owned()))
            .chain(sheet.tags.iter().map(|t| (t.0.to_string(), t.1.clone())))
            .collect(),
        asks_already,
        twice,
        words: words_of(&sheet, d.clone(), event, id),
        cue: id.unwrap_or(0),
        choices: Choices::of(known),
        d,
        nonce,
    };
    with_editor(at, &page.nonce, count, &page)
}

async fn save(
    at: Clerk,
    event: Option<EventId>,
    which: Option<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let id = which.map(CueId);
    let _alone = at.keeping().await;
    let sheet = cues::load(&at.app.desk, &at.staff, event).await?;
    let posted = match sheet.cues.iter().find(|c| Some(c.cue.id) == id) {
        None => posted,
        Some(line) => {
            let mut now = fields_of(&line.cue);
            if !posted.get("words_of").is_empty() {
                let of = posted.get("words_of");
                set_words(&mut now, sheet.templates.iter().find(|t| t.id.to_string() == of));
            }
            match posted.over(&now) {
                Ok(posted) => posted,
                Err(again) => {
                    let again = Again { d: *again, already: false, twice: None };
                    return cue_page(&at, event, which, None, Some(again)).await;
                }
            }
        }
    };
    match cues::save(&at.app.desk, &at.staff, event, id, form(&posted)).await {
        Ok(saved) => {
            let to = base(event);
            if id.is_some() {
                return Ok(at.done(&to, "Kept; what it had planned follows."));
            }
            let undo = Undo::new(
                format!("{to}/switch"),
                &[("cue", &saved.to_string()), ("act", "remove")],
            );
            let undone = event.is_some();
            if undone {
                Ok(at.done_but(&to, "The automatic message is added.", undo))
            } else {
                Ok(at.done(&to, "The automatic message is added."))
            }
        }
        Err(error) => {
            let wrong = wrong(error)?;
            let already = wrong.iter().any(|w| matches!(w.fault, Fault::Already(_)));
            let twice = wrong.iter().find_map(|w| match w.fault {
                Fault::Cue(CueRefusal::ToldTwice { by }) => Some(by),
                _ => None,
            });
            let again = Again { d: Fields::posted(&posted, &wrong), already, twice };
            cue_page(&at, event, which, None, Some(again)).await
        }
    }
}

/// `GET /office/events/{id}/messages/cues/{cue}`; `new` is a new one.
pub(crate) async fn show_event(
    at: Clerk,
    Path((id, cue)): Path<(i64, NewOr)>,
    Query(from): Query<From>,
) -> Result<Response, WebError> {
    cue_page(&at, Some(EventId(id)), cue.0, from.from, None).await
}

/// `POST /office/events/{id}/messages/cues/{cue}`.
pub(crate) async fn save_event(
    at: Clerk,
    Path((id, cue)): Path<(i64, NewOr)>,
    posted: Posted,
) -> Result<Response, WebError> {
    save(at, Some(EventId(id)), cue.0, posted).await
}

/// `GET /office/messages/cues/{cue}`.
pub(crate) async fn show_house(
    at: Clerk,
    Path(cue): Path<NewOr>,
    Query(from): Query<From>,
) -> Result<Response, WebError> {
    cue_page(&at, None, cue.0, from.from, None).await
}

/// `POST /office/messages/cues/{cue}`.
pub(crate) async fn save_house(
    at: Clerk,
    Path(cue): Path<NewOr>,
    posted: Posted,
) -> Result<Response, WebError> {
    save(at, None, cue.0, posted).await
}

/// A line of what goes.
#[derive(PartialEq, Eq)]
struct GoesRow {
    name: String,
    href: String,
    address: String,
    when: String,
    why: &'static str,
}

struct GoesPart {
    cue: Cue,
    said: String,
    template: String,
    told: Vec<GoesRow>,
    /// How many get it in all.
    many: usize,
    not: Vec<GoesRow>,
    /// How many do not, in all.
    others: usize,
}

impl GoesPart {
    /// Whether this goes to whoever comes, in place of what a cue tells whoever misses it.
    fn goes_instead(&self, missed: &CueLine) -> bool {
        self.cue.whom == Whom::Came
            && (self.cue.when, self.cue.way) == (missed.cue.when, missed.cue.way)
    }
}

#[derive(Template)]
#[template(path = "messages/goes.html")]
struct Goes {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    when: String,
    parts: Vec<GoesPart>,
    dates: Vec<(i64, String, bool)>,
    date: i64,
    q: String,
}

#[derive(Debug, Default, Deserialize)]
pub(crate) struct Which {
    date: Option<i64>,
    #[serde(default)]
    q: String,
}

/// So many people of a cue are shown at once.
const SHOWN: usize = 100;

/// `GET /office/events/{id}/goes`: who gets what when and why, who does not and why not.
pub(crate) async fn goes(
    at: Clerk,
    Path(id): Path<i64>,
    Query(which): Query<Which>,
) -> Result<Response, WebError> {
    let event = EventId(id);
    let sheet = cues::load(&at.app.desk, &at.staff, Some(event)).await?;
    let now = at.app.desk.clock.now();
    let coming = sheet.dates.iter().find(|d| d.span.ends_at > now).or(sheet.dates.last());
    let date = match which.date {
        Some(date) => sheet.dates.iter().find(|d| d.id == DateId(date)),
        None => coming,
    };
    let Some(date) = date else { return Err(DeskError::NotFound.into()) };
    let lines = cues::goes(&at.app.desk, &at.staff, date.id).await?;
    let zone = &date.span.zone;
    let wanted = fold(&which.q);
    let suits = |l: &&GoingLine| {
        let all = fold(&format!("{} {} {}", l.name, l.address, l.reference));
        wanted.split_whitespace().all(|w| all.contains(w))
    };
    let mut parts = Vec::new();
    for line in sheet.cues.iter().filter(|c| matches!(c.cue.trigger, Trigger::At(_))) {
        let (mut told, mut not) = (Vec::new(), Vec::new());
        for l in lines.iter().filter(|l| l.cue == line.cue.id).filter(suits) {
            let row = |when: String, why| GoesRow {
                name: l.name.clone(),
                href: if l.reference.is_empty() {
                    String::new()
                } else {
                    format!("/office/bookings/{}", l.reference)
                },
                address: l.address.clone(),
                when,
                why,
            };
            match l.outcome {
                Outcome::Told(at) => told.push(row(words::moment(at, zone, now), "")),
                Outcome::Not(why) => not.push(row(String::new(), why.words())),
            }
        }
        // Of those who come and those who miss it both are planned until it is known: one line.
        if line.cue.whom == Whom::Missed
            && !told.is_empty()
            && let Some(came) = parts.iter_mut().find(|p: &&mut GoesPart| p.goes_instead(line))
            && came.many == told.len()
            && came.told.iter().eq(told.iter().take(SHOWN))
        {
            came.template = format!("{}, or {}", came.template, line.template);
            came.said = format!("{}; whoever misses it gets the other", came.said);
            continue;
        }
        let (many, others) = (told.len(), not.len());
        told.truncate(SHOWN);
        not.truncate(SHOWN);
        parts.push(GoesPart {
            cue: line.cue.clone(),
            many,
            others,
            said: cue_words::cue(&line.cue, names(&sheet)),
            template: line.template.clone(),
            told,
            not,
        });
    }
    let title = sheet.event.as_ref().map_or_else(String::new, |e| e.title.clone());
    let today = words::local(now, zone).date();
    html(&Goes {
        f: at.frame(title.clone(), &sheet.house.name).in_room("events"),
        tab: "messages",
        id,
        bookings: sheet.bookings,
        title,
        when: words::long_span(date.span.starts, date.span.ends),
        date: date.id.0,
        q: which.q,
        parts,
        dates: sheet
            .dates
            .iter()
            .filter(|d| d.span.ends_at > now || d.id == date.id)
            .take(30)
            .map(|d| (d.id.0, words::span(d.span.starts, d.span.ends, today), d.id == date.id))
            .collect(),
    })
}
