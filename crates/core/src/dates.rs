//! Dates: when something takes place, by which rule it comes again, in which parts, and what it is in the way of.

pub mod availability;
pub mod clash;
pub mod recurrence;
pub mod schedule;
pub mod sessions;
pub mod slots;
pub mod web_calendar;
