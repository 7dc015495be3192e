//! Whether pages are what HTML says pages are: what a parser has to mend, what may not stand in
//! what, and what people who hear a page need (HTML Living Standard; WAI-ARIA 1.2 §5.2.8.6).

use html5ever::tendril::StrTendril;
use html5ever::tokenizer::{
    BufferQueue, Token, TokenSink, TokenSinkResult, Tokenizer, TokenizerOpts,
};
use std::cell::RefCell;

use crate::crawl::Tag;

/// Elements without an end.
const VOID: [&str; 13] = [
    "area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "source", "track",
    "wbr",
];
/// Elements that end a paragraph: none of them stands in one.
const BLOCKS: [&str; 23] = [
    "address",
    "article",
    "aside",
    "blockquote",
    "details",
    "div",
    "dl",
    "fieldset",
    "figure",
    "footer",
    "form",
    "h1",
    "h2",
    "h3",
    "header",
    "hr",
    "main",
    "nav",
    "ol",
    "p",
    "section",
    "table",
    "ul",
];
/// Elements that hold words only.
const PHRASING: [&str; 13] = [
    "p", "h1", "h2", "h3", "span", "b", "small", "label", "button", "summary", "dt", "em", "strong",
];
/// Elements that no name may be given to, unless they have a role.
const NAMELESS: [&str; 10] = ["div", "span", "p", "b", "i", "em", "strong", "small", "code", "s"];

/// Collects what a tokenizer had to mend.
#[derive(Default)]
struct Mended(RefCell<Vec<String>>);

impl TokenSink for Mended {
    type Handle = ();

    fn process_token(&self, token: Token, _line: u64) -> TokenSinkResult<()> {
        if let Token::ParseError(what) = token {
            self.0.borrow_mut().push(what.into_owned());
        }
        TokenSinkResult::Continue
    }
}

/// What the letters of a page get wrong.
pub(crate) fn broken(html: &str) -> Vec<String> {
    let queue = BufferQueue::default();
    queue.push_back(StrTendril::from(html));
    let tokenizer = Tokenizer::new(Mended::default(), TokenizerOpts::default());
    let _ = tokenizer.feed(&queue);
    tokenizer.end();
    tokenizer.sink.0.take()
}

/// What the elements of a page get wrong.
pub(crate) fn faults(tags: &[Tag]) -> Vec<String> {
    let mut faults = Vec::new();
    let mut open: Vec<&Tag> = Vec::new();
    let mut drawing = 0;
    let mut names: Vec<(&str, String)> = Vec::new();
    for (at, tag) in tags.iter().enumerate() {
        let name = tag.name.trim_start_matches('/');
        let ends = tag.name.starts_with('/');
        // A drawing has rules of its own.
        if name == "svg" {
            if ends { drawing -= 1 } else { drawing += 1 }
        }
        if drawing > 0 || name == "svg" || VOID.contains(&name) {
            if !ends && drawing == 0 {
                within(&mut faults, &open, tag);
            }
            continue;
        }
        if ends {
            match open.pop() {
                Some(last) if last.name == name => {}
                Some(last) => {
                    faults.push(format!("</{name}> where <{}> is open", last.name));
                    open.retain(|t| t.name != name);
                }
                None => faults.push(format!("</{name}> where nothing is open")),
            }
            continue;
        }
        within(&mut faults, &open, tag);
        let first = tags.get(at + 1).map(|t| t.name.as_str());
        if name == "fieldset" && tag.get("class") != Some("asis") && first != Some("legend") {
            faults.push(format!("a fieldset that begins with {first:?}, not with its legend"));
        }
        let called = tag.get("aria-label").or_else(|| tag.get("aria-labelledby"));
        if matches!(name, "nav" | "aside") {
            let called = called.unwrap_or_default().to_owned();
            if names.contains(&(name, called.clone())) {
                faults.push(format!("two <{name}> called {called:?}"));
            }
            names.push((name, called));
        }
        if tag.get("role") == Some("search") {
            let own = tags[at..].iter().take_while(|t| t.name != "/form");
            if !own.into_iter().any(|t| t.name == "button") {
                faults.push("a search without a button".into());
            }
        }
        open.push(tag);
    }
    faults.extend(open.iter().map(|t| format!("<{}> is never ended", t.name)));
    faults
}

fn within(faults: &mut Vec<String>, open: &[&Tag], tag: &Tag) {
    let name = tag.name.as_str();
    let inside = |what: &str| open.iter().any(|t| t.name == what);
    let last = open.last().map_or("", |t| t.name.as_str());
    let active = matches!(name, "a" | "button" | "input" | "select" | "textarea" | "label");
    if active && (inside("a") || inside("button")) && tag.get("type") != Some("hidden") {
        faults.push(format!("<{name}> inside a link or a button"));
    }
    if matches!(name, "form" | "label") && inside(name) {
        faults.push(format!("<{name}> inside another"));
    }
    if BLOCKS.contains(&name) && PHRASING.contains(&last) {
        faults.push(format!("<{name}> inside <{last}>"));
    }
    let parents: &[&str] = match name {
        "li" => &["ul", "ol"],
        "tr" => &["thead", "tbody", "tfoot"],
        "td" | "th" => &["tr"],
        "dt" | "dd" => &["dl", "div"],
        "option" => &["select", "datalist", "optgroup"],
        "legend" => &["fieldset"],
        "summary" => &["details"],
        "thead" | "tbody" => &["table"],
        _ => &[],
    };
    if !parents.is_empty() && !parents.contains(&last) {
        faults.push(format!("<{name}> inside <{last}>"));
    }
    let only: &[&str] = match last {
        "ul" | "ol" => &["li"],
        "dl" => &["dt", "dd", "div"],
        "table" => &["thead", "tbody", "caption"],
        "tbody" | "thead" => &["tr"],
        "tr" => &["td", "th"],
        "select" => &["option", "optgroup"],
        _ => &[],
    };
    if !only.is_empty() && !only.contains(&name) {
        faults.push(format!("<{name}> right inside <{last}>"));
    }
    let called = tag.get("aria-label").or_else(|| tag.get("aria-labelledby"));
    if called.is_some() && NAMELESS.contains(&name) && tag.get("role").is_none() {
        faults.push(format!("<{name}> has a name and no role"));
    }
    if tag.get("aria-label").is_some_and(|l| l.trim().is_empty()) {
        faults.push(format!("<{name}> has an empty name"));
    }
}

#[test]
fn a_page_that_is_none_is_seen() {
    let seen = |html: &str| {
        let mut all = broken(html);
        all.extend(faults(&crate::crawl::tags(html)));
        all.join("; ")
    };
    assert_eq!(seen("<ul><li>a <b>b</b></li></ul><p>c<br></p>"), "");
    for (html, said) in [
        ("<p><div></div></p>", "<div> inside <p>"),
        ("<ul><p></p></ul>", "<p> right inside <ul>"),
        ("<a href=\"/\"><button>x</button></a>", "<button> inside a link or a button"),
        ("<span aria-label=\"x\"></span>", "<span> has a name and no role"),
        ("<fieldset><p></p></fieldset>", "begins with"),
        ("<b><i></b></i>", "</b> where <i> is open"),
        ("<nav aria-label=\"a\"></nav><nav aria-label=\"a\"></nav>", "two <nav>"),
        ("<p class=a class=b></p>", "attribute"),
    ] {
        assert!(seen(html).contains(said), "{html}: {}", seen(html));
    }
}
