//! Near-copies against a made set: 400 submissions of one season, 60 pairs of which are two
//! wordings of one event.
//!
//! The set is made by the recipe below and by nothing else: 340 events of a club's year (series,
//! parallel talks in one house, the same open day at four places, workshops for children and for
//! adults on one day), and 60 more that are second wordings of 60 of them. A second wording takes
//! one or two of nine changes that people make: a slip in the title, another order of its words,
//! a word before it, a synonym, a text of one's own, a shortened text, a start that is half an
//! hour off, the place written otherwise, the place left out (but not of an open day that is at
//! several places: nobody could tell which it is). The weights of `review::likeness`
//! were set by looking at the pairs that seeds 1 to 20 missed or invented; the seeds below are
//! others.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::too_many_lines, reason = "a test is one story")]

use std::collections::BTreeSet;

use jiff::ToSpan;
use jiff::civil::{DateTime, datetime};
use matricle_core::review::likeness::{Known, Sample, compare};

/// A small generator (Marsaglia's xorshift), so that the set is the same everywhere.
struct Dice(u64);

impl Dice {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    fn below(&mut self, n: usize) -> usize {
        usize::try_from(self.next() % n as u64).unwrap()
    }

    fn one<'a>(&mut self, of: &[&'a str]) -> &'a str {
        of[self.below(of.len())]
    }
}

const WHAT: &[&str] = &[
    "candle making",
    "queen rearing",
    "honey tasting",
    "mead brewing",
    "hive inspection",
    "pollen microscopy",
    "wax moulding",
    "swarm catching",
    "skep weaving",
    "winter feeding",
    "varroa treatment",
    "bee photography",
    "hedge planting",
    "seed swap",
    "orchard walk",
    "solitary bee hotels",
    "heather honey",
    "frame wiring",
    "branch meeting",
    "committee meeting",
    "garden open day",
    "bee reading circle",
    "honey cookery",
    "label printing",
];
const SHAPE: &[&str] = &[
    "{}",
    "{} for beginners",
    "An evening of {}",
    "{} workshop",
    "{} in practice",
    "Talk: {}",
    "{} together",
];
const PLACE: &[&str] = &[
    "Guildhall, Ostrel",
    "Millrace Barn",
    "St Brannock's Hall",
    "Ferry House, Lower Quay",
    "Village school, Thorne",
    "Hexley Library",
    "Allotment hut, Sandbank",
    "The Old Forge",
    "Town orchard",
    "Moorside Chapel",
];
const SAYS: &[&str] = &[
    "Bring an apron and old clothes.",
    "Tea and cake afterwards.",
    "Everybody is welcome, with or without bees.",
    "We share tools and look at what each has done.",
    "Numbers are small, so come in time.",
    "Dogs stay at home, please.",
    "Children come with somebody grown up.",
    "We begin indoors and go outside if it stays dry.",
    "A collection is taken for the roof.",
    "Our guest has kept colonies on the moor for thirty years.",
    "Wax, wicks and moulds are there.",
    "Last year's notes are handed round.",
    "There is room for ten cars behind the wall.",
    "The kettle is on from half past.",
    "We end with questions.",
];

fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or_else(String::new, |c| c.to_uppercase().chain(letters).collect())
}

fn text(dice: &mut Dice, what: &str) -> String {
    let mut said = vec![format!("This is about {what}.")];
    for _ in 0..2 + dice.below(4) {
        said.push(dice.one(SAYS).to_owned());
    }
    said.join(" ")
}

fn event(dice: &mut Dice) -> Sample {
    let what = dice.one(WHAT);
    let title = capital(&dice.one(SHAPE).replace("{}", what));
    let days = i64::try_from(dice.below(330)).unwrap();
    let halves = i64::try_from(dice.below(22)).unwrap();
    let start = datetime(2027, 1, 4, 9, 0, 0, 0) + days.days() + (30 * halves).minutes();
    Sample { text: text(dice, what), title, place: dice.one(PLACE).into(), starts: vec![start] }
}

fn slip(dice: &mut Dice, title: &str) -> String {
    let mut letters: Vec<char> = title.chars().collect();
    let at = 1 + dice.below(letters.len() - 2);
    match dice.below(3) {
        0 => letters.swap(at, at - 1),
        1 => drop(letters.remove(at)),
        _ => letters.insert(at, letters[at]),
    }
    letters.into_iter().collect()
}

/// A second wording of an event.
fn reworded(dice: &mut Dice, one: &Sample, several: bool) -> Sample {
    let mut other = one.clone();
    for _ in 0..=dice.below(2) {
        match dice.below(9) {
            0 => other.title = slip(dice, &other.title),
            1 => {
                let mut words: Vec<&str> = other.title.split(' ').collect();
                words.rotate_left(1);
                other.title = words.join(" ");
            }
            2 => other.title = format!("Invitation: {}", other.title),
            3 => {
                let words =
                    [("workshop", "course"), ("making", "craft"), ("meeting", "get-together")];
                for (from, to) in words {
                    other.title = other.title.replace(from, to);
                }
            }
            4 => other.text = text(dice, "something we all like"),
            5 => other.text = other.text.split(". ").next().unwrap().to_owned(),
            6 => other.starts[0] += 30.minutes(),
            7 => {
                let place = other.place.split(',').next().unwrap();
                other.place = place
                    .replace("St Brannock's", "Saint Brannocks")
                    .replace("Guildhall", "Guild Hall");
            }
            _ if !several => other.place = String::new(),
            _ => {}
        }
    }
    other
}

/// The season, and which of it are pairs.
fn season(seed: u64) -> (Vec<Sample>, BTreeSet<(usize, usize)>) {
    let mut dice = Dice(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1);
    let mut all: Vec<Sample> = Vec::new();
    let later = |at: DateTime, days: i64| at + days.days();
    while all.len() < 120 {
        // Series: the same words in the same place, week after week.
        let first = event(&mut dice);
        for week in 0..2 + i64::try_from(dice.below(4)).unwrap() {
            all.push(Sample { starts: vec![later(first.starts[0], 7 * week)], ..first.clone() });
        }
    }
    let first_of_several = all.len();
    while all.len() < 160 {
        // The same open day at several places.
        let first = event(&mut dice);
        for place in PLACE.iter().take(4) {
            all.push(Sample { place: (*place).into(), ..first.clone() });
        }
    }
    let places = first_of_several..all.len();
    while all.len() < 200 {
        // Another talk in the same house on the same evening.
        let (first, other) = (event(&mut dice), event(&mut dice));
        let about = |s: &Sample| WHAT.iter().position(|w| s.title.to_lowercase().contains(w));
        if about(&first) == about(&other) {
            continue;
        }
        let starts = vec![first.starts[0] + 1.hour()];
        all.push(Sample { place: first.place.clone(), starts, ..other });
        all.push(first);
    }
    while all.len() < 230 {
        // For children in the morning, for adults in the afternoon.
        let first = event(&mut dice);
        let starts = vec![first.starts[0] + 3.hours()];
        let title = format!("{}, for adults", first.title);
        all.push(Sample { title, starts, ..first.clone() });
        all.push(Sample { title: format!("{}, for children", first.title), ..first });
    }
    while all.len() < 340 {
        all.push(event(&mut dice));
    }
    all.truncate(340);
    let mut pairs = BTreeSet::new();
    let mut taken = BTreeSet::new();
    while pairs.len() < 60 {
        let of = dice.below(340);
        if taken.insert(of) {
            let copy = reworded(&mut dice, &all[of], places.contains(&of));
            pairs.insert((of, all.len()));
            all.push(copy);
        }
    }
    (all, pairs)
}

fn found(all: &[Sample]) -> BTreeSet<(usize, usize)> {
    let known: Vec<Known> = all.iter().map(Known::of).collect();
    let mut found = BTreeSet::new();
    for (a, one) in known.iter().enumerate() {
        for (b, other) in known.iter().enumerate().skip(a + 1) {
            if compare(one, other).is_copy() {
                found.insert((a, b));
            }
        }
    }
    found
}

#[test]
fn of_sixty_pairs_in_four_hundred_nearly_all_are_found_and_hardly_one_is_invented() {
    let seeds = std::env::var("SEEDS").ok();
    let seeds: Vec<u64> = seeds.map_or_else(
        || vec![2027, 4711, 90210],
        |s| s.split(',').map(|n| n.parse().unwrap()).collect(),
    );
    let mut outcome = Vec::new();
    for seed in seeds {
        let (all, pairs) = season(seed);
        assert_eq!((all.len(), pairs.len()), (400, 60));
        let found = found(&all);
        let missed: Vec<_> = pairs.difference(&found).collect();
        let invented: Vec<_> = found.difference(&pairs).collect();
        for (a, b) in missed.iter().chain(&invented) {
            let like = compare(&Known::of(&all[*a]), &Known::of(&all[*b]));
            eprintln!("{like:?} {}\n  {:?}\n  {:?}", like.total(), all[*a], all[*b]);
        }
        outcome.push((seed, 60 - missed.len(), invented.len()));
    }
    let good = |(_, right, wrong): &(u64, usize, usize)| *right >= 57 && *wrong <= 3;
    eprintln!("{outcome:?}");
    assert!(outcome.iter().all(good), "(seed, found of 60, invented): {outcome:?}");
}
