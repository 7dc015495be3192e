//! The demo house on a still clock, with a provider and a mail server that do as they are told.

use std::path::Path;
use std::sync::Arc;

use jiff::{SignedDuration, Timestamp};
use matricle_core::DateId;
use matricle_core::booking::State;
use matricle_core::booking::details::{Answering, Draft};
use matricle_core::forms::form::Form;
use matricle_core::money::price::Buyer;
use matricle_core::seats::Wanted;
use matricle_core::words::codes::Reference;
use matricle_demo as demo;
use matricle_desk::bookings::submit::Outcome;
use matricle_desk::bookings::whole::WholeBooking;
use matricle_desk::bookings::{hold, whole};
use matricle_desk::bookings::{pay, submit};
use matricle_desk::door;
use matricle_desk::door::Device;
use matricle_desk::door::Shown;
use matricle_desk::outside::mailer::Recorder;
use matricle_desk::outside::provider::{REHEARSAL_SECRET, Rehearsal, Status, sign};
use matricle_desk::people::asking::Asking;
use matricle_desk::programme::Looking;
use matricle_desk::{Clock, Desk, DeskError, Secrets, programme, timers};
use matricle_store::bookings::HeldBy;
use matricle_store::people::{self, Staff};
use matricle_store::{Doing, Store, check};
use proptest::test_runner::{Config as ProptestConfig, RngSeed};
use tempfile::TempDir;
use tokio::sync::OnceCell;

pub(crate) const BOOKER: &str = "sian@post.example";
pub(crate) const CANDLES: &str = "candles-from-our-own-wax";
pub(crate) const FREE: &str = "is-beekeeping-for-me";

pub(crate) struct World {
    pub(crate) desk: Desk,
    pub(crate) provider: Arc<Rehearsal>,
    pub(crate) mails: Arc<Recorder>,
    pub(crate) _folder: Option<TempDir>,
}

pub(crate) fn open(folder: &Path, clock: Clock) -> World {
    let (provider, mails) = (Arc::new(Rehearsal::default()), Arc::new(Recorder::default()));
    let desk = Desk {
        store: Store::open(folder).unwrap(),
        clock,
        secrets: Arc::new(Secrets::new([1; 32])),
        provider: provider.clone(),
        mailer: mails.clone(),
        texts: std::sync::Arc::new(matricle_desk::outside::texts::NoTexts),
        chat: std::sync::Arc::new(matricle_desk::outside::chat::NoChat),
        mail_at_once: 1,
        letterbox: std::sync::Arc::new(matricle_desk::outside::letterbox::NoLetterbox),
        rooms: std::sync::Arc::new(matricle_desk::outside::rooms::NoRooms),
        public_url: "http://club.example".into(),
        wake: Arc::default(),
        health: Arc::default(),
        sessions: Arc::default(),
        drawing: Arc::default(),
        looking: Arc::default(),
        names: Default::default(),
        often: Arc::default(),
        backups: std::sync::Arc::default(),
        word: std::sync::Arc::from(""),
    };
    World { desk, provider, mails, _folder: None }
}

/// How models are run: the same acts each time, so that a run says the same twice. To look for
/// more, give `PROPTEST_CASES` and, as another number, `PROPTEST_RNG_SEED`.
pub(crate) fn model() -> ProptestConfig {
    let given = ProptestConfig::default();
    let rng_seed = match given.rng_seed {
        RngSeed::Random => RngSeed::Fixed(2026),
        fixed @ RngSeed::Fixed(_) => fixed,
    };
    let cases = if std::env::var_os("PROPTEST_CASES").is_some() { given.cases } else { 6 };
    ProptestConfig { cases, rng_seed, failure_persistence: None, max_shrink_iters: 60, ..given }
}

/// The file of the demo house: made once, since making it takes longer than most of what is tested.
static MADE: OnceCell<Vec<u8>> = OnceCell::const_new();

pub(crate) async fn world() -> World {
    let folder = tempfile::tempdir().unwrap();
    let now: Timestamp = "2026-11-25T17:40:00Z".parse().unwrap();
    let file = folder.path().join(matricle_store::FILE);
    let make = || async {
        let made = open(folder.path(), Clock::still(now));
        demo::seed(&made.desk).await.unwrap();
        made.desk.store.close();
        std::fs::read(&file).unwrap()
    };
    let made = MADE.get_or_init(make).await;
    std::fs::write(&file, made).unwrap();
    let mut world = open(folder.path(), Clock::still(now));
    world._folder = Some(folder);
    world
}

/// An event's page by its address.
pub(crate) fn look(slug: &str) -> Looking {
    Looking { slug: slug.into(), ..Looking::default() }
}

/// The words of a mail as a mail program shows them.
pub(crate) fn text_of(mail: &mail_parser::Message<'_>) -> String {
    matricle_formats::mail::unflowed(&mail.body_text(0).unwrap())
}

pub(crate) fn form(fields: &[(&str, &str)]) -> Form {
    Form::new(fields.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect())
}

impl World {
    /// The first date of an event, and so many of each ticket type.
    pub(crate) async fn choice(&self, slug: &str, quantities: &[u32]) -> (DateId, Vec<Wanted>) {
        let page = programme::event(&self.desk, look(slug)).await.unwrap();
        let sheet = &page.dates[0];
        let wanted = sheet
            .tickets
            .iter()
            .zip(quantities)
            .map(|(t, &quantity)| Wanted { ticket: t.id, quantity })
            .collect();
        (sheet.date.id, wanted)
    }

    pub(crate) async fn keep(
        &self,
        slug: &str,
        quantities: &[u32],
    ) -> Result<Reference, DeskError> {
        let (date, wanted) = self.choice(slug, quantities).await;
        // Whoever books here has proved the address that `draft` types.
        let buyer = Buyer { address: BOOKER.into(), ..Buyer::default() };
        let by = HeldBy { buyer, ..HeldBy::default() };
        hold::keep(&self.desk, date, wanted, by, None).await
    }

    pub(crate) async fn free(&self, slug: &str) -> u32 {
        let page = programme::event(&self.desk, look(slug)).await.unwrap();
        page.dates[0].main_pool().free()
    }

    pub(crate) async fn sheet(&self, reference: Reference) -> WholeBooking {
        whole::of(&self.desk, reference).await.unwrap()
    }

    pub(crate) async fn state(&self, reference: Reference) -> State {
        self.sheet(reference).await.booking.state
    }

    /// A draft with everything that the booking's form asks for.
    pub(crate) async fn draft(&self, reference: Reference) -> Draft {
        let sheet = self.sheet(reference).await;
        let mut draft = Draft {
            name: "Siân O'Hara".into(),
            email: BOOKER.into(),
            attendees: (1..=sheet.attendees.len()).map(|i| format!("Person {i}")).collect(),
            agreed: true,
            again: true,
            ..Draft::default()
        };
        for question in sheet.questions.iter().filter(|q| q.needed) {
            if let Answering::OneOf(options) = &question.answering {
                draft.answers.insert(question.id, options[0].clone());
            }
        }
        draft
    }

    pub(crate) async fn book(&self, slug: &str, quantities: &[u32]) -> Reference {
        let reference = self.keep(slug, quantities).await.unwrap();
        let draft = self.draft(reference).await;
        let outcome =
            submit::submit(&self.desk, &Asking::default(), reference, draft).await.unwrap();
        if outcome == Outcome::ToPay {
            pay::pay_url(&self.desk, reference).await.unwrap();
        }
        reference
    }

    pub(crate) async fn due(&self) {
        while timers::run_due(&self.desk).await.unwrap() {}
    }

    pub(crate) async fn hook(&self, id: &str) -> Result<(), DeskError> {
        let body = serde_json::to_vec(self.provider.payments().last().unwrap()).unwrap();
        let time = self.desk.clock.outside().as_second().to_string();
        let signature = sign(REHEARSAL_SECRET, id, &time, &body);
        pay::hook(&self.desk, id.into(), &time, &signature, &body).await
    }

    pub(crate) async fn staff(&self, who: usize) -> Staff {
        let email = demo::STAFF[who].1;
        let find = move |c: &matricle_store::Connection| people::by_email(c, email);
        self.desk.store.read(find).await.unwrap().unwrap().0
    }

    pub(crate) async fn scan(
        &self,
        date: DateId,
        door: &str,
        key: &str,
        text: &str,
    ) -> door::Outcome {
        let (ilse, staff) = (self.staff(0).await, self.staff(1).await);
        // Whatever day it is, an organiser has said yes.
        door::open(&self.desk, &ilse, date, true, String::new()).await.unwrap();
        let shown = Shown::Text(text.into());
        door::show(&self.desk, &staff, date, Device::at(door, key), shown).await.unwrap()
    }

    /// The last who were let in at a date are expected again.
    pub(crate) async fn scanned_back(&self, date: DateId) {
        let bram = self.staff(1).await;
        for scan in door::log(&self.desk, &bram, date).await.unwrap() {
            let _ = door::undo(&self.desk, &bram, date, scan.scan).await;
        }
    }

    pub(crate) async fn faults(&self) -> Vec<String> {
        let now = self.desk.clock.now();
        let all = move |conn: &matricle_store::Connection| {
            let mut all = check::faults(conn)?;
            all.extend(check::idle_seats(conn, now)?);
            Ok::<_, matricle_store::StoreError>(all)
        };
        self.desk.store.read(all).await.unwrap()
    }

    pub(crate) fn pass(&self, minutes: i64) {
        self.desk.clock.advance(SignedDuration::from_mins(minutes));
    }

    pub(crate) fn subjects(&self) -> Vec<String> {
        let parse = |raw: &Vec<u8>| {
            let message = mail_parser::MessageParser::default().parse(raw).unwrap();
            message.subject().unwrap().to_owned()
        };
        self.mails.taken().iter().map(parse).collect()
    }

    pub(crate) async fn paid(&self, slug: &str, quantities: &[u32]) -> Reference {
        let reference = self.book(slug, quantities).await;
        self.provider.decide(Status::Paid);
        pay::ask(&self.desk, reference).await.unwrap();
        assert_eq!(self.state(reference).await, State::Confirmed);
        reference
    }

    /// Nothing is wrong with the file, and every mail that went out is whole.
    pub(crate) async fn sound(&self) {
        assert_eq!(self.faults().await, Vec::<String>::new());
        for raw in self.mails.taken() {
            let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
            let subject = mail.subject().unwrap_or_default();
            let text = text_of(&mail);
            let html = mail.body_html(0).unwrap();
            assert!(!subject.is_empty() && subject.chars().count() < 150, "{subject}");
            assert!(mail.message_id().is_some() && mail.date().is_some(), "{subject}");
            let to = mail.to().and_then(|to| to.first()).and_then(|to| to.address());
            assert!(to.is_some_and(|to| to.contains("@")), "{subject}");
            for part in [subject, &text, &html] {
                assert!(!part.contains("{{") && !part.contains("{%"), "{subject}: {part}");
                assert!(!part.contains("Some(") && !part.contains("None"), "{subject}: {part}");
            }
            let gap = text.contains("   ") || text.contains("\r\n\r\n\r\n");
            assert!(!gap, "{subject}: {text}");
            assert!(html.contains("<p>") && !html.contains("<script"), "{subject}: {html}");
            self.names_nobody_else(&mail).await;
        }
    }

    /// A mail holds no address of anybody who is neither its reader, nor of the house, nor named on
    /// a booking of its reader's own.
    async fn names_nobody_else(&self, mail: &mail_parser::Message<'_>) {
        let to = mail.to().and_then(|to| to.first()).and_then(|to| to.address()).unwrap();
        let mut held = String::new();
        for part in &mail.parts {
            held.push_str(&String::from_utf8_lossy(part.contents()).replace("\r\n ", ""));
            held.push(' ');
        }
        let held = held.to_lowercase();
        let reader = to.to_owned();
        let others: Vec<String> = self
            .desk
            .store
            .read(move |conn| {
                let mut found = conn
                    .prepare_cached(
                        "WITH known (email) AS (SELECT email FROM attendees WHERE email <> ''
                            UNION SELECT email FROM bookings WHERE email <> '')
                         SELECT lower(email) FROM known WHERE email <> ?1 COLLATE NOCASE
                            AND NOT EXISTS (SELECT 1 FROM house WHERE settings ->> 'email' = known.email COLLATE NOCASE)
                            AND NOT EXISTS (SELECT 1 FROM senders s WHERE s.email = known.email COLLATE NOCASE)
                            AND NOT EXISTS (SELECT 1 FROM people p WHERE p.role IS NOT NULL
                                AND p.email IN (?1, known.email) COLLATE NOCASE)
                            AND NOT EXISTS (SELECT 1 FROM hosts h JOIN people p ON p.id = h.person_id
                                WHERE p.email IN (?1, known.email) COLLATE NOCASE)
                            AND NOT EXISTS (SELECT 1 FROM attendees a JOIN bookings b ON b.id = a.booking_id
                                WHERE b.email = ?1 COLLATE NOCASE AND a.email = known.email COLLATE NOCASE)",
                    )
                    .doing("asking who is nobody else")?;
                let rows = found.query_map([reader], |row| row.get(0)).and_then(Iterator::collect);
                rows.doing("asking who is nobody else")
            })
            .await
            .unwrap();
        for other in others {
            assert!(!held.contains(&other), "to {to}: {other} in {held}");
        }
    }
}
