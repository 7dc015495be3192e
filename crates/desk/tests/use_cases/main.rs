//! Use cases without pages: `by_itself` what runs without anybody, `coming_in`
//! who is let in and how much one person can do to others, `line` is the way of a booking, `office` what staff do,
//! `planning` how events are made;
//! `world` is shared.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod by_itself;
mod cards;
mod coming_in;
mod confirm;
mod line;
mod money;
mod office;
mod planning;
mod words;
mod world;
