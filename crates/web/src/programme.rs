//! The public face: catalogue, event pages, booking.

pub(crate) mod booking;
pub(crate) mod catalogue;
pub(crate) mod change;
pub(crate) mod embed;
pub(crate) mod event;
pub(crate) mod feeds;
pub(crate) mod machines;
pub(crate) mod me;
pub(crate) mod own;
pub(crate) mod pay;
mod stub;
pub(crate) mod ticket;
pub(crate) mod waiting;
