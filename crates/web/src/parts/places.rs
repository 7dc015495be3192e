//! Where things are: addresses that more than one face names.

use jiff::civil::Date as Day;
use matricle_core::words::codes::Reference;

use matricle_store::events::Date;

use crate::App;

/// The address of a booking's own page.
pub(crate) fn address(app: &App, reference: Reference) -> String {
    format!("/booking/{}/{}", reference.as_str(), app.desk.secrets.booking_key(reference))
}

/// Where a picture is: `large` or `small`.
pub(crate) fn picture_address(app: &App, id: i64, size: &str) -> String {
    format!("/pictures/{id}/{}/{size}.jpg", app.desk.secrets.picture_key(id))
}

/// Only our own addresses: never on to another site.
pub(crate) fn own_address(back: &str) -> &str {
    // Browsers leave tabs and line breaks out of an address: `/<tab>/x` is `//x` to them.
    let odd = |c: char| c == '\\' || c.is_control() || c.is_whitespace();
    let ours = back.starts_with('/') && !back.starts_with("//") && !back.contains(odd);
    if ours { back } else { "" }
}

/// Whether a day is one that people plan for; nothing is looked up beyond.
pub(crate) fn near(day: &Day) -> bool {
    (1970..=2400).contains(&day.year())
}

/// Where a place is looked for on a free map of the world. The script of every page makes of it
/// what a telephone opens its own map for (`geo:`, RFC 5870, with the words to look for, since
/// nobody here knows where on earth it is).
const MAP: &str = "https://www.openstreetmap.org/search?query=";

/// A place as an address that opens a map; empty online and without an address.
pub(crate) fn map(date: &Date) -> String {
    if date.address.is_empty() {
        return String::new();
    }
    format!("{MAP}{}", crate::address::encode(&format!("{}, {}", date.venue, date.address)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signing_in_never_leads_to_another_site() {
        assert_eq!(own_address("/door/3?x=1"), "/door/3?x=1");
        for evil in [
            "//evil.example",
            "https://evil.example",
            "/\\evil.example",
            "/\t/evil.example",
            "/\n/evil.example",
            "/\u{85}/evil.example",
            "",
            "javascript:1",
        ] {
            assert_eq!(own_address(evil), "", "{evil}");
        }
    }
}
