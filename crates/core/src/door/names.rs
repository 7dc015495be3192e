//! Finding somebody by a name that was heard over the noise of a hall: slips, first and last
//! names the other way round, spellings that sound alike.

use crate::search::is_close;
use crate::words::fold;

/// Words that are looked at; more of them narrow nothing down.
const MOST_WORDS: usize = 6;

/// A name as it was typed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Typed {
    words: Vec<Word>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
struct Word {
    letters: String,
    count: usize,
    sound: String,
}

impl Word {
    fn of(letters: &str) -> Self {
        Self { letters: letters.into(), count: letters.chars().count(), sound: sound(letters) }
    }
}

/// How a folded word sounds: letters and pairs of them that are spoken alike are one, vowels but
/// the first are left out. Spellings of many languages meet in halls, so it is coarse on purpose;
/// it only adds to those whose letters fit.
#[must_use]
pub fn sound(word: &str) -> String {
    let pairs = [
        ("sch", "s"),
        ("tsch", "s"),
        ("cz", "s"),
        ("sz", "s"),
        ("sh", "s"),
        ("ch", "k"),
        ("ck", "k"),
        ("ph", "f"),
        ("gh", "g"),
        ("th", "t"),
        ("dt", "t"),
        ("rz", "s"),
        ("kn", "n"),
        ("wr", "r"),
        ("qu", "k"),
        ("x", "ks"),
        ("ae", "e"),
        ("oe", "o"),
        ("ue", "u"),
        ("ou", "u"),
        ("ei", "i"),
        ("ai", "i"),
        ("ay", "i"),
        ("ey", "i"),
        ("ie", "i"),
        ("ee", "i"),
        ("ea", "i"),
        ("oo", "u"),
    ];
    let mut spelt = word.to_owned();
    for (pair, one) in pairs {
        if spelt.contains(pair) {
            spelt = spelt.replace(pair, one);
        }
    }
    let mut key = String::with_capacity(spelt.len());
    for (n, letter) in spelt.chars().enumerate() {
        let letter = match letter {
            'c' | 'q' => 'k',
            'v' | 'w' => 'f',
            'z' => 's',
            'y' | 'j' => 'i',
            'd' => 't',
            'b' => 'p',
            'h' if n > 0 => continue,
            other => other,
        };
        let vowel = matches!(letter, 'a' | 'e' | 'i' | 'o' | 'u');
        if (n == 0 || !vowel) && !key.ends_with(letter) {
            key.push(letter);
        }
    }
    key
}

impl Typed {
    /// Takes what was typed apart.
    #[must_use]
    pub fn new(typed: &str) -> Self {
        let folded = fold(typed);
        let words = folded.split(' ').filter(|w| !w.is_empty()).take(MOST_WORDS);
        Self { words: words.map(Word::of).collect() }
    }

    /// Whether there is nothing to look for.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.words.is_empty()
    }

    /// How far a folded name is from what was typed: nought for one that begins as it does, more
    /// for each slip; none for another name. Each word that was typed stands for a word of the
    /// name, in whatever order.
    #[must_use]
    pub fn distance(&self, folded_name: &str) -> Option<u32> {
        self.words.iter().try_fold(0, |all, word| {
            let nearest = folded_name.split(' ').filter_map(|name| apart(word, name)).min()?;
            Some(all + nearest)
        })
    }
}

/// How far a word of a name is from one that was typed, which may be its beginning only.
fn apart(typed: &Word, name: &str) -> Option<u32> {
    if name.starts_with(&typed.letters) {
        return Some(0);
    }
    if typed.count >= 3 && name.contains(&typed.letters) {
        return Some(1);
    }
    let slips = match typed.count {
        0..=3 => 0,
        4..=7 => 1,
        _ => 2,
    };
    if slips > 0 {
        // The whole word, or so much of it as was typed.
        let begun: String = name.chars().take(typed.count).collect();
        if is_close(&typed.letters, name, slips) || is_close(&typed.letters, &begun, slips) {
            return Some(2);
        }
    }
    (typed.count >= 3 && typed.sound.len() >= 2 && sound(name) == typed.sound).then_some(3)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn names_are_found_as_they_are_heard() {
        let found = |typed: &str, name: &str| Typed::new(typed).distance(&fold(name));
        assert_eq!(found("siân o'h", "Siân O'Hara"), Some(0));
        assert_eq!(found("OHARA sian", "Siân O'Hara"), Some(0), "the other way round");
        assert_eq!(found("Zielinksa", "Ansel Zielińska"), Some(2), "two letters swapped");
        assert_eq!(found("lindkvist", "Greta Lindqvist"), Some(2));
        for (typed, name) in [
            ("Meyer", "Jo Maier"),
            ("Filip", "Philipp Roe"),
            ("Katz", "Ada Cats"),
            ("Shmidt", "Eva Schmitt"),
            ("Steven", "Stephen Wren"),
        ] {
            assert!(found(typed, name).is_some_and(|d| d >= 2), "{typed} sounds like {name}");
        }
        for (typed, name) in
            [("Birch", "Greta Lindqvist"), ("Ann", "Bob Marsh"), ("rowe quill", "Amadi Rowe")]
        {
            assert_eq!(found(typed, name), None, "{typed} is not {name}");
        }
        assert!(Typed::new(" ’ ").is_empty());
    }

    proptest! {
        /// A name with one letter changed, left out, doubled or swapped is still found, and the
        /// name itself is nearer than any other.
        #[test]
        fn one_slip_is_forgiven(name in "[A-Z][a-z]{4,11} [A-Z][a-z]{4,11}", at in 1usize..4, kind in 0u8..4) {
            let word = name.split(' ').next().unwrap();
            let mut letters: Vec<char> = word.chars().collect();
            match kind {
                0 => letters[at] = 'q',
                1 => drop(letters.remove(at)),
                2 => letters.insert(at, letters[at]),
                _ => letters.swap(at, at + 1),
            }
            let slipped: String = letters.into_iter().collect();
            prop_assume!(slipped.chars().count() >= 4);
            prop_assert!(Typed::new(&slipped).distance(&fold(&name)).is_some(), "{slipped}");
            prop_assert_eq!(Typed::new(&name).distance(&fold(&name)), Some(0));
        }
    }
}
