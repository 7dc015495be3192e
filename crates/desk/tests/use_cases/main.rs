//! Use cases without pages: `by_itself` what runs without anybody, `coming_in`
//! who is let in and how much one person can do to others, `kept_plans` what is kept of plans, `letters` what comes in by mail, `line` is the way of a booking, `office` what staff do,
//! `own_words` what is said in words of one's own, `planning` how events are made;
//! `world` is shared.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::too_many_lines, reason = "a test is one story")]

mod at_the_door;
mod by_itself;
mod calendars;
mod cards;
mod coming_in;
mod confirm;
mod foyer;
mod invitations;
mod kept_plans;
mod letters;
mod line;
mod money;
mod office;
mod own_words;
mod planning;
mod rooms;
mod strangers;
mod submitted;
mod telling;
mod told;
mod true_numbers;
mod words;
mod world;
