//! A field as its page shows it: drawn by what its form says of it, with what stands in it and
//! what is wrong with that.

use std::borrow::Borrow;
use std::fmt;

use askama::Template;
use matricle_core::forms::field::{Control, Field, Kind, OneOf, Tick};
use matricle_core::worded::Worded;

use crate::parts::fields::Fields;

/// A field that can be drawn, whatever its kind.
pub(crate) trait Declared {
    /// The field as it is declared.
    fn drawn<'a>(&self, d: &'a Fields) -> Drawn<'a>;
}

impl<K: Kind> Declared for Field<K> {
    fn drawn<'a>(&self, d: &'a Fields) -> Drawn<'a> {
        let options = self.kind.options().into_iter();
        Drawn {
            d,
            id: self.name.into(),
            name: self.name.into(),
            wide: false,
            label: self.label.into(),
            help: self.help.into(),
            needed: self.needed,
            control: self.kind.control(),
            options: options.map(|(word, shown)| (word.into(), shown.into())).collect(),
            list: "",
        }
    }
}

impl<D: Declared> Declared for &D {
    fn drawn<'a>(&self, d: &'a Fields) -> Drawn<'a> {
        (*self).drawn(d)
    }
}

/// A field to be shown.
#[derive(Template)]
#[template(path = "parts/drawn.html")]
pub(crate) struct Drawn<'a> {
    d: &'a Fields,
    /// What its label and its line of help point at.
    id: String,
    name: String,
    wide: bool,
    label: String,
    help: String,
    needed: bool,
    control: Control,
    options: Vec<(String, String)>,
    list: &'static str,
}

impl Drawn<'_> {
    /// With other words beside it, where they depend on more than the field.
    pub(crate) fn label(mut self, label: impl fmt::Display) -> Self {
        self.label = label.to_string();
        self
    }

    /// With another line of help.
    pub(crate) fn help(mut self, help: impl fmt::Display) -> Self {
        self.help = help.to_string();
        self
    }

    /// Where several forms of a page have a field of the name: what tells this one from the others.
    pub(crate) fn apart(mut self, by: impl fmt::Display) -> Self {
        self.id = format!("{by}-{}", self.name);
        self
    }

    /// The field of one row, from 0.
    pub(crate) fn row(mut self, row: usize) -> Self {
        self.name = format!("{}_{row}", self.name);
        self.id.clone_from(&self.name);
        self
    }

    /// As wide as the form.
    pub(crate) fn wide(mut self) -> Self {
        self.wide = true;
        self
    }

    /// One of these: words sent and words shown.
    pub(crate) fn of<A: ToString, B: ToString>(mut self, options: impl AsRef<[(A, B)]>) -> Self {
        self.options =
            options.as_ref().iter().map(|(a, b)| (a.to_string(), b.to_string())).collect();
        self
    }

    /// In several lines, so many of which are seen at first.
    pub(crate) fn area(mut self, rows: u8) -> Self {
        self.control = Control::Area(rows);
        self
    }

    /// With suggestions of a list on the page.
    pub(crate) fn suggested(mut self, list: &'static str) -> Self {
        self.list = list;
        self
    }

    /// The type of HTML's `input`.
    const fn kind(&self) -> &'static str {
        match self.control {
            Control::Input(kind) => kind,
            _ => "text",
        }
    }

    /// The keys a telephone shows.
    const fn keys(&self) -> &'static str {
        match self.control {
            Control::Number => "numeric",
            Control::Decimal => "decimal",
            _ => "",
        }
    }
}

/// Choices of a field one below the other, each with a button of its own.
#[derive(Template)]
#[template(path = "parts/radios.html")]
pub(crate) struct Radios<'a> {
    d: &'a Fields,
    name: &'static str,
    options: Vec<(&'static str, &'static str)>,
}

/// A box to tick among others of one question.
#[derive(Template)]
#[template(path = "parts/ticked.html")]
pub(crate) struct Ticked<'a> {
    d: &'a Fields,
    name: &'static str,
    label: &'static str,
}

impl askama::filters::HtmlSafe for Ticked<'_> {}
impl askama::filters::HtmlSafe for Drawn<'_> {}
impl askama::filters::HtmlSafe for Radios<'_> {}

impl Fields {
    /// Draws a field of the form.
    pub(crate) fn draw(&self, field: impl Declared) -> Drawn<'_> {
        field.drawn(self)
    }

    /// Draws a box among others of one question.
    pub(crate) fn ticked(&self, field: impl Borrow<Field<Tick>>) -> Ticked<'_> {
        let field = field.borrow();
        Ticked { d: self, name: field.name, label: field.label }
    }

    /// Draws the choices of a field one below the other.
    pub(crate) fn radios<T: Worded>(&self, field: impl Borrow<Field<OneOf<T>>>) -> Radios<'_> {
        let field = field.borrow();
        Radios { d: self, name: field.name, options: field.kind.options() }
    }

    /// Draws one choice of a field, where something stands between it and the next.
    pub(crate) fn option<T: Worded>(
        &self,
        field: impl Borrow<Field<OneOf<T>>>,
        value: impl Borrow<T>,
    ) -> Radios<'_> {
        let mut radios = self.radios(field);
        let word = value.borrow().word();
        radios.options.retain(|(w, _)| *w == word);
        radios
    }
}
