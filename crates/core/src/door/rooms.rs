//! Doors of rooms, where sessions are: sign-ups come in first, and after some minutes whoever is
//! there takes the seats of those who are not.

use jiff::{SignedDuration, Timestamp};

use super::Verdict;
use crate::SessionId;

/// How long before a session the door of its room is for it, if nothing else is on there.
const BEFORE: SignedDuration = SignedDuration::from_hours(1);

/// When a session is in its room.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Slot {
    /// The session.
    pub session: SessionId,
    /// When it starts.
    pub from: Timestamp,
    /// When it ends.
    pub until: Timestamp,
}

/// From when to when the door of a room is for each of its sessions: from the end of what is on
/// before it, at most an hour ahead, until its own end. Told in the order of their starts.
#[must_use]
pub fn at_the_door(slots: &[Slot]) -> Vec<(Slot, Timestamp)> {
    let mut slots = slots.to_vec();
    slots.sort_by_key(|s| (s.from, s.session));
    let mut before: Option<Timestamp> = None;
    slots
        .into_iter()
        .map(|slot| {
            let earliest = slot.from.saturating_sub(BEFORE).unwrap_or(slot.from);
            let opens = before.map_or(earliest, |end| end.max(earliest));
            before = Some(before.map_or(slot.until, |end| end.max(slot.until)));
            (slot, opens)
        })
        .collect()
}

/// The session that the door of a room is for at `now`, if it is for one.
#[must_use]
pub fn on_now(slots: &[Slot], now: Timestamp) -> Option<SessionId> {
    let all = at_the_door(slots);
    all.iter().find(|(slot, opens)| *opens <= now && now < slot.until).map(|(slot, _)| slot.session)
}

/// A session as its door sees it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Room {
    /// The session.
    pub session: SessionId,
    /// Seats; `None` for as many as come.
    pub seats: Option<u32>,
    /// Whether one signs up for it.
    pub sign_up: bool,
    /// How many have signed up.
    pub signed_up: u32,
    /// How many of those are in the room.
    pub signed_in: u32,
    /// How many others are in the room.
    pub others_in: u32,
    /// From when the seats of those who have not come are free.
    pub free_from: Timestamp,
}

impl Room {
    /// People in the room.
    #[must_use]
    pub const fn inside(&self) -> u32 {
        self.signed_in.saturating_add(self.others_in)
    }

    /// Seats that whoever has not signed up may take at `now`; `None` for as many as come.
    #[must_use]
    pub fn free(&self, now: Timestamp) -> Option<u32> {
        let kept = if self.sign_up && now < self.free_from {
            self.signed_up.max(self.signed_in)
        } else {
            self.signed_in
        };
        self.seats.map(|seats| seats.saturating_sub(kept).saturating_sub(self.others_in))
    }
}

/// What somebody at the door of a room has signed up for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SignedUp {
    /// For this session.
    Here,
    /// For another one at the same time.
    Elsewhere {
        /// What the door of its room is called.
        door: String,
    },
    /// For nothing that is on.
    Nothing,
}

/// The verdict at the door of a room on somebody whose ticket says `whole` for the date, of whom
/// `coming` come in together. `inside` tells when and where they came into this session.
///
/// What stops them at the date's door stops them here; being in already does not, since they
/// are expected to be. What is to be paid comes after what the room says: it is asked of nobody
/// who would not come in.
#[must_use]
pub fn verdict(
    whole: Verdict,
    room: &Room,
    signed_up: &SignedUp,
    inside: Option<(Timestamp, String)>,
    coming: u32,
    now: Timestamp,
) -> Verdict {
    if let Verdict::ToPay { .. } = whole {
        let paid = verdict(Verdict::ComeIn, room, signed_up, inside, coming, now);
        return if paid.admits() { whole } else { paid };
    }
    if !matches!(whole, Verdict::ComeIn | Verdict::AlreadyIn { .. }) {
        return whole;
    }
    if let Some((at, door)) = inside {
        return Verdict::AlreadyIn { at, door };
    }
    let early = room.sign_up && now < room.free_from;
    match (signed_up, room.seats) {
        (SignedUp::Elsewhere { door }, Some(_)) if early => {
            return Verdict::OtherDoor { door: door.clone() };
        }
        // Their seats are kept for them.
        (SignedUp::Here, Some(_)) if early => return Verdict::ComeIn,
        _ => {}
    }
    match (room.free(now), room.seats) {
        (Some(free), Some(_)) if free < coming && early => {
            Verdict::SignUpsFirst { from: room.free_from }
        }
        (Some(free), Some(most)) if free < coming => Verdict::Full { inside: room.inside(), most },
        _ => Verdict::ComeIn,
    }
}

/// The verdict at the door of a room on somebody who goes out of it.
#[must_use]
pub fn verdict_out(whole: Verdict, inside: bool) -> Verdict {
    match whole {
        Verdict::AlreadyIn { .. } | Verdict::ComeIn if inside => Verdict::Out,
        Verdict::Cancelled
        | Verdict::Test
        | Verdict::Unknown
        | Verdict::Misread
        | Verdict::StampCard { .. }
        | Verdict::OtherDate { .. } => whole,
        _ => Verdict::NotIn,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn t(minute: i64) -> Timestamp {
        Timestamp::from_second(minute * 60).unwrap()
    }

    #[test]
    fn a_door_is_for_what_is_on_and_then_for_what_comes_next() {
        let slot = |session, from, until| Slot {
            session: SessionId(session),
            from: t(from),
            until: t(until),
        };
        let day = [slot(2, 660, 705), slot(1, 600, 645), slot(3, 900, 945)];
        let at = |minute| on_now(&day, t(minute)).map(|s| s.0);
        assert_eq!((at(539), at(540), at(644)), (None, Some(1), Some(1)));
        assert_eq!((at(645), at(704), at(705)), (Some(2), Some(2), None));
        assert_eq!((at(839), at(840), at(945)), (None, Some(3), None));
    }

    #[test]
    fn sign_ups_first_then_free_seats() {
        let room = Room {
            session: SessionId(1),
            seats: Some(3),
            sign_up: true,
            signed_up: 3,
            signed_in: 1,
            others_in: 0,
            free_from: t(10),
        };
        let says = |room: &Room, signed_up: &SignedUp, minute| {
            verdict(Verdict::ComeIn, room, signed_up, None, 1, t(minute))
        };
        let (here, none) = (SignedUp::Here, SignedUp::Nothing);
        let elsewhere = SignedUp::Elsewhere { door: "Upper room".into() };
        assert_eq!(says(&room, &here, 0), Verdict::ComeIn);
        assert_eq!(says(&room, &none, 9), Verdict::SignUpsFirst { from: t(10) });
        assert_eq!(says(&room, &elsewhere, 9), Verdict::OtherDoor { door: "Upper room".into() });
        assert_eq!(says(&room, &elsewhere, 10), Verdict::ComeIn);
        let taken = Room { others_in: 2, ..room };
        for late in [&here, &none] {
            assert_eq!(says(&taken, late, 10), Verdict::Full { inside: 3, most: 3 });
        }
        assert_eq!(says(&Room { signed_up: 2, ..room }, &none, 0), Verdict::ComeIn, "a spare seat");
        let open = Room { seats: None, sign_up: false, ..room };
        assert_eq!(says(&open, &elsewhere, 0), Verdict::ComeIn);
        let due = Verdict::ToPay { due: crate::Currency::EUR.of(800) };
        assert_eq!(verdict(due.clone(), &room, &here, None, 1, t(0)), due);
        let full = Verdict::Full { inside: 3, most: 3 };
        assert_eq!(verdict(due, &taken, &here, None, 1, t(10)), full, "before any money");
        let again = verdict(Verdict::ComeIn, &room, &here, Some((t(3), "Hall".into())), 1, t(5));
        assert_eq!(again, Verdict::AlreadyIn { at: t(3), door: "Hall".into() });
        assert_eq!(verdict_out(Verdict::ComeIn, true), Verdict::Out);
        assert_eq!(verdict_out(Verdict::Cancelled, true), Verdict::Cancelled);
    }

    proptest! {
        /// Whoever comes, in whatever order: the room never holds more than its seats, and a
        /// sign-up who comes before the seats are free has one.
        #[test]
        fn a_sign_up_in_time_has_a_seat_and_the_room_is_never_over_full(
            seats in 1u32..6, signed_up in 0u32..6,
            mut comers in prop::collection::vec((0i64..20, any::<bool>()), 0..16),
        ) {
            let signed_up = signed_up.min(seats);
            comers.sort_unstable();
            let mut room = Room {
                session: SessionId(1), seats: Some(seats), sign_up: true, signed_up, signed_in: 0,
                others_in: 0, free_from: t(10),
            };
            let mut left = signed_up;
            for (minute, signed) in comers {
                let signed = signed && left > 0;
                let who = if signed { SignedUp::Here } else { SignedUp::Nothing };
                let said = verdict(Verdict::ComeIn, &room, &who, None, 1, t(minute));
                prop_assert!(!signed || minute >= 10 || said.admits(), "{said:?} {room:?}");
                if signed { left -= 1; }
                if said.admits() {
                    if signed { room.signed_in += 1 } else { room.others_in += 1 }
                }
                prop_assert!(room.inside() <= seats);
            }
        }
    }
}
