//! The pages behind the real router, asked for directly: `access` is what keeps
//! strangers out, `booking` and `staff` the way without script, `pages`
//! what is read; `site` is shared.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod access;
mod booking;
mod pages;
mod planning;
mod site;
mod staff;
