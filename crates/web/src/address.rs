//! Text as part of an address.

pub(crate) use matricle_core::text::percent as encode;
