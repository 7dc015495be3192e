//! The house's own settings: its name and address, zone and currency, what bookers agree to,
//! cancelling, who sells, transfers, its colour, other sites.

use matricle_core::Currency;
use matricle_core::dates::web_calendar::WebCalendar;
use matricle_core::fields;
use matricle_core::forms::field::{Binding, Locale};
use matricle_core::forms::form::{Fault, Form};
use matricle_core::money::transfer::{is_bic, read_iban};
use matricle_core::people::staff::Right;
use matricle_core::words::fold;
use matricle_store::house::{self, House};
use matricle_store::people::Staff;

use crate::{Desk, DeskError, house_of};

/// Most web calendars that a house offers.
const MOST_CALENDARS: usize = 8;

fields! {
    NAME: Line = "name", "Name of the house" needed;
    EMAIL: MailAddress = "email", "Address that answers to mails reach" needed;
    ZONE: Line = "zone", "Time zone", "Such as Europe/Dublin." needed;
    CURRENCY: Line = "currency", "Currency",
        "Three letters (ISO 4217). Fixed once there are prices or bookings." needed;
    TERMS: Text(4, 4000) = "terms", "What bookers agree to" needed;
    STEPS: Steps(4) = "days", "Cancellation steps",
        "After the last step nothing is given back; a date that is called off gives back all.";
    SELLER: Text(3, 600) = "seller", "Who sells, on receipts and invoices",
        "Name and address, a line each.";
    TAX_NUMBER: Line = "tax_number", "Tax number";
    IBAN: Line = "iban", "Account for bank transfers",
        "An IBAN; left empty, nobody can pay by transfer.";
    BIC: Line = "bic", "BIC";
    ACCOUNT_HOLDER: Line = "account_holder", "Its holder", "Left empty, the house.";
    TRANSFER_DAYS: Whole(1, 90) = "transfer_days", "Days that seats are kept for a transfer";
    ACCENT: Colour = "accent", "Colour",
        "For links and buttons on every page, such as #1d4f3f; left empty, the program’s green.";
    EMBED_SITES: Text(3, 4000) = "embed_sites", "Sites that may show our stubs",
        "One on a line, like https://club.example.";
    WEB_CALENDARS: Text(4, 8000) = "web_calendars",
        "Web calendars that bookers put their dates into",
        "One on a line: a name, then the address that takes a date in, with fields in braces. Bookings offer them beside the file.";
    NAMES_IN_FEEDS: Tick = "names_in_feeds", "The feeds of hosts name who comes",
        "whoever has such an address reads the names";
}

/// The form of the house.
pub fn form(f: &mut Binding<'_>, house: &mut House) {
    f.bind(&NAME, &mut house.name);
    f.bind(&EMAIL, &mut house.email);
    f.bind(&ZONE, &mut house.zone);
    currency(f, &mut house.currency);
    f.bind(&TERMS, &mut house.terms);
    f.bind(&STEPS, &mut house.steps);
    f.bind(&SELLER, &mut house.seller);
    f.bind(&TAX_NUMBER, &mut house.tax_number);
    f.bind(&IBAN, &mut house.iban);
    f.bind(&BIC, &mut house.bic);
    f.bind(&ACCOUNT_HOLDER, &mut house.account_holder);
    f.bind(&TRANSFER_DAYS, &mut house.transfer_days);
    f.bind(&ACCENT, &mut house.accent);
    let mut sites = house.embed_sites.join("\n");
    f.bind(&EMBED_SITES, &mut sites);
    let lines = sites.lines().map(|l| l.trim().trim_end_matches('/').to_owned());
    house.embed_sites = lines.filter(|l| !l.is_empty()).collect();
    if let Some(form) = f.form() {
        check(form, house);
    }
}

/// The currency by its letters; a form without it leaves it as it is.
fn currency(f: &mut Binding<'_>, currency: &mut Currency) {
    if f.form().is_some_and(|form| !form.has(CURRENCY.name)) {
        return;
    }
    let mut letters = currency.letters().to_owned();
    f.bind(&CURRENCY, &mut letters);
    match (Currency::from_letters(&letters), f.form()) {
        (Some(read), _) => *currency = read,
        (None, Some(form)) => form.fault(CURRENCY, Fault::Unknown),
        (None, None) => {}
    }
}

/// What a field of its kind may hold and the house may not.
fn check(form: &mut Form, house: &mut House) {
    if !house.zone.is_empty() && jiff::tz::TimeZone::get(&house.zone).is_err() {
        form.fault(ZONE, Fault::NoZone(zone_like(&house.zone)));
    }
    if house.embed_sites.iter().any(|s| !is_origin(s)) {
        form.fault(EMBED_SITES, Fault::NotALink);
    }
    house.iban = house.iban.to_uppercase();
    if !house.iban.is_empty()
        && let Err(fault) = read_iban(&house.iban)
    {
        form.fault(IBAN, Fault::NotAnIban(fault));
    }
    house.bic = house.bic.to_uppercase();
    if !house.bic.is_empty() && !is_bic(&house.bic) {
        form.fault(BIC, Fault::NotABic);
    }
}

/// The form of how dates get into calendars.
pub fn calendars(f: &mut Binding<'_>, house: &mut House) {
    let lines = house.web_calendars.iter().map(WebCalendar::line);
    let mut typed = lines.collect::<Vec<_>>().join("\n");
    f.bind(&WEB_CALENDARS, &mut typed);
    f.bind(&NAMES_IN_FEEDS, &mut house.names_in_feeds);
    let Some(form) = f.form() else { return };
    house.web_calendars.clear();
    for line in typed.lines().map(str::trim).filter(|l| !l.is_empty()) {
        match WebCalendar::read(line) {
            Ok(read) => house.web_calendars.push(read),
            Err(fault) => form.fault(WEB_CALENDARS, Fault::WebCalendar(line.to_owned(), fault)),
        }
    }
    if house.web_calendars.len() > MOST_CALENDARS {
        form.fault(WEB_CALENDARS, Fault::TooMany(MOST_CALENDARS));
    }
}

/// Keeps the house's settings.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn keep(desk: &Desk, staff: &Staff, mut typed: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    desk.store
        .write(move |tx| {
            let was = house_of(tx)?;
            let mut new = was.clone();
            form(&mut Binding::Read(&mut typed, &was.locale()), &mut new);
            if new.currency != was.currency && house::has_amounts(tx)? {
                typed.fault(CURRENCY, Fault::Taken);
            }
            typed.done().map_err(DeskError::Form)?;
            house::set(tx, &new)?;
            turn.log(tx, "changed the house", "/office/house")
        })
        .await
}

/// Keeps how dates get into calendars.
///
/// # Errors
/// [`DeskError::Form`] at the first line that is none; the role may not.
pub async fn keep_calendars(desk: &Desk, staff: &Staff, mut typed: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    desk.store
        .write(move |tx| {
            let mut house = house_of(tx)?;
            calendars(&mut Binding::Read(&mut typed, &Locale::default()), &mut house);
            typed.done().map_err(DeskError::Form)?;
            house::set(tx, &house)?;
            turn.log(tx, "changed how dates get into calendars", "/office/house/feeds")
        })
        .await
}

/// A time zone that may be meant: of the same place, or one whose name holds what was typed.
fn zone_like(typed: &str) -> Option<String> {
    let typed = fold(typed).replace([' ', '-'], "_");
    let place = typed.rsplit('/').next().unwrap_or(&typed);
    let names: Vec<String> = jiff::tz::db().available().map(|n| n.to_string()).collect();
    let of_place = |n: &&String| fold(n).rsplit('/').next() == Some(place);
    let holds = |n: &&String| place.len() > 2 && fold(n).contains(place);
    names.iter().find(of_place).or_else(|| names.iter().find(holds)).cloned()
}

/// Whether a text is a web origin (RFC 6454 §6.2): scheme, host, perhaps a port.
fn is_origin(text: &str) -> bool {
    let rest = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://"));
    rest.is_some_and(|host| {
        !host.is_empty()
            && host.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | ':'))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn origins() {
        assert!(is_origin("https://club.example:8443") && is_origin("http://127.0.0.1:9"));
        for bad in ["club.example", "https://", "https://a.example/path", "https://a b", "*"] {
            assert!(!is_origin(bad), "{bad}");
        }
    }
}
