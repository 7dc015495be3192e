//! A line for each place where somebody is signed in.

use matricle_formats::words;
use matricle_store::people::OpenSession;

/// A session as its owner sees it.
pub(crate) fn session_row(
    session: &OpenSession,
    zone: &str,
    now: jiff::Timestamp,
) -> (String, String) {
    let browser = browser_in_short(&session.browser);
    let own = if session.own { " (this one)" } else { "" };
    let how = if session.staff { "with the password" } else { "by mail" };
    let since = words::moment(session.made_at, zone, now);
    (format!("{browser}{own}"), format!("signed in {how}, {since}"))
}

/// A browser as somebody knows theirs: what it calls itself (RFC 9110 §10.1.5) begins with the
/// names of many others.
pub(crate) fn browser_in_short(agent: &str) -> String {
    let first = |names: &[(&str, &'static str)]| {
        names.iter().find(|(sign, _)| agent.contains(sign)).map(|(_, name)| *name)
    };
    let browser = first(&[
        ("Edg", "Edge"),
        ("OPR/", "Opera"),
        ("Firefox/", "Firefox"),
        ("FxiOS", "Firefox"),
        ("Chrome", "Chrome"),
        ("CriOS", "Chrome"),
        ("Safari/", "Safari"),
    ]);
    let system = first(&[
        ("iPhone", "an iPhone"),
        ("iPad", "an iPad"),
        ("Android", "Android"),
        ("Windows", "Windows"),
        ("Mac OS", "a Mac"),
        ("Linux", "Linux"),
    ]);
    match (browser, system) {
        (Some(browser), Some(system)) => format!("{browser} on {system}"),
        (Some(name), None) | (None, Some(name)) => name.to_owned(),
        (None, None) => "An unknown browser".to_owned(),
    }
}
