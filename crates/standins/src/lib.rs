//! Stand-ins: small simulated outside services. They know nothing of Matricle and
//! talk to it over HTTP and SMTP, as the real ones would.

pub mod mailbox;
pub mod phone;
pub mod scanner;
pub mod till;
