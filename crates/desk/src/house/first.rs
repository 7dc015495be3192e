//! The first steps in an empty house: what is done of them, and two that are tried here.

use matricle_core::people::staff::{Right, require};
use matricle_formats::mail::{self, Mail};
use matricle_store::people::{self, Staff};
use matricle_store::{audit, bookings, events, outbox, payments};

use crate::{Desk, DeskError, house_of};

const MAIL: &str = "a test mail was taken by the mail server";
const CARD: &str = "the card provider answered";

/// What is done of the first steps.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Steps {
    /// Somebody has booked.
    pub booked: bool,
    /// Who sells is written down, for receipts and invoices.
    pub seller: bool,
    /// The mail server took a test mail.
    pub mail: bool,
    /// The card provider answered; nothing where the house has none.
    pub card: Option<bool>,
    /// Bank transfers are taken.
    pub transfers: bool,
    /// There is an event.
    pub event: bool,
    /// One is in the Programme.
    pub published: bool,
    /// Somebody else works here.
    pub colleagues: bool,
    /// Another site may show what is on.
    pub site: bool,
}

impl Steps {
    /// All that a house cannot do without is done: what is sold can be paid, and mails go out.
    fn are_done(&self) -> bool {
        self.seller && self.mail && self.card.unwrap_or(self.transfers) && self.published
    }
}

/// The first steps, until what a house cannot do without is done.
pub async fn steps(desk: &Desk, staff: &Staff) -> Result<Option<Steps>, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let has_provider = desk.provider.is_there();
    desk.store
        .read(move |conn| {
            let (house, rows) = (house_of(conn)?, events::rows(conn)?);
            let steps = Steps {
                booked: bookings::anybody(conn)?,
                seller: !house.seller.is_empty(),
                mail: audit::has(conn, MAIL)? || outbox::has_sent(conn)?,
                card: if has_provider {
                    Some(audit::has(conn, CARD)? || payments::by_card(conn)?)
                } else {
                    None
                },
                transfers: house.payee().takes_transfers(),
                event: !rows.is_empty(),
                published: rows.iter().any(|r| r.event.state == events::EventState::Published),
                colleagues: people::staff_of(conn)?.len() > 1,
                site: !house.embed_sites.is_empty(),
            };
            Ok(Some(steps).filter(|s| !s.booked || !s.are_done()))
        })
        .await
}

/// Sends a test mail to whoever asks, now. What the mail server said when it did not take it.
pub async fn try_mail(desk: &Desk, staff: &Staff) -> Result<Result<(), String>, DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    let house = desk.house().await?;
    let text = "This is a test. Mails of the house reach you: tickets and everything else will go this way.";
    let mail = Mail {
        answers: Vec::new(),
        by_hand: false,
        from: (house.name.clone(), house.email.clone()),
        reply_to: None,
        to: (staff.name.clone(), staff.email.clone()),
        subject: format!("A test mail of {}", house.name),
        message_id: format!("{}@{}", uuid::Uuid::now_v7(), turn.host),
        date: turn.now,
        text: text.into(),
        html: format!("<p>{text}</p>"),
        pictures: Vec::new(),
        calendar: None,
        attachments: Vec::new(),
        list: None,
    };
    if let Err(refusal) = desk.mailer.send(mail::message(&mail)?).await {
        return Ok(Err(refusal.reason));
    }
    desk.store
        .write(move |tx| audit::note(tx, &turn.by.name, MAIL, "", turn.now))
        .await
        .map_err(DeskError::from)?;
    Ok(Ok(()))
}

/// Asks the card provider whether it knows us. What it said when it does not.
pub async fn try_card(desk: &Desk, staff: &Staff) -> Result<Result<(), String>, DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    if let Err(refusal) = desk.provider.list().await {
        return Ok(Err(refusal.to_string()));
    }
    desk.store
        .write(move |tx| audit::note(tx, &turn.by.name, CARD, "", turn.now))
        .await
        .map_err(DeskError::from)?;
    Ok(Ok(()))
}
