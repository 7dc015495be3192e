//! Measurements: the program beside the least that could do the same, in one run on one machine.

pub mod args;
pub mod bookings;
pub mod door;
pub mod invitations;
pub mod messages;
pub mod pages;
pub mod program;
pub mod review;
pub mod season;
