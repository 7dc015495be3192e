//! Badges by mail: to each who comes, and to further addresses.

use std::collections::HashSet;

use matricle_core::DateId;
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::messages::cue::{Trigger, Way};
use matricle_core::messages::due::{Reader, WhyNot};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::people::staff::Right;
use matricle_store::outbox::{self, About, NewMessage};
use matricle_store::people::Staff;
use matricle_store::{door as db, templates};

use crate::badges::{Kind, PaperChoice, gather};
use crate::{Desk, DeskError};

fields! {
    EACH: Tick = "each", "To each their own",
        "as a page to print at home and fold in four; who has no address hears through whoever booked";
    ALSO: Addresses(1, MOST_ADDRESSES) = "also", "All of them also to",
        "Addresses, with a comma between them: on the sheet chosen above.";
}

/// Most further addresses at a time.
const MOST_ADDRESSES: usize = 10;

/// What goes by mail.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Posted {
    /// Mails with the badge of one person or one booking.
    pub mails: u32,
    /// People whose badge goes with them.
    pub people: u32,
    /// People who have no address, nor has whoever booked for them; or one that takes no mail.
    pub without: u32,
    /// Further addresses, which have all badges.
    pub further: u32,
}

/// Sends badges by mail: with `each`, to everybody whom the choice fits, their own to fold at
/// home; to the addresses of `also`, all of them on the sheet that was chosen.
///
/// # Errors
/// Nobody is to have them; an address that is none, or too many; nobody fits the choice; the role
/// may not.
pub async fn send(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
    asked: PaperChoice,
    mut form: Form,
) -> Result<Posted, DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    let asked = PaperChoice { kind: Kind::Badges, ..asked };
    desk.store
        .write(move |tx| {
            let each = form.take(&EACH);
            let also = form.take(&ALSO);
            if !each && form.get(ALSO.name).is_empty() {
                form.fault(EACH, Fault::Missing);
            }
            let made = gather(tx, date, &asked)?;
            form.done().map_err(DeskError::Form)?;
            if made.people.is_empty() {
                return Err(DeskError::NotFound);
            }
            let trigger = Trigger::On(Occasion::Badge);
            let mut posted = Posted { mails: 0, people: 0, without: 0, further: 0 };
            let plan = |about, reader: &str, to: &str, paper: String, (template, skipped)| {
                let id = uuid::Uuid::now_v7();
                let knows = Knows { paper, ..Knows::default() };
                outbox::plan(
                    tx,
                    &NewMessage {
                        date: Some(date),
                        unique: &format!("badge d{date} {reader} {id}"),
                        message_id: &format!("{id}@{}", turn.host),
                        bulk: true,
                        template,
                        skipped,
                        ..NewMessage::to(about, trigger, reader, (Way::Mail, to), &knows, turn.now)
                    },
                )
            };
            if each {
                let paper =
                    PaperChoice { sheet: PaperChoice::folded().sheet, from: 0, ..asked.clone() };
                let paper = paper.to_keep()?;
                let mut told = HashSet::new();
                for person in &made.people {
                    let Some(wearer) = db::wearer(tx, person.attendee)? else { continue };
                    if wearer.email.is_empty() || wearer.refused {
                        posted.without += 1;
                    } else {
                        posted.people += 1;
                    }
                    let reader = match wearer.person {
                        Some(no) => Reader::Attendee(wearer.booking, no).key(),
                        None => Reader::Booker(wearer.booking).key(),
                    };
                    if wearer.email.is_empty() || !told.insert(reader.clone()) {
                        continue;
                    }
                    let skipped = if wearer.refused { WhyNot::Bounced.words() } else { "" };
                    posted.mails += u32::from(skipped.is_empty());
                    let about = About::Booking(wearer.booking);
                    plan(about, &reader, &wearer.email, paper.clone(), (None, skipped))?;
                }
            }
            let template = templates::standard(tx, "badges")?.map(|t| t.id);
            for address in &also {
                let reader = Reader::Address(address.clone()).key();
                let about = About::Event(made.event.id);
                plan(about, &reader, address, asked.to_keep()?, (template, ""))?;
                posted.further += 1;
            }
            let when =
                matricle_formats::words::long_span(made.date.span.starts, made.date.span.ends);
            let what = format!("sent badges of {when} by mail");
            crate::planning::dates::log(tx, made.event.id, &turn, &what)?;
            Ok(posted)
        })
        .await
        .inspect(|_| desk.wake.all())
}
