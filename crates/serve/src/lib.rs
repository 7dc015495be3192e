//! What runs a house for real: its configuration, the listening, its backups, and the commands that
//! work on its file. Nothing here is simulated.

pub mod args;
pub mod backup;
pub mod check;
pub mod config;
pub mod import;
pub mod listening;
pub mod logging;
pub mod person;
pub mod serve;
