//! Clashes: a room, a host or a set of equipment used twice at one time.
//!
//! A use lasts from the start of setting up to the end of clearing up. Clashes are
//! found and shown, never forbidden.

use std::collections::HashMap;

use jiff::Timestamp;

use crate::DateId;

/// What can be in one place at a time only.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Resource {
    /// A room, by its key.
    Room(i64),
    /// A venue that has no rooms, by its key: all of it.
    Venue(i64),
    /// A host, by their key.
    Host(i64),
    /// A pool of equipment, by its folded name: the house has one set of it.
    Equipment(String),
}

/// A resource used by a date.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Use {
    /// What is used.
    pub resource: Resource,
    /// From this instant, setting up included.
    pub from: Timestamp,
    /// Until this instant, clearing up included.
    pub until: Timestamp,
    /// By which date.
    pub date: DateId,
    /// By which of its sessions; 0 for the date as a whole, whose sessions are a part of it.
    pub session: i64,
}

impl Use {
    /// Whether they are two things: two dates, or two sessions of one date.
    fn is_apart_from(&self, other: &Self) -> bool {
        let two_sessions = self.session != other.session && self.session != 0 && other.session != 0;
        self.date != other.date || two_sessions
    }

    /// Whether both need the same thing at one time; touching is not clashing.
    #[must_use]
    pub fn clashes_with(&self, other: &Self) -> bool {
        self.resource == other.resource
            && self.is_apart_from(other)
            && self.from < other.until
            && other.from < self.until
    }
}

/// Uses of one resource, by their start, with how far those up to each one reach.
#[derive(Debug, Clone, Default)]
struct Lane {
    uses: Vec<Use>,
    reach: Vec<Timestamp>,
}

/// Uses, found by time: a search costs the logarithm of all plus what it finds.
#[derive(Debug, Clone, Default)]
pub struct Calendar {
    lanes: HashMap<Resource, Lane>,
}

impl Calendar {
    /// Puts uses in order.
    #[must_use]
    pub fn new(uses: impl IntoIterator<Item = Use>) -> Self {
        let mut lanes: HashMap<Resource, Lane> = HashMap::new();
        for u in uses {
            lanes.entry(u.resource.clone()).or_default().uses.push(u);
        }
        for lane in lanes.values_mut() {
            lane.uses.sort_unstable();
            let mut reach = Timestamp::MIN;
            lane.reach = lane
                .uses
                .iter()
                .map(|u| {
                    reach = reach.max(u.until);
                    reach
                })
                .collect();
        }
        Self { lanes }
    }

    /// Uses that clash with this one, by their start.
    #[must_use]
    pub fn clashes(&self, mine: &Use) -> Vec<&Use> {
        let Some(lane) = self.lanes.get(&mine.resource) else { return Vec::new() };
        let end = lane.uses.partition_point(|u| u.from < mine.until);
        // `reach` only grows, so everything before `start` is over when this begins.
        let start = lane.reach[..end].partition_point(|r| *r <= mine.from);
        lane.uses[start..end].iter().filter(|u| u.clashes_with(mine)).collect()
    }

    /// Every pair that clashes, once.
    #[must_use]
    pub fn pairs(&self) -> Vec<(&Use, &Use)> {
        let mut pairs: Vec<_> = self
            .lanes
            .values()
            .flat_map(|lane| &lane.uses)
            .flat_map(|mine| {
                self.clashes(mine).into_iter().filter(|o| *o > mine).map(move |o| (mine, o))
            })
            .collect();
        pairs.sort_unstable();
        pairs
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn t(minute: i64) -> Timestamp {
        Timestamp::from_second(minute * 60).unwrap()
    }

    proptest! {
        #[test]
        fn the_search_finds_what_comparing_all_with_all_finds(
            raw in prop::collection::vec((0i64..4, 0i64..500, 1i64..90, 0i64..60, 0i64..3), 0..60),
        ) {
            let uses: Vec<Use> = raw.iter().map(|&(room, from, length, date, session)| Use {
                resource: if room == 3 { Resource::Equipment("suits".into()) } else { Resource::Room(room) },
                from: t(from), until: t(from + length), date: DateId(date), session,
            }).collect();
            let calendar = Calendar::new(uses.clone());
            for mine in &uses {
                let mut slow: Vec<&Use> = uses.iter().filter(|o| o.clashes_with(mine)).collect();
                slow.sort();
                prop_assert_eq!(calendar.clashes(mine), slow);
            }
            let mut slow: Vec<_> = uses.iter().flat_map(|a| {
                uses.iter().filter(move |b| a < *b && a.clashes_with(b)).map(move |b| (a, b))
            }).collect();
            slow.sort();
            prop_assert_eq!(calendar.pairs(), slow);
        }
    }

    #[test]
    fn touching_is_not_clashing_but_clearing_up_is() {
        let evening = |from, until, date| Use {
            resource: Resource::Host(7),
            from: t(from),
            until: t(until),
            date: DateId(date),
            session: 0,
        };
        let calendar = Calendar::new([evening(60, 120, 1), evening(120, 180, 2)]);
        assert!(calendar.pairs().is_empty());
        assert_eq!(calendar.clashes(&evening(115, 125, 3)).len(), 2);
        assert!(calendar.clashes(&evening(115, 125, 1)).iter().all(|u| u.date == DateId(2)));
    }

    #[test]
    fn two_talks_in_one_room_clash_but_not_with_the_day_they_are_a_part_of() {
        let part = |from, until, session| Use {
            resource: Resource::Room(1),
            from: t(from),
            until: t(until),
            date: DateId(1),
            session,
        };
        let calendar = Calendar::new([part(0, 600, 0), part(60, 120, 1), part(100, 160, 2)]);
        assert_eq!(calendar.pairs(), [(&part(60, 120, 1), &part(100, 160, 2))]);
    }
}
