//! Papers: values in, PDF out. Drawn on krilla, text shaped and broken by parley.
//!
//! `paper` is the ground that every paper stands on: fonts, colours of the
//! pages, blocks of text that know their height. `ticket`, `bill` and `roster` are papers.

mod bill;
mod paper;
mod roster;
mod ticket;

pub use bill::{Bill, BillLine, bill};
pub use paper::{PaperError, without_glyph};
pub use roster::{Roster, roster};
pub use ticket::{Barcodes, Ticket, tickets};
