//! Messages: what is said on which occasion, to whom and when, in which words; and what comes in.

pub mod announced;
pub mod cue;
pub mod due;
pub mod letters;
pub mod occasion;
pub mod replies;
pub mod template;
pub mod text_message;
