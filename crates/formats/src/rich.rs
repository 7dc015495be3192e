//! Rich text: sanitised, with live links; and plain words of it.

use std::collections::{HashMap, HashSet};

use matricle_core::words::links;

/// Cleans HTML that somebody typed into an editor: known marks only, no styles, no
/// scripts, links to the web and to mail. Addresses in the text become links.
#[must_use]
pub fn clean(html: &str) -> String {
    cleaned(html, &["http", "https", "mailto", "tel"])
}

/// Cleans the words of a template as [`clean`] does: a link may lead where a field leads, as
/// `field:link`.
#[must_use]
pub fn clean_template(html: &str) -> String {
    cleaned(html, &["http", "https", "mailto", "tel", "field"])
}

/// Most marks that stand inside each other. A sanitiser opens every mark that was left open again
/// in each block that follows: its work grows with their number squared.
const MOST_OPEN: usize = 100;
/// Most links that are found one after the other because of one another.
const MOST_TURNS: usize = 4;

/// Whether marks stand inside each other no deeper than a person's do. Those that end by
/// themselves when the next begins (HTML §13.1.2.4) stand in nothing.
fn is_shallow(html: &str) -> bool {
    const END_BY_THEMSELVES: [&str; 8] = ["p", "li", "br", "hr", "img", "input", "dt", "dd"];
    let mut open: HashMap<String, usize> = HashMap::new();
    let mut depth = 0;
    for mark in html.split('<').skip(1) {
        let (closes, name) = mark.strip_prefix('/').map_or((false, mark), |rest| (true, rest));
        let name: String = name
            .chars()
            .take(32)
            .take_while(char::is_ascii_alphanumeric)
            .map(|c| c.to_ascii_lowercase())
            .collect();
        if name.is_empty() || END_BY_THEMSELVES.contains(&name.as_str()) {
            continue;
        }
        let of_name = open.entry(name).or_default();
        if !closes {
            (*of_name, depth) = (*of_name + 1, depth + 1);
        } else if *of_name > 0 {
            (*of_name, depth) = (*of_name - 1, depth - 1);
        }
        if depth > MOST_OPEN {
            return false;
        }
    }
    true
}

fn cleaned(html: &str, schemes: &[&str]) -> String {
    // What no editor makes is no mark: it stands there as it was typed.
    let whole = if is_shallow(html) { None } else { Some(escaped(html)) };
    let html = whole.as_deref().unwrap_or(html);
    // Headings of an editor begin at the top; on our pages the title is above them.
    let html = html.replace("<h1", "<h3").replace("</h1>", "</h3>");
    let cleaned = ammonia::Builder::empty()
        .tags(HashSet::from([
            "p",
            "div",
            "br",
            "strong",
            "b",
            "em",
            "i",
            "del",
            "ul",
            "ol",
            "li",
            "a",
            "h3",
            "blockquote",
            "pre",
        ]))
        .clean_content_tags(HashSet::from(["script", "style"]))
        .tag_attributes(HashMap::from([("a", HashSet::from(["href"]))]))
        .url_schemes(schemes.iter().copied().collect())
        .link_rel(Some("noopener nofollow"))
        .clean(&html)
        .to_string();
    // A link found ends what stood around it, so that more may be seen; each turn adds
    // a link or is the last.
    let mut html = cleaned.trim().to_owned();
    for _ in 0..MOST_TURNS {
        let more = linked(&html);
        if more == html {
            break;
        }
        html = more;
    }
    html
}

/// Makes addresses and telephone numbers in the text of clean HTML live, but for what is quoted:
/// those are somebody else's words.
fn linked(html: &str) -> String {
    let mut out = String::with_capacity(html.len() + 64);
    let (mut rest, mut inside_link, mut quoted) = (html, false, 0_u32);
    while !rest.is_empty() {
        if rest.starts_with('<') {
            let end = rest.find('>').map_or(rest.len(), |i| i + 1);
            let (tag, after) = rest.split_at(end);
            if tag.starts_with("<a ") || tag == "<a>" {
                inside_link = true;
            } else if tag == "</a>" {
                inside_link = false;
            } else if tag == "<blockquote>" {
                quoted += 1;
            } else if tag == "</blockquote>" {
                quoted = quoted.saturating_sub(1);
            }
            out.push_str(tag);
            rest = after;
        } else {
            let end = rest.find('<').unwrap_or(rest.len());
            let (text, after) = rest.split_at(end);
            if inside_link || quoted > 0 {
                out.push_str(text)
            } else {
                link_text(text, &mut out)
            }
            rest = after;
        }
    }
    out
}

/// Text of clean HTML, in which `&`, `<` and `>` are written as marks.
fn link_text(text: &str, out: &mut String) {
    let plain = unescaped(text);
    let mut done = 0;
    for link in links::find(&plain) {
        out.push_str(&escaped(&plain[done..link.from]));
        let word = escaped(&plain[link.from..link.until]);
        // What is no address by the URL standard (a port that is no number) stays text.
        if ammonia::Url::parse(&link.to).is_ok() {
            let to = escaped(&link.to).replace('"', "&quot;");
            out.push_str(&format!(r#"<a href="{to}" rel="noopener nofollow">{word}</a>"#));
        } else {
            out.push_str(&word);
        }
        done = link.until;
    }
    out.push_str(&escaped(&plain[done..]));
}

/// What the sanitiser writes as marks in text, and nothing else.
fn unescaped(text: &str) -> String {
    text.replace("&lt;", "<").replace("&gt;", ">").replace("&nbsp;", "\u{a0}").replace("&amp;", "&")
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('\u{a0}', "&nbsp;")
}

/// A line of plain text as HTML, its addresses and numbers live.
#[must_use]
pub fn line(text: &str) -> String {
    clean(&escaped(text))
}

/// Paragraphs of plain text as HTML.
#[must_use]
pub fn from_text(text: &str) -> String {
    let paragraphs: Vec<String> = text
        .split("\n\n")
        .map(str::trim)
        .filter(|p| !p.is_empty())
        .map(|p| {
            let escaped = p.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
            format!("<p>{}</p>", escaped.replace('\n', "<br>"))
        })
        .collect();
    clean(&paragraphs.concat())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn only_known_marks_are_left_and_addresses_are_live() {
        let typed = r#"<h1 onclick="x()">Bees</h1><div style="color:red">See www.bees.example, or
            <a href="javascript:alert(1)">this</a>. Write to o'hara@post.example!</div>
            <script>alert(1)</script><a href="https://a.example/?x=1&y=2">here</a>
            <img src=x onerror=alert(1)>http://b.example/a?b=1&amp;c=2 end.Then"#;
        insta::assert_snapshot!(clean(typed));
        let quoted = "<blockquote>She wrote to a@b.example</blockquote>Ring 0412 55 61 20";
        insta::assert_snapshot!(clean(quoted), @r#"<blockquote>She wrote to a@b.example</blockquote>Ring <a href="tel:0412556120" rel="noopener nofollow">0412 55 61 20</a>"#);
        insta::assert_snapshot!(from_text("One <b>.\n\nTwo & three\nat https://c.example."), @r#"<p>One &lt;b&gt;.</p><p>Two &amp; three<br>at <a href="https://c.example" rel="noopener nofollow">https://c.example</a>.</p>"#);
    }

    #[test]
    fn marks_inside_each_other_without_end_stay_words() {
        let fine = format!("{}x{}", "<div>".repeat(100), "</div>".repeat(100));
        assert!(is_shallow(&fine) && is_shallow(&"<div><b>x</b></div><p>y<br>".repeat(9000)));
        // Ended under another name, a mark is open as before.
        for deep in ["<div><b>", "<b></i>", "<b>x</p>", "<b x=1>", "<B>"] {
            let cleaned = clean(&deep.repeat(30_000));
            assert!(cleaned.starts_with("&lt;"), "{deep}");
        }
    }

    proptest! {
        /// Links are beside one another and closed, and the words are what they were.
        #[test]
        fn making_links_changes_no_word(
            parts in prop::collection::vec(prop::sample::select(vec![
                "a@b.example", "www.y.example", "https://x.example/?a=1&b=2", "0412 55 61 20", "(", ")", " ", ".", ",", "“",
                "”", "1998-2004", "é", "<", ">", "&", "\"", "&amp;", "tel ", "/", "@", ":", "中", "end.Then", "https://[", ":99999",
            ]), 0..16),
        ) {
            let text = parts.concat();
            let text = text.trim();
            let html = clean(&escaped(text));
            let (mut depth, mut said) = (0, String::new());
            for (n, piece) in html.split('<').enumerate() {
                let words = match piece.split_once('>') {
                    Some((tag, words)) if n > 0 => {
                        depth += if tag.starts_with("a ") { 1 } else { -1 };
                        prop_assert!(tag == "/a" || tag.starts_with("a href=\""), "{}", html);
                        words
                    }
                    _ => piece,
                };
                prop_assert!(depth == 0 || depth == 1, "nested: {}", html);
                said.push_str(&unescaped(words));
            }
            prop_assert_eq!(depth, 0);
            prop_assert_eq!(said, text);
        }

        /// Whatever is typed, nothing that runs is left, and cleaning twice changes nothing.
        #[test]
        fn nothing_that_runs_gets_through(
            parts in prop::collection::vec(prop::sample::select(vec![
                "<script>", "</script>", "<a href=\"", "javascript:", "https://x.example", "\">", "</a>", "<img onerror=",
                "a@b.example", "<div ", "onclick='", "'>", "&lt;", "<", ">", "\"", " ", "www.y.example", "<svg/onload=", "é",
            ]), 0..14),
        ) {
            let once = clean(&parts.concat());
            let low = once.to_lowercase();
            prop_assert!(!low.contains("<script") && !low.contains("<img") && !low.contains("<svg"), "{}", once);
            prop_assert!(!low.contains("href=\"javascript"), "{}", once);
            for tag in once.split('<').skip(1) {
                // What stands between quotation marks is only an address.
                let names: String = tag.split('>').next().unwrap().split('"').step_by(2).collect();
                prop_assert!(!names.contains(" on"), "{}", once);
            }
            prop_assert_eq!(clean(&once), once);
        }
    }
}
