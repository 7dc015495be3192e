//! One act on many bookings: each alone, in a transaction of its own, so that one that cannot
//! be done leaves the others done; and what can be undone is.

use matricle_core::people::staff::{Right, require};
use matricle_core::words::codes::Reference;
use matricle_store::bookings::{self, Filter};
use matricle_store::people::Staff;
use matricle_store::views;

use crate::bookings::cancel::{self, By};
use crate::bookings::{change, decide};
use crate::{Desk, DeskError};

/// Bookings that one act may concern.
pub const MOST: u32 = 1000;

matricle_core::worded! {
    /// Something done with many bookings.
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum Act {
        /// Say yes.
        Approve = "say yes",
        /// Say no.
        Decline = "say no",
        /// Cancel, by the steps.
        Cancel = "cancel",
        /// Bring back what was cancelled.
        BringBack = "bring back",
        /// Take a yes or a no back.
        Reconsider = "take the decision back",
        /// Send the mail again.
        Resend = "send the mail again",
    }
}

impl Act {
    /// The act that takes it back, where one does.
    #[must_use]
    pub const fn undone_by(self) -> Option<Self> {
        match self {
            Self::Approve | Self::Decline => Some(Self::Reconsider),
            Self::Cancel => Some(Self::BringBack),
            Self::BringBack => Some(Self::Cancel),
            Self::Reconsider | Self::Resend => None,
        }
    }
}

/// What became of it.
#[derive(Debug, Default)]
pub struct Done {
    /// Bookings it was done with.
    pub done: Vec<Reference>,
    /// Bookings it could not be done with, and why.
    pub refused: Vec<(Reference, DeskError)>,
}

/// Does one thing with many bookings.
///
/// # Errors
/// The role may not. What could not be done with a booking is told in the answer, and the
/// others are done all the same.
pub async fn act(
    desk: &Desk,
    staff: &Staff,
    act: Act,
    references: Vec<Reference>,
    reason: &str,
) -> Result<Done, DeskError> {
    require(staff.role, Right::ChangeBookings)?;
    let mut all = Done::default();
    for reference in references {
        let outcome = match act {
            Act::Approve => decide::approve(desk, staff, reference, None).await,
            Act::Decline => decide::decline(desk, staff, reference, reason.to_owned()).await,
            Act::Cancel => {
                let by = By::Staff(staff.clone(), None);
                cancel::cancel(desk, by, reference, Vec::new()).await.map(drop)
            }
            Act::BringBack => decide::bring_back(desk, staff, reference).await,
            Act::Reconsider => decide::reconsider(desk, staff, reference).await,
            Act::Resend => change::resend(desk, staff, reference).await,
        };
        match outcome {
            Ok(()) => all.done.push(reference),
            Err(error) => all.refused.push((reference, error)),
        }
    }
    Ok(all)
}

/// The references of all bookings that a filter finds, [`MOST`] at most.
pub async fn found(
    desk: &Desk,
    staff: &Staff,
    filter: Filter,
) -> Result<Vec<Reference>, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let filter = Filter { skip: 0, most: MOST, ..filter };
    desk.store
        .read(move |conn| {
            let found = bookings::list(conn, &filter)?;
            Ok(found.rows.into_iter().map(|r| r.booking.reference).collect())
        })
        .await
}

/// The saved views of whoever asks: key, name, and what the address says.
pub async fn saved(desk: &Desk, staff: &Staff) -> Result<Vec<(i64, String, String)>, DeskError> {
    let me = staff.id;
    Ok(desk.store.read(move |conn| views::of(conn, me)).await?)
}

/// Saves a view under a name.
pub async fn save(desk: &Desk, staff: &Staff, name: &str, query: &str) -> Result<(), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let (me, name): (_, String) =
        (staff.id, matricle_core::words::text::line(name).chars().take(60).collect());
    let query: String = query.chars().take(600).collect();
    if name.is_empty() {
        return Ok(());
    }
    Ok(desk.store.write(move |tx| views::save(tx, me, &name, &query)).await?)
}

/// Forgets a view.
pub async fn forget(desk: &Desk, staff: &Staff, id: i64) -> Result<(), DeskError> {
    let me = staff.id;
    Ok(desk.store.write(move |tx| views::forget(tx, me, id)).await?)
}
