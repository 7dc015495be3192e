//! What was refused on the page of a booking, and what can be taken back there.

use std::collections::BTreeMap;

use askama::Template;
use matricle_core::{AttendeeId, SessionId};
use matricle_desk::bookings::whole::WholeBooking;
use matricle_formats::words;
use matricle_store::bookings::Deed;

use crate::App;
use crate::parts::places::address;

/// What was sent from the page and refused, and why.
pub(crate) enum Refused {
    /// The letters of a stamp card.
    Card(String, String),
    /// Who goes to which session.
    Sessions(BTreeMap<AttendeeId, Vec<SessionId>>, String),
    /// Taking back what was done last.
    Undo(String),
    /// Another address in the place of one that refused mail, and why.
    Address(String, String),
    /// The address is to be proved first, and why.
    Unproved((String, String)),
}

/// What the booker did last and can take back, and why that does not go.
#[derive(Template)]
#[template(path = "programme/undo.html")]
pub(crate) struct TakeBack {
    /// Something was done, and stands.
    address: String,
    token: String,
    says: Option<String>,
    problem: Option<String>,
}

impl TakeBack {
    pub(super) fn of(
        app: &App,
        sheet: &WholeBooking,
        token: String,
        problem: Option<String>,
    ) -> Self {
        let now = app.desk.clock.now();
        let says = sheet.undo.as_ref().filter(|u| u.is_open(now)).map(|u| {
            let what = match &u.last.deed {
                Deed::Cancelled { .. } => "You cancelled this booking",
                Deed::Part { .. } => "You cancelled tickets of it",
                Deed::Moved(_) => "You moved it to this date",
                Deed::Corrected(_) => "You corrected names or answers",
                Deed::PassedOn { .. } => "You passed a ticket on; its new holder has it by mail",
            };
            let when = words::moment(u.last.at, &sheet.house.zone, now);
            match u.last.deed {
                Deed::Corrected(_) => format!("{what}, {when}."),
                Deed::PassedOn { .. } => {
                    format!("{what}, {when}. Taken back, it has a new code.")
                }
                _ => format!("{what}, {when}. While the seats are there you can take that back."),
            }
        });
        Self { address: address(app, sheet.booking.reference), token, says, problem }
    }
}
