//! A field that a page shows is read by somebody, or what was typed would be lost without a word.
//! Most fields are declared (`fields!`) and drawn by their declaration: those only have to be bound
//! to something. Where a template writes a name itself, the name has to be asked for.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::too_many_lines, reason = "a test is one story")]

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

fn files(folder: &Path, kind: &str, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            files(&path, kind, found);
        } else if path.extension().is_some_and(|e| e == kind) {
            found.push(path);
        }
    }
}

/// The text of each file of a kind below a folder of the workspace.
fn texts(folder: &str, kind: &str) -> Vec<(PathBuf, String)> {
    let mut found = Vec::new();
    files(&Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(folder), kind, &mut found);
    found.into_iter().map(|p| (p.clone(), std::fs::read_to_string(p).unwrap())).collect()
}

/// A name up to the number that is put to it for each row; none if it is all made.
fn name(text: &str) -> Option<String> {
    let end = text.find(|c: char| !c.is_ascii_lowercase() && c != '_').unwrap_or(text.len());
    let name = text[..end].trim_end_matches('_');
    (!name.is_empty()).then(|| name.to_owned())
}

/// Names of fields in the templates, with the file that shows each.
fn shown() -> BTreeMap<String, PathBuf> {
    let mut shown = BTreeMap::new();
    for (file, text) in texts("web/templates", "html") {
        let tags = ["<input", "<select", "<textarea", "<button"];
        let own = tags.iter().flat_map(|tag| text.split(tag).skip(1));
        let own = own.filter_map(|rest| {
            let tag = rest.split('>').next().unwrap();
            tag.split(" name=\"").nth(1).and_then(name)
        });
        for name in own {
            shown.entry(name).or_insert_with(|| file.clone());
        }
    }
    shown
}

/// What only fills a form in: such a call reads nothing of what was sent.
const FILLS: &[&str] = &["add", "tick", "set", "say", "v", "w", "on", "is", "bad"];

/// Names that a call or a comparison asks for, and the fields of what serde reads.
fn read() -> BTreeSet<String> {
    let mut read = BTreeSet::new();
    for (_, text) in ["web/src", "desk/src", "core/src"].iter().flat_map(|f| texts(f, "rs")) {
        for (at, _) in text.match_indices('"') {
            let before = text[..at].trim_end_matches("format!(").trim_end_matches(['&', ' ']);
            let called = before.strip_suffix('(').or(before.strip_suffix("(form,"));
            let called = called
                .map(|b| b.rsplit(|c: char| !c.is_alphanumeric() && c != '_').next().unwrap());
            let asked = called.is_some_and(|c| !c.is_empty() && !FILLS.contains(&c));
            let compared = before.ends_with("==")
                || text[at + 1..].split_once('"').is_some_and(|(_, r)| r.starts_with(" =>"));
            // Made first, asked for after.
            let made = [", format!(", "= (format!("].iter().any(|m| text[..at].ends_with(m));
            if asked || compared || made {
                read.extend(name(&text[at + 1..]));
            }
        }
        // Declared, and bound to something: the test below.
        let blocks = text.split("fields! {\n").skip(1).filter_map(|t| t.split("\n}").next());
        for declared in blocks.flat_map(|block| block.split("= \"").skip(1)) {
            read.extend(name(declared));
        }
        for body in text
            .split("Deserialize")
            .skip(1)
            .filter_map(|t| t.split_once(" {\n")?.1.split("\n}").next())
        {
            read.extend(
                body.lines()
                    .filter_map(|l| name(l.trim().trim_start_matches("pub ").split_once(':')?.0)),
            );
        }
    }
    read
}

#[test]
fn a_field_that_is_shown_is_read() {
    let (shown, read) = (shown(), read());
    assert!(shown.len() > 100, "the templates are read: {}", shown.len());
    // What the pages' own script reads, or a part that is looked into by its name alone.
    let unread: Vec<_> = shown.iter().filter(|(name, _)| !read.contains(*name)).collect();
    assert!(unread.is_empty(), "shown, and read by nobody: {unread:#?}");
}

#[test]
fn a_field_that_is_declared_is_shown_and_bound() {
    let texts_of = |folders: &[&str], kind| -> Vec<String> {
        folders.iter().flat_map(|folder| texts(folder, kind)).map(|(_, text)| text).collect()
    };
    let rust = texts_of(&["core/src", "desk/src", "web/src"], "rs");
    let pages = texts_of(&["web/templates"], "html");
    let mut declared = 0;
    for (file, text) in ["core/src", "desk/src"].iter().flat_map(|folder| texts(folder, "rs")) {
        let module = format!("{}::", file.file_stem().unwrap().to_str().unwrap());
        let blocks = text.split("fields! {\n").skip(1).filter_map(|t| t.split("\n}").next());
        for line in blocks.flat_map(str::lines).filter_map(|l| l.strip_prefix("    ")) {
            let Some((name, _)) = line.split_once(": ") else { continue };
            if !name.chars().all(|c| c.is_ascii_uppercase() || c == '_') {
                continue;
            }
            declared += 1;
            let path = format!("::{name}");
            let drawn = pages.iter().chain(&rust).any(|text| text.contains(&path));
            let asks = |text: &String| {
                text.contains(&format!("&{name}")) || text.contains(&format!("{name}.name"))
            };
            let bound = asks(&text)
                || rust.iter().any(|other| {
                    other.contains(&format!("&{}{name}", module))
                        || other.contains(&format!("{name}.name"))
                        || (other.contains(&module) && asks(other))
                });
            assert!(drawn, "{name} of {} is shown nowhere", file.display());
            assert!(bound, "{name} of {} is bound to nothing", file.display());
        }
    }
    assert!(declared > 200, "the declarations are read: {declared}");
}
