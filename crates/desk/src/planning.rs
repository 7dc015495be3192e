//! Events and their dates: planning, publishing, changing.

pub mod after_booking;
pub mod asking;
pub mod board;
pub mod dates;
pub mod events;
pub mod invitations;
pub mod patterns;
pub mod pictures;
pub mod plan;
pub mod questions;
pub(crate) mod rates;
pub mod replies;
pub mod sessions;
pub mod sheet;
pub mod slots;
pub mod tickets;
pub mod trying;
pub mod who;
pub mod wording;
