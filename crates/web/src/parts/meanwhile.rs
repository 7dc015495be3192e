//! Two people at one form. With the form goes what stood in each field when it was shown, so that
//! whoever keeps it later takes nothing back that another kept meanwhile.

use std::collections::BTreeSet;

use sha2::{Digest, Sha256};

use crate::asking::Posted;
use crate::parts::fields::Fields;

/// The field that says what stood in the others.
const SEEN: &str = "seen";
/// Fields that are no part of what is kept.
const BESIDE: [&str; 5] = [SEEN, "token", "act", "once", "sure"];
/// Of what stands now, so many characters are shown.
const SHOWN: usize = 200;

/// A few letters that tell one content of a field from another; the order of ticks is none.
fn digest(values: &[String]) -> String {
    let mut values: Vec<String> =
        values.iter().map(|v| matricle_core::words::text::lines(v).trim().to_owned()).collect();
    values.retain(|v| !v.is_empty());
    values.sort_unstable();
    let hash = Sha256::digest(values.join("\0"));
    hash.iter().take(6).map(|byte| format!("{byte:02x}")).collect()
}

/// What stands in a field now, as it is told to whoever wanted something else there.
fn stands(values: &[String]) -> String {
    let text = match values {
        [] => return "nothing".into(),
        [one] if one.is_empty() => return "nothing".into(),
        [one] if one == "yes" => return "ticked".into(),
        values => values.join(", "),
    };
    let mut shown: String = text.chars().take(SHOWN).collect();
    if shown.len() < text.len() {
        shown.push('…');
    }
    format!("“{shown}”")
}

impl Fields {
    /// What stands in the fields, for a form to carry: a digest of each.
    pub(crate) fn seen(&self) -> String {
        if !self.v(SEEN).is_empty() {
            return self.v(SEEN).to_owned();
        }
        self.digests()
    }

    fn digests(&self) -> String {
        let names = self.names().filter(|name| !BESIDE.contains(name));
        names
            .map(|name| format!("{name}:{}", digest(self.all_of(name))))
            .collect::<Vec<_>>()
            .join(" ")
    }
}

impl Posted {
    /// Puts a form over what stands now. A field that only another changed since the form was
    /// shown keeps what they wrote.
    ///
    /// # Errors
    /// Both changed a field: the form again, with what stands now said at each such field. Sent
    /// once more, it puts its own in place.
    pub(crate) fn over(mut self, now: &Fields) -> Result<Self, Box<Fields>> {
        let seen: Vec<(String, String)> = self
            .get(SEEN)
            .split(' ')
            .filter_map(|field| field.rsplit_once(':'))
            .map(|(name, digest)| (name.to_owned(), digest.to_owned()))
            .collect();
        if seen.is_empty() {
            return Ok(self);
        }
        let names: BTreeSet<&str> =
            now.names().chain(seen.iter().map(|(name, _)| name.as_str())).collect();
        let nothing = digest(&[]);
        let mut both = Vec::new();
        for name in names.into_iter().filter(|name| !BESIDE.contains(name)) {
            let was = seen.iter().find(|(n, _)| n == name).map_or(&nothing, |(_, digest)| digest);
            let theirs = digest(now.all_of(name));
            let sent = self.starting(name).filter(|(rest, _)| rest.is_empty());
            let ours = digest(&sent.map(|(_, value)| value.to_owned()).collect::<Vec<_>>());
            if theirs == *was || theirs == ours {
                continue;
            }
            if ours == *was {
                self.0.retain(|(n, _)| n != name);
                self.0.extend(now.all_of(name).iter().map(|v| (name.to_owned(), v.clone())));
            } else {
                both.push(name.to_owned());
            }
        }
        if both.is_empty() {
            return Ok(self);
        }
        let mut again = Fields::posted(&self, &[]);
        again.set(SEEN, now.digests());
        for name in both {
            let stands = stands(now.all_of(&name));
            again.changed_meanwhile(&name, stands);
        }
        Err(Box::new(again))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn posted(fields: &[(&str, &str)], shown: &Fields) -> Posted {
        let mut fields: Vec<(String, String)> =
            fields.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect();
        fields.push((SEEN.into(), shown.seen()));
        Posted(fields)
    }

    #[test]
    fn what_another_kept_stays_and_what_both_changed_is_told_field_by_field() {
        let mut shown = Fields::of([("title", "Bees".into()), ("lead", "Come".into())]);
        shown.tick("listed", true);
        shown.add("tag", "wax");
        shown.add("tag", "honey");
        let mut now = Fields::of([("title", "Wasps".into()), ("lead", "Come".into())]);
        now.add("tag", "wax");
        now.add("tag", "honey");

        // Only they changed the title and took the tick away; only this form changed the lead.
        let form = [
            ("title", "Bees"),
            ("lead", "Do"),
            ("listed", "yes"),
            ("tag", "honey"),
            ("tag", "wax"),
        ];
        let kept = posted(&form, &shown).over(&now).unwrap();
        assert_eq!((kept.get("title"), kept.get("lead"), kept.get("listed")), ("Wasps", "Do", ""));

        // Both changed the title.
        let form = [("title", "Ants"), ("lead", "Come"), ("tag", "wax"), ("act", "keep")];
        let again = posted(&form, &shown).over(&now).unwrap_err();
        assert_eq!((again.v("title"), again.count()), ("Ants", 1));
        assert!(again.w("title").contains("“Wasps”"), "{}", again.w("title"));
        assert_eq!(again.all_of("tag"), ["wax"], "and all the rest is as it was typed");

        // Sent once more it stands, until somebody else is in between again.
        let once_more = posted(&form, &again).over(&now).unwrap();
        assert_eq!((once_more.get("title"), once_more.get("lead")), ("Ants", "Come"));
        now.set("title", "Flies".into());
        assert!(posted(&form, &again).over(&now).is_err());

        // A form that says nothing of what it was made from is taken as it is.
        assert_eq!(Posted(vec![("title".into(), "Ants".into())]).over(&now).unwrap().0.len(), 1);
    }

    #[test]
    fn a_line_break_as_a_browser_sends_it_and_the_order_of_ticks_change_nothing() {
        let shown = Fields::of([("lead", "one\ntwo".into())]);
        let now = Fields::of([("lead", "three".into())]);
        let kept = posted(&[("lead", "one\r\ntwo ")], &shown).over(&now).unwrap();
        assert_eq!(kept.get("lead"), "three");
    }
}
