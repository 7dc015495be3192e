//! Messages that plan themselves: what is planned is what a naive list says, after anything that
//! happens; nobody hears anything twice.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::forms::form::Fault;
use matricle_core::words::codes::Reference;
use matricle_core::{CueId, DateId, EventId, MessageId};
use matricle_desk::DeskError;
use matricle_desk::bookings::cancel::{self, By};
use matricle_desk::bookings::{decide, move_date, pay};
use matricle_desk::messages::outbox::{self as office, Steer};
use matricle_desk::messages::wordings::{self, Whose};
use matricle_desk::messages::{announcements, cues};
use matricle_desk::outside::provider::Status;
use matricle_desk::planning::dates::{self, Scope};
use matricle_store::outbox::{self, Look, MessageState};
use matricle_store::{bookings, events, readers};

use crate::world::{BOOKER, CANDLES, FREE, World, form, text_of, world};

const DIPPING: &str = "thursday-dipping";

/// Chance that gives the same run for the same seed (xorshift64*).
struct Chance(u64);

impl Chance {
    fn below(&mut self, n: usize) -> usize {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        usize::try_from(self.0.wrapping_mul(0x2545_F491_4F6C_DD1D) >> 33).unwrap() % n
    }
}

/// A reminder as the outbox has it: cue, reader, date, state, minute.
type Row = (i64, String, i64, String, i64);

impl World {
    pub(crate) async fn event_named(&self, slug: &'static str) -> EventId {
        let find = move |c: &matricle_store::Connection| events::by_slug(c, slug);
        self.desk.store.read(find).await.unwrap().unwrap().id
    }

    async fn dates_of(&self, event: EventId) -> Vec<events::Date> {
        self.desk.store.read(move |c| events::dates_of(c, event)).await.unwrap()
    }

    async fn rows_of(&self, event: EventId, standard: &'static str) -> Vec<Row> {
        self.desk
            .store
            .read(move |c| {
                let mut q = c.prepare(
                    "SELECT o.cue_id, o.reader, o.date_id, o.state, o.planned_at FROM outbox o
                     JOIN dates d ON d.id = o.date_id JOIN templates t ON t.id = o.template_id
                     WHERE d.event_id = ?1 AND t.standard = ?2 ORDER BY o.id",
                )?;
                let rows: Result<Vec<Row>, _> = q
                    .query_map((event.0, standard), |r| {
                        Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?))
                    })?
                    .collect();
                Ok::<_, matricle_store::StoreError>(rows?)
            })
            .await
            .unwrap()
    }

    /// The minutes of the reminder as somebody would reckon them by hand: the day before at six
    /// by the clock of the date, for everybody confirmed on a date that takes place.
    async fn naive(&self, event: EventId, is_on: bool) -> BTreeMap<(String, i64), Timestamp> {
        let dates = self.dates_of(event).await;
        self.desk
            .store
            .read(move |c| {
                let mut expected = BTreeMap::new();
                if !is_on {
                    return Ok::<_, DeskError>(expected);
                }
                for date in dates.iter().filter(|d| d.called_off.is_empty()) {
                    let day = date.span.starts.date().yesterday().unwrap();
                    let zone = jiff::tz::TimeZone::get(&date.span.zone).unwrap();
                    let six = zone.to_timestamp(day.at(18, 0, 0, 0)).unwrap();
                    let which = readers::Which::all_of(date.id);
                    for b in readers::booked(c, which, &[])?.iter().filter(|b| b.date == date.id) {
                        let state = bookings::by_id(c, b.booking)?.unwrap().state;
                        if state == State::Confirmed && b.person.since <= six && b.person.stands {
                            expected.insert((format!("b{}", b.booking), date.id.0), six);
                        }
                    }
                }
                Ok(expected)
            })
            .await
            .unwrap()
    }
}

/// Whatever happens to bookings and dates, what is planned is what a naive list says, what was
/// sent stays sent, and nobody is planned for twice.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_planned_is_what_a_naive_list_says_after_anything_that_happens() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let event = w.event_named(DIPPING).await;
    let by = || By::Staff(ilse.clone(), None);
    let mut chance = Chance(0x00C0_FFEE);
    let mut mine: Vec<Reference> = Vec::new();
    let (mut is_on, mut gone): (bool, BTreeSet<(String, i64)>) = (true, BTreeSet::new());
    let sheet = cues::load(&w.desk, &ilse, Some(event)).await.unwrap();
    let roomy = "UPDATE pools SET capacity = 500 WHERE date_id IN
        (SELECT d.id FROM dates d JOIN events e ON e.id = d.event_id WHERE e.slug = 'thursday-dipping')";
    w.desk
        .store
        .write(move |tx| tx.execute_batch(roomy).map_err(matricle_store::StoreError::from))
        .await
        .unwrap();
    let mut reminder: CueId = sheet.cues.iter().find(|c| c.template == "Reminder").unwrap().cue.id;
    for step in 0..110 {
        let now = w.desk.clock.now();
        let coming: Vec<events::Date> = w
            .dates_of(event)
            .await
            .into_iter()
            .filter(|d| d.span.starts_at > now && d.called_off.is_empty())
            .take(5)
            .collect();
        let what = chance.below(10);
        match what {
            0..=3 if mine.len() < 12 && w.free(DIPPING).await > 0 => {
                let reference = w.book(DIPPING, &[1]).await;
                if w.state(reference).await != State::Confirmed {
                    w.provider.decide(matricle_desk::outside::provider::Status::Paid);
                    let _ = matricle_desk::bookings::pay::ask(&w.desk, reference).await;
                }
                mine.push(reference);
            }
            4 if !mine.is_empty() => {
                let reference = mine[chance.below(mine.len())];
                let _ = cancel::cancel(&w.desk, by(), reference, Vec::new()).await;
            }
            5 if !mine.is_empty() => {
                let reference = mine[chance.below(mine.len())];
                let _ = decide::bring_back(&w.desk, &ilse, reference).await;
            }
            6 if !mine.is_empty() && coming.len() > 1 => {
                let reference = mine[chance.below(mine.len())];
                let to = coming[chance.below(coming.len())].id;
                let _ = move_date::move_to(&w.desk, by(), reference, to).await;
            }
            7 if !coming.is_empty() => {
                let date = &coming[chance.below(coming.len())];
                let day = date
                    .span
                    .starts
                    .date()
                    .checked_add(jiff::Span::new().days(i64::try_from(chance.below(3)).unwrap()))
                    .unwrap();
                let hour = 10 + chance.below(8);
                let moved = form(&[
                    ("day", &day.to_string()),
                    ("from", &format!("{hour}:15")),
                    ("until", &format!("{}:45", hour + 1)),
                    ("venue", &date.venue),
                    ("room", &date.room),
                    ("hosts", &date.hosts),
                    ("seats_0", ""),
                ]);
                let _ = dates::change(&w.desk, &ilse, date.id, Scope::One, moved, true).await;
            }
            // It is off for a while only.
            8 if is_on == (step % 4 == 0) => {
                is_on = !is_on;
                reminder =
                    cues::switch(&w.desk, &ilse, Some(event), reminder, is_on).await.unwrap();
            }
            9 if step % 4 == 0 && coming.len() > 3 => {
                let last = coming.last().unwrap().id;
                let off = dates::call_off(&w.desk, &ilse, event, Some(last), "Wind.".into());
                off.await.unwrap();
            }
            _ => w.pass(60 * 11),
        }
        w.due().await;
        let now = w.desk.clock.now();
        let rows = w.rows_of(event, "reminder").await;
        let expected = w.naive(event, is_on).await;
        let mut planned = BTreeMap::new();
        for (_, reader, date, state, at) in &rows {
            let key = (reader.clone(), *date);
            match state.as_str() {
                "planned" => {
                    assert!(planned.insert(key, matricle_store::at(*at)).is_none(), "twice");
                }
                "sent" => {
                    gone.insert(key);
                }
                _ => {}
            }
        }
        // What is ahead is planned to the minute, but for those who heard of it already.
        let ahead: BTreeMap<_, _> =
            expected.into_iter().filter(|(key, at)| *at > now && !gone.contains(key)).collect();
        planned.retain(|key, _| !gone.contains(key));
        assert_eq!(planned, ahead, "after step {step}, {what}");
        let sent = rows.iter().filter(|r| r.3 == "sent").map(|r| (r.1.clone(), r.2));
        let sent: Vec<_> = sent.collect();
        assert_eq!(sent.len(), sent.iter().collect::<BTreeSet<_>>().len(), "told twice");
        assert!(gone.iter().all(|key| sent.contains(key)), "unsent");
    }
    let rows = w.rows_of(event, "reminder").await;
    assert!(!gone.is_empty() && mine.len() > 5, "{rows:?} at {}", w.desk.clock.now());
    w.sound().await;
}

/// *You never told me*: what went is shown word for word; what has not gone is steered.
#[tokio::test(flavor = "multi_thread")]
async fn what_went_is_proved_and_what_has_not_gone_is_steered() {
    let w = world().await;
    let (ilse, nia) = (w.staff(0).await, w.staff(1).await);
    let reference = w.book(FREE, &[1]).await;
    w.due().await;
    let id = w.sheet(reference).await.booking.id;
    let all = || async { w.desk.store.read(move |c| outbox::of_booking(c, id)).await.unwrap() };
    let mine = all().await;
    let sent = mine.iter().find(|m| m.state == MessageState::Sent).unwrap();
    let shown = office::show(&w.desk, &ilse, sent.id).await.unwrap();
    let (subject, words) = shown.words.unwrap();
    let raw = w.mails.taken().pop().unwrap();
    let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
    assert!(shown.as_sent && subject == mail.subject().unwrap());
    let text = text_of(&mail).replace("\r\n", "\n");
    assert!(words.starts_with(text.trim_end()), "{words}\n\n{text}");
    assert!(words.contains("tickets-") && words.contains("bytes]"), "files by name: {words}");
    // Who may not change a booking reads the same words, and no link in them opens it.
    let own = w.desk.booking_url(reference);
    assert!(words.contains(&own), "{words}");
    let petra = w.staff(4).await;
    let (same, read) = office::show(&w.desk, &petra, sent.id).await.unwrap().words.unwrap();
    let without = words.replace(&own, &format!("{}/booking/…", w.desk.public_url));
    assert_eq!((same, read), (subject, without));
    let opened = wordings::open(&w.desk, &petra, sent.template.unwrap()).await.unwrap();
    let whose = Whose::Booking(reference);
    let looked = wordings::preview(&w.desk, &petra, opened.template, None, whose, false);
    let looked = looked.await.unwrap();
    assert!(looked.html.contains("/booking/…") && !looked.html.contains(&own), "{}", looked.html);
    // A reminder is stopped, and stays stopped whatever follows; then sent now after all.
    let reminder = mine.iter().find(|m| m.occasion().is_none()).unwrap().id;
    let past = office::steer(&w.desk, &ilse, vec![reminder], Steer::At(w.desk.clock.now())).await;
    assert!(matches!(past, Err(DeskError::Form(_))), "{past:?}");
    let door = office::steer(&w.desk, &nia, vec![reminder], Steer::Now).await;
    assert!(door.is_err(), "a door volunteer steers nothing");
    assert_eq!(office::steer(&w.desk, &ilse, vec![reminder], Steer::Stop).await.unwrap(), 1);
    assert_eq!(office::steer(&w.desk, &ilse, vec![sent.id], Steer::Stop).await.unwrap(), 0);
    let date = w.sheet(reference).await.date.id;
    w.desk.store.write(move |tx| outbox::mark_date(tx, date)).await.unwrap();
    w.due().await;
    let state = |id: MessageId, all: &[outbox::Message]| {
        all.iter().find(|m| m.id == id).map(|m| m.state).unwrap()
    };
    assert_eq!(state(reminder, &all().await), MessageState::Skipped);
    assert_eq!(office::steer(&w.desk, &ilse, vec![reminder], Steer::Now).await.unwrap(), 1);
    w.due().await;
    assert_eq!(state(reminder, &all().await), MessageState::Sent);
    // An address that refuses for good is marked, and is not written to until it is forgiven.
    w.mails.refuse(Some(matricle_desk::outside::mailer::SendError {
        for_good: true,
        reason: "permanent error (550): 5.1.1 no such mailbox".into(),
    }));
    w.book(FREE, &[1]).await;
    w.due().await;
    w.mails.refuse(None);
    let next = w.book(FREE, &[1]).await;
    w.due().await;
    let id = w.sheet(next).await.booking.id;
    let skipped = w.desk.store.read(move |c| outbox::of_booking(c, id)).await.unwrap();
    assert_eq!(
        (skipped[0].state, skipped[0].reason.as_str()),
        (MessageState::Skipped, "the address refused mail")
    );
    office::forgive(&w.desk, &ilse, BOOKER.into()).await.unwrap();
    let free = w.book(FREE, &[1]).await;
    w.due().await;
    let id = w.sheet(free).await.booking.id;
    let sent = w.desk.store.read(move |c| outbox::of_booking(c, id)).await.unwrap();
    assert_eq!(sent[0].state, MessageState::Sent);
    // What is not true any more goes by nobody's hand either.
    let late = w.book(FREE, &[1]).await;
    cancel::cancel(&w.desk, By::Booker, late, Vec::new()).await.unwrap();
    let id = w.sheet(late).await.booking.id;
    let told = w.desk.store.read(move |c| outbox::of_booking(c, id)).await.unwrap();
    assert_eq!(told[0].state, MessageState::Withdrawn);
    assert_eq!(office::steer(&w.desk, &ilse, vec![told[0].id], Steer::Now).await.unwrap(), 1);
    w.due().await;
    let told = w.desk.store.read(move |c| outbox::of_booking(c, id)).await.unwrap();
    assert_eq!(
        (told[0].state, told[0].reason.as_str()),
        (MessageState::Withdrawn, "not true any more")
    );
}

/// An announcement is stopped midway and gone on with; nobody gets it twice, and whoever wants
/// none gets none, but what a booking needs.
#[tokio::test(flavor = "multi_thread")]
async fn an_announcement_stops_goes_on_and_spares_those_who_want_none() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let event = w.event_named(FREE).await;
    for _ in 0..3 {
        w.book(FREE, &[1]).await;
    }
    w.due().await;
    let dates: Vec<DateId> = w.dates_of(event).await.iter().map(|d| d.id).take(2).collect();
    let typed = || {
        form(&[
            ("date", &dates[0].to_string()),
            ("confirmed", "yes"),
            ("subject", "Bring an apron: {{event}}"),
            ("words", "<div>The wax is hot, {{first name}}.</div>"),
        ])
    };
    let bad =
        form(&[("date", &dates[0].to_string()), ("confirmed", "yes"), ("subject", "{{evnt}}")]);
    let refused = announcements::send(&w.desk, &ilse, event, bad).await;
    assert!(matches!(refused, Err(DeskError::Form(wrong)) if wrong.len() == 2));
    let before = w.mails.taken().len();
    let (id, count) = announcements::send(&w.desk, &ilse, event, typed()).await.unwrap();
    announcements::stop(&w.desk, &ilse, id, true).await.unwrap();
    w.due().await;
    assert_eq!(w.mails.taken().len(), before, "stopped before anything went");
    announcements::stop(&w.desk, &ilse, id, false).await.unwrap();
    w.due().await;
    w.due().await;
    assert_eq!(w.mails.taken().len(), before + usize::try_from(count).unwrap());
    let raw = w.mails.taken().pop().unwrap();
    let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
    assert!(text_of(&mail).contains("The wax is hot, "));
    let link = mail.list_unsubscribe().as_address().is_some()
        || String::from_utf8_lossy(&raw)
            .contains("List-Unsubscribe-Post: List-Unsubscribe=One-Click");
    assert!(link);
    // One click ends them: for this address, and for these only.
    let key = w.desk.secrets.unsubscribe_key(BOOKER);
    assert!(office::unsubscribe(&w.desk, BOOKER.into(), "nonsense").await.is_err());
    office::unsubscribe(&w.desk, BOOKER.to_uppercase(), &key).await.unwrap();
    let (_, fewer) = announcements::send(&w.desk, &ilse, event, typed()).await.unwrap();
    assert_eq!(fewer, count - 1);
    let again = w.book(FREE, &[1]).await;
    w.due().await;
    let id = w.sheet(again).await.booking.id;
    let told = w.desk.store.read(move |c| outbox::of_booking(c, id)).await.unwrap();
    assert!(told.iter().any(|m| m.state == MessageState::Sent), "a confirmation all the same");
    let look = Look { event: Some(event), states: vec![MessageState::Skipped], ..Look::default() };
    let not = office::list(&w.desk, &ilse, look, 0, 50).await.unwrap();
    assert!(not.rows.iter().any(|f| f.message.reason == "wants no announcements"));
}

/// What is announced is true of its reader when it goes; it is seen as they will read it, and tried
/// on oneself, before anybody has it.
#[tokio::test(flavor = "multi_thread")]
async fn an_announcement_reaches_those_it_is_still_true_of() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let event = w.event_named(CANDLES).await;
    let reference = w.book(CANDLES, &[1]).await;
    w.due().await;
    let date = w.sheet(reference).await.date.id.to_string();
    let at = jiff::tz::TimeZone::get(&w.desk.house().await.unwrap().zone)
        .unwrap()
        .to_datetime(w.desk.clock.now() + jiff::SignedDuration::from_mins(30));
    let at = at.strftime("%Y-%m-%dT%H:%M").to_string();
    let typed = |more: &[(&str, &str)]| {
        let words = [
            ("date", date.as_str()),
            ("to_pay", "yes"),
            ("at", at.as_str()),
            ("subject", "You have not paid yet"),
            ("words", "<div>{{first name}}, please pay.</div>"),
        ];
        form(&[&words[..], more].concat())
    };
    let reader = format!("b{}", w.sheet(reference).await.booking.id);
    let who = announcements::chosen(&typed(&[]));
    let all = announcements::before(&w.desk, &ilse, event, who).await.unwrap();
    let me = all.gets.into_iter().find(|to| to.reader == reader).unwrap();
    let seen = announcements::as_read(&w.desk, &ilse, event, typed(&[]), me).await;
    let seen = seen.unwrap().unwrap();
    assert_eq!(seen.subject, "You have not paid yet");
    assert!(seen.text.contains("Siân, please pay.") && seen.html.contains("please pay."));
    let before = w.mails.taken().len();
    let tried = announcements::test(&w.desk, &ilse, event, typed(&[])).await.unwrap();
    assert_eq!(tried, (ilse.email.clone(), None));
    w.due().await;
    let tried = w.subjects()[before..].to_vec();
    assert_eq!(tried, ["Test: You have not paid yet"], "to nobody else");

    let (_, count) = announcements::send(&w.desk, &ilse, event, typed(&[])).await.unwrap();
    assert!(count > 1);
    w.provider.decide(Status::Paid);
    pay::ask(&w.desk, reference).await.unwrap();
    w.due().await;
    let before = w.to(BOOKER).len();
    w.pass(31);
    w.due().await;
    assert_eq!(w.to(BOOKER).len(), before, "whoever has paid is not told that they have not");
    let went = w.subjects().iter().filter(|s| *s == "You have not paid yet").count();
    assert_eq!(went, usize::try_from(count).unwrap() - 1, "everybody else is");
    let id = w.sheet(reference).await.booking.id;
    let told = w.desk.store.read(move |c| outbox::of_booking(c, id)).await.unwrap();
    let why = told.iter().find(|m| m.announcement.is_some()).map(|m| (m.state, m.reason.as_str()));
    assert!(matches!(why, Some((MessageState::Withdrawn, why)) if !why.is_empty()), "{why:?}");
}

/// A template with a wrong field is refused with a way out; a preview says who would see an
/// empty field; earlier wordings stay; two confirmations are found.
#[tokio::test(flavor = "multi_thread")]
async fn words_are_checked_and_two_confirmations_are_refused() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let event = w.event_named(FREE).await;
    let sheet = cues::load(&w.desk, &ilse, Some(event)).await.unwrap();
    let confirmation = sheet.cues.iter().find(|c| c.template == "Confirmation").unwrap();
    let template = confirmation.cue.template;
    let words =
        |body: &str| form(&[("name", "Ours"), ("subject", "Yes: {{event}}"), ("body", body)]);
    let wrong = wordings::save(
        &w.desk,
        &ilse,
        Some(event),
        Some(template),
        words("<p>{{plase}} {{take link}}</p>"),
    )
    .await;
    let Err(DeskError::Form(wrong)) = wrong else { panic!("{wrong:?}") };
    assert_eq!(wrong[0].fault.to_string(), "there is no field “plase”");
    let wrong =
        wordings::save(&w.desk, &ilse, Some(event), Some(template), words("<p>{{take link}}</p>"))
            .await;
    assert!(matches!(wrong, Err(DeskError::Form(w)) if w[0].field == "body"), "not theirs");
    let own = wordings::save(
        &w.desk,
        &ilse,
        Some(event),
        Some(template),
        words("<p>Welcome, {{name}}. Bring {{bring}}.</p>"),
    )
    .await
    .unwrap();
    w.book(FREE, &[1]).await;
    w.due().await;
    let raw = w.mails.taken().pop().unwrap();
    let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
    assert_eq!(mail.subject(), Some("Yes: Is beekeeping for me?"));
    assert!(text_of(&mail).starts_with("Welcome, Siân O'Hara. Bring ."));
    let opened = wordings::open(&w.desk, &ilse, own).await.unwrap();
    let looked =
        wordings::preview(&w.desk, &ilse, opened.template, Some(event), Whose::MadeUp, true);
    let looked = looked.await.unwrap();
    assert!(
        looked.empty.iter().any(|(name, n, _)| *name == "bring" && *n >= 1),
        "{:?}",
        looked.empty
    );
    // The event's own stands in place of the house's: one confirmation, not two.
    let of = |s: &&String| s.contains("Is beekeeping");
    assert_eq!(w.subjects().iter().filter(of).count(), 1, "{:?}", w.subjects());
    let twice = form(&[
        ("happens", "confirmation"),
        ("when", "at once"),
        ("whom", "attendees"),
        ("way", "mail"),
        ("template", &own.to_string()),
    ]);
    let refused = cues::save(&w.desk, &ilse, Some(event), None, twice).await;
    let Err(DeskError::Form(wrong)) = refused else { panic!("{refused:?}") };
    assert!(wrong[0].fault.to_string().contains("another automatic message tells the same people"));
    // Its words are written with it: of its own, and then in their place; both, or nothing.
    let sheet_of = async || cues::load(&w.desk, &ilse, Some(event)).await.unwrap();
    let waiting = |template: &str, of: &str, subject: &str, body: &str| {
        form(&[
            ("happens", "the date starts"),
            ("when", "offset"),
            ("n", "2"),
            ("unit", "days"),
            ("side", "before"),
            ("whom", "waiting"),
            ("way", "mail"),
            ("late", "never"),
            ("already", "no"),
            ("template", template),
            ("words_of", of),
            ("subject", subject),
            ("body", body),
        ])
    };
    let count = sheet_of().await.cues.len();
    for (subject, body, field) in [
        ("Hello {{nam}}", "<p>{{house}}</p>", "subject"),
        ("Hello", "<p>{{codes}}</p>", "body"),
        ("", "<p>You wait.</p>", "subject"),
    ] {
        let typed = waiting("own", "", subject, body);
        let refused = cues::save(&w.desk, &ilse, Some(event), None, typed).await;
        let Err(DeskError::Form(wrong)) = refused else { panic!("{refused:?}") };
        assert_eq!(wrong[0].field, field);
    }
    assert_eq!(sheet_of().await.cues.len(), count, "nothing was kept by half");
    let typed = waiting("own", "", "You wait for {{event}}", "<p>{{if waits}}Still.{{end}}</p>");
    let cue = cues::save(&w.desk, &ilse, Some(event), None, typed).await.unwrap();
    let sheet = sheet_of().await;
    let made = &sheet.cues.iter().find(|c| c.cue.id == cue).unwrap().cue;
    let words = sheet.templates.iter().find(|t| t.id == made.template).unwrap();
    assert_eq!((words.name.as_str(), words.event), ("You wait for event", Some(event)));
    let (id, count) = (words.id.to_string(), sheet.templates.len());
    let typed = waiting(&id, &id, "You still wait", "<p>{{if waits}}Still.{{end}}</p>");
    cues::save(&w.desk, &ilse, Some(event), Some(cue), typed).await.unwrap();
    let sheet = sheet_of().await;
    let words = sheet.templates.iter().find(|t| t.id.to_string() == id).unwrap();
    assert_eq!((words.subject.as_str(), sheet.templates.len()), ("You still wait", count));
    // Words that were changed belong to their template, whichever is chosen meanwhile.
    // Nor are words lost that were written before any template was chosen.
    for of in [id.as_str(), ""] {
        let typed = waiting(&own.to_string(), of, "Changed", "<p>Changed.</p>");
        let refused = cues::save(&w.desk, &ilse, Some(event), Some(cue), typed).await;
        let Err(DeskError::Form(wrong)) = refused else { panic!("{refused:?}") };
        assert_eq!(wrong[0].fault, Fault::OtherWords);
    }
    cues::switch(&w.desk, &ilse, Some(event), cue, false).await.unwrap();
    // A cue added late asks whether those who have booked get it too, with the count.
    let late = |already: &str| {
        form(&[
            ("happens", "the date starts"),
            ("when", "offset"),
            ("n", "30"),
            ("unit", "days"),
            ("side", "before"),
            ("whom", "booker"),
            ("way", "mail"),
            ("template", &own.to_string()),
            ("late", "at once"),
            ("already", already),
        ])
    };
    let asked = cues::save(&w.desk, &ilse, Some(event), None, late("")).await;
    let Err(DeskError::Form(wrong)) = asked else { panic!("{asked:?}") };
    assert_eq!(wrong[0].field, "already");
    w.pass(1);
    let before = w.mails.taken().len();
    cues::save(&w.desk, &ilse, Some(event), None, late("no")).await.unwrap();
    w.due().await;
    assert_eq!(w.mails.taken().len(), before);
}
