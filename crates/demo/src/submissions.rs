//! Submissions of the demo: branch meetings from members, a near-copy, a doubtful one, one sent
//! back, one from somebody trusted, a change to what is published, a complaint.

use jiff::{SignedDuration, Timestamp, ToSpan};
use matricle_core::people::acting::{Acting, Actor};
use matricle_core::people::staff::Right;
use matricle_core::review::rules::{HouseRules, Told, WhoMay};
use matricle_core::review::submission::{Act, Typed};
use matricle_core::{EventId, SubmissionId};
use matricle_formats::words;
use matricle_store::events;
use matricle_store::people::{self, Staff};
use matricle_store::submissions::{self, Submission};
use matricle_store::{Tx, complaints};

use crate::{STAFF, ZONE};
use matricle_desk::acting::Turn;
use matricle_desk::review::deciding::{Decision, decide_in};
use matricle_desk::review::{mine, trust, writing};
use matricle_desk::{Desk, DeskError};

/// Somebody who submits: their name and their address.
type Who = (&'static str, &'static str);

const MARIT: Who = ("Marit Solheim", "marit.solheim@post.example");
const EZRA: Who = ("Ezra Quill", "ezra.quill@post.example");
const RORY: Who = ("Rory Quinn", "rory.quinn@post.example");
const DILYS: Who = ("Dilys Orme", "dilys.orme@post.example");
const DEALS: Who = ("Best Deals", "best@deals.example");

struct Sending<'a> {
    tx: &'a Tx<'a>,
    host: &'a str,
    now: Timestamp,
}

impl Sending<'_> {
    fn at(&self, hours: i64) -> Timestamp {
        self.now + SignedDuration::from_hours(hours)
    }

    fn turn(&self, name: &str, hours: i64) -> Turn {
        let by = Acting { kind: Actor::Booker, key: None, name: name.into() };
        Turn { by, now: self.at(hours), host: self.host.into(), word: "".into() }
    }

    /// A submission that was sent so many hours ago, about something so many days ahead.
    fn send(
        &self,
        (name, email): Who,
        hours: i64,
        days: i64,
        fields: &[(&str, &str)],
    ) -> Result<SubmissionId, DeskError> {
        let day = words::local(self.now, ZONE).date().saturating_add(days.days()).to_string();
        let mut typed = Typed::default();
        typed.set("day", &day);
        for (field, value) in fields {
            typed.set(field, value);
        }
        let description = matricle_formats::rich::from_text(typed.get("description"));
        typed.set("description", &description);
        let from = (0, 0);
        let id = submissions::begin(self.tx, &typed, None, from, self.at(-hours))?;
        submissions::set_sender(self.tx, id, None, (email, name))?;
        let mut s = self.one(id)?;
        s.sent.seconds = Some(if email == DEALS.1 { 4 } else { 240 });
        s.sent.worked = email != DEALS.1;
        submissions::set(self.tx, &s)?;
        writing::hand_in_in(self.tx, id, &self.turn(name, -hours))?;
        Ok(id)
    }

    fn one(&self, id: SubmissionId) -> Result<Submission, DeskError> {
        submissions::by_id(self.tx, id)?.ok_or(DeskError::NotFound)
    }

    fn decide(
        &self,
        staff: &Staff,
        id: SubmissionId,
        act: Act,
        words: &str,
        hours: i64,
    ) -> Result<(), DeskError> {
        let version = self.one(id)?.version;
        let by = Acting::staff(Right::Review, staff.id, &staff.name);
        let turn = Turn { by, now: self.at(-hours), host: self.host.into(), word: "".into() };
        let decision = Decision { id, version, act, words: words.into(), with: None };
        decide_in(self.tx, &decision, &turn).map(drop)
    }
}

/// Adds them.
pub(crate) async fn add(desk: &Desk) -> Result<(), DeskError> {
    let (now, host) = (desk.clock.now(), desk.host().to_owned());
    let changed = desk.store.write(move |tx| fill(tx, &host, now)).await?;
    // A change to what is published, as its submitter makes it.
    let typed = desk.store.read(move |conn| submissions::by_id(conn, changed)).await?;
    let Some(s) = typed else { return Err(DeskError::NotFound) };
    let mut typed = s.typed.clone();
    typed.set("until", "22:30");
    typed.set("description", "<p>Bring seeds, cuttings and a story. What is left goes to the school garden. <strong>New:</strong> soup at nine, so we stay a little longer.</p>");
    let key = desk.secrets.submission_key(changed, &s.email);
    let nobody = matricle_desk::review::Submitter::default();
    mine::change(desk, &nobody, changed, &key, typed.form()).await
}

#[expect(clippy::too_many_lines, reason = "one submission after the other")]
fn fill(tx: &Tx<'_>, host: &str, now: Timestamp) -> Result<SubmissionId, DeskError> {
    let all = Sending { tx, host, now };
    let (ilse, _) = people::by_email(tx, STAFF[0].1)?.ok_or(DeskError::NotFound)?;
    submissions::set_rules(
        tx,
        &HouseRules {
            who: WhoMay::Anybody,
            told: vec![
                Told { email: STAFF[0].1.into(), daily: false },
                Told { email: STAFF[2].1.into(), daily: true },
            ],
            words: "Branch meetings, walks, swaps: tell us of what you plan, and it stands in the Programme once one of us has read it.".into(),
            terms: "What you send may be published and shortened. Your address is not published.".into(),
            share: 40,
            trust_after: 3,
            bad_domains: vec!["pills.example".into()],
            ..HouseRules::default()
        },
    )?;
    // Members are known by their record: it is there before they submit.
    for (name, email) in [MARIT, EZRA, RORY, DILYS] {
        people::know(tx, name, email, now)?;
    }
    let evening = [("from", "19:00"), ("until", "21:00")];
    let with = |more: &[(&'static str, &'static str)]| [&evening[..], more].concat();
    for (i, place) in
        ["Hexley Library", "Ferry House, Lower Quay", "Hexley Library"].into_iter().enumerate()
    {
        let n = i64::try_from(i).unwrap_or(0);
        let id = all.send(
            EZRA,
            24 * (60 - 14 * n),
            10 + 14 * n,
            &with(&[
                (
                    "title",
                    [
                        "Reading circle: the winter cluster",
                        "Reading circle: a hive in summer",
                        "Reading circle: heather and heath",
                    ][i],
                ),
                ("kind", "Reading circle"),
                ("place", place),
                (
                    "description",
                    "We read a chapter aloud and talk about it. Nobody need have read it before.",
                ),
                ("contact", "ezra.quill@post.example"),
            ]),
        )?;
        all.decide(&ilse, id, Act::Accept, "", 24 * (60 - 14 * n) - 6)?;
    }
    let person = people::know(tx, EZRA.0, EZRA.1, now)?;
    let by = Acting::staff(Right::Review, ilse.id, &ilse.name);
    let turn = Turn { by, now: all.at(-24 * 20), host: host.into(), word: "".into() };
    trust::set(tx, person, true, &turn)?;
    // From somebody trusted: it is in the Programme at once.
    let swap = all.send(
        EZRA,
        24 * 6,
        19,
        &with(&[
            ("title", "Seed swap for bee gardens"),
            ("kind", "Swap"),
            ("place", "Hexley Library"),
            (
                "description",
                "Bring seeds, cuttings and a story. What is left goes to the school garden.",
            ),
            ("contact", "ezra.quill@post.example"),
            ("price_words", "free, a collection for the library"),
        ]),
    )?;
    // Sent back, with a question.
    let walk = all.send(
        DILYS,
        24 * 4,
        26,
        &[
            ("title", "Walk to the heather stands"),
            ("from", "09:30"),
            ("description", "We walk up slowly, look at the stands, and eat what we brought."),
        ],
    )?;
    all.decide(&ilse, walk, Act::SendBack, "Where do you meet, and when will you be down again?\nWhom can people ask, by mail or telephone?", 24 * 3)?;
    // Turned down.
    let sale = all.send(
        RORY,
        24 * 9,
        12,
        &with(&[
            ("title", "Sale of used extractors"),
            ("place", "Ostrel Guildhall"),
            ("description", "Six extractors, some working. Cash only."),
            ("contact", "0412 55 61 20"),
        ]),
    )?;
    all.decide(
        &ilse,
        sale,
        Act::TurnDown,
        "We announce meetings and courses; a sale belongs on the notice board.",
        24 * 8,
    )?;
    // These wait: two branch meetings, one of them with something missing ...
    all.send(
        MARIT,
        30,
        16,
        &with(&[
            ("title", "Branch meeting, Hexley"),
            ("kind", "Branch meeting"),
            ("place", "Hexley Library"),
            ("description", "What the autumn left of our colonies, and who needs a queen. Tea afterwards; ring Marit at 0412 55 61 20 for a lift."),
            ("contact", "marit.solheim@post.example"),
            ("tag", "Branches"),
        ]),
    )?;
    all.send(
        RORY,
        22,
        23,
        &[
            ("title", "Branch meeting on Monday, Upper Vale"),
            ("from", "19:30"),
            ("kind", "Branch meeting"),
            ("place", "Millrace Bran"),
            ("description", "Varroa counts, and the plan for spring."),
            ("contact", "rory.quinn@post.example"),
        ],
    )?;
    // ... a second wording of a meeting that is announced already ...
    all.send(
        MARIT,
        9,
        8,
        &[
            ("title", "Lower Ostrel: meeting of the branch"),
            ("from", "18:30"),
            ("until", "20:30"),
            ("place", "Chapel room, Lower Ostrel"),
            ("description", "Oxalic acid, who and when and how much; then tea and cake."),
            ("contact", "marit.solheim@post.example"),
            ("note", "Rory asked me to send this, in case he forgets."),
        ],
    )?;
    // ... one that asks to be booked here ...
    all.send(
        DILYS,
        7,
        33,
        &with(&[
            ("title", "Wax wraps from old cappings"),
            ("kind", "Workshop"),
            ("place", "Ostrel Guildhall"),
            ("hosts", "Dilys Orme"),
            (
                "description",
                "Everybody takes three wraps home. Cloth is there, old shirts are better.",
            ),
            ("contact", "dilys.orme@post.example"),
            ("bookable", "yes"),
            ("seats", "12"),
            ("price", "9.00"),
        ]),
    )?;
    // ... and one that is doubtful.
    all.send(
        DEALS,
        3,
        2,
        &[
            ("title", "CHEAP HONEY PILLS TODAY!!!"),
            ("from", "03:00"),
            ("description", "cheap https://pills.example/a cheap https://pills.example/b cheap www.pills.example cheap cheap pills cheap honey cheap today"),
        ],
    )?;
    if let Some(event) = events::by_slug(tx, "forage-in-a-dry-summer")? {
        complaint(tx, event.id, all.at(-5))?;
    }
    Ok(swap)
}

fn complaint(tx: &Tx<'_>, event: EventId, at: Timestamp) -> Result<(), DeskError> {
    let words = "The picture is of hoverflies, not of bees. My grandchildren noticed.";
    complaints::add(tx, event, "vera.holt@post.example", words, 0, at)?;
    Ok(())
}
