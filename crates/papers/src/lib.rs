//! Papers: values in, PDF out. Drawn on krilla, text shaped and broken by parley.
//!
//! `paper` is the ground that every paper stands on: fonts, colours of the
//! pages, blocks of text that know their height. The others are papers.

mod badge;
mod bill;
mod certificate;
mod list;
mod paper;
mod roster;
mod ticket;

pub use badge::{Badge, Badges, Sheet, badges, badges_telling, tents};
pub use bill::{Bill, BillLine, bill};
pub use certificate::{Certificate, certificates};
pub use list::{List, list};
pub use paper::{PaperError, without_glyph};
pub use roster::{Roster, roster};
pub use ticket::{Barcodes, Ticket, tickets};
