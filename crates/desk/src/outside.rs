//! The world outside: the card provider and the mail server, as traits with a real and a
//! rehearsed side.

pub mod mailer;
pub mod provider;
