//! The last part of an address: a number, or `new`.

use serde::Deserialize;
use serde::de::{Deserializer, Error};

/// Which one of many an address means; nothing for a new one. Anything else is nowhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct NewOr(pub(crate) Option<i64>);

impl<'de> Deserialize<'de> for NewOr {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        match String::deserialize(from)?.as_str() {
            "new" => Ok(Self(None)),
            other => other.parse().map(|id| Self(Some(id))).map_err(D::Error::custom),
        }
    }
}
