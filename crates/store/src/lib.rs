//! SQLite: schema, migrations, queries, the writing thread and the reading pool.
//!
//! Reads take a `&Connection`, writes a [`Tx`], which only the writing thread
//! hands out. Functions here hold no rules: they load facts and write down what
//! `matricle-core` decided.
//!
//! # Errors
//! Whatever reads or writes fails with a [`StoreError`] when SQLite refuses: the file cannot be
//! read, the disk is full, a constraint does not hold. Only what else can go wrong is said at a
//! function.

pub mod announcements;
pub mod aside;
pub mod audit;
pub mod backup;
pub mod bookings;
pub mod books;
pub mod cards;
pub mod check;
pub mod clashes;
pub mod clock;
pub mod complaints;
mod convert;
pub mod cues;
pub mod devices;
pub mod documents;
pub mod door;
mod error;
pub mod events;
mod files;
pub mod house;
pub mod house_files;
pub mod invited;
pub mod ledger;
pub mod letters;
pub mod measures;
mod migrate;
pub mod online;
pub mod outbox;
pub mod own_feeds;
pub mod payments;
pub mod people;
pub mod places;
mod plan_version;
pub mod promos;
pub mod readers;
pub mod refunds;
pub mod replaced;
pub mod replies;
pub mod senders;
#[macro_use]
mod states;
mod store;
pub mod submissions;
pub mod templates;
pub mod unreadable;
pub mod views;
pub mod waiting;
pub mod wishes;

pub use convert::{at, us};
pub use error::{Doing, StoreError};
pub use events::{sessions, slots};
pub use files::keep_to_oneself;
pub use rusqlite::Connection;
pub use store::{FILE, Store, Tx};
