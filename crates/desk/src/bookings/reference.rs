//! References that no booking has yet.

use matricle_core::words::codes::Reference;
use matricle_store::{Tx, bookings};

use crate::{DeskError, random_u64};

/// A reference that no booking has.
pub fn fresh_reference(tx: &Tx<'_>) -> Result<Reference, DeskError> {
    for _ in 0..32 {
        let reference = Reference::from_random(random_u64());
        if !bookings::reference_taken(tx, reference)? {
            return Ok(reference);
        }
    }
    Err(DeskError::Internal("no free booking reference found in 32 tries".into()))
}
