//! What is put into words by choosing: fields, and parts that only some read.

use matricle_core::messages::cue::Cue;
use matricle_core::messages::template::{CONDITIONS, FIELDS, Shape, can_have, field, opening};

/// What can be put in: how it is written, and what it says.
pub(crate) struct Choices {
    pub(crate) fields: Vec<(String, &'static str)>,
    pub(crate) conditions: Vec<(String, &'static str)>,
}

impl Choices {
    /// What the readers of a cue have; without one, all there is.
    pub(crate) fn of(cue: Option<&Cue>) -> Self {
        let theirs = |name: &str| {
            field(name).is_some_and(|field| cue.is_none_or(|cue| can_have(field, cue)))
        };
        let written = |name: &str, shape| match shape {
            Shape::When => format!("{{{{{name}, long}}}}"),
            _ => format!("{{{{{name}}}}}"),
        };
        Self {
            fields: FIELDS
                .iter()
                .filter(|f| f.shape != Shape::Holds && theirs(f.name))
                .map(|f| (written(f.name, f.shape), f.says))
                .collect(),
            conditions: CONDITIONS
                .into_iter()
                .filter(|(name, ..)| theirs(name))
                .map(|(name, holds, says)| (opening(name, holds), says))
                .collect(),
        }
    }
}
