//! Addresses as they are pasted: out of a table, a mail program, a list with names, one beside
//! the other.

use std::collections::HashSet;

use crate::words::address::is_address;

/// What was found in a text. Every word of it stands in one of these.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Pasted {
    /// Addresses, each once, in their order.
    pub addresses: Vec<String>,
    /// The names beside them, in the same order; empty where none stood there.
    pub names: Vec<String>,
    /// Those that stood there before, without regard to case.
    pub doubles: Vec<String>,
    /// What is no address: a word that is meant as one, or a line without any.
    pub wrong: Vec<String>,
    /// What stood beside addresses and is neither one nor a name: other columns of a table.
    pub aside: Vec<String>,
}

/// Stands for an at sign that somebody wrote as a word, while a line is read.
const AT: char = '\u{1}';

/// Reads addresses out of a text. Between them stands whatever one likes: line breaks, commas,
/// semicolons, tabs, spaces; a name may stand before an address, in quotes or not, with the
/// address in angle brackets or not (RFC 5322 §3.4). A line that has none is told as wrong.
#[must_use]
pub fn pasted(text: &str) -> Pasted {
    let mut found = Pasted::default();
    let mut seen = HashSet::new();
    for line in text.lines() {
        let mut name: Vec<String> = Vec::new();
        let (mut any, mut wrong) = (false, Vec::new());
        for part in parts(line) {
            match part {
                // What follows an address and ends here is no name of the next.
                Part::Ends if any && !name.is_empty() => {
                    found.aside.push(std::mem::take(&mut name).join(" "));
                }
                Part::Ends => {}
                Part::Name(word) => name.push(word),
                Part::Meant(word) => {
                    any = true;
                    let name = std::mem::take(&mut name).join(" ");
                    if !is_address(&word) {
                        wrong.push(word.replace(AT, "(at)"));
                        found.aside.extend((!name.is_empty()).then_some(name));
                    } else if seen.insert(word.to_lowercase()) {
                        found.addresses.push(word);
                        found.names.push(name);
                    } else {
                        found.doubles.push(word);
                    }
                }
            }
        }
        found.wrong.append(&mut wrong);
        match (any, name.is_empty()) {
            (true, false) => found.aside.push(name.join(" ")),
            // A line of names alone.
            (false, false) => found.wrong.push(line.trim().to_owned()),
            (_, true) => {}
        }
    }
    found
}

enum Part {
    /// A word that is meant as an address.
    Meant(String),
    /// Any other.
    Name(String),
    /// A comma, a semicolon, a tab, a bar.
    Ends,
}

fn put(parts: &mut Vec<Part>, word: &mut String, is_quoted: bool) {
    let word = std::mem::take(word);
    if is_quoted {
        let name = word.replace(AT, "(at)");
        parts.extend((!name.trim().is_empty()).then(|| Part::Name(name.trim().to_owned())));
        return;
    }
    let word = word.strip_prefix("mailto:").unwrap_or(&word).trim_end_matches(['.', ':']);
    if word.contains(['@', AT]) {
        parts.push(Part::Meant(word.to_owned()));
    } else if !word.is_empty() {
        parts.push(Part::Name(word.to_owned()));
    }
}

/// The words of a line, and what ends an entry between them: what stands in quotes is a name,
/// whatever is in it.
fn parts(line: &str) -> Vec<Part> {
    let mut line = line.replace(AT, "");
    for written in ["(at)", "[at]", "{at}", "(AT)", "[AT]", "{AT}"] {
        line = line.replace(written, &AT.to_string());
    }
    let (mut parts, mut word, mut quoted) = (Vec::new(), String::new(), false);
    for c in line.chars() {
        match c {
            '"' => {
                put(&mut parts, &mut word, quoted);
                quoted = !quoted;
            }
            c if quoted => word.push(c),
            ',' | ';' | '\t' | '|' => {
                put(&mut parts, &mut word, false);
                parts.push(Part::Ends);
            }
            c if c.is_whitespace() || "<>()[]".contains(c) => put(&mut parts, &mut word, false),
            c => word.push(c),
        }
    }
    put(&mut parts, &mut word, quoted);
    parts
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn lists_of_all_kinds_are_read() {
        let all = pasted(
            "\"Quill, Ailsa\" <ailsa@post.example>, Ros Ferrier <ros@post.example>;\n\
             edda@post.example\thugo@post.example  mina@post.example\n\
             Noor Rowe;noor@post.example;member\n\
             mailto:soren@post.example, ROS@post.example\n\
             \"odd @ name\" kit@post.example.\n\n , ;\n",
        );
        let names = ["ailsa", "ros", "edda", "hugo", "mina", "noor", "soren", "kit"];
        assert_eq!(all.addresses, names.map(|n| format!("{n}@post.example")));
        assert_eq!((all.doubles, all.wrong), (vec!["ROS@post.example".into()], vec![]));
        let bad = pasted("Only A Name\nno@dot, fine@post.example\n@\n");
        assert_eq!(bad.addresses, ["fine@post.example"]);
        assert_eq!(bad.wrong, ["Only A Name", "no@dot", "@"]);
        // The names go along; whatever else stands on a line is told, and nothing is lost.
        let named = ["Quill, Ailsa", "Ros Ferrier", "", "", "", "Noor Rowe", "", "odd @ name"];
        assert_eq!((all.names, all.aside), (named.map(String::from).into(), vec!["member".into()]));
        let line =
            pasted("ana@post.example, fred(at)post.example, plainword; Kit Lee kit@post.example");
        assert_eq!(line.addresses, ["ana@post.example", "kit@post.example"]);
        assert_eq!(line.names, ["", "Kit Lee"]);
        assert_eq!(
            (line.wrong, line.aside),
            (vec!["fred(at)post.example".into()], vec!["plainword".into()])
        );
    }

    proptest! {
        /// Whatever stands between and before them, all are read, each once, in their order.
        #[test]
        fn every_address_is_read_once(
            people in prop::collection::vec((0u16..200, 0usize..5, 0usize..6, any::<bool>()), 0..60),
        ) {
            let separators = ["\n", ", ", ";", "\t", " ", "\r\n"];
            let mut text = String::new();
            for (n, name, separator, large) in &people {
                let address = format!("p{n}@post.example");
                let address = if *large { address.to_uppercase() } else { address };
                text.push_str(&match name {
                    0 => address,
                    1 => format!("<{address}>"),
                    2 => format!("\"Rowe, {n} @home\" <{address}>"),
                    3 => format!("Noor Rowe {address}"),
                    _ => format!("mailto:{address}"),
                });
                text.push_str(separators[*separator]);
            }
            let mut first = Vec::new();
            for (n, ..) in &people {
                let address = format!("p{n}@post.example");
                if !first.contains(&address) { first.push(address); }
            }
            let all = pasted(&text);
            let lower: Vec<String> = all.addresses.iter().map(|a| a.to_lowercase()).collect();
            prop_assert_eq!(&lower, &first);
            prop_assert_eq!(all.doubles.len(), people.len() - first.len());
            prop_assert!(all.wrong.is_empty(), "{:?}", all.wrong);
        }

        /// Nothing that is pasted breaks it, and nothing that is no address is taken for one.
        #[test]
        fn any_text_is_read(text in "\\PC*") {
            let all = pasted(&text);
            prop_assert_eq!(all.addresses.len(), all.names.len());
            // The name beside an address that stands there twice is known from the first.
            let is_each_once = all.doubles.is_empty();
            for address in &all.addresses {
                prop_assert!(is_address(address));
            }
            // Each letter of it stands somewhere in what is told.
            let told = [all.addresses, all.names, all.doubles, all.wrong, all.aside].concat().concat();
            let told: HashSet<char> = told.chars().collect();
            let lost = |c: &char| c.is_alphanumeric() && !told.contains(c);
            prop_assume!(is_each_once);
            prop_assert!(!text.replace("mailto:", "").chars().any(|c| lost(&c)), "{text:?}");
        }
    }
}
