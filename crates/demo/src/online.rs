//! Dates online of the demo house: a talk that is about to begin, with people in its room; one
//! that is past, with a recording and what its room reported.

use jiff::civil::time;
use jiff::{SignedDuration, Timestamp};
use matricle_core::dates::schedule::Span;
use matricle_core::door::foyer::{RoomKind, Stay};
use matricle_core::messages::replies::Reply;
use matricle_core::people::acting::Acting;
use matricle_core::people::who::Who;
use matricle_core::{AttendeeId, DateId};
use matricle_formats::words;
use matricle_store::door as db;
use matricle_store::events::EventState;
use matricle_store::events::{Format, NewDate, NewEvent};
use matricle_store::online::{self, OnlineDate};
use matricle_store::{invited, replies};

use super::{Stands, World, ZONE, ticket};
use matricle_desk::DeskError;
use matricle_desk::acting::Turn;
use matricle_desk::door::foyer;

impl World<'_> {
    /// Adds them.
    pub(super) fn online(&mut self) -> Result<(), DeskError> {
        self.about_to_begin()?;
        self.past_talk()?;
        self.council()
    }

    /// A winter council to which 240 are asked, and what they said.
    fn council(&mut self) -> Result<(), DeskError> {
        let people: Vec<String> = (0..240)
            .map(|n| format!("{}.{n}@post.example", self.name().to_lowercase().replace(' ', ".")))
            .map(|a| a.chars().filter(char::is_ascii).collect())
            .collect();
        let span = self.span(40, time(18, 0, 0, 0), time(20, 0, 0, 0))?;
        let date = self.date(span, ("Millrace Barn", "", "", "", "Ilse Karrow"), &[120]);
        let (event, _) = self.event(NewEvent {
            slug: "winter-council".into(),
            title: "Winter council".into(),
            kind: "Meeting".into(),
            lead: "What the association does next year, and who does it.".into(),
            description: "With soup.".into(),
            state: EventState::Published,
            unlisted: true,
            hold_minutes: 15,
            who: Who::Invited,
            pools: vec!["chairs".into()],
            tickets: vec![ticket("Place", 0, &[(0, 1)])],
            dates: vec![date],
            ..NewEvent::default()
        })?;
        let turn = Turn {
            by: Acting::program(),
            now: self.ago(70),
            host: self.host.into(),
            word: "".into(),
        };
        let nameless: Vec<_> = people.iter().map(|a| (a.clone(), String::new())).collect();
        invited::add(self.tx, event, &nameless, turn.now)?;
        for (n, address) in people.iter().enumerate() {
            matricle_desk::telling::invite(
                self.tx,
                event,
                address,
                &matricle_desk::telling::Ask::First,
                &turn,
            )?;
            let said = match n % 12 {
                0..=4 => Some((Reply::Yes, if n % 24 == 0 { "I bring bread." } else { "" })),
                5 | 6 => Some((Reply::No, if n % 36 == 5 { "Away until spring." } else { "" })),
                7 => Some((Reply::Maybe, "")),
                _ => None,
            };
            if let Some(said) = said {
                let at = self.ago(i64::try_from(60 - n % 55).unwrap_or(1));
                replies::set(self.tx, event, address, said, at)?;
            }
        }
        Ok(())
    }

    /// A date online that begins at an instant and lasts so many minutes.
    fn online_date(
        &self,
        at: Timestamp,
        minutes: i64,
        host: &'static str,
    ) -> Result<NewDate, DeskError> {
        let end = at + SignedDuration::from_mins(minutes);
        let civil = |at| words::local(at, ZONE).datetime();
        let span = Span::new(civil(at), civil(end), ZONE)
            .map_err(|e| DeskError::Internal(e.to_string()))?;
        Ok(self.date(span, ("Online", "", "", "", host), &[60]))
    }

    fn talk(&self, words: [&str; 4], link: &str, date: NewDate) -> Result<DateId, DeskError> {
        let [slug, title, lead, description] = words.map(String::from);
        let (_, dates) = self.event(NewEvent {
            slug,
            title,
            kind: "Talk online".into(),
            lead,
            description,
            state: EventState::Published,
            hold_minutes: 15,
            format: Format::Online,
            online_link: link.into(),
            pools: vec!["seats".into()],
            tickets: vec![ticket("Seat", 0, &[(0, 1)])],
            dates: vec![date],
            ..NewEvent::default()
        })?;
        dates.first().copied().ok_or(DeskError::NotFound)
    }

    /// Books places, and gives them in their order.
    fn places(&mut self, date: DateId, many: i64) -> Result<Vec<AttendeeId>, DeskError> {
        for n in 0..many {
            self.book(date, &[1], Stands::Confirmed, 200 + 7 * n)?;
        }
        let all = db::by_words(self.tx, date, "", u32::MAX)?;
        Ok(all.into_iter().map(|p| p.facts.attendee).collect())
    }

    fn about_to_begin(&mut self) -> Result<(), DeskError> {
        // On a full five minutes, so that it looks like one that somebody planned.
        let five = SignedDuration::from_mins(5).as_secs();
        let soon = self.now.as_second() / five * five + 3 * five;
        let at = Timestamp::from_second(soon).unwrap_or(self.now);
        let date = self.online_date(at, 60, "Owen Pryce")?;
        let date = self.talk(
            [
                "winter-feed-your-questions",
                "Winter feed: your questions",
                "What to give, when to stop, and what the scales say.",
                "Half an hour of slides, half an hour of questions.",
            ],
            "https://rooms.example/winter-feed",
            date,
        )?;
        let how = OnlineDate {
            opens_minutes: 30,
            prepare:
                "Have the weights of your hives at hand.\nQuestions go into the chat of the room."
                    .into(),
            ..OnlineDate::default()
        };
        online::set(self.tx, date, &how)?;
        let places = self.places(date, 7)?;
        for (attendee, ago) in places.into_iter().zip([4i64, 2, 1]) {
            let came = self.now - SignedDuration::from_mins(ago);
            online::add_go(self.tx, attendee, date, "a browser", came)?;
            foyer::come_in(self.tx, attendee, self.host, came)?;
        }
        Ok(())
    }

    fn past_talk(&mut self) -> Result<(), DeskError> {
        let evening = self.midnight(-6)? + SignedDuration::from_hours(19);
        let date = self.online_date(evening, 75, "Dilys Llewellyn")?;
        let date = self.talk(
            [
                "a-year-on-the-scales",
                "A year on the scales",
                "Twelve hives, weighed every hour.",
                "What a colony eats, brings home and breathes out.",
            ],
            "",
            date,
        )?;
        let how = OnlineDate {
            room: RoomKind::Made,
            recorded: true,
            recording: "https://rooms.example/recording/a-year-on-the-scales".into(),
            recording_until: Some(self.midnight(24)?),
            ..OnlineDate::default()
        };
        online::set(self.tx, date, &how)?;
        let after = |minutes: i64| evening + SignedDuration::from_mins(minutes);
        let places = self.places(date, 9)?;
        let mut stays = Vec::new();
        for (n, attendee) in (0i64..).zip(places) {
            let stay = |from, to| Stay { came_at: after(from), left_at: Some(after(to)) };
            match n {
                // Missed it.
                7 => {}
                // Through the foyer, and the room has not seen them.
                6 => {
                    online::add_go(self.tx, attendee, date, "a browser", after(3))?;
                    foyer::come_in(self.tx, attendee, self.host, after(3))?;
                }
                // By another way than their link.
                8 => stays.push((attendee, stay(12, 40))),
                n => {
                    let came = after(n * 2 - 6);
                    online::add_go(self.tx, attendee, date, "a browser", came)?;
                    foyer::come_in(self.tx, attendee, self.host, came)?;
                    stays.push((attendee, stay(n * 2 - 5, 60 + n * 3)));
                }
            }
        }
        Ok(online::set_stays(self.tx, date, &stays)?)
    }
}
