//! People: who works here and what they may do, who acts, who may book, and how often anybody may ask.

pub mod acting;
pub mod network;
pub mod staff;
pub mod unasked;
pub mod who;
pub mod wish;
