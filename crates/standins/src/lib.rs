//! Stand-ins: small simulated outside services. They know nothing of Matricle and
//! talk to it over HTTP, SMTP and IMAP, as the real ones would.

pub mod beside;
mod kept;
pub mod letterbox;
pub mod letters;
pub mod mailbox;
pub mod meeting;
mod pages;
pub mod phone;
pub mod scanner;
pub mod till;
