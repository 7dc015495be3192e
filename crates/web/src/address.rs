//! Text as part of an address.

pub(crate) use matricle_core::words::text::percent as encode;

/// Where everything stands that is known of somebody by their address.
pub(crate) fn person(address: &str) -> String {
    format!("/office/person?address={}", encode(address))
}
