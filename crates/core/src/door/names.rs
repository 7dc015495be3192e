//! Finding somebody by a name that was heard over the noise of a hall: slips, first and last
//! names the other way round, spellings that sound alike.

use std::collections::HashMap;

use crate::AttendeeId;
use crate::words::fold;
use crate::words::search::is_close;

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
            let of = |name: &str| apart(word, &Word::of(name));
            let nearest = folded_name.split(' ').filter_map(of).min()?;
            Some(all + nearest)
        })
    }
}

/// The names of everybody at a date, made ready to be looked through: each different word is
/// compared with what was typed once, however many people have it.
#[derive(Debug, Default)]
pub struct Everybody {
    words: Vec<Word>,
    /// Who, and where their words begin in `of`.
    people: Vec<(AttendeeId, u32)>,
    of: Vec<u32>,
}

/// A word that is none of what was typed.
const FAR: u32 = u32::MAX;

impl Everybody {
    /// Takes folded names apart.
    pub fn new<'n>(names: impl IntoIterator<Item = (AttendeeId, &'n str)>) -> Self {
        let mut all = Self::default();
        let mut known: HashMap<String, u32> = HashMap::new();
        for (id, name) in names {
            all.add(&mut known, id, name);
        }
        all
    }

    /// Begins with nobody, for names that come one by one.
    #[must_use]
    pub fn begin() -> (Self, HashMap<String, u32>) {
        (Self::default(), HashMap::new())
    }

    /// Adds somebody.
    pub fn add(&mut self, known: &mut HashMap<String, u32>, id: AttendeeId, name: &str) {
        let count = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
        self.people.push((id, count(self.of.len())));
        for word in name.split(' ').filter(|w| !w.is_empty()) {
            let at = known.get(word).copied().unwrap_or_else(|| {
                let at = count(self.words.len());
                self.words.push(Word::of(word));
                known.insert(word.to_owned(), at);
                at
            });
            self.of.push(at);
        }
    }

    /// How many people there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.people.len()
    }

    /// Whether there is nobody.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.people.is_empty()
    }

    /// Those nearest to what was typed, with how far each is; in the order they were given where
    /// they are as near.
    #[must_use]
    pub fn nearest(&self, typed: &Typed, most: usize) -> Vec<(u32, AttendeeId)> {
        if typed.is_empty() {
            return Vec::new();
        }
        let far: Vec<Vec<u32>> = typed
            .words
            .iter()
            .map(|word| self.words.iter().map(|w| apart(word, w).unwrap_or(FAR)).collect())
            .collect();
        let ends = self.people.iter().skip(1).map(|p| p.1).chain([u32::MAX]);
        let mut found = Vec::new();
        for (n, ((id, from), end)) in self.people.iter().zip(ends).enumerate() {
            let words =
                self.of.get(*from as usize..(end as usize).min(self.of.len())).unwrap_or(&[]);
            let distance = far.iter().try_fold(0u32, |all, far| {
                let nearest = words.iter().map(|w| far[*w as usize]).min().filter(|d| *d != FAR)?;
                Some(all + nearest)
            });
            if let Some(distance) = distance {
                found.push((distance, n, *id));
            }
        }
        let most = most.min(found.len());
        if most > 0 && most < found.len() {
            found.select_nth_unstable(most - 1);
            found.truncate(most);
        }
        found.sort_unstable();
        found.into_iter().map(|(distance, _, id)| (distance, id)).collect()
    }
}

/// How far a word of a name is from one that was typed, which may be its beginning only.
fn apart(typed: &Word, name: &Word) -> Option<u32> {
    if name.letters.starts_with(&typed.letters) {
        return Some(0);
    }
    if typed.count >= 3 && name.letters.contains(&typed.letters) {
        return Some(1);
    }
    let slips = match typed.count {
        0..=3 => 0,
        4..=7 => 1,
        _ => 2,
    };
    if slips > 0 {
        // The whole word, or so much of it as was typed.
        let longer = name.count.saturating_sub(typed.count);
        if longer <= slips && is_close(&typed.letters, &name.letters, slips) {
            return Some(2);
        }
        let end = name.letters.char_indices().nth(typed.count).map(|(at, _)| at);
        if end.is_some_and(|end| is_close(&typed.letters, &name.letters[..end], slips)) {
            return Some(2);
        }
    }
    (typed.count >= 3 && typed.sound.len() >= 2 && name.sound == typed.sound).then_some(3)
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

    #[test]
    fn everybody_together_is_looked_through_as_each_alone() {
        let names =
            ["siân o'hara", "ansel zielinska", "greta lindqvist", "jo maier", "sian wren", ""];
        let folded: Vec<String> = names.iter().map(|n| fold(n)).collect();
        let all = (1..).map(AttendeeId).zip(folded.iter().map(String::as_str));
        let everybody = Everybody::new(all);
        for typed in ["sian", "lindkvist", "meyer", "zielinksa ansel", "o", "nobody", ""] {
            let typed = Typed::new(typed);
            let alone = folded.iter().enumerate().filter(|_| !typed.is_empty());
            let mut alone: Vec<(u32, AttendeeId)> = alone
                .filter_map(|(n, name)| {
                    Some((typed.distance(name)?, AttendeeId(i64::try_from(n).unwrap() + 1)))
                })
                .collect();
            alone.sort();
            assert_eq!(everybody.nearest(&typed, 10), alone, "{typed:?}");
        }
        assert_eq!((everybody.len(), everybody.nearest(&Typed::new("sian"), 1).len()), (6, 1));
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
