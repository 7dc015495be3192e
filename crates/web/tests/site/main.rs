//! The pages behind the real router, asked for directly: `access` is what keeps
//! strangers out, `booking` and `staff` the way without script, `pages`
//! what is read, `money` all that happens to a booking and its money, `cards` stamp cards, money
//! at the door and the rules of confirming, `at_once` what happens when all do it together,
//! `crawl` every link and every form, `using` what using it showed, `manners` what every page does, `lists` what there are many of, `messages` what is sent by itself, `submitted` events that members submit, `valid` whether a page is HTML; `site` is shared.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::too_many_lines, reason = "a test is one story")]

mod access;
mod at_once;
mod booking;
mod cards;
mod crawl;
mod doors;
mod lists;
mod machines;
mod manners;
mod messages;
mod money;
mod pages;
mod planning;
mod replies;
mod site;
mod staff;
mod strangers;
mod submitted;
mod using;
mod valid;
