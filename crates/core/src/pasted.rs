//! Addresses as they are pasted: out of a table, a mail program, a list with names, one beside
//! the other.

use std::collections::HashSet;

use crate::details::is_address;

/// What was found in a text.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Pasted {
    /// Addresses, each once, in their order.
    pub addresses: Vec<String>,
    /// Those that stood there before, without regard to case.
    pub doubles: Vec<String>,
    /// What is no address: a word with an at sign, or a line without any.
    pub wrong: Vec<String>,
}

/// Reads addresses out of a text. Between them stands whatever one likes: line breaks, commas,
/// semicolons, tabs, spaces; a name may stand before an address, in quotes or not, with the
/// address in angle brackets or not (RFC 5322 §3.4). A line that has none is told as wrong.
#[must_use]
pub fn pasted(text: &str) -> Pasted {
    let mut found = Pasted::default();
    let mut seen = HashSet::new();
    for line in text.lines() {
        let words = words(line);
        let mut any = false;
        for word in words.iter().filter(|w| w.contains('@')) {
            any = true;
            if !is_address(word) {
                found.wrong.push(word.clone());
            } else if seen.insert(word.to_lowercase()) {
                found.addresses.push(word.clone());
            } else {
                found.doubles.push(word.clone());
            }
        }
        // A line of names alone, or of nothing but separators.
        if !any && words.iter().any(|w| !w.is_empty()) {
            found.wrong.push(line.trim().to_owned());
        }
    }
    found
}

/// The words of a line: what stands in quotes is a name, whatever is in it.
fn words(line: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut quoted = false;
    for c in line.chars() {
        match c {
            '"' => {
                quoted = !quoted;
                words.push(String::new());
            }
            _ if quoted => {
                // It counts as something that stands there, and never as an address.
                if let Some(word) = words.last_mut().filter(|_| !c.is_whitespace() && c != '@') {
                    word.push(c);
                }
            }
            c if c.is_whitespace() || ",;<>()[]|".contains(c) => words.push(String::new()),
            c => {
                if let Some(word) = words.last_mut() {
                    word.push(c);
                }
            }
        }
    }
    words
        .into_iter()
        .map(|w| w.strip_prefix("mailto:").unwrap_or(&w).trim_end_matches(['.', ':']).to_owned())
        .collect()
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
            for address in pasted(&text).addresses {
                prop_assert!(is_address(&address));
            }
        }
    }
}
