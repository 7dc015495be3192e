//! What the `matricle` program does, a module for each command.

pub mod backup;
pub mod bench;
pub mod bench_bookings;
pub mod bench_door;
pub mod bench_invitations;
pub mod bench_messages;
pub mod bench_pages;
pub mod bench_review;
pub mod bench_season;
pub mod check;
pub mod cli;
pub mod config;
pub mod demo;
pub mod import;
pub mod listening;
pub mod logging;
pub mod person;
pub mod serve;
pub mod standins;
