//! The marks of kinds of events, drawn.

use matricle_core::words::marks::Mark;

/// A mark as SVG, for the eye alone: its word stands beside it.
pub(crate) fn svg(mark: Mark) -> String {
    let shape = match mark {
        Mark::Cell => r#"<path d="M4.5 1.5h7l3.5 6.5-3.5 6.5h-7L1 8z"/>"#,
        Mark::Drop => {
            r#"<path d="M8 1c3 4 4.6 6.3 4.6 8.7a4.6 4.6 0 0 1-9.2 0C3.4 7.3 5 5 8 1z"/>"#
        }
        Mark::Leaf => r#"<path d="M2 14C2 6 6 2 14 2c0 8-4 12-12 12zm2-2 7-7"/>"#,
        Mark::Hill => r#"<path d="M8 2l7 12H1z"/>"#,
        Mark::Kite => r#"<path d="M8 1l5 7-5 7-5-7z"/>"#,
        Mark::Ring => r#"<circle class="hollow" cx="8" cy="8" r="5.5"/>"#,
        Mark::Bars => r#"<path d="M2 3h12v4H2zm0 6h12v4H2z"/>"#,
        Mark::Half => r#"<path d="M1 11a7 7 0 0 1 14 0z"/>"#,
        Mark::Crossing => r#"<path d="M6 1h4v5h5v4h-5v5H6v-5H1V6h5z"/>"#,
        Mark::Wave => r#"<path class="hollow" d="M1 10c2.3-5 4.7-5 7-2s4.7 3 7-2"/>"#,
    };
    format!(
        r#"<svg class="kindmark" viewBox="0 0 16 16" width="14" height="14" aria-hidden="true">{shape}</svg>"#
    )
}

/// All marks with their words, to choose from.
pub(crate) fn choices() -> Vec<(&'static str, &'static str)> {
    std::iter::once(("", "none")).chain(Mark::ALL.map(|m| (m.word(), m.word()))).collect()
}
