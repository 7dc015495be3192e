//! What people type: forms, what is wrong with them, and what they mean.

pub mod field;
pub mod form;
pub mod quick;
pub mod repeats;
