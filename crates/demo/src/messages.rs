//! Messages of the demo: words and cues of its own, a date that moved, an announcement half-way,
//! an address that refuses mail. Nothing of it is still to be sent at the start.

use jiff::SignedDuration;
use matricle_core::forms::form::Form;
use matricle_core::messages::cue::{Trigger, Way};
use matricle_core::messages::occasion::Occasion;
use matricle_core::{CueId, EventId, TemplateId};
use matricle_store::bookings;
use matricle_store::events;
use matricle_store::outbox::{self, Look, MessageState};
use matricle_store::people;

use crate::STAFF;
use matricle_desk::messages::{announcements, cues, senders, wordings};
use matricle_desk::planning::dates::{self, Scope};
use matricle_desk::telling::follow_due;
use matricle_desk::within::words_now;
use matricle_desk::{Desk, DeskError};

fn form(fields: &[(&str, &str)]) -> Form {
    Form::new(fields.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect())
}

/// Adds them.
pub(crate) async fn add(desk: &Desk) -> Result<(), DeskError> {
    let now = desk.clock.now();
    let (ilse, open, forage, convention) = desk
        .store
        .read(|conn| {
            let of = |slug| {
                Ok::<_, DeskError>(events::by_slug(conn, slug)?.ok_or(DeskError::NotFound)?.id)
            };
            let (ilse, _) = people::by_email(conn, STAFF[0].1)?.ok_or(DeskError::NotFound)?;
            Ok::<_, DeskError>((
                ilse,
                of("apiary-open-day")?,
                of("forage-in-a-dry-summer")?,
                of("vale-convention")?,
            ))
        })
        .await?;
    let words = form(&[
        ("name", "Closed shoes"),
        ("subject", "In two hours: {{event}}"),
        (
            "body",
            "<p>{{first name}}, {{event}} begins at {{when, clock}}, {{place}}.</p>\
             <p>Closed shoes, please, and no scent: the bees do not care for it.</p>",
        ),
        (
            "plain",
            "{{event}} at {{when, clock}}, {{place}}. Closed shoes, no scent, please. {{house}}",
        ),
    ]);
    let template = wordings::save(desk, &ilse, Some(open), None, words).await?;
    cue(desk, &ilse, open, template, "text message").await?;
    senders::save(
        desk,
        &ilse,
        0,
        form(&[("name", "Ostrel Vale courses"), ("email", "courses@ostrel.example")]),
    )
    .await?;
    wished(desk).await?;
    notice(desk, &ilse, forage).await?;
    moved(desk, &ilse, forage).await?;
    announced(desk, &ilse, convention).await?;
    while follow_due(desk).await? {}
    let soon = now + SignedDuration::from_secs(1);
    desk.store.write(move |tx| outbox::went(tx, soon)).await?;
    put_up(desk, forage).await
}

/// The words of the notices that count as put up.
async fn put_up(desk: &Desk, event: EventId) -> Result<(), DeskError> {
    let look = Look { event: Some(event), states: vec![MessageState::Sent], ..Look::default() };
    let (all, _) = desk.store.read(move |conn| outbox::find(conn, &look, 0, 1_000)).await?;
    for found in all.into_iter().filter(|f| f.message.way == Way::Notice) {
        if let Some((subject, words)) = words_now(desk, &found.message).await {
            let id = found.message.id;
            desk.store.write(move |tx| outbox::say(tx, id, &subject, &words)).await?;
        }
    }
    Ok(())
}

async fn cue(
    desk: &Desk,
    ilse: &people::Staff,
    event: EventId,
    template: TemplateId,
    way: &str,
) -> Result<CueId, DeskError> {
    let template = template.to_string();
    let fields = form(&[
        ("happens", "the date starts"),
        ("when", "offset"),
        ("n", "2"),
        ("unit", "hours"),
        ("side", "before"),
        ("whom", "attendees"),
        ("way", way),
        ("template", &template),
        ("late", "never"),
        ("already", "yes"),
    ]);
    cues::save(desk, ilse, Some(event), None, fields).await
}

/// People of the house hear of the day at their hours.
async fn wished(desk: &Desk) -> Result<(), DeskError> {
    let wishes: [(usize, &[(&str, &str)]); 3] = [
        (0, &[("house", "yes"), ("house_at", "07:30")]),
        (
            3,
            &[
                ("attendees", "day"),
                ("attendees_at", "18:30"),
                ("tomorrow", "yes"),
                ("tomorrow_at", "16:00"),
            ],
        ),
        (4, &[("money", "yes"), ("money_at", "08:00")]),
    ];
    for (who, fields) in wishes {
        let email = STAFF[who].1;
        let found = desk.store.read(move |conn| people::by_email(conn, email)).await?;
        let (staff, _) = found.ok_or(DeskError::NotFound)?;
        matricle_desk::telling::keep_wishes(desk, &staff, form(fields)).await?;
    }
    Ok(())
}

/// What moves is put up on the event's page as well.
async fn notice(desk: &Desk, ilse: &people::Staff, event: EventId) -> Result<(), DeskError> {
    let sheet = cues::load(desk, ilse, Some(event)).await?;
    for line in sheet.cues {
        if line.cue.way == Way::Notice && line.cue.trigger == Trigger::On(Occasion::Moved) {
            cues::switch(desk, ilse, Some(event), line.cue.id, true).await?;
        }
    }
    Ok(())
}

/// A date moved half an hour: everybody was told, and what is planned for it moved along.
async fn moved(desk: &Desk, ilse: &people::Staff, event: EventId) -> Result<(), DeskError> {
    let date = desk
        .store
        .read(move |conn| {
            events::dates_of(conn, event)?.into_iter().next().ok_or(DeskError::NotFound)
        })
        .await?;
    let later = |at: jiff::civil::DateTime| {
        let at = at.checked_add(SignedDuration::from_mins(30)).unwrap_or(at);
        at.strftime("%H:%M").to_string()
    };
    let (day, from, until) =
        (date.span.starts.date().to_string(), later(date.span.starts), later(date.span.ends));
    let change = form(&[
        ("day", &day),
        ("from", &from),
        ("until", &until),
        ("venue", &date.venue),
        ("room", &date.room),
        ("hosts", &date.hosts),
        ("seats_0", ""),
    ]);
    let desk = desk.saying("The Guildhall choir has the hall before us.");
    dates::change(&desk, ilse, date.id, Scope::One, change, true).await.map(drop)
}

/// An announcement that was stopped half-way; one address refused it.
async fn announced(desk: &Desk, ilse: &people::Staff, event: EventId) -> Result<(), DeskError> {
    let date = desk.store.read(move |conn| events::dates_of(conn, event)).await?;
    let date = date.first().map_or_else(String::new, |d| d.id.to_string());
    let typed = form(&[
        ("date", &date),
        ("confirmed", "yes"),
        ("subject", "Where to park on the day: {{event}}"),
        (
            "words",
            "<p>The market is on, so the square is closed to cars. Park at the mill: ten minutes on foot, along the river.</p>",
        ),
    ]);
    let (id, _) = announcements::send(desk, ilse, event, typed).await?;
    announcements::stop(desk, ilse, id, true).await?;
    let now = desk.clock.now();
    desk.store
        .write(move |tx| {
            let look = Look {
                event: Some(event),
                states: vec![MessageState::Skipped],
                words: vec!["announcement".into()],
                ..Look::default()
            };
            let (rows, _) = outbox::find(tx, &look, 0, 500)?;
            for (n, found) in rows.iter().enumerate().take(rows.len() / 2) {
                let id = found.message.id;
                if n == 3 {
                    let why = "550 5.1.1 there is no such mailbox here";
                    outbox::not_sent(tx, id, why, None)?;
                    outbox::refused(tx, &found.message.address, why, now)?;
                    continue;
                }
                outbox::sent(tx, id, "250 taken", now)?;
                let said = "The market is on, so the square is closed to cars. Park at the mill: ten minutes on foot, along the river.";
                let words = format!("Dear {},\n\n{said}\n\nOstrel Vale Beekeepers", found.name);
                outbox::say(tx, id, "Where to park on the day: The vale convention", &words)?;
                if let Some(booking) = found.message.about.booking() {
                    let who = matricle_core::people::acting::Acting::program();
                    let what = format!("announcement sent to {}", found.message.address);
                    bookings::happened(tx, booking, now, &who, &what)?;
                }
            }
            Ok::<_, DeskError>(())
        })
        .await
}
