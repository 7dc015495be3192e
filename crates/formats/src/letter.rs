//! The words of a mail as HTML that mail programs show, and as plain text.

use matricle_core::messages::template::{Template, Wrong};

/// What stands around all mails of a house.
#[derive(Debug, Clone, Copy)]
pub struct Letterhead<'a> {
    /// The house's name.
    pub house: &'a str,
    /// Its colour, as `#1d4f3f`, dark enough for white on it.
    pub accent: &'a str,
    /// The subject.
    pub subject: &'a str,
    /// What stands small at the foot, as HTML; may be empty.
    pub foot: &'a str,
}

enum Part<'a> {
    Tag(&'a str),
    Text(&'a str),
}

fn parts(html: &str) -> Vec<Part<'_>> {
    let mut parts = Vec::new();
    let mut rest = html;
    while !rest.is_empty() {
        if rest.starts_with('<') {
            let end = rest.find('>').map_or(rest.len(), |i| i + 1);
            parts.push(Part::Tag(&rest[..end]));
            rest = &rest[end..];
        } else {
            let end = rest.find('<').unwrap_or(rest.len());
            parts.push(Part::Text(&rest[..end]));
            rest = &rest[end..];
        }
    }
    parts
}

fn is_break(part: Option<&Part<'_>>) -> bool {
    matches!(part, Some(Part::Tag(tag)) if tag.starts_with("<br"))
}

fn opens(part: Option<&Part<'_>>) -> bool {
    matches!(part, Some(Part::Tag(tag)) if ["<p", "<div", "<h3", "<li", "<blockquote"].iter().any(|t| tag.starts_with(t)))
}

fn closes(part: Option<&Part<'_>>) -> bool {
    matches!(part, Some(Part::Tag(tag)) if ["</p", "</div", "</h3", "</li", "</blockquote"].iter().any(|t| tag.starts_with(t)))
}

/// Whether a text is nothing but where sections begin and end.
fn is_marks(text: &str) -> bool {
    let mut rest = text.trim();
    if rest.is_empty() {
        return false;
    }
    while !rest.is_empty() {
        let Some(inner) = rest.strip_prefix("{{") else { return false };
        let Some(end) = inner.find("}}") else { return false };
        let word = inner[..end].trim();
        if word != "end" && !word.starts_with("if ") {
            return false;
        }
        rest = inner[end + 2..].trim_start();
    }
    true
}

/// The editor ends each paragraph with line breaks inside its block: such a block is a paragraph.
fn paragraphs(html: &str) -> String {
    let mut out = String::with_capacity(html.len());
    let mut open: Vec<usize> = Vec::new();
    for part in parts(html) {
        match part {
            Part::Tag("<div>") => {
                open.push(out.len());
                out.push_str("<div>");
            }
            Part::Tag("</div>") => {
                let mut breaks = 0;
                while out.ends_with("<br>") {
                    out.truncate(out.len() - 4);
                    breaks += 1;
                }
                match open.pop() {
                    Some(at) if breaks > 0 && out[at..].starts_with("<div>") => {
                        out.replace_range(at..at + 5, "<p>");
                        out.push_str("</p>");
                    }
                    _ => out.push_str("</div>"),
                }
            }
            Part::Tag(text) | Part::Text(text) => out.push_str(text),
        }
    }
    out
}

/// Takes the paragraph, or the line break, from around what is nothing but the begin or end of a
/// section, so that it leaves no empty line behind.
#[must_use]
pub fn tidy(html: &str) -> String {
    let html = &paragraphs(html);
    let parts = parts(html);
    let mut out = String::with_capacity(html.len());
    let mut i = 0;
    while i < parts.len() {
        match &parts[i] {
            Part::Tag(tag) => {
                // <p>{{if …}}</p>
                if opens(parts.get(i))
                    && let Some(Part::Text(text)) = parts.get(i + 1)
                    && is_marks(text)
                    && closes(parts.get(i + 2))
                {
                    out.push_str(text.trim());
                    i += 3;
                    continue;
                }
                out.push_str(tag);
            }
            Part::Text(text) if is_marks(text) => {
                let first = i == 0 || is_break(parts.get(i - 1)) || opens(parts.get(i - 1));
                out.push_str(text.trim());
                if first && is_break(parts.get(i + 1)) {
                    i += 1;
                }
            }
            Part::Text(text) => out.push_str(text),
        }
        i += 1;
    }
    out
}

/// The text part of a mail, made from its HTML: paragraphs apart, links with where they lead.
/// Braces stay as they are.
#[must_use]
pub fn text_of(html: &str) -> String {
    let mut out = String::new();
    let mut link: Option<(String, usize)> = None;
    let line = |out: &mut String, n: usize| {
        while out.ends_with(' ') {
            out.pop();
        }
        let have = out.chars().rev().take_while(|c| *c == '\n').count();
        if !out.is_empty() {
            (have..n).for_each(|_| out.push('\n'));
        }
    };
    for part in parts(html) {
        match part {
            Part::Text(text) => {
                let text = unescaped(text);
                out.push_str(&text);
            }
            Part::Tag(tag) => {
                let name: String = tag
                    .trim_start_matches(['<', '/'])
                    .chars()
                    .take_while(char::is_ascii_alphanumeric)
                    .collect();
                let closing = tag.starts_with("</");
                match (name.as_str(), closing) {
                    ("br", _) => out.push('\n'),
                    ("p" | "div" | "h3" | "ul" | "ol" | "blockquote" | "table", _) => {
                        line(&mut out, 2);
                    }
                    ("li", false) => {
                        line(&mut out, 1);
                        out.push_str("- ");
                    }
                    ("tr", false) => line(&mut out, 1),
                    ("td", false) if !out.ends_with('\n') && !out.is_empty() => out.push_str("  "),
                    ("a", false) => {
                        let to = tag.split("href=\"").nth(1).and_then(|t| t.split('"').next());
                        link = to.map(|to| (unescaped(to), out.len()));
                    }
                    ("a", true) => {
                        if let Some((to, from)) = link.take() {
                            let words = &out[from..];
                            let bare = to.trim_start_matches("mailto:");
                            let alone = out[..from].is_empty() || out[..from].ends_with('\n');
                            if words.contains(bare) {
                            } else if alone {
                                out.push_str(&format!(":\n{bare}"));
                            } else {
                                // RFC 3986, appendix C: so that what follows is not taken for a part of it.
                                out.push_str(&format!(" <{bare}>"));
                            }
                        }
                    }
                    _ => {}
                }
            }
        }
    }
    out.trim().to_owned()
}

fn unescaped(text: &str) -> String {
    text.replace("&nbsp;", " ")
        .replace("&lt;", "<")
        .replace("&gt;", ">")
        .replace("&quot;", "\"")
        .replace("&#39;", "'")
        .replace("&amp;", "&")
}

/// Puts where a field leads in the place of `field:name` in links.
#[must_use]
pub fn with_links(html: &str, lead: impl Fn(&str) -> Option<String>) -> String {
    let mut out = String::with_capacity(html.len());
    let mut rest = html;
    while let Some(i) = rest.find("href=\"field:") {
        let (before, after) = rest.split_at(i + 6);
        out.push_str(before);
        let end = after.find('"').unwrap_or(after.len());
        let name = unescaped(&after[6..end]).replace("%20", " ");
        let to = lead(&name).unwrap_or_default();
        out.push_str(&to.replace('&', "&amp;").replace('"', "&quot;"));
        rest = &after[end..];
    }
    out.push_str(rest);
    out
}

/// Shows pictures where their names stand by themselves: as the words of a paragraph, a line or a
/// link. `pictures` are names and where each is found; the names of those that are shown come back.
///
/// # Examples
/// ```
/// # use matricle_formats::letter::with_pictures;
/// let map = [("map.png".to_owned(), "cid:map".to_owned())];
/// let (html, shown) = with_pictures("<p>See map.png</p><p>map.png</p>", &map);
/// assert!(html.starts_with("<p>See map.png</p><p><img src=\"cid:map\" alt=\"map\""));
/// assert_eq!(shown, ["map.png"]);
/// ```
#[must_use]
pub fn with_pictures(html: &str, pictures: &[(String, String)]) -> (String, Vec<String>) {
    let mut out = String::with_capacity(html.len());
    let mut shown = Vec::new();
    for part in parts(html) {
        match part {
            Part::Tag(tag) => out.push_str(tag),
            Part::Text(text) => {
                let words = unescaped(text);
                match pictures.iter().find(|(name, _)| words.trim() == name) {
                    Some((name, source)) => {
                        let alt = name.rsplit_once('.').map_or(name.as_str(), |(stem, _)| stem);
                        out.push_str(&format!(
                            "<img src=\"{}\" alt=\"{}\" style=\"max-width:100%;height:auto;border:0\">",
                            escaped(source),
                            escaped(alt)
                        ));
                        shown.push(name.clone());
                    }
                    None => out.push_str(text),
                }
            }
        }
    }
    (out, shown)
}

/// The names of fields that links of a template lead by, and what is wrong with them.
#[must_use]
pub fn wrong_links(html: &str) -> Vec<Wrong> {
    let mut wrong = Vec::new();
    for part in html.split("href=\"").skip(1) {
        let to = unescaped(part.split('"').next().unwrap_or_default());
        if let Some(name) = to.strip_prefix("field:") {
            let name = name.replace("%20", " ");
            let leads = matricle_core::messages::template::field(&name)
                .is_some_and(|f| f.shape == matricle_core::messages::template::Shape::Link);
            if !leads {
                wrong.push(Wrong::Link { to: name });
            }
        } else if ammonia::Url::parse(&to).is_err() {
            wrong.push(Wrong::Link { to });
        }
    }
    wrong
}

/// Reads the body of a template, with its sections tidied.
///
/// # Errors
/// All that is wrong with it.
pub fn read_body(html: &str) -> Result<Template, Vec<Wrong>> {
    let mut wrong = wrong_links(html);
    match Template::read(&tidy(html)) {
        Ok(template) if wrong.is_empty() => Ok(template),
        Ok(_) => Err(wrong),
        Err(more) => {
            wrong.splice(0..0, more);
            Err(wrong)
        }
    }
}

/// A whole mail in sober HTML: the house's name above, the words, a foot. A link that stands on
/// a line of its own becomes a button.
#[must_use]
pub fn dress(body: &str, head: Letterhead<'_>) -> String {
    let Letterhead { house, accent, subject, foot } = head;
    let parts = parts(body);
    let mut words = String::with_capacity(body.len() + 256);
    for (i, part) in parts.iter().enumerate() {
        match part {
            Part::Tag(tag) if tag.starts_with("<a ") => {
                let before = i.checked_sub(1).and_then(|i| parts.get(i));
                let alone = (before.is_none() || is_break(before) || opens(before))
                    // A picture leads by itself, and is no button.
                    && matches!(parts.get(i + 1), Some(Part::Text(_)))
                    && matches!(parts.get(i + 2), Some(Part::Tag("</a>")))
                    && (parts.get(i + 3).is_none()
                        || is_break(parts.get(i + 3))
                        || closes(parts.get(i + 3)));
                words.push_str(tag.trim_end_matches('>'));
                words.push_str(&if alone {
                    format!(" style=\"display:inline-block;background:{accent};color:#ffffff;padding:11px 18px;margin:4px 0;text-decoration:none;border-radius:3px;font-weight:600\">")
                } else {
                    format!(" class=\"link\" style=\"color:{accent}\">")
                });
            }
            Part::Tag(tag) if tag.starts_with("<h3") => words.push_str(
                "<h1 style=\"font:700 24px/1.2 Besley,Georgia,serif;margin:20px 0 6px\">",
            ),
            Part::Tag("</h3>") => words.push_str("</h1>"),
            Part::Tag(tag) => words.push_str(tag),
            Part::Text(text) => words.push_str(text),
        }
    }
    let (house, title) = (escaped(house), escaped(subject));
    let foot = if foot.is_empty() {
        String::new()
    } else {
        format!("<p class=\"foot\" style=\"color:#5b665f;font-size:14px\">{foot}</p>\n")
    };
    format!(
        "<!doctype html>\n<html lang=\"en-GB\">\n<head><meta charset=\"utf-8\">\
         <meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\
         <meta name=\"color-scheme\" content=\"light dark\"><title>{title}</title>\n\
         <style>@media (prefers-color-scheme: dark) {{ .page {{ background: #16211d !important; color: #efe9da !important }} \
         .link {{ color: #9fd3bd !important }} .foot {{ color: #a9b5ae !important }} }}</style></head>\n\
         <body class=\"page\" style=\"margin:0;background:#f6f2e7;color:#1c2924;font:16px/1.5 'Source Sans 3',Helvetica,Arial,sans-serif\">\n\
         <div style=\"background:{accent};color:#ffffff;padding:13px 24px;font:600 18px Besley,Georgia,serif\">{house}</div>\n\
         <div style=\"max-width:600px;margin:0 auto;padding:20px 24px\">\n{words}\n{foot}</div>\n</body>\n</html>\n"
    )
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

#[cfg(test)]
mod tests {
    use super::*;
    use matricle_core::messages::template::{Form, Value, Values};
    use proptest::prelude::*;

    #[test]
    fn a_section_that_is_not_there_leaves_no_empty_line() {
        let typed = "<div>Hello<br>{{if bring}}<br>Bring {{bring}}<br>{{end}}<br>Bye</div><p>{{if online}}</p><p>On</p><p>{{end}}</p>";
        let read = read_body(typed).unwrap();
        let none = read.write(&Values::new(), Form::Html);
        assert_eq!(none, "<div>Hello<br>Bye</div>");
        let values = Values::from([("bring", Value::line("a veil")), ("online", Value::line("x"))]);
        let all = read.write(&values, Form::Html);
        assert_eq!(all, "<div>Hello<br>Bring a veil<br>Bye</div><p>On</p>");
        assert_eq!(text_of(&all), "Hello\nBring a veil\nBye\n\nOn");
    }

    /// What the editor makes of paragraphs is read as paragraphs again.
    #[test]
    fn what_the_editor_makes_of_a_template_is_the_same_template() {
        let made = "<div>{{if place}}<br><br></div><div>{{place}}<br>{{if address}}<br>{{address}}<br>{{end}}<br><br></div><div>{{end}}<br><br></div><div>Bye</div>";
        let read = read_body(made).unwrap();
        let values =
            Values::from([("place", Value::line("Barn")), ("address", Value::line("Lane"))]);
        assert_eq!(read.write(&values, Form::Html), "<p>Barn<br>Lane<br></p><div>Bye</div>");
        assert_eq!(read.write(&Values::new(), Form::Html), "<div>Bye</div>");
    }

    #[test]
    fn a_link_alone_is_a_button_and_leads_where_its_field_leads() {
        let typed = "<p><a href=\"field:link\">Open it</a></p><p>Or <a href=\"field:take%20link\">this</a>.</p>";
        assert!(wrong_links(typed).is_empty());
        let wrong = wrong_links("<a href=\"field:place\">x</a>");
        assert_eq!(wrong, [Wrong::Link { to: "place".into() }]);
        let led =
            with_links(typed, |name| Some(format!("https://club.example/{}?a=1&b", name.len())));
        let head = Letterhead { house: "Bees & Co", accent: "#1d4f3f", subject: "A <b>", foot: "" };
        insta::assert_snapshot!(dress(&led, head), @r#"
        <!doctype html>
        <html lang="en-GB">
        <head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><meta name="color-scheme" content="light dark"><title>A &lt;b&gt;</title>
        <style>@media (prefers-color-scheme: dark) { .page { background: #16211d !important; color: #efe9da !important } .link { color: #9fd3bd !important } .foot { color: #a9b5ae !important } }</style></head>
        <body class="page" style="margin:0;background:#f6f2e7;color:#1c2924;font:16px/1.5 'Source Sans 3',Helvetica,Arial,sans-serif">
        <div style="background:#1d4f3f;color:#ffffff;padding:13px 24px;font:600 18px Besley,Georgia,serif">Bees &amp; Co</div>
        <div style="max-width:600px;margin:0 auto;padding:20px 24px">
        <p><a href="https://club.example/4?a=1&amp;b" style="display:inline-block;background:#1d4f3f;color:#ffffff;padding:11px 18px;margin:4px 0;text-decoration:none;border-radius:3px;font-weight:600">Open it</a></p><p>Or <a href="https://club.example/9?a=1&amp;b" class="link" style="color:#1d4f3f">this</a>.</p>
        </div>
        </body>
        </html>
        "#);
        assert_eq!(
            text_of(&led),
            "Open it:\nhttps://club.example/4?a=1&b\n\nOr this <https://club.example/9?a=1&b>."
        );
    }

    proptest! {
        /// What an editor makes, and whatever is typed into it, is tidied and read without end.
        #[test]
        fn whatever_is_typed_is_tidied(typed in "(<p>|</p>|<br>|\\{\\{if online\\}\\}|\\{\\{end\\}\\}|a| |\\{\\{|\\}\\}){0,14}") {
            let tidied = tidy(&typed);
            prop_assert_eq!(tidied.matches("{{end}}").count(), typed.matches("{{end}}").count());
            let _ = (text_of(&tidied), read_body(&typed));
        }
    }
}
