//! Every page that a link leads to, for everybody in the house, and every form on them: pages
//! are whole, and nonsense in any form is answered, shown harmless and harms no books.

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use axum::http::{StatusCode, header};
use matricle_web::Limits;

use crate::site::{Browser, Site, site};
use crate::valid;

/// Pages of one shape that are looked at, for each person.
const EACH: usize = 2;
const NONSENSE: [&str; 4] = [
    "",
    "<x> ' \" & 😀",
    "99999999999999999999",
    "a\r\nBcc: b@c.example\0\u{202e}\u{7}\u{2028}\t@post.example",
];

/// A tag with its attributes, as far as pages of ours need it.
pub(crate) struct Tag {
    pub(crate) name: String,
    attributes: BTreeMap<String, String>,
}

impl Tag {
    pub(crate) fn get(&self, name: &str) -> Option<&str> {
        self.attributes.get(name).map(String::as_str)
    }
}

fn unescape(text: &str) -> String {
    text.replace("&quot;", "\"")
        .replace("&#34;", "\"")
        .replace("&#39;", "'")
        .replace("&#60;", "<")
        .replace("&#62;", ">")
        .replace("&#38;", "&")
        .replace("&amp;", "&")
}

pub(crate) fn tags(html: &str) -> Vec<Tag> {
    let mut all = Vec::new();
    for part in html.split('<').skip(1) {
        let name: String =
            part.chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '/').collect();
        if name.is_empty() {
            continue;
        }
        let mut attributes = BTreeMap::new();
        let mut rest = &part[name.len()..];
        loop {
            rest = rest.trim_start();
            let end = rest.find(['=', ' ', '\n', '>']).unwrap_or(rest.len());
            let (key, after) = rest.split_at(end);
            if key.is_empty() || key.starts_with('/') {
                break;
            }
            match after.strip_prefix("=\"") {
                Some(value) => {
                    let Some((value, after)) = value.split_once('"') else { break };
                    attributes.insert(key.to_owned(), unescape(value));
                    rest = after;
                }
                None => {
                    attributes.insert(key.to_owned(), String::new());
                    rest = after;
                }
            }
        }
        all.push(Tag { name, attributes });
    }
    all
}

/// An address without what tells one thing from another of its kind.
fn shape(address: &str) -> String {
    let (path, query) = address.split_once('?').unwrap_or((address, ""));
    let part = |p: &str| {
        let key = p.len() >= 8 && !p.contains('-') && p.chars().any(|c| c.is_ascii_uppercase());
        let slug = p.contains('-') && p.len() > 12;
        let own = p.chars().any(|c| c.is_ascii_digit()) || key || slug;
        if own { "*".to_owned() } else { p.to_owned() }
    };
    let path: Vec<String> = path.split('/').map(part).collect();
    let keys: BTreeSet<&str> =
        query.split('&').map(|pair| pair.split('=').next().unwrap_or_default()).collect();
    format!("{}?{}", path.join("/"), keys.into_iter().collect::<Vec<_>>().join("&"))
}

/// A form: where it goes, and its fields with the values they have.
#[derive(Clone)]
struct Sheet {
    action: String,
    fields: Vec<(String, String)>,
}

fn forms(at: &str, tags: &[Tag]) -> Vec<Sheet> {
    let mut all: Vec<Sheet> = Vec::new();
    let mut open = false;
    for tag in tags {
        match (tag.name.as_str(), tag.get("name")) {
            ("form", _) => {
                let plain = tag.get("enctype").is_none();
                open = tag.get("method") == Some("post") && plain;
                if open {
                    let action = tag.get("action").unwrap_or(at).to_owned();
                    all.push(Sheet { action, fields: Vec::new() });
                }
            }
            ("/form", _) => open = false,
            // Shown to be read only.
            ("fieldset", _) if open && tag.get("disabled").is_some() => {
                all.pop();
                open = false;
            }
            ("input" | "select" | "textarea" | "button", Some(name)) if open => {
                let value = tag.get("value").unwrap_or_default().to_owned();
                if let Some(form) = all.last_mut().filter(|_| name != "token") {
                    form.fields.push((name.to_owned(), value));
                }
            }
            _ => {}
        }
    }
    all
}

/// What is wrong with a page: each `id` once, nothing points to what is not there, pictures
/// have words, one first heading.
fn faults(tags: &[Tag]) -> Vec<String> {
    let mut faults = Vec::new();
    let mut known = BTreeSet::new();
    for id in tags.iter().filter_map(|t| t.get("id")) {
        if !known.insert(id) {
            faults.push(format!("{id:?} more than once"));
        }
    }
    for tag in tags {
        for to in ["for", "aria-labelledby", "aria-describedby"].map(|a| tag.get(a)) {
            for id in to.into_iter().flat_map(str::split_whitespace) {
                if !known.contains(id) {
                    faults.push(format!("<{}> points to no {id:?}", tag.name));
                }
            }
        }
        if tag.name == "img" && tag.get("alt").is_none() {
            faults.push("a picture without words".into());
        }
    }
    faults.extend(valid::faults(tags));
    match tags.iter().filter(|t| t.name == "h1").count() {
        1 => {}
        heads => faults.push(format!("{heads} first headings")),
    }
    faults
}

/// Follows every link from some pages; gives all forms, by where they go and what they ask.
/// What is wrong goes to `wrong`.
async fn walk(
    b: &mut Browser<'_>,
    from: &[&str],
    wrong: &mut BTreeSet<String>,
) -> BTreeMap<String, Sheet> {
    let mut waiting: VecDeque<(String, String)> =
        from.iter().map(|p| ((*p).to_owned(), "the start".to_owned())).collect();
    let (mut seen, mut shapes) = (BTreeSet::new(), BTreeMap::<String, usize>::new());
    let mut found = BTreeMap::new();
    while let Some((at, linked)) = waiting.pop_front() {
        let count = shapes.entry(shape(&at)).or_default();
        if *count >= EACH || !seen.insert(at.clone()) {
            continue;
        }
        *count += 1;
        let reply = b.get(&at).await;
        if !reply.status.is_success() && !reply.status.is_redirection() {
            wrong.insert(format!("{at}, from {linked}: {}", reply.status));
        }
        if !reply.header(header::CONTENT_TYPE.as_str()).starts_with("text/html") {
            continue;
        }
        let tags = tags(&reply.body);
        if reply.status.is_success() && reply.body.contains("<main") {
            let broken = valid::broken(&reply.body).into_iter();
            let all = faults(&tags).into_iter().chain(broken);
            wrong.extend(all.map(|f| format!("{}: {f}", shape(&at))));
        }
        for form in forms(&at, &tags) {
            let names: BTreeSet<String> = form.fields.iter().map(|(n, _)| shape(n)).collect();
            found.entry(format!("{} {names:?}", shape(&form.action))).or_insert(form);
        }
        if let Some((path, query)) = at.split_once('?') {
            for nonsense in ["", "%3Cx%3E%27%00", "99999999999999999999"] {
                let keys = query.split('&').map(|pair| pair.split('=').next().unwrap_or_default());
                let asked: Vec<String> = keys.map(|key| format!("{key}={nonsense}")).collect();
                let odd = format!("{path}?{}", asked.join("&"));
                let reply = b.get(&odd).await;
                if reply.status.is_server_error() || reply.body.contains("<x>") {
                    wrong.insert(format!("{odd}: {}", reply.status));
                }
            }
        }
        let links = tags.iter().filter(|t| t.name == "a").filter_map(|t| t.get("href"));
        for link in links.chain(tags.iter().filter_map(|t| t.get("hx-get"))) {
            let link = link.split('#').next().unwrap_or_default();
            let link = match link.strip_prefix('?') {
                Some(query) => format!("{}?{query}", at.split('?').next().unwrap_or_default()),
                None => link.to_owned(),
            };
            if link.starts_with('/') && !link.starts_with("//") {
                waiting.push_back((link, at.clone()));
            }
        }
    }
    found
}

async fn open() -> Site {
    site(Limits { sign_in: 100_000, booking: 100_000 }, false).await
}

/// A stranger, and everybody of the house.
const PEOPLE: [Option<usize>; 6] = [None, Some(0), Some(1), Some(2), Some(3), Some(4)];

#[tokio::test(flavor = "multi_thread")]
async fn every_link_leads_to_a_whole_page_and_no_form_falls_over_nonsense() {
    let site = open().await;
    let (mut all, mut wrong) = (Vec::new(), BTreeSet::new());
    for who in PEOPLE {
        let mut b = Browser::new(&site);
        let (mut from, home);
        from = vec!["/", "/me"];
        if let Some(who) = who {
            home = b.sign_in(who).await.location().to_owned();
            from.push(&home);
        } else {
            let own = b.keep("thursday-dipping", &[1]).await.location().to_owned();
            let forms = walk(&mut b, &[&own, "/sign-in"], &mut wrong).await;
            all.push((who, forms));
        }
        let forms = walk(&mut b, &from, &mut wrong).await;
        all.push((who, forms));
    }
    let (mut posted, mut known) = (0, BTreeSet::new());
    let mut sheets = Vec::new();
    for (who, forms) in all {
        let mut b = Browser::new(&site);
        if let Some(who) = who {
            b.sign_in(who).await;
        }
        for (key, form) in forms.into_iter().filter(|(_, f)| !f.action.ends_with("/sign-out")) {
            b.get("/me").await;
            if !known.contains(&key) {
                sheets.push(form.clone());
            }
            // What one has sent in every way is sent once by the others: may they?
            let ways = if known.insert(key) { NONSENSE.len() } else { 1 };
            for nonsense in NONSENSE.into_iter().take(ways) {
                let fields: Vec<(&str, &str)> =
                    form.fields.iter().map(|(name, _)| (name.as_str(), nonsense)).collect();
                let reply = b.post(&form.action, &fields).await;
                posted += 1;
                let said = format!("{} {fields:?}: {}", form.action, reply.status);
                if reply.status.is_server_error() || reply.status == StatusCode::FORBIDDEN {
                    wrong.insert(said.clone());
                }
                if reply.body.contains("<x>") {
                    wrong.insert(format!("{said}: shown as it came"));
                }
                if reply.body.contains("<main") {
                    let faults = faults(&tags(&reply.body));
                    wrong.extend(faults.into_iter().map(|f| format!("{said}: {f}")));
                }
            }
        }
    }
    // By everybody: what was offered, each field three times over; and about something else, by
    // a number that was changed in the address and in the fields. Some of it is allowed and
    // done, so that it comes last.
    for who in PEOPLE {
        let mut b = Browser::new(&site);
        if let Some(who) = who {
            b.sign_in(who).await;
        }
        b.get("/me").await;
        for form in sheets.iter().filter(|f| !f.action.contains("/house/people")) {
            let thrice: Vec<(&str, &str)> = [&form.fields; 3]
                .into_iter()
                .flatten()
                .map(|(name, value)| (name.as_str(), value.as_str()))
                .collect();
            let other = |text: &str| match text.parse::<i64>() {
                Ok(n) => (n % 11 + 1).to_string(),
                Err(_) => text.to_owned(),
            };
            let action: Vec<String> = form.action.split('/').map(other).collect();
            let fields: Vec<(&str, String)> =
                form.fields.iter().map(|(name, value)| (name.as_str(), other(value))).collect();
            let fields: Vec<(&str, &str)> =
                fields.iter().map(|(name, value)| (*name, value.as_str())).collect();
            for (action, fields) in [(form.action.clone(), thrice), (action.join("/"), fields)] {
                let reply = b.post(&action, &fields).await;
                posted += 1;
                if reply.status.is_server_error() {
                    wrong.insert(format!("{action} {fields:?}: {}", reply.status));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.into_iter().collect::<Vec<_>>().join("\n"));
    assert!(posted > 150, "{posted} forms sent");
    let faults = site.desk.store.read(matricle_store::check::faults).await.unwrap();
    assert_eq!(faults, Vec::<String>::new());
}
