//! Tax rates as they are typed.

use matricle_store::places::TaxRate;

/// `9`, `13.5` or `8.25` percent in hundredths of a percent.
pub(crate) fn percent(text: &str) -> Option<u32> {
    let (whole, part) = text.split_once('.').unwrap_or((text, ""));
    if part.len() > 2 || !part.chars().all(|c| c.is_ascii_digit()) {
        return None;
    }
    let part: u32 = format!("{part:0<2}").parse().ok()?;
    whole.parse::<u32>().ok().map(|w| w.saturating_mul(100) + part).filter(|b| *b <= 10_000)
}

/// A tax rate typed as a name and a percentage, `Courses 9`.
pub(crate) fn read_rate(text: &str) -> Option<TaxRate> {
    let (name, number) = text.trim().trim_end_matches('%').trim().rsplit_once(' ')?;
    let basis = percent(&number.replace(',', "."))?;
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
    fn percents() {
        assert_eq!(percent("9"), Some(900));
        assert_eq!(percent("13.5"), Some(1350));
        assert_eq!(percent("8.25"), Some(825));
        for bad in ["", "-1", "8.255", "101", "x"] {
            assert_eq!(percent(bad), None, "{bad}");
        }
        assert_eq!(
            read_rate("Evening courses 13,5 %").map(|r| (r.name, r.basis)),
            Some(("Evening courses".into(), 1350))
        );
        assert!(read_rate("9").is_none() && read_rate("Courses nine").is_none());
    }
}
