//! Letters of the demo house: one that was answered by whoever stands behind the address, one
//! that matches nothing, a machine's, a mail that did not arrive, a calendar that declined.

use matricle_core::booking::State;
use matricle_core::forms::form::Form;
use matricle_core::messages::occasion::Occasion;
use matricle_store::bookings::{self, Booking, Filter};
use matricle_store::letters as stored;
use matricle_store::outbox::{self, Message, MessageState};

use matricle_desk::letters::{Taken, take_in};
use matricle_desk::messages::senders;
use matricle_desk::{Desk, DeskError};

/// Who stands behind the house's address: nobody else ever sees it.
const BEHIND: &str = "ilse.private@home.example";

struct Written<'a> {
    from: &'a str,
    more: String,
    subject: &'a str,
    words: String,
}

async fn write(desk: &Desk, n: u32, letter: Written<'_>) -> Result<Option<i64>, DeskError> {
    let to = desk.house().await?.email;
    let at = desk.clock.now().strftime("%a, %d %b %Y %H:%M:%S +0000");
    let Written { from, more, subject, words } = letter;
    let raw = format!(
        "From: {from}\r\nTo: {to}\r\nSubject: {subject}\r\nMessage-ID: <demo-{n}@post.example>\r\nDate: {at}\r\n\
         MIME-Version: 1.0\r\n{more}\r\n{words}\r\n"
    );
    Ok(match take_in(desk, raw.into_bytes()).await? {
        Taken::New(id) => Some(id),
        Taken::Known => None,
    })
}

const PLAIN: &str =
    "Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n";

/// Bookings of an event whose booker was written to, and reads it, with the latest such mail.
async fn of_words(desk: &Desk, words: &str) -> Result<Vec<(Booking, Message)>, DeskError> {
    let words = words.to_owned();
    desk.store
        .read(move |conn| {
            let filter =
                Filter { state: Some(State::Confirmed), words, most: 40, ..Filter::default() };
            let mut found = Vec::new();
            for row in bookings::list(conn, &filter)?.rows {
                let b = row.booking;
                let sent = outbox::of_booking(conn, b.id)?
                    .into_iter()
                    .find(|m| m.state == MessageState::Sent && m.address == b.email);
                let reads = outbox::address(conn, &b.email)?.refused.is_none();
                if let (Some(sent), false, true) = (sent, b.email.is_empty(), reads) {
                    found.push((b, sent));
                }
            }
            Ok(found)
        })
        .await
}

/// Adds them.
///
/// # Errors
/// The demo world cannot be made.
pub(crate) async fn add(desk: &Desk) -> Result<(), DeskError> {
    let Some((ilse, _)) =
        desk.store.read(|conn| matricle_store::people::by_email(conn, super::STAFF[0].1)).await?
    else {
        return Err(DeskError::NotFound);
    };
    let behind = Form::new(vec![("house_forwards_to".into(), BEHIND.into())]);
    senders::forward_house(desk, &ilse, behind).await?;
    let house = desk.house().await?.email;
    let found = of_words(desk, "open day").await?;
    if let Some((booking, sent)) = found.first() {
        let thread = format!("In-Reply-To: <{}>\r\n{PLAIN}", sent.message_id);
        let from = format!("{} <{}>", booking.name, booking.email);
        let words = "May I bring my daughter’s wheelchair, and is there a ramp to the barn?\r\n\r\nOn that day they wrote:\r\n> See you there";
        let subject = format!("Re: Your seats ({})", booking.reference);
        let letter = Written { from: &from, more: thread, subject: &subject, words: words.into() };
        if let Some(id) = write(desk, 1, letter).await? {
            let out = desk.store.read(move |conn| stored::of_letter(conn, id)).await?;
            if let Some(out) = out.first() {
                let thread = format!("In-Reply-To: <{}>\r\n{PLAIN}", out.message_id);
                let from = format!("Ilse <{BEHIND}>");
                let words = format!(
                    "There is: at the mill side, two hand-breadths high and firm. I meet you at the gate.\r\n\r\nThe house <{BEHIND}> wrote:\r\n> May I bring"
                );
                write(desk, 2, Written { from: &from, more: thread, subject: &subject, words })
                    .await?;
            }
        }
    }
    if let Some((booking, sent)) = of_words(desk, "convention").await?.first() {
        let more = "Return-Path: <>\r\nContent-Type: multipart/report; report-type=delivery-status; boundary=report\r\n";
        let words = format!(
            "--report\r\nContent-Type: text/plain\r\n\r\nYour mail could not be handed over.\r\n\
             --report\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; relay.example\r\n\r\n\
             Final-Recipient: rfc822; {}\r\nAction: failed\r\nStatus: 5.1.1\r\n\
             Diagnostic-Code: smtp; 550 5.1.1 no such mailbox\r\n\r\n\
             --report\r\nContent-Type: text/rfc822-headers\r\n\r\nMessage-ID: <{}>\r\n\r\n--report--",
            booking.email, sent.message_id
        );
        let from = "Mail Delivery <mailer-daemon@relay.example>";
        let subject = "Undelivered mail";
        write(desk, 3, Written { from, more: more.into(), subject, words }).await?;
    }
    if let Some((booking, _)) = found.get(1) {
        let more = "Content-Type: text/calendar; method=REPLY; charset=utf-8\r\n";
        let words = format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//calendar//EN\r\nMETHOD:REPLY\r\nBEGIN:VEVENT\r\n\
             UID:{}@{}\r\nSEQUENCE:0\r\nORGANIZER:mailto:{house}\r\n\
             ATTENDEE;PARTSTAT=DECLINED:mailto:{}\r\nCOMMENT:The car is broken\\, alas.\r\nEND:VEVENT\r\nEND:VCALENDAR",
            booking.reference.as_str().to_lowercase(),
            desk.host(),
            booking.email
        );
        let from = format!("{} <{}>", booking.name, booking.email);
        let subject = "Declined: Apiary open day";
        write(desk, 4, Written { from: &from, more: more.into(), subject, words }).await?;
    }
    let away = Written {
        from: "Corvin Ashe <corvin.ashe@post.example>",
        more: format!("Auto-Submitted: auto-replied\r\n{PLAIN}"),
        subject: "I am away",
        words: "I read my mail again on Monday.".into(),
    };
    write(desk, 5, away).await?;
    let stranger = Written {
        from: "Hester Vane <hester.vane@choir.example>",
        more: PLAIN.into(),
        subject: "Honey for the choir’s tombola?",
        words: "Good day,\r\n\r\nwould the association give three jars for our tombola on the fourth of Advent? We would name you on the poster.\r\n\r\nHester Vane, choir of Ostrel Vale".into(),
    };
    write(desk, 6, stranger).await?;
    // What is on its way went, and arrived.
    let now = desk.clock.now();
    let declined = found.get(1).map(|(booking, _)| booking.id);
    desk.store
        .write(move |tx| {
            for out in stored::due(tx, 100)? {
                stored::sent(tx, out.id, "", now)?;
            }
            for message in declined.map_or(Ok(Vec::new()), |id| outbox::of_booking(tx, id))? {
                if message.occasion() == Some(Occasion::NotComing) {
                    outbox::sent(tx, message.id, "250 taken", now)?;
                }
            }
            Ok::<_, DeskError>(())
        })
        .await
}
