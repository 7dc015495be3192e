//! Templates: the wording of messages, with fields in double braces.
//!
//! `{{when}}` is a field; `{{when, short}}` the same in another length; `{{place, or to be told}}`
//! has words for when it is empty. `{{if online}} … {{end}}` appears only if something holds,
//! `{{if not online}} … {{end}}` only if not. What is typed is checked when it is saved: in a
//! sent message no brace is left, and whatever a person could type is escaped.

mod fields;

use std::collections::BTreeMap;

pub use fields::{CONDITIONS, FIELDS, Field, Shape, can_have, field, opening};

use crate::messages::cue::Cue;

/// What a field says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    /// A line of text.
    Line(String),
    /// Several lines.
    Lines(Vec<String>),
    /// Several lines of the house's own, whose web addresses lead there. What strangers typed
    /// never stands in one: theirs would, too.
    Ways(Vec<String>),
    /// Lines of a name and what belongs to it, such as a code and whose it is.
    Pairs(Vec<(String, String)>),
    /// A time in its lengths.
    When {
        /// `Saturday 12 December 2026, 10:00 to 15:30`.
        long: String,
        /// `Sat 12 December, 10:00`.
        short: String,
        /// `Saturday 12 December`.
        day: String,
        /// `10:00`.
        clock: String,
    },
    /// An address that leads somewhere.
    Link(String),
    /// Whether something holds: for sections only.
    Holds(bool),
    /// Pictures that go inside the mail: the name of each there, and what it shows.
    Pictures(Vec<(String, String)>),
}

impl Value {
    /// A line.
    #[must_use]
    pub fn line(text: impl Into<String>) -> Self {
        Self::Line(text.into())
    }

    /// Whether there is nothing to say.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        match self {
            Self::Line(text) | Self::Link(text) => text.trim().is_empty(),
            Self::Lines(lines) | Self::Ways(lines) => lines.iter().all(|l| l.trim().is_empty()),
            Self::Pairs(pairs) => pairs.is_empty(),
            Self::When { long, .. } => long.is_empty(),
            Self::Holds(holds) => !holds,
            Self::Pictures(pictures) => pictures.is_empty(),
        }
    }
}

/// What all fields say for one reader, by their names.
pub type Values = BTreeMap<&'static str, Value>;

/// How what a field says is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// Into HTML.
    Html,
    /// Into plain text of many lines.
    Text,
    /// Into one line, such as a subject.
    Line,
}

/// What is wrong with a template.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Wrong {
    /// There is no such field.
    #[error("there is no field “{name}”")]
    Unknown {
        /// What was typed.
        name: String,
        /// A field with a name like it.
        near: Option<&'static str>,
    },
    /// The readers of a cue have no such field.
    #[error("“{name}” has nothing to say to those whom this is for")]
    NotTheirs {
        /// The field.
        name: &'static str,
    },
    /// There is no such length.
    #[error("“{name}” has no length “{length}”")]
    Length {
        /// The field.
        name: &'static str,
        /// What was typed.
        length: String,
    },
    /// A section is never closed.
    #[error("the section “{name}” is never closed")]
    NeverClosed {
        /// Its condition.
        name: String,
    },
    /// An end closes nothing.
    #[error("an “end” closes nothing")]
    ClosesNothing,
    /// Double braces are never closed.
    #[error("double braces are never closed")]
    Braces,
    /// A section begins in one paragraph and ends in the middle of another.
    #[error("the section “{name}” begins in one paragraph and ends in another")]
    Across {
        /// Its condition.
        name: String,
    },
    /// There is no subject.
    #[error("no subject")]
    NoSubject,
    /// There are no words.
    #[error("no words")]
    NoWords,
    /// A link leads nowhere.
    #[error("the link “{to}” leads nowhere")]
    Link {
        /// Where it was to lead.
        to: String,
    },
    /// A whole block in the middle of a line, or in a subject.
    #[error("“{name}” is several lines and does not fit here")]
    Block {
        /// The field.
        name: &'static str,
    },
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Node {
    Text(String),
    Field { field: &'static Field, length: Length, or: String },
    If { name: &'static str, not: bool, body: Vec<Self> },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Length {
    Long,
    Short,
    Day,
    Clock,
}

/// A template that was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template {
    nodes: Vec<Node>,
}

impl Template {
    /// Reads a template.
    ///
    /// # Errors
    /// All that is wrong with it, in the order in which it stands.
    ///
    /// # Examples
    /// ```
    /// # use matricle_core::messages::template::{Form, Template, Value, Values};
    /// let words = Template::read("Dear {{name, or friend}},{{if bring}} bring {{bring}}.{{end}}").unwrap();
    /// let mut values = Values::from([("name", Value::line("")), ("bring", Value::line("a <veil>"))]);
    /// assert_eq!(words.write(&values, Form::Html), "Dear friend, bring a &lt;veil&gt;.");
    /// values.remove("bring");
    /// assert_eq!(words.write(&values, Form::Text), "Dear friend,");
    /// ```
    pub fn read(text: &str) -> Result<Self, Vec<Wrong>> {
        let mut wrong = Vec::new();
        // What is open: its condition, whether it must not hold, and what stood before it.
        let mut open: Vec<(Option<&'static str>, String, bool, Vec<Node>)> = Vec::new();
        let mut nodes = Vec::new();
        let mut rest = text;
        while let Some(start) = rest.find("{{") {
            let (before, after) = rest.split_at(start);
            push_text(&mut nodes, before);
            let Some(end) = after.find("}}") else {
                wrong.push(Wrong::Braces);
                rest = "";
                break;
            };
            let typed = plain(&after[2..end]);
            rest = &after[end + 2..];
            if let Some(condition) = typed.strip_prefix("if ") {
                let condition = condition.trim();
                let (not, name) = match condition.strip_prefix("not ") {
                    Some(name) => (true, name.trim()),
                    None => (false, condition),
                };
                let known = field(name).map(|f| f.name);
                if known.is_none() {
                    wrong.push(unknown(name));
                }
                open.push((known, name.to_owned(), not, std::mem::take(&mut nodes)));
            } else if typed == "end" {
                match open.pop() {
                    None => wrong.push(Wrong::ClosesNothing),
                    Some((known, name, not, before)) => {
                        let body = std::mem::replace(&mut nodes, before);
                        if !is_balanced(&body) {
                            wrong.push(Wrong::Across { name });
                        }
                        if let Some(name) = known {
                            nodes.push(Node::If { name, not, body });
                        }
                    }
                }
            } else {
                match read_field(&typed) {
                    Ok(node) => nodes.push(node),
                    Err(error) => wrong.push(error),
                }
            }
        }
        push_text(&mut nodes, rest);
        for (_, name, _, _) in open {
            wrong.push(Wrong::NeverClosed { name });
        }
        if wrong.is_empty() { Ok(Self { nodes }) } else { Err(wrong) }
    }

    /// Writes it for one reader.
    #[must_use]
    pub fn write(&self, values: &Values, into: Form) -> String {
        let mut out = String::new();
        write(&self.nodes, values, into, &mut out);
        out
    }

    /// The names of all fields in it, those of its sections too, each once.
    #[must_use]
    pub fn fields(&self) -> Vec<&'static Field> {
        fn all(nodes: &[Node], found: &mut Vec<&'static Field>) {
            for node in nodes {
                let name = match node {
                    Node::Text(_) => continue,
                    Node::Field { field, .. } => field.name,
                    Node::If { name, body, .. } => {
                        all(body, found);
                        name
                    }
                };
                if let Some(f) = field(name)
                    && !found.iter().any(|known| known.name == name)
                {
                    found.push(f);
                }
            }
        }
        let mut found = Vec::new();
        all(&self.nodes, &mut found);
        found
    }

    /// The fields that would say nothing to somebody, though no section hides them and no words
    /// stand in for them.
    #[must_use]
    pub fn empty_for(&self, values: &Values) -> Vec<&'static str> {
        fn all(nodes: &[Node], values: &Values, found: &mut Vec<&'static str>) {
            for node in nodes {
                match node {
                    Node::Field { field, or, .. }
                        if or.is_empty()
                            && is_empty(values, field.name)
                            && !found.contains(&field.name) =>
                    {
                        found.push(field.name);
                    }
                    Node::If { name, not, body } if is_empty(values, name) == *not => {
                        all(body, values, found);
                    }
                    _ => {}
                }
            }
        }
        let mut found = Vec::new();
        all(&self.nodes, values, &mut found);
        found
    }

    /// What stands in it that the readers of a cue cannot have.
    #[must_use]
    pub fn not_theirs(&self, cue: &Cue) -> Vec<Wrong> {
        self.fields()
            .into_iter()
            .filter(|f| !can_have(f, cue))
            .map(|f| Wrong::NotTheirs { name: f.name })
            .collect()
    }

    /// A block of several lines that stands in it, which a subject or a text message has no
    /// room for.
    #[must_use]
    pub fn block(&self) -> Option<&'static str> {
        self.fields().into_iter().find(|f| f.shape == Shape::Block).map(|f| f.name)
    }
}

/// Whether as many HTML elements are closed as are opened, and none before it is opened.
fn is_balanced(nodes: &[Node]) -> bool {
    let mut depth = 0i32;
    for node in nodes {
        let Node::Text(text) = node else { continue };
        for tag in text.split('<').skip(1) {
            if tag.starts_with("br") || tag.starts_with("img") || tag.starts_with("hr") {
                continue;
            }
            depth += if tag.starts_with('/') { -1 } else { 1 };
            if depth < 0 {
                return false;
            }
        }
    }
    depth == 0
}

fn push_text(nodes: &mut Vec<Node>, text: &str) {
    if !text.is_empty() {
        nodes.push(Node::Text(text.to_owned()));
    }
}

/// What stands between braces, as it was meant: an editor may have put marks and spaces of its
/// own into it.
fn plain(typed: &str) -> String {
    let mut out = String::new();
    let mut inside = false;
    for c in typed.replace("&nbsp;", " ").replace("&amp;", "&").chars() {
        match c {
            '<' => inside = true,
            '>' => inside = false,
            _ if !inside => out.push(if c.is_whitespace() { ' ' } else { c }),
            _ => {}
        }
    }
    crate::words::text::line(&out)
}

fn read_field(typed: &str) -> Result<Node, Wrong> {
    let (name, how) = typed.split_once(',').unwrap_or((typed, ""));
    let (name, how) = (name.trim(), how.trim());
    let field = field(name).ok_or_else(|| unknown(name))?;
    let (mut length, mut or) = (Length::Long, String::new());
    if let Some(words) = how.strip_prefix("or ") {
        words.trim().clone_into(&mut or);
    } else if !how.is_empty() {
        let (asked, words) = how.split_once(',').unwrap_or((how, ""));
        let wrong = || Wrong::Length { name: field.name, length: asked.trim().to_owned() };
        length = match (field.shape, asked.trim()) {
            (Shape::When, "long") => Length::Long,
            (Shape::When, "short") => Length::Short,
            (Shape::When, "day") => Length::Day,
            (Shape::When, "clock") => Length::Clock,
            _ => return Err(wrong()),
        };
        if let Some(words) = words.trim().strip_prefix("or ") {
            words.trim().clone_into(&mut or);
        }
    }
    if field.shape == Shape::Holds {
        // It has nothing to say; it only holds or does not.
        return Err(unknown(name));
    }
    Ok(Node::Field { field, length, or })
}

fn unknown(name: &str) -> Wrong {
    let typed: String = name.to_lowercase().chars().take(40).collect();
    let near = FIELDS
        .iter()
        .map(|f| (strsim::levenshtein(f.name, &typed), f.name))
        .min()
        .filter(|(d, _)| *d <= 2)
        .map(|(_, name)| name);
    Wrong::Unknown { name: name.chars().take(60).collect(), near }
}

fn is_empty(values: &Values, name: &str) -> bool {
    values.get(name).is_none_or(Value::is_empty)
}

fn write(nodes: &[Node], values: &Values, into: Form, out: &mut String) {
    for node in nodes {
        match node {
            Node::Text(text) => out.push_str(text),
            Node::If { name, not, body } => {
                if is_empty(values, name) == *not {
                    write(body, values, into, out);
                }
            }
            Node::Field { field, length, or } => {
                match values.get(field.name).filter(|v| !v.is_empty()) {
                    Some(value) => write_value(value, *length, into, out),
                    None => put(or, into, out),
                }
            }
        }
    }
}

/// Puts something that a person could have typed.
fn put(text: &str, into: Form, out: &mut String) {
    match into {
        Form::Text => out.push_str(&crate::words::text::lines(text)),
        Form::Line => out.push_str(&crate::words::text::line(text)),
        Form::Html => {
            for c in crate::words::text::lines(text).chars() {
                match c {
                    '&' => out.push_str("&amp;"),
                    '<' => out.push_str("&lt;"),
                    '>' => out.push_str("&gt;"),
                    '"' => out.push_str("&quot;"),
                    '\'' => out.push_str("&#39;"),
                    '\n' => out.push_str("<br>"),
                    c => out.push(c),
                }
            }
        }
    }
}

/// Puts a line in HTML with its web addresses live.
fn put_live(line: &str, out: &mut String) {
    let mut from = 0;
    for link in crate::words::links::find(line)
        .into_iter()
        .filter(|l| l.kind == crate::words::links::Kind::Web)
    {
        put(&line[from..link.from], Form::Html, out);
        out.push_str("<a href=\"");
        put(&link.to, Form::Html, out);
        out.push_str("\">");
        put(&line[link.from..link.until], Form::Html, out);
        out.push_str("</a>");
        from = link.until;
    }
    put(&line[from..], Form::Html, out);
}

fn write_value(value: &Value, length: Length, into: Form, out: &mut String) {
    match value {
        Value::Line(text) | Value::Link(text) => put(text, into, out),
        Value::When { long, short, day, clock } => {
            let said = match length {
                Length::Long => long,
                Length::Short => short,
                Length::Day => day,
                Length::Clock => clock,
            };
            put(said, into, out);
        }
        Value::Lines(lines) | Value::Ways(lines) => {
            for (i, line) in lines.iter().filter(|l| !l.trim().is_empty()).enumerate() {
                if i > 0 {
                    out.push_str(match into {
                        Form::Html => "<br>",
                        Form::Text => "\n",
                        Form::Line => "; ",
                    });
                }
                match (value, into) {
                    (Value::Ways(_), Form::Html) => put_live(line, out),
                    _ => put(line, into, out),
                }
            }
        }
        Value::Pairs(pairs) => {
            match into {
                Form::Html => {
                    // A list for the eye; a table only lays it out.
                    out.push_str("<table role=\"presentation\" style=\"border-collapse:collapse;width:100%\">");
                    for (name, what) in pairs {
                        out.push_str("<tr><td style=\"padding:6px 12px 6px 0;border-bottom:1px solid #ddd5c1\">");
                        put(name, into, out);
                        out.push_str(
                            "</td><td style=\"padding:6px 0;border-bottom:1px solid #ddd5c1\">",
                        );
                        put(what, into, out);
                        out.push_str("</td></tr>");
                    }
                    out.push_str("</table>");
                }
                Form::Text | Form::Line => {
                    for (i, (name, what)) in pairs.iter().enumerate() {
                        if i > 0 {
                            out.push_str(if into == Form::Text { "\n" } else { "; " });
                        }
                        put(name, into, out);
                        if !what.is_empty() {
                            out.push_str(": ");
                            put(what, into, out);
                        }
                    }
                }
            }
        }
        Value::Pictures(pictures) => {
            for (name, alt) in pictures {
                if into == Form::Html {
                    out.push_str("<img width=\"160\" height=\"160\" src=\"cid:");
                    put(name, into, out);
                    out.push_str("\" alt=\"");
                    put(alt, into, out);
                    out.push_str("\">");
                }
            }
        }
        Value::Holds(_) => {}
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_is_offered_to_choose_can_be_read() {
        for (name, holds, _) in CONDITIONS {
            Template::read(&format!("{}x{{{{end}}}}", opening(name, holds))).unwrap();
        }
    }

    #[test]
    fn what_is_wrong_is_named_all_of_it_with_a_way_out() {
        let typed = "Dear {{nam}}, {{if onlin}}x{{end}} {{when, tiny}} {{online}} {{end}} {{if bring}}{{place";
        let wrong = Template::read(typed).unwrap_err();
        let said: Vec<String> = wrong.iter().map(ToString::to_string).collect();
        insta::assert_snapshot!(said.join("\n"), @r"
        there is no field “nam”
        there is no field “onlin”
        “when” has no length “tiny”
        an “end” closes nothing
        double braces are never closed
        the section “bring” is never closed
        ");
        assert!(matches!(&wrong[0], Wrong::Unknown { near: Some("name"), .. }));
        let across = Template::read("<p>a{{if online}}b</p><p>c{{end}}d</p>").unwrap_err();
        assert_eq!(across, [Wrong::Across { name: "online".into() }]);
    }

    #[test]
    fn an_editor_s_marks_inside_braces_do_no_harm() {
        let read = Template::read("{{ pay&nbsp;by ,  short }}{{<b>event</b>}}").unwrap();
        let names: Vec<&str> = read.fields().iter().map(|f| f.name).collect();
        assert_eq!(names, ["pay by", "event"]);
    }

    #[test]
    fn who_would_see_an_empty_field_is_found() {
        let read =
            Template::read("{{place}}{{bring, or nothing}}{{if online}}{{link}}{{end}}").unwrap();
        let mut values = Values::new();
        assert_eq!(read.empty_for(&values), ["place"]);
        values.insert("online", Value::line("at home"));
        assert_eq!(read.empty_for(&values), ["place", "link"]);
    }

    #[test]
    fn names_of_fields_are_unlike_each_other() {
        let mut names: Vec<&str> = FIELDS.iter().map(|f| f.name).collect();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), FIELDS.len());
    }

    proptest! {
        /// Nothing that anybody types becomes a mark, a line break in a subject, or a field.
        #[test]
        fn what_a_person_types_stays_words(typed in "[ -~\\n\\r{}<>&\"']{0,40}") {
            let words = Template::read("<p>{{event}}</p>").unwrap();
            let values = Values::from([("event", Value::line(typed.clone()))]);
            let html = words.write(&values, Form::Html);
            let inside = html.strip_prefix("<p>").unwrap().strip_suffix("</p>").unwrap().replace("<br>", "");
            prop_assert!(!inside.contains(['<', '>', '"', '\'']), "{html}");
            let subject = Template::read("{{event}}").unwrap().write(&values, Form::Line);
            prop_assert!(!subject.contains(['\n', '\r']));
        }

        /// Whatever is typed as a template is read or refused, and what is read is written whole.
        #[test]
        fn any_template_is_read_or_refused(typed in "([a-z <>/]|\\{\\{(if )?(not )?(event|place|online|x)\\}\\}|\\{\\{end\\}\\}|\\{|\\}){0,12}") {
            if let Ok(read) = Template::read(&typed) {
                let said = read.write(&Values::new(), Form::Text);
                prop_assert!(!said.contains("{{end}}"), "{said}");
            }
        }
    }
}
