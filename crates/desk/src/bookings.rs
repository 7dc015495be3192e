//! Bookings: the moves that change their state, and all that people do with them.

pub mod acts;
pub mod address;
pub mod bills;
mod by;
pub mod calendars;
pub mod cancel;
pub mod change;
pub mod codes;
pub mod confirm;
pub mod decide;
pub mod hold;
pub mod keys;
pub mod many;
pub mod move_date;
pub(crate) mod moves;
pub mod pass_on;
pub mod pay;
pub mod phone;
pub(crate) mod reference;
pub(crate) mod seats;
pub(crate) mod serving;
pub mod stamps;
pub mod submit;
pub mod taking;
pub mod undo;
pub mod waiting;
pub mod whole;
