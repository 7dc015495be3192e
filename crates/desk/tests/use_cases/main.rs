//! Use cases without pages: `line` is the way of a booking, `office` what staff do,
//! `planning` how events are made;
//! `world` is shared.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod cards;
mod confirm;
mod line;
mod money;
mod office;
mod planning;
mod world;
