//! A field of a form, said once: what it is called in what is sent, what may be typed and within
//! which bounds, what stands beside it. A form is a list of such fields and one function that binds
//! each to the value it is kept in. Run over what was typed, the function reads ([`Binding::Read`]);
//! run over what stands, it fills the form with it ([`Binding::Fill`]). So a form cannot show what
//! it does not read, nor read what it does not show.
//!
//! ```
//! use matricle_core::forms::field::{Binding, Filled, Locale};
//! use matricle_core::forms::form::Form;
//!
//! matricle_core::fields! {
//!     NAME: Line = "name", "Name" needed;
//!     SEATS: Whole(1, 500) = "seats", "Seats", "As the fire wardens say.";
//! }
//!
//! #[derive(Default)]
//! struct Hall {
//!     name: String,
//!     seats: u32,
//! }
//!
//! fn hall(f: &mut Binding<'_>, hall: &mut Hall) {
//!     f.bind(&NAME, &mut hall.name);
//!     f.bind(&SEATS, &mut hall.seats);
//! }
//!
//! let (locale, mut new) = (Locale::default(), Hall::default());
//! let mut typed = Form::new(vec![("name".into(), "Barn".into()), ("seats".into(), "40".into())]);
//! hall(&mut Binding::Read(&mut typed, &locale), &mut new);
//! assert_eq!((typed.done(), new.name.as_str(), new.seats), (Ok(()), "Barn", 40));
//!
//! let mut filled = Filled::default();
//! hall(&mut Binding::Fill(&mut filled, &locale), &mut new);
//! assert_eq!(filled.fields, [("name".into(), "Barn".into()), ("seats".into(), "40".into())]);
//! ```

use std::fmt::Debug;

use jiff::Timestamp;
use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;

use super::form::{Fault, Form};
use super::repeats;
use crate::Currency;
use crate::worded::Worded;
use crate::words::address::{is_address, is_phone};
use crate::words::links::is_link;

/// What times and amounts of a form are of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Locale {
    /// The zone that times are typed in (IANA).
    pub zone: String,
    /// The currency of amounts.
    pub currency: Currency,
}

impl Default for Locale {
    fn default() -> Self {
        Self { zone: "UTC".into(), currency: Currency::EUR }
    }
}

/// A field of a form.
#[derive(Debug, Clone, Copy)]
pub struct Field<K> {
    /// What it is called in what is sent; never shown.
    pub name: &'static str,
    /// What stands beside it.
    pub label: &'static str,
    /// A line below it; may be empty.
    pub help: &'static str,
    /// Whether nothing is a fault.
    pub needed: bool,
    /// What may be typed.
    pub kind: K,
}

impl<K: Copy> Field<K> {
    /// A field, with no line of help and not needed.
    #[must_use]
    pub const fn new(name: &'static str, label: &'static str, kind: K) -> Self {
        Self { name, label, help: "", needed: false, kind }
    }

    /// With a line of help.
    #[must_use]
    pub const fn help(self, help: &'static str) -> Self {
        Self { help, ..self }
    }

    /// Nothing is a fault.
    #[must_use]
    pub const fn needed(self) -> Self {
        Self { needed: true, ..self }
    }

    /// What one field of a row is called: its name and the row's number, from 0.
    #[must_use]
    pub fn at(&self, row: usize) -> String {
        format!("{}_{row}", self.name)
    }
}

impl<K> AsRef<str> for Field<K> {
    fn as_ref(&self) -> &str {
        self.name
    }
}

/// How a field is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Control {
    /// One line, of a type of HTML's `input`.
    Input(&'static str),
    /// Several lines, so many of which are seen at first.
    Area(u8),
    /// A whole number.
    Number,
    /// A number with a part after the point.
    Decimal,
    /// A box to tick.
    Tick,
    /// One of several; which, the kind says, or whoever draws it.
    Choice,
    /// Rows or ticks that whoever draws it has an arrangement of their own for.
    Own,
}

/// What may be typed into a field, how it is read and how it is written into a form.
pub trait Kind: Debug + Copy {
    /// What it is kept as.
    type Value;

    /// How it is drawn.
    fn control(&self) -> Control;

    /// Words sent and words shown, where it is one of several that are always the same.
    fn options(&self) -> Vec<(&'static str, &'static str)> {
        Vec::new()
    }

    /// Reads what was typed under a name into a value. What cannot be read is a fault, and the
    /// value may stay what it was.
    fn read(&self, name: &str, form: &mut Form, locale: &Locale, value: &mut Self::Value);

    /// Writes a value into a form as it would be typed.
    fn fill(&self, name: &str, value: &Self::Value, locale: &Locale, filled: &mut Filled);
}

/// A kind that is read the same in every house: of no zone, in no currency.
pub trait Plain: Kind {}

/// Fields with what stands in them, as a form would send them.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Filled {
    /// Names and values, a name as often as it has values.
    pub fields: Vec<(String, String)>,
}

impl Filled {
    /// Puts a value in.
    pub fn put(&mut self, name: &str, value: impl Into<String>) {
        self.fields.push((name.to_owned(), value.into()));
    }

    /// Ticks a box, or leaves it.
    pub fn tick(&mut self, name: &str, on: bool) {
        if on {
            self.put(name, "yes");
        }
    }
}

/// What is done with the fields of a form that a function goes through: read from what was typed
/// into the values, or filled with what stands there.
#[derive(Debug)]
pub enum Binding<'a> {
    /// From the form into the values; faults are noted in it.
    Read(&'a mut Form, &'a Locale),
    /// From the values into the form.
    Fill(&'a mut Filled, &'a Locale),
}

impl Binding<'_> {
    /// Binds a field to the value it is kept in.
    pub fn bind<K: Kind>(&mut self, field: &Field<K>, value: &mut K::Value) {
        self.bind_named(field.name, field, value);
    }

    /// Binds a field of a row, from 0.
    pub fn bind_at<K: Kind>(&mut self, field: &Field<K>, row: usize, value: &mut K::Value) {
        self.bind_named(&field.at(row), field, value);
    }

    /// Binds a field that is called by another name, where it stands several times.
    pub fn bind_named<K: Kind>(&mut self, name: &str, field: &Field<K>, value: &mut K::Value) {
        match self {
            Self::Read(form, _) if field.needed && form.get(name).is_empty() => {
                form.fault(name, Fault::Missing);
            }
            Self::Read(form, locale) => field.kind.read(name, form, locale, value),
            Self::Fill(filled, locale) => field.kind.fill(name, value, locale, filled),
        }
    }

    /// Whether the form is being filled, not read.
    #[must_use]
    pub const fn is_filled(&self) -> bool {
        matches!(self, Self::Fill(..))
    }

    /// What stands is filled in; what is read is one of two that need each other, or neither.
    pub fn bind_both<A: Kind<Value = Option<V>>, B: Kind<Value = Option<W>>, V, W>(
        &mut self,
        (one, first): (&Field<A>, &mut Option<V>),
        (other, second): (&Field<B>, &mut Option<W>),
    ) {
        self.bind(one, first);
        self.bind(other, second);
        if let Self::Read(form, _) = self
            && first.is_some() != second.is_some()
            && !form.is_wrong(one.name)
            && !form.is_wrong(other.name)
        {
            form.fault(if first.is_some() { other.name } else { one.name }, Fault::NeedsOther);
        }
    }

    /// The form, while it is read: for what one field says of another.
    pub const fn form(&mut self) -> Option<&mut Form> {
        match self {
            Self::Read(form, _) => Some(form),
            Self::Fill(..) => None,
        }
    }
}

/// Declares the fields of a form, one on a line: a constant, its kind with its bounds, what it is
/// called in what is sent, what stands beside it, perhaps a line of help, perhaps `needed`.
#[macro_export]
macro_rules! fields {
    ($(
        $field:ident: $kind:ident $(<$of:ty>)? $(($($bound:expr),+ $(,)?))? =
        $name:literal, $label:literal $(, $help:literal)? $($needed:ident)?;
    )+) => {$(
        #[doc = concat!("*", $label, "*")]
        pub const $field: $crate::forms::field::Field<$crate::forms::field::$kind $(<$of>)?> =
            $crate::forms::field::Field::new(
                $name,
                $label,
                $crate::forms::field::$kind $(($($bound),+))?,
            )
            $(.help($help))?
            $(.$needed())?;
    )+};
}

/// Kinds of fields, each with what bounds it.
macro_rules! kinds {
    ($($(#[$doc:meta])* $kind:ident $(($($bound:ty),+))?;)+) => {$(
        $(#[$doc])*
        #[derive(Debug, Clone, Copy)]
        pub struct $kind $(($(pub $bound),+))?;
    )+};
}

kinds! {
    /// A line of text.
    Line;
    /// A password; never filled in.
    Password;
    /// Text of several lines: so many are seen at first, at most so many characters.
    Text(u8, usize);
    /// A box to tick.
    Tick;
    /// A whole number between two, both included; left empty, it stays what it was.
    Whole(u32, u32);
    /// A whole number between two, both included, or none.
    WholeOrNone(u32, u32);
    /// An amount of the house's currency, in minor units, or none.
    Amount;
    /// An amount of the house's currency, in minor units; left empty, it is nothing.
    Price;
    /// A percentage with at most two decimals, up to 100, in hundredths of a percent.
    Percent;
    /// A day, or none.
    Day;
    /// A time of day, or none.
    Clock;
    /// A moment of the house's zone, or none.
    Moment;
    /// A mail address, or nothing.
    MailAddress;
    /// Mail addresses, each once: so many lines are seen at first (one is a field of one line), at
    /// most so many addresses.
    Addresses(u8, usize);
    /// Mail addresses out of a list as it was pasted, whatever names stand beside them.
    PastedAddresses(u8, usize);
    /// Domains, with or without an `@` before them.
    Domains(u8, usize);
    /// A telephone number, or nothing.
    Phone;
    /// Names, by commas.
    Names;
    /// Days, by commas, blanks or lines.
    Days;
    /// Lines of text, without empty ones: so many are seen at first, at most so many characters.
    Lines(u8, usize);
    /// A web address, or nothing.
    Link;
    /// A colour that words can be read in, or nothing.
    Colour;
    /// One of several that are known only when it is shown: a text.
    Choice;
    /// Any of those that are shown, by their words.
    Several;
    /// Cancellation steps, at most so many: until so many days before, so many percent are given
    /// back.
    Steps(usize);
    /// Read and filled by its form, in a way of its own.
    Own;
}

/// One of several, always the same, each with what is shown for it. A word that is none of theirs
/// leaves what stood.
#[derive(Debug)]
pub struct OneOf<T: 'static>(pub &'static [(T, &'static str)]);

/// One of several, always the same, or none of them: first, what is shown for none.
#[derive(Debug)]
pub struct OneOfOrNone<T: 'static>(pub &'static str, pub &'static [(T, &'static str)]);

// Derived, these would ask the same of `T`.
impl<T> Clone for OneOf<T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T> Copy for OneOf<T> {}

impl<T> Clone for OneOfOrNone<T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T> Copy for OneOfOrNone<T> {}

impl<T: Worded> Kind for OneOfOrNone<T> {
    type Value = Option<T>;

    fn control(&self) -> Control {
        Control::Choice
    }

    fn options(&self) -> Vec<(&'static str, &'static str)> {
        let all = self.1.iter().map(|(value, shown)| (value.word(), *shown));
        std::iter::once(("", self.0)).chain(all).collect()
    }

    fn read(&self, name: &str, form: &mut Form, _: &Locale, value: &mut Option<T>) {
        let sent = form.get(name);
        *value = self.1.iter().find(|(one, _)| one.word() == sent).map(|(one, _)| *one);
    }

    fn fill(&self, name: &str, value: &Option<T>, _: &Locale, filled: &mut Filled) {
        filled.put(name, value.map_or("", Worded::word));
    }
}

impl<T: Worded> Kind for OneOf<T> {
    type Value = T;

    fn control(&self) -> Control {
        Control::Choice
    }

    fn options(&self) -> Vec<(&'static str, &'static str)> {
        self.0.iter().map(|(value, shown)| (value.word(), *shown)).collect()
    }

    fn read(&self, name: &str, form: &mut Form, _: &Locale, value: &mut T) {
        let sent = form.get(name);
        if let Some((one, _)) = self.0.iter().find(|(one, _)| one.word() == sent) {
            *value = *one;
        }
    }

    fn fill(&self, name: &str, value: &T, _: &Locale, filled: &mut Filled) {
        filled.put(name, value.word());
    }
}

/// Kinds that stand in one field: how each is drawn, how it is read out of a form, how it is
/// written into one.
macro_rules! in_one_field {
    ($($kind:ident of $value:ty, $control:expr, read $read:expr, fill $fill:expr;)+) => {$(
        impl Kind for $kind {
            type Value = $value;

            fn control(&self) -> Control {
                const CONTROL: fn(&$kind) -> Control = $control;
                CONTROL(self)
            }

            fn read(&self, name: &str, form: &mut Form, locale: &Locale, value: &mut $value) {
                const READ: fn(&$kind, &str, &mut Form, &Locale) -> $value = $read;
                *value = READ(self, name, form, locale);
            }

            fn fill(&self, name: &str, value: &$value, locale: &Locale, filled: &mut Filled) {
                const FILL: fn(&$value, &Locale) -> String = $fill;
                filled.put(name, FILL(value, locale));
            }
        }
    )+};
}

in_one_field! {
    Line of String, |_| Control::Input("text"),
        read |_, name, form, _| form.line(name),
        fill |text, _| text.clone();
    Text of String, |kind| Control::Area(kind.0),
        read |kind, name, form, _| form.text(name, kind.1),
        fill |text, _| text.clone();
    Password of String, |_| Control::Input("password"),
        read |_, name, form, _| form.get(name).to_owned(),
        fill |_, _| String::new();
    MailAddress of String, |_| Control::Input("email"),
        read |_, name, form, _| checked(name, form, is_address, Fault::NotAnAddress),
        fill |text, _| text.clone();
    Phone of String, |_| Control::Input("tel"),
        read |_, name, form, _| checked(name, form, is_phone, Fault::NotAPhone),
        fill |text, _| text.clone();
    Names of Vec<String>, |_| Control::Input("text"),
        read |_, name, form, _| {
            let line = form.line(name);
            let names = line.split(',').map(str::trim).filter(|n| !n.is_empty());
            names.map(String::from).collect()
        },
        fill |names, _| names.join(", ");
    Days of Vec<Date>, |_| Control::Input("text"),
        read |_, name, form, _| repeats::days(form, name),
        fill |days, _| days.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    Lines of Vec<String>, |kind| Control::Area(kind.0),
        read |kind, name, form, _| {
            let text = form.text(name, kind.1);
            let lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
            lines.map(String::from).collect()
        },
        fill |lines, _| lines.join("\n");
    Link of String, |_| Control::Input("url"),
        read |_, name, form, _| checked(name, form, is_link, Fault::NotALink),
        fill |text, _| text.clone();
    Colour of String, |_| Control::Input("text"),
        read |_, name, form, _| form.accent(name),
        fill |text, _| text.clone();
    Choice of String, |_| Control::Choice,
        read |_, name, form, _| form.line(name),
        fill |text, _| text.clone();
    WholeOrNone of Option<u32>, |_| Control::Number,
        read |kind, name, form, _| form.number(name, kind.0, kind.1),
        fill |number, _| number.map_or_else(String::new, |n| n.to_string());
    Amount of Option<i64>, |_| Control::Decimal,
        read |_, name, form, locale| form.amount(name, locale.currency),
        fill |minor, locale| minor.map_or_else(String::new, |m| locale.currency.of(m).figures());
    Price of i64, |_| Control::Decimal,
        read |_, name, form, locale| form.amount(name, locale.currency).unwrap_or(0),
        fill |minor, locale| match minor {
            0 => String::new(),
            minor => locale.currency.of(*minor).figures(),
        };
    Percent of u32, |_| Control::Decimal,
        read |_, name, form, _| {
            let read = percent(form.get(name));
            if read.is_none() {
                form.fault(name, Fault::NotANumber(0, 100));
            }
            read.unwrap_or(0)
        },
        fill |basis, _| format!("{}.{:02}", basis / 100, basis % 100);
    Day of Option<Date>, |_| Control::Input("date"),
        read |_, name, form, _| form.day(name),
        fill |day, _| day.map_or_else(String::new, |day| day.to_string());
    Clock of Option<Time>, |_| Control::Input("time"),
        read |_, name, form, _| form.time(name),
        fill |time, _| time.map_or_else(String::new, |time| time.strftime("%H:%M").to_string());
    Moment of Option<Timestamp>, |_| Control::Input("datetime-local"),
        read |_, name, form, locale| form.instant(name, &locale.zone),
        fill |at, locale| at.map_or_else(String::new, |at| local(at, locale));
    Addresses of Vec<String>, |kind| match kind.0 {
            1 => Control::Input("text"),
            rows => Control::Area(rows),
        },
        read |kind, name, form, _| form.addresses(name, kind.1),
        fill |all, _| all.join("\n");
    PastedAddresses of Vec<String>, |kind| Control::Area(kind.0),
        read |kind, name, form, _| form.pasted(name, kind.1),
        fill |all, _| all.join("\n");
    Domains of Vec<String>, |kind| Control::Area(kind.0),
        read |kind, name, form, _| form.domains(name, kind.1),
        fill |all, _| all.join("\n");
}

impl Kind for Tick {
    type Value = bool;

    fn control(&self) -> Control {
        Control::Tick
    }

    fn read(&self, name: &str, form: &mut Form, _: &Locale, value: &mut bool) {
        *value = form.ticked(name);
    }

    fn fill(&self, name: &str, value: &bool, _: &Locale, filled: &mut Filled) {
        filled.tick(name, *value);
    }
}

impl Kind for Whole {
    type Value = u32;

    fn control(&self) -> Control {
        Control::Number
    }

    fn read(&self, name: &str, form: &mut Form, _: &Locale, value: &mut u32) {
        *value = form.number(name, self.0, self.1).unwrap_or(*value);
    }

    fn fill(&self, name: &str, value: &u32, _: &Locale, filled: &mut Filled) {
        filled.put(name, value.to_string());
    }
}

impl Kind for Own {
    type Value = ();

    fn control(&self) -> Control {
        Control::Own
    }

    fn read(&self, _: &str, _: &mut Form, _: &Locale, (): &mut ()) {}

    fn fill(&self, _: &str, (): &(), _: &Locale, _: &mut Filled) {}
}

impl Kind for Several {
    type Value = Vec<String>;

    fn control(&self) -> Control {
        Control::Own
    }

    fn read(&self, name: &str, form: &mut Form, _: &Locale, value: &mut Vec<String>) {
        *value = form.all(name);
    }

    fn fill(&self, name: &str, value: &Vec<String>, _: &Locale, filled: &mut Filled) {
        value.iter().for_each(|one| filled.put(name, one.as_str()));
    }
}

impl Kind for Steps {
    type Value = Vec<(u32, u32)>;

    fn control(&self) -> Control {
        Control::Own
    }

    fn read(&self, _: &str, form: &mut Form, _: &Locale, value: &mut Vec<(u32, u32)>) {
        *value = (0..self.0)
            .filter_map(|row| {
                let days = form.number(&format!("days_{row}"), 0, 365)?;
                Some((days, form.number(&format!("percent_{row}"), 0, 100).unwrap_or(0)))
            })
            .collect();
        value.sort_unstable_by(|a, b| b.cmp(a));
    }

    fn fill(&self, _: &str, value: &Vec<(u32, u32)>, _: &Locale, filled: &mut Filled) {
        for (row, (days, percent)) in value.iter().enumerate() {
            filled.put(&format!("days_{row}"), days.to_string());
            filled.put(&format!("percent_{row}"), percent.to_string());
        }
    }
}

macro_rules! plain {
    ($($kind:ty),+) => {$(impl Plain for $kind {})+};
}

plain! {
    Line, Text, Password, MailAddress, Phone, Names, Days, Lines, Link, Colour, Choice, Tick, Whole, WholeOrNone, Percent,
    Day, Clock, Addresses, PastedAddresses, Domains, Several, Steps
}

impl<T: Worded> Plain for OneOf<T> {}
impl<T: Worded> Plain for OneOfOrNone<T> {}

/// A line that must be of a form, if there is one.
fn checked(name: &str, form: &mut Form, is: fn(&str) -> bool, fault: Fault) -> String {
    let typed = form.line(name);
    if !typed.is_empty() && !is(&typed) {
        form.fault(name, fault);
    }
    typed
}

/// `9`, `13.5` or `8,25` percent in hundredths of a percent.
#[must_use]
pub fn percent(text: &str) -> Option<u32> {
    let text = text.replace(',', ".");
    let (whole, part) = text.split_once('.').unwrap_or((&text, ""));
    if part.len() > 2 || !part.chars().all(|c| c.is_ascii_digit()) {
        return None;
    }
    let part: u32 = format!("{part:0<2}").parse().ok()?;
    whole.parse::<u32>().ok().map(|w| w.saturating_mul(100) + part).filter(|b| *b <= 10_000)
}

/// An instant as a browser's field for one has it.
fn local(at: Timestamp, locale: &Locale) -> String {
    let zone = TimeZone::get(&locale.zone).unwrap_or(TimeZone::UTC);
    zone.to_datetime(at).strftime("%Y-%m-%dT%H:%M").to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn percents() {
        assert_eq!(percent("9"), Some(900));
        assert_eq!(percent("13.5"), Some(1350));
        assert_eq!(percent("8,25"), Some(825));
        assert_eq!(percent("100"), Some(10_000));
        for bad in ["", "-1", "8.255", "100.01", "x"] {
            assert_eq!(percent(bad), None, "{bad}");
        }
    }
}
