//! Tax rates as they are typed.

use matricle_core::forms::field::percent;
use matricle_store::places::TaxRate;

/// A tax rate typed as a name and a percentage, `Courses 9`.
pub(crate) fn read_rate(text: &str) -> Option<TaxRate> {
    let (name, number) = text.trim().trim_end_matches('%').trim().rsplit_once(' ')?;
    let basis = percent(number)?;
    (!name.trim().is_empty()).then(|| TaxRate {
        id: matricle_core::TaxRateId(0),
        name: name.trim().into(),
        basis,
        added: false,
        retired_at: None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rate_is_a_name_and_a_percentage() {
        assert_eq!(
            read_rate("Evening courses 13,5 %").map(|r| (r.name, r.basis)),
            Some(("Evening courses".into(), 1350))
        );
        assert!(read_rate("9").is_none() && read_rate("Courses nine").is_none());
    }
}
