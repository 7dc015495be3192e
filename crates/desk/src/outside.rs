//! The world outside: the card provider and the ways that messages go, as traits with a real and a
//! rehearsed side.

pub mod chat;
pub mod letterbox;
pub mod mailer;
pub mod provider;
pub mod rooms;
pub mod texts;
