//! Values in, bytes out: calendar files, mails, barcodes, dates in words.
//!
//! Nothing here reads a clock or makes up an identifier: the caller gives both.

pub mod barcode;
pub mod calendar;
pub mod feed;
pub mod incoming;
pub mod letter;
pub mod mail;
pub mod picture;
pub mod rich;
pub mod table;
pub mod words;
