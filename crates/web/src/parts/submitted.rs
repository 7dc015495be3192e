//! Submissions, as those who send them and those who review them see them.

use matricle_core::review::submission::Typed;

use crate::App;
use crate::parts::fields::Fields;

/// What was typed, as a form shows it.
pub(crate) fn typed_fields(typed: &Typed) -> Fields {
    let mut d = Fields::default();
    for (name, value) in &typed.0 {
        d.add(name, value.clone());
    }
    if d.v("how").is_empty() {
        d.set("how", "once".into());
    }
    d
}

/// The address of the picture of a submission, for whoever sees that.
pub(crate) fn picture_address(app: &App, id: i64, size: &str) -> String {
    format!("/submitted/{id}/{}/{size}.jpg", app.desk.secrets.picture_key(id))
}
