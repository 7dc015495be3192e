//! How much two events are alike: words, time and place together.
//!
//! Two people who hear of one evening both submit it, each in their own words; an evening of a
//! series has the same words and another day. So an event is a **near-copy** of another only
//! where all three agree: it begins about when the other does, nothing says that it is elsewhere,
//! and the words are about the same. Each of the three counts from 0 to 1000; how they were
//! weighed against a made set of 400 is written down in `docs/ARCHITECTURE.md` and held by the
//! test `near_copies`.

use std::collections::{BTreeMap, BTreeSet};
use std::hash::{DefaultHasher, Hash, Hasher};

use jiff::SignedDuration;
use jiff::civil::DateTime;

use crate::words::fold;
use crate::words::search::is_close;

/// An event or a submission, as far as likeness goes.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Sample {
    /// Its title.
    pub title: String,
    /// What it is about, in plain words.
    pub text: String,
    /// Where; may be empty.
    pub place: String,
    /// When its dates start, in order.
    pub starts: Vec<DateTime>,
}

/// A sample, with its words taken apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Known {
    title: BTreeMap<String, u32>,
    /// Letters in threes, in order, each once.
    threes: Vec<[char; 3]>,
    telling: BTreeSet<String>,
    /// The stems of the text, as numbers in order, each once.
    text: Vec<u64>,
    place: BTreeMap<String, u32>,
    starts: Vec<DateTime>,
}

/// How alike two are; each from 0 to 1000.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Likeness {
    /// Titles and texts.
    pub words: u32,
    /// The nearest of their dates.
    pub time: u32,
    /// The places.
    pub place: u32,
}

/// Words that say little: a title of these alone is like many.
const LITTLE: &[&str] = &[
    "the", "a", "an", "of", "for", "and", "in", "on", "at", "to", "with", "our", "your", "from",
    "by", "we", "is", "are", "all", "you", "it", "this", "that", "be", "will",
];

/// Words that tell one of a pair from the other, as numbers do.
const TELLING: &[&str] = &[
    "first",
    "second",
    "third",
    "fourth",
    "beginners",
    "beginner",
    "advanced",
    "intermediate",
    "children",
    "adults",
    "families",
    "juniors",
    "seniors",
    "morning",
    "afternoon",
    "evening",
    "spring",
    "summer",
    "autumn",
    "winter",
    "part",
    "i",
    "ii",
    "iii",
    "iv",
];

/// Words of titles that say what shape a thing has and not what it is about: they count a quarter.
const SHAPES: &[&str] = &[
    "workshop",
    "course",
    "talk",
    "lecture",
    "evening",
    "meeting",
    "together",
    "session",
    "class",
    "practice",
    "beginner",
    "beginners",
    "invitation",
    "open",
    "day",
    "visit",
    "group",
    "circle",
    "club",
    "annual",
    "monthly",
    "weekly",
    "get",
    "introduction",
    "free",
    "public",
];

/// Words of places that many places have: they count a third.
const COMMON: &[&str] = &[
    "hall",
    "house",
    "barn",
    "room",
    "st",
    "saint",
    "church",
    "school",
    "centre",
    "center",
    "library",
    "village",
    "town",
    "old",
    "upper",
    "lower",
    "hut",
    "garden",
    "street",
    "road",
    "community",
    "club",
];

/// From how alike in all on it is a near-copy, and from how alike in each.
const ENOUGH: u32 = 700;
const ENOUGH_WORDS: u32 = 480;
const ENOUGH_TIME: u32 = 600;
const ENOUGH_PLACE: u32 = 400;
/// A place that one of them does not say agrees with any, but not as well as the same.
const UNSAID: u32 = 600;

/// The stem of a word, roughly: what an ending or two of English adds is cut.
fn stem(word: &str) -> &str {
    let cut = |end: &str| word.strip_suffix(end).filter(|w| w.chars().count() >= 3);
    cut("ings")
        .or_else(|| cut("ing"))
        .or_else(|| cut("ies"))
        .or_else(|| cut("es"))
        .or_else(|| cut("ed"))
        .or_else(|| cut("s"))
        .unwrap_or(word)
        .trim_end_matches('e')
}

/// The words of a folded text that say something.
fn tokens(folded: &str) -> impl Iterator<Item = &str> {
    folded.split([' ', '.', '@']).filter(|w| !w.is_empty() && !LITTLE.contains(w))
}

fn in_order<T: Ord>(all: impl Iterator<Item = T>) -> Vec<T> {
    let mut all: Vec<T> = all.collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// A number that stands for a word.
fn number(word: &str) -> u64 {
    let mut hasher = DefaultHasher::new();
    word.hash(&mut hasher);
    hasher.finish()
}

impl Known {
    /// Takes a sample apart.
    #[must_use]
    pub fn of(sample: &Sample) -> Self {
        let title = fold(&sample.title);
        let words: Vec<&str> = tokens(&title).collect();
        let tells = |w: &&&str| TELLING.contains(*w) || w.chars().all(|c| c.is_ascii_digit());
        let about: Vec<&str> = words.iter().copied().filter(|w| !SHAPES.contains(w)).collect();
        let letters: Vec<char> = format!(" {} ", about.join(" ")).chars().collect();
        let threes = letters.windows(3).filter_map(|w| <[char; 3]>::try_from(w).ok());
        Self {
            telling: words.iter().filter(tells).map(|w| (*w).to_owned()).collect(),
            threes: in_order(threes),
            title: words
                .iter()
                .map(|w| (stem(w).to_owned(), if SHAPES.contains(w) { 1 } else { 4 }))
                .collect(),
            text: in_order(tokens(&fold(&sample.text)).map(|w| number(stem(w)))),
            place: place_words(&sample.place),
            starts: sample.starts.clone(),
        }
    }
}

/// The words of a place; those that many places have count a third.
fn place_words(place: &str) -> BTreeMap<String, u32> {
    let weigh = |w: &str| (w.to_owned(), if COMMON.contains(&w) { 1 } else { 3 });
    tokens(&fold(place)).map(weigh).collect()
}

fn thousandths(part: u32, of: u32) -> u32 {
    (part * 1000).checked_div(of).unwrap_or(0).min(1000)
}

fn sum(of: &BTreeMap<String, u32>) -> u32 {
    of.values().sum()
}

/// How many of a set there are, and how many of another, and how many are in both.
fn counts<T: Ord>(a: &[T], b: &[T]) -> (u32, u32, u32) {
    let count = |n: usize| u32::try_from(n).unwrap_or(u32::MAX / 4);
    let (mut i, mut j, mut both) = (0, 0, 0);
    while let (Some(x), Some(y)) = (a.get(i), b.get(j)) {
        both += usize::from(x == y);
        i += usize::from(x <= y);
        j += usize::from(y <= x);
    }
    (count(a.len()), count(b.len()), count(both))
}

/// Dice's coefficient of two sets.
fn dice<T: Ord>(a: &[T], b: &[T]) -> u32 {
    let (of_a, of_b, both) = counts(a, b);
    thousandths(2 * both, of_a + of_b)
}

/// How much of the smaller of two sets is in the other.
fn held<T: Ord>(a: &[T], b: &[T]) -> u32 {
    let (of_a, of_b, both) = counts(a, b);
    thousandths(both, of_a.min(of_b))
}

/// Whether a word, or one that a slip or two made of it, is in a set.
fn has(word: &str, set: &BTreeMap<String, u32>) -> bool {
    let most = match word.chars().count() {
        0..=3 => 0,
        4..=7 => 1,
        _ => 2,
    };
    set.contains_key(word) || most > 0 && set.keys().any(|other| is_close(word, other, most))
}

/// What two sets of words share, slips forgiven: of the first, and of the second.
fn shared_words(a: &BTreeMap<String, u32>, b: &BTreeMap<String, u32>) -> (u32, u32) {
    let found = |a: &BTreeMap<String, u32>, b: &BTreeMap<String, u32>| {
        a.iter().filter(|(w, _)| has(w, b)).map(|(_, n)| n).sum()
    };
    (found(a, b), found(b, a))
}

fn words(a: &Known, b: &Known) -> u32 {
    // Letters in threes forgive a word that is put together otherwise, whole words another order.
    let (there, back) = shared_words(&a.title, &b.title);
    let (all, less) = (sum(&a.title) + sum(&b.title), sum(&a.title).min(sum(&b.title)));
    let mut title = dice(&a.threes, &b.threes).max(thousandths(there + back, all));
    if less >= 8 {
        title = title.max(thousandths(there.min(back), less) * 9 / 10);
    }
    // Part one and part two, children and adults, are two.
    if !a.telling.is_subset(&b.telling) && !b.telling.is_subset(&a.telling) {
        title /= 2;
    }
    let few = a.text.len().min(b.text.len());
    if few < 6 {
        return title;
    }
    let text = dice(&a.text, &b.text).max(held(&a.text, &b.text) * 8 / 10);
    // A text taken over whole tells a copy under another title; texts of one's own do not tell
    // against the same title.
    let text_alone = if text >= 850 { text * 9 / 10 } else { 0 };
    ((title * 3 + text) / 4).max(text_alone).max(title * 7 / 8)
}

fn time(a: &[DateTime], b: &[DateTime]) -> u32 {
    let mut best = 0;
    let (few, many) = if a.len() < b.len() { (a, b) } else { (b, a) };
    let half = SignedDuration::from_hours(13);
    for one in few {
        // Dates are in order: only those about half a day away can be near.
        let (from, until) = (one.saturating_sub(half), one.saturating_add(half));
        let first = many.partition_point(|s| *s < from);
        for other in many[first..].iter().take_while(|s| **s < until) {
            let apart = one.duration_since(*other).abs().as_mins();
            let near = match apart {
                0..=15 => 1000,
                16..=60 => 900,
                61..=120 => 750,
                _ if one.date() == other.date() => 500,
                _ => 0,
            };
            best = best.max(near);
        }
    }
    // A run of which one evening is shared is not the same thing as that evening.
    let lone = a.len().min(b.len()) == 1 && a.len().max(b.len()) > 1;
    if lone { best * 9 / 10 } else { best }
}

fn place(a: &BTreeMap<String, u32>, b: &BTreeMap<String, u32>) -> u32 {
    if a.is_empty() || b.is_empty() {
        return UNSAID;
    }
    // `Guild Hall` and `Guildhall`.
    let joined = |s: &BTreeMap<String, u32>, o: &BTreeMap<String, u32>| {
        let made = |x: &str, y: &str| o.keys().any(|w| w.strip_prefix(x) == Some(y));
        s.keys().any(|x| s.keys().any(|y| x != y && made(x, y)))
    };
    if joined(a, b) || joined(b, a) {
        return 900;
    }
    let (there, back) = shared_words(a, b);
    let whole = thousandths(there + back, sum(a) + sum(b));
    let part = thousandths(there.min(back), sum(a).min(sum(b)));
    whole.max(part * 85 / 100)
}

/// Whether two agree in time and place well enough for their words to matter: what differs there
/// need not be read.
#[must_use]
pub fn may_be(a: &Known, there: &str, starts: &[DateTime]) -> bool {
    time(&a.starts, starts) >= ENOUGH_TIME && place(&a.place, &place_words(there)) >= ENOUGH_PLACE
}

/// Compares two.
#[must_use]
pub fn compare(a: &Known, b: &Known) -> Likeness {
    let time = time(&a.starts, &b.starts);
    if time == 0 {
        return Likeness { words: 0, time, place: 0 };
    }
    Likeness { words: words(a, b), time, place: place(&a.place, &b.place) }
}

impl Likeness {
    /// All three in one, from 0 to 1000: words count for half.
    #[must_use]
    pub const fn total(self) -> u32 {
        (self.words * 2 + self.time + self.place) / 4
    }

    /// Whether one is a near-copy of the other.
    #[must_use]
    pub const fn is_copy(self) -> bool {
        self.words >= ENOUGH_WORDS
            && self.time >= ENOUGH_TIME
            && self.place >= ENOUGH_PLACE
            && self.total() >= ENOUGH
    }

    /// What agrees, in words.
    #[must_use]
    pub fn evidence(self) -> String {
        let percent = |n: u32| n / 10;
        let place = if self.place == UNSAID {
            "one of them says no place".to_owned()
        } else {
            format!("places {} %", percent(self.place))
        };
        format!(
            "Words agree to {} %, times to {} %, {place}.",
            percent(self.words),
            percent(self.time)
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::datetime;

    fn sample(title: &str, text: &str, place: &str, day: i8, hour: i8) -> Known {
        let starts = vec![datetime(2027, 1, day, hour, 0, 0, 0)];
        Known::of(&Sample { title: title.into(), text: text.into(), place: place.into(), starts })
    }

    #[test]
    fn two_wordings_of_one_evening_are_found() {
        let text = "We pour dipped and rolled candles from our own wax. Bring an apron and a jar.";
        let one = sample("Candle making for beginners", text, "Guildhall, Ostrel", 12, 19);
        for other in [
            sample("Beginners’ candle making", text, "Guild Hall", 12, 19),
            sample("Candel making for beginers", "", "Guildhall", 12, 20),
            sample("An evening with wax", text, "Guildhall", 12, 19),
            sample("Candle making for beginners", "", "", 12, 19),
        ] {
            assert!(compare(&one, &other).is_copy(), "{:?}", compare(&one, &other));
            assert_eq!(compare(&one, &other), compare(&other, &one));
        }
    }

    #[test]
    fn what_differs_in_one_of_three_is_no_copy() {
        let text = "We pour dipped and rolled candles from our own wax. Bring an apron and a jar.";
        let one = sample("Candle making, part 1", text, "Guildhall, Ostrel", 12, 19);
        for (why, other) in [
            (
                "the next evening of a series",
                sample("Candle making, part 1", text, "Guildhall, Ostrel", 19, 19),
            ),
            ("the same elsewhere", sample("Candle making, part 1", text, "Millrace Barn", 12, 19)),
            (
                "another thing there and then",
                sample("The dark bee", "A talk on queens.", "Guildhall, Ostrel", 12, 19),
            ),
            ("the other part", sample("Candle making, part 2", "", "Guildhall, Ostrel", 12, 17)),
        ] {
            assert!(!compare(&one, &other).is_copy(), "{why}: {:?}", compare(&one, &other));
        }
    }
}
