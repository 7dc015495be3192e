//! SQLite: schema, migrations, queries, the writing thread and the reading pool.
//!
//! Reads take a `&Connection`, writes a [`Tx`], which only the writing thread
//! hands out. Functions here hold no rules: they load facts and write down what
//! `matricle-core` decided.

pub mod bookings;
pub mod check;
pub mod clashes;
mod convert;
pub mod door;
mod error;
pub mod events;
pub mod house;
mod migrate;
pub mod outbox;
pub mod payments;
pub mod people;
pub mod places;
pub mod sessions;
pub mod slots;
mod store;

pub use convert::{at, us};
pub use error::{Doing, StoreError};
pub use rusqlite::Connection;
pub use store::{Store, Tx};
