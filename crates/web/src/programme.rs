//! The public face: catalogue, event pages, booking.

pub(crate) mod booking;
pub(crate) mod catalogue;
pub(crate) mod event;
mod stub;
