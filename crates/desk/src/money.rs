//! Money that comes and goes, its documents, stamp cards, promo codes, the books.

pub mod books;
pub mod cards;
pub mod documents;
pub mod entries;
pub mod promos;
pub mod refunds;
