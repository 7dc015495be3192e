//! Who may book an event, and who is invited.

use askama::Template;
use axum::extract::Path;
use axum::response::Response;
use matricle_core::EventId;
use matricle_core::who::Who;
use matricle_desk::DeskError;
use matricle_desk::bookings::confirm::{self, Followed};
use matricle_desk::planning::invitations::{self, Looked};
use matricle_desk::planning::sheet;
use matricle_formats::words;
use matricle_store::events::EventState;
use matricle_store::outbox::Message;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::office::tab::{answer, frame};
use crate::office::tickets::freed;
use crate::page::Frame;
use crate::parts::fields::{Fields, form};

#[derive(Template)]
#[template(path = "office/who.html")]
struct WhoPage {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    d: Fields,
    /// What became of it; empty before anything was saved.
    saved: String,
    /// Bookings that wait for a yes and need not any more: what becomes of them is asked.
    waiting: Vec<(String, String)>,
    /// Addresses invited, and where the mail to each stands; empty when there is none.
    invited: Vec<(String, String)>,
    published: bool,
    /// What a pasted list comes to, before anything is kept.
    looked: Option<Looked>,
    /// Earlier events, whose people can be put on the list.
    earlier: Vec<(i64, String)>,
}

impl WhoPage {
    fn uninvited(&self) -> usize {
        self.invited.iter().filter(|(_, mail)| mail.is_empty()).count()
    }
}

async fn who_page(
    at: &Clerk,
    id: i64,
    d: Option<Fields>,
    saved: String,
    (waiting, looked): (Vec<(String, String)>, Option<Looked>),
) -> Result<Response, WebError> {
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let d = d.unwrap_or_else(|| {
        let (word, text) = match &s.event.who {
            Who::Anyone => ("anyone", String::new()),
            Who::SignedIn => ("signed in", String::new()),
            Who::Word(word) => ("word", word.clone()),
            Who::Domains(domains) => ("domains", domains.join("\n")),
            Who::Invited(list) => ("invited", list.join("\n")),
        };
        let mut d = Fields::of([
            ("who", word.into()),
            ("hold_minutes", s.event.hold.as_mins().to_string()),
        ]);
        match word {
            "word" => d.add("who_word", text),
            "domains" => d.add("who_domains", text),
            "invited" => d.add("who_invited", text),
            _ => {}
        }
        d.set("confirm_free", confirm::word(s.event.rules.confirm.free).into());
        d.set("confirm_paid", confirm::word(s.event.rules.confirm.paid).into());
        d.tick("once", s.event.once);
        d.tick("course", s.event.course);
        d.tick("latecomers", s.event.latecomers);
        d
    });
    let count = d.count();
    let page = WhoPage {
        tab: "who",
        id,
        bookings: s.bookings,
        title: s.event.title.clone(),
        invited: invited_views(at, &s),
        published: s.event.state == EventState::Published,
        f: frame(at, &s),
        d,
        saved,
        waiting,
        looked,
        earlier: matricle_desk::office::events(&at.app.desk, &at.staff)
            .await?
            .1
            .into_iter()
            .filter(|r| r.event.id.0 != id && r.event.state != EventState::Draft)
            .take(60)
            .map(|r| (r.event.id.0, r.event.title))
            .collect(),
    };
    answer(count, &page)
}

/// Addresses invited, and where the mail to each stands.
fn invited_views(at: &Clerk, s: &sheet::Settings) -> Vec<(String, String)> {
    let now = at.app.desk.clock.now();
    let stands = |m: &Message| match m.sent_at {
        Some(sent) => format!("sent {}", words::moment(sent, &s.house.zone, now)),
        None => m.state.word().to_owned(),
    };
    s.invited
        .iter()
        .map(|(address, mailed)| {
            (address.clone(), mailed.as_ref().map_or_else(String::new, stands))
        })
        .collect()
}

/// `POST /office/events/{id}/invite`: mails an invitation to whoever has none yet.
pub(crate) async fn invite(
    at: Clerk,
    Path(id): Path<i64>,
    _posted: Posted,
) -> Result<Response, WebError> {
    invitations::send(&at.app.desk, &at.staff, EventId(id)).await?;
    let to = format!("/office/events/{id}/who#invitations");
    Ok(at.done(&to, "Everybody on the list who had none gets an invitation by mail."))
}

pub(crate) async fn who(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    who_page(&at, id, None, String::new(), (Vec::new(), None)).await
}

/// `POST /office/events/{id}/who/look`: what a list comes to, before anything is kept.
pub(crate) async fn look(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let earlier = posted.get("who_earlier").parse().ok().map(EventId);
    let text = posted.get("who_invited").to_owned();
    let looked = invitations::look(&at.app.desk, &at.staff, EventId(id), text, earlier).await?;
    let mut d = Fields::posted(&posted, &[]);
    // What is no address stays where it was typed, to be mended.
    let mut lines = looked.addresses.clone();
    lines.extend(looked.wrong.iter().cloned());
    d.set("who_invited", lines.join("\n"));
    d.set("who", "invited".into());
    who_page(&at, id, Some(d), String::new(), (Vec::new(), Some(looked))).await
}

/// What became of bookings when the rules changed, in words.
fn followed(f: Followed) -> String {
    let mut said = vec!["Kept.".to_owned()];
    match f.went_on {
        0 => {}
        1 => said.push("One booking that waited has gone on by itself.".into()),
        n => said.push(format!("{n} bookings that waited have gone on by themselves.")),
    }
    match f.wait {
        0 => {}
        1 => said.push("One booking waits for your yes.".into()),
        n => said.push(format!("{n} bookings wait for your yes.")),
    }
    match f.will_wait {
        0 => {}
        1 => said.push("One that is being filled in now will wait for it too.".into()),
        n => said.push(format!("{n} that are being filled in now will wait for it too.")),
    }
    said.join(" ")
}

/// `POST /office/events/{id}/who`.
pub(crate) async fn save_who(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    match sheet::set_booking(&at.app.desk, &at.staff, EventId(id), form(&posted)).await {
        Ok(done) => who_page(&at, id, None, followed(done), (Vec::new(), None)).await,
        Err(DeskError::Freed { bookings }) => {
            let d = Some(Fields::posted(&posted, &[]));
            who_page(&at, id, d, String::new(), (freed(bookings), None)).await
        }
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            who_page(&at, id, Some(d), String::new(), (Vec::new(), None)).await
        }
    }
}
