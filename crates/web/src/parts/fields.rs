//! A form as typed, for its page: values and what is wrong with each.

use std::collections::BTreeMap;
use std::fmt::Display;

use matricle_core::forms::field::{Binding, Filled, Locale};
use matricle_core::forms::form::{Form, Wrong};
use matricle_desk::DeskError;

use crate::asking::Posted;
use crate::error::WebError;
use crate::wording;

/// Values by field, and a sentence for each that needs another look.
#[derive(Debug, Clone, Default)]
pub(crate) struct Fields {
    values: BTreeMap<String, Vec<String>>,
    wrong: BTreeMap<String, String>,
    /// Fields that somebody else kept otherwise while this form was open, and what stands there.
    meanwhile: Vec<(String, String)>,
}

impl Fields {
    /// Values to begin with.
    pub(crate) fn of(values: impl IntoIterator<Item = (&'static str, String)>) -> Self {
        let mut fields = Self::default();
        for (name, value) in values {
            fields.add(name, value);
        }
        fields
    }

    /// A form filled with what stands, by the function that binds its fields to it.
    pub(crate) fn filled(locale: &Locale, bind: impl FnOnce(&mut Binding<'_>)) -> Self {
        let mut filled = Filled::default();
        bind(&mut Binding::Fill(&mut filled, locale));
        let mut fields = Self::default();
        filled.fields.into_iter().for_each(|(name, value)| fields.add(&name, value));
        fields
    }

    /// What came of a form that was put over what stands (`now`) and handed to its use case; or
    /// the form again, with what needs another look.
    pub(crate) async fn keep<T, F: Future<Output = Result<T, DeskError>>>(
        posted: Posted,
        now: &Self,
        act: impl FnOnce(Form) -> F,
    ) -> Result<Result<T, Self>, WebError> {
        match posted.over(now) {
            Ok(posted) => Self::take(&posted, act).await,
            Err(again) => Ok(Err(*again)),
        }
    }

    /// What came of a form that was handed to its use case; or the form again.
    pub(crate) async fn take<T, F: Future<Output = Result<T, DeskError>>>(
        posted: &Posted,
        act: impl FnOnce(Form) -> F,
    ) -> Result<Result<T, Self>, WebError> {
        match act(form(posted)).await {
            Ok(done) => Ok(Ok(done)),
            Err(error) => Self::again(posted, error).map(Err),
        }
    }

    pub(crate) fn add(&mut self, name: &str, value: impl Into<String>) {
        self.values.entry(name.into()).or_default().push(value.into());
    }

    /// Puts a value in the place of any before.
    pub(crate) fn set(&mut self, name: &str, value: String) {
        self.values.insert(name.into(), vec![value]);
    }

    /// Ticks a box.
    pub(crate) fn tick(&mut self, name: &str, on: bool) {
        if on {
            self.add(name, "yes");
        }
    }

    /// What was sent, with what is wrong with it.
    pub(crate) fn posted(posted: &Posted, wrong: &[Wrong]) -> Self {
        let mut fields = Self::default();
        for (name, value) in posted.starting("") {
            fields.add(name, value);
        }
        fields.mark(wrong);
        fields
    }

    /// What was sent, to be looked at again after a refusal; any failure that is none of
    /// the form's is passed on.
    pub(crate) fn again(posted: &Posted, error: DeskError) -> Result<Self, WebError> {
        Ok(Self::posted(posted, &wrong(error)?))
    }

    /// With the values of the page's other forms, which were not sent.
    pub(crate) fn over(mut self, page: &Self) -> Self {
        for (name, values) in &page.values {
            self.values.entry(name.clone()).or_insert_with(|| values.clone());
        }
        self
    }

    /// Says what is wrong.
    pub(crate) fn mark(&mut self, wrong: &[Wrong]) {
        for w in wrong {
            self.wrong.insert(w.field.clone(), wording::fault(&w.field, &w.fault));
        }
    }

    /// Says what is wrong with a field in words.
    pub(crate) fn say(&mut self, name: impl AsRef<str>, words: String) {
        self.wrong.insert(name.as_ref().into(), words);
    }

    /// Says that somebody else kept another value meanwhile, and which.
    pub(crate) fn changed_meanwhile(&mut self, name: &str, stands: String) {
        let words = format!("Somebody else kept this meanwhile: it says {stands} now.");
        self.say(name, words);
        self.meanwhile.push((name.to_owned(), stands));
    }

    /// Fields that somebody else kept otherwise meanwhile, with what stands there.
    pub(crate) fn meanwhile(&self) -> &[(String, String)] {
        &self.meanwhile
    }

    /// The names of the fields.
    pub(crate) fn names(&self) -> impl Iterator<Item = &str> {
        self.values.keys().map(String::as_str)
    }

    /// Every field with each of its values, as a form sends them.
    pub(crate) fn all(&self) -> impl Iterator<Item = (&str, &str)> {
        self.values
            .iter()
            .flat_map(|(name, values)| values.iter().map(|value| (name.as_str(), value.as_str())))
    }

    /// The first value.
    pub(crate) fn v(&self, name: impl AsRef<str>) -> &str {
        self.values.get(name.as_ref()).and_then(|v| v.first()).map_or("", String::as_str)
    }

    /// All values.
    pub(crate) fn all_of(&self, name: &str) -> &[String] {
        self.values.get(name).map_or(&[], Vec::as_slice)
    }

    /// What is wrong.
    pub(crate) fn w(&self, name: impl AsRef<str>) -> &str {
        self.wrong.get(name.as_ref()).map_or("", String::as_str)
    }

    pub(crate) fn bad(&self, name: impl AsRef<str>) -> bool {
        self.wrong.contains_key(name.as_ref())
    }

    /// A field of a row: its name and the row's number.
    pub(crate) fn v_at(&self, name: &str, i: impl Display) -> &str {
        self.v(format!("{name}_{i}"))
    }

    pub(crate) fn w_at(&self, name: &str, i: impl Display) -> &str {
        self.w(format!("{name}_{i}"))
    }

    pub(crate) fn bad_at(&self, name: &str, i: impl Display) -> bool {
        self.bad(format!("{name}_{i}"))
    }

    /// A field of a cell: its name, the row and the column.
    pub(crate) fn vs(&self, name: &str, i: impl Display, j: impl Display) -> &str {
        self.v(format!("{name}_{i}_{j}"))
    }

    pub(crate) fn ws(&self, name: &str, i: impl Display, j: impl Display) -> &str {
        self.w(format!("{name}_{i}_{j}"))
    }

    pub(crate) fn bads(&self, name: &str, i: impl Display, j: impl Display) -> bool {
        self.bad(format!("{name}_{i}_{j}"))
    }

    pub(crate) fn on(&self, name: impl AsRef<str>) -> bool {
        !self.v(name).is_empty()
    }

    /// Whether one of the values is this.
    pub(crate) fn is(&self, name: impl AsRef<str>, value: &str) -> bool {
        self.values.get(name.as_ref()).is_some_and(|v| v.iter().any(|v| v == value))
    }

    /// Fields that need another look.
    pub(crate) fn count(&self) -> usize {
        self.wrong.len()
    }

    /// Everything, for carrying a form on to the next page.
    pub(crate) fn pairs(&self) -> Vec<(String, String)> {
        let pairs = self.values.iter().flat_map(|(n, vs)| vs.iter().map(move |v| (n, v)));
        pairs
            .filter(|(n, _)| !matches!(n.as_str(), "token" | "act"))
            .map(|(n, v)| (n.clone(), v.clone()))
            .collect()
    }
}

/// The fields of a form, for a use case to read.
pub(crate) fn form(posted: &Posted) -> Form {
    Form::new(posted.starting("").map(|(n, v)| (n.to_owned(), v.to_owned())).collect())
}

/// What was wrong with a form; any other failure is passed on.
pub(crate) fn wrong(error: DeskError) -> Result<Vec<Wrong>, WebError> {
    match error {
        DeskError::Form(wrong) => Ok(wrong),
        other => Err(other.into()),
    }
}
