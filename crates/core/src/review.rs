//! Events that members submit, and deciding on them.

pub mod checks;
pub mod difference;
pub mod likeness;
pub mod record;
pub mod rules;
pub mod submission;
