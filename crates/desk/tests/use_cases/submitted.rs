//! Events that members submit: written, handed in, checked, decided, taken back, changed.

use jiff::SignedDuration;
use matricle_core::SubmissionId;
use matricle_core::forms::form::Form;
use matricle_core::review::checks::{Check, Light, Other};
use matricle_core::review::rules::{HouseRules, Lands, Told, WhoMay};
use matricle_core::review::submission::{Act, NotYou, Refusal, State};
use matricle_desk::review::deciding::{self, Decision};
use matricle_desk::review::writing::{self, Handed};
use matricle_desk::review::{Submitter, complaints, figures, mine, queue, trust};
use matricle_desk::{DeskError, programme};
use matricle_store::events::EventState;
use matricle_store::submissions::{self, Submission};
use matricle_store::{StoreError, books, events, people};

use crate::world::{FREE, World, form, look, text_of, world};

const WILMA: &str = "wilma@post.example";

/// A whole form, with some of its fields another than usual.
fn filled(w: &World, with: &[(&str, &str)]) -> Form {
    filled_by(w, 0, with)
}

/// The same, on a page that was made for a browser.
fn filled_by(w: &World, browser: i64, with: &[(&str, &str)]) -> Form {
    let stamp = w.desk.secrets.stamp(w.desk.clock.now() - SignedDuration::from_mins(3), browser);
    let work = (0..).map(|n: u32| n.to_string()).find(|n| writing::is_worked(&stamp, n)).unwrap();
    let usual = [
        ("title", "Queens in winter"),
        ("day", "2026-12-15"),
        ("from", "19:00"),
        ("until", "21:00"),
        ("place", "Hexley Library"),
        ("description", "We look at what a queen does when it freezes, and listen at the hives."),
        ("contact", "wilma@post.example"),
        ("name", "Wilma Thorne"),
        ("email", WILMA),
        ("agreed", "yes"),
        ("stamp", &stamp),
        ("work", &work),
    ];
    let rest = usual.iter().filter(|(n, _)| with.iter().all(|(m, _)| m != n));
    let fields: Vec<(&str, &str)> = rest.chain(with).copied().collect();
    form(&fields)
}

impl World {
    async fn rules(&self, change: impl Fn(&mut HouseRules) + Send + 'static) {
        let write = move |tx: &matricle_store::Tx<'_>| {
            let mut rules = submissions::rules(tx)?;
            change(&mut rules);
            submissions::set_rules(tx, &rules)
        };
        self.desk.store.write(write).await.unwrap();
    }

    async fn one(&self, id: SubmissionId) -> Submission {
        let find = move |c: &matricle_store::Connection| submissions::by_id(c, id);
        self.desk.store.read(find).await.unwrap().unwrap()
    }

    /// Written and sent by a stranger: the link is in their mail.
    async fn sent(&self, with: &[(&str, &str)]) -> Result<SubmissionId, DeskError> {
        let nobody = Submitter::default();
        let fields = filled(self, with);
        let (id, _) = writing::keep(&self.desk, &nobody, None, &fields).await?;
        let key = self.desk.secrets.writing_key(id);
        let handed = writing::send(&self.desk, &nobody, (id, key), fields).await?;
        assert!(matches!(handed, Handed::Mailed(_)));
        assert_eq!(
            self.one(id).await.state,
            State::Unsent,
            "an address that is typed is not proved"
        );
        Ok(id)
    }

    /// The same, and handed in by the link.
    async fn received(&self, with: &[(&str, &str)]) -> SubmissionId {
        let id = self.sent(with).await.unwrap();
        let key = self.key(id).await;
        self.confirm(id, &key).await.unwrap();
        id
    }

    async fn confirm(&self, id: SubmissionId, key: &str) -> Result<Handed, DeskError> {
        let version = self.one(id).await.version;
        writing::confirm(&self.desk, id, key, version).await
    }

    async fn key(&self, id: SubmissionId) -> String {
        let email = self.one(id).await.email;
        self.desk.secrets.submission_key(id, &email)
    }

    async fn decide(
        &self,
        who: usize,
        id: SubmissionId,
        act: Act,
        words: &str,
    ) -> Result<String, DeskError> {
        let version = self.one(id).await.version;
        let d = Decision { id, version, act, words: words.into(), with: None };
        Ok(deciding::decide(&self.desk, &self.staff(who).await, d).await?.slug)
    }

    async fn found(&self, id: SubmissionId) -> Vec<Check> {
        let a = queue::one(&self.desk, &self.staff(5).await, id, false).await.unwrap();
        a.findings.iter().map(|f| f.check).collect()
    }

    fn mail_of(&self, subject: &str) -> Option<String> {
        self.mails.taken().iter().rev().find_map(|raw| {
            let mail = mail_parser::MessageParser::default().parse(raw)?;
            mail.subject()?.contains(subject).then(|| text_of(&mail))
        })
    }
}

fn refusal(error: DeskError) -> Refusal {
    match error {
        DeskError::Submission(refusal) => refusal,
        other => panic!("{other}"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_stranger_sends_waits_is_checked_and_decided_and_each_hears_of_it() {
    let w = world().await;
    w.due().await;
    let id = w.sent(&[]).await.unwrap();
    let mail = w.mail_of("Hand in “Queens in winter”").unwrap();
    assert!(mail.contains(&w.desk.submission_url(id, WILMA)), "{mail}");
    // A key of somebody else, or of another submission, opens nothing.
    for key in [
        "",
        "x",
        &w.desk.secrets.writing_key(id),
        &w.desk.secrets.submission_key(SubmissionId(1), WILMA),
    ] {
        assert!(matches!(w.confirm(id, key).await, Err(DeskError::NotFound)), "{key}");
    }
    let key = w.key(id).await;
    // What is handed in is what was looked at, whoever else may write it.
    let stale = writing::confirm(&w.desk, id, &key, 99).await.unwrap_err();
    assert_eq!(refusal(stale), Refusal::Changed);
    assert_eq!(w.confirm(id, &key).await.unwrap(), Handed::Waits);
    // A double click says who was faster, and sends nothing twice.
    let again = refusal(w.confirm(id, &key).await.unwrap_err());
    assert!(matches!(again, Refusal::Elsewhere { state: State::Received, .. }), "{again}");
    w.due().await;
    let copy = w.mail_of("We have your event: Queens in winter").unwrap();
    assert!(copy.contains("Hexley Library") && copy.contains("19:00"), "{copy}");
    assert!(
        w.mail_of("1 submission to review").unwrap().contains("from Wilma Thorne; looks right")
    );
    // The browser that began it opens it no more: what is sent belongs to the address.
    let nobody = Submitter::default();
    let writer = w.desk.secrets.writing_key(id);
    assert!(matches!(mine::one(&w.desk, &nobody, id, &writer).await, Err(DeskError::NotFound)));
    // Accepted: in the Programme at once, the mail waits.
    let sent = w.subjects().len();
    let slug = w.decide(5, id, Act::Accept, "See you there.").await.unwrap();
    let page = programme::event(&w.desk, look(&slug)).await.unwrap();
    assert!(page.event.drop_in && page.event.state == EventState::Published);
    assert_eq!(
        (page.event.contact.as_str(), page.event.lead.as_str()),
        (WILMA, "We look at what a queen does when it freezes, and listen at the hives.")
    );
    w.due().await;
    assert_eq!(w.subjects().len(), sent, "nothing is told while it can be taken back");
    let shown = mine::one(&w.desk, &nobody, id, &key).await.unwrap();
    assert_eq!((shown.state, shown.slug.as_str()), (State::Received, ""));
    w.pass(6);
    w.due().await;
    let told = w.mail_of("In the Programme: Queens in winter").unwrap();
    assert!(told.contains("See you there.") && told.contains(&format!("/events/{slug}")), "{told}");
    let late = refusal(deciding::undo(&w.desk, &w.staff(5).await, id).await.unwrap_err());
    assert_eq!(late, Refusal::TooLate);
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_decision_is_taken_back_and_two_reviewers_never_decide_the_same_one() {
    let w = world().await;
    w.due().await;
    let (ilse, rosalind) = (w.staff(0).await, w.staff(5).await);
    let id = w.received(&[]).await;
    let sent = w.subjects().len();
    for (act, words, state) in [
        (Act::Accept, "", State::Accepted),
        (Act::SendBack, "Where do you meet?", State::SentBack),
        (Act::TurnDown, "Not this year.", State::TurnedDown),
        (Act::Spam, "", State::TurnedDown),
    ] {
        let slug = w.decide(5, id, act, words).await.unwrap();
        let s = w.one(id).await;
        assert_eq!((s.state, s.waits_since), (state, None), "{act:?}");
        let other = refusal(w.decide(0, id, Act::Accept, "").await.unwrap_err());
        let faster = matches!(&other, Refusal::Elsewhere { who, what, .. } if who == &rosalind.name && *what == act.done());
        assert!(faster, "{other}");
        deciding::undo(&w.desk, &ilse, id).await.unwrap();
        assert!(w.one(id).await.waits_since.is_some());
        if !slug.is_empty() {
            let gone = programme::event(&w.desk, look(&slug)).await;
            assert!(matches!(gone, Err(DeskError::NotFound)));
        }
        w.pass(6);
        w.due().await;
    }
    let spoken: Vec<String> =
        w.subjects()[sent..].iter().filter(|s| s.contains("Queens")).cloned().collect();
    assert_eq!(spoken, Vec::<String>::new(), "what was taken back was never told");
    // Without words nothing is sent back or turned down.
    for act in [Act::SendBack, Act::TurnDown] {
        assert!(matches!(w.decide(5, id, act, " \n ").await, Err(DeskError::Form(_))));
    }
    // Words that changed since they were looked at are read again first; both at once.
    let version = w.one(id).await.version;
    let key = w.key(id).await;
    let change = filled(&w, &[("title", "Queens in the frost")]);
    mine::change(&w.desk, &Submitter::default(), id, &key, change).await.unwrap();
    let d = |version| Decision { id, version, act: Act::Accept, words: String::new(), with: None };
    assert_eq!(
        refusal(deciding::decide(&w.desk, &ilse, d(version)).await.unwrap_err()),
        Refusal::Changed
    );
    let now = w.one(id).await.version;
    let (one, two) = tokio::join!(
        deciding::decide(&w.desk, &ilse, d(now)),
        deciding::decide(&w.desk, &rosalind, d(now))
    );
    assert_eq!(usize::from(one.is_ok()) + usize::from(two.is_ok()), 1);
    // Booked meanwhile, it is not taken back.
    let slug = if let Ok(done) = one { done.slug } else { two.unwrap().slug };
    assert_eq!(slug, "queens-in-the-frost");
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn it_may_be_booked_with_the_houses_share_and_then_is_not_taken_back() {
    let w = world().await;
    w.due().await;
    let id = w
        .received(&[
            ("bookable", "yes"),
            ("seats", "12"),
            ("price", "8.00"),
            ("hosts", "Wilma Thorne"),
        ])
        .await;
    let slug = w.decide(5, id, Act::Accept, "").await.unwrap();
    let event = w.one(id).await.event.unwrap();
    let shares = w.desk.store.read(books::shares).await.unwrap();
    let share = shares.iter().find(|s| s.event == event).unwrap();
    assert_eq!(share.share, matricle_core::money::shares::Share::Percent(40));
    assert_eq!(w.free(&slug).await, 12);
    w.paid(&slug, &[2]).await;
    let booked = refusal(deciding::undo(&w.desk, &w.staff(5).await, id).await.unwrap_err());
    assert_eq!(booked, Refusal::Booked { bookings: 1 });
    let key = w.key(id).await;
    let withdrawn = mine::withdraw(&w.desk, &Submitter::default(), id, &key).await;
    assert_eq!(refusal(withdrawn.unwrap_err()), Refusal::Booked { bookings: 1 });
    // A change moves the date, and whoever booked it hears that it moved.
    w.pass(6);
    let change = filled(
        &w,
        &[
            ("from", "18:00"),
            ("until", "20:00"),
            ("bookable", "yes"),
            ("seats", "12"),
            ("price", "8.00"),
            ("hosts", "Wilma Thorne"),
        ],
    );
    mine::change(&w.desk, &Submitter::default(), id, &key, change).await.unwrap();
    let at = |w: &World| {
        let (desk, slug) = (w.desk.clone(), slug.clone());
        async move { programme::event(&desk, look(&slug)).await.unwrap().dates[0].date.span.starts }
    };
    assert_eq!(at(&w).await.hour(), 19, "the Programme shows what it showed");
    let a = queue::one(&w.desk, &w.staff(5).await, id, false).await.unwrap();
    assert_eq!(a.changes.iter().map(|(l, _)| l.as_str()).collect::<Vec<_>>(), ["When"]);
    assert_eq!(a.bookings, 1);
    w.decide(5, id, Act::Accept, "").await.unwrap();
    assert_eq!(at(&w).await.hour(), 18);
    w.due().await;
    assert!(
        w.subjects().iter().any(|s| s.contains("Queens in winter") && s.starts_with("Moved")),
        "{:?}",
        w.subjects()
    );
    deciding::undo(&w.desk, &w.staff(0).await, id).await.unwrap();
    assert_eq!(at(&w).await.hour(), 19);
    assert!(w.one(id).await.change.is_some(), "it waits again");
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_reviewer_corrects_is_told_and_an_answer_comes_back() {
    let w = world().await;
    w.due().await;
    let rosalind = w.staff(5).await;
    let nowhere =
        w.received(&[("place", ""), ("day", "2027-01-15"), ("email", "n@post.example")]).await;
    let refused = w.decide(5, nowhere, Act::Accept, "").await;
    assert!(matches!(refused, Err(DeskError::Form(wrong)) if wrong[0].field == "place"));
    let id = w.received(&[("place", "Hexley Libary"), ("until", "")]).await;
    assert!(w.found(id).await.contains(&Check::NearVenue));
    let version = w.one(id).await.version;
    let fix = form(&[("place", "Hexley Library")]);
    let changed = deciding::correct(&w.desk, &rosalind, (id, version), fix.clone()).await.unwrap();
    assert_eq!(changed, [("Where".into(), "Hexley Libary".into(), "Hexley Library".into())]);
    assert_eq!(
        refusal(deciding::correct(&w.desk, &rosalind, (id, version), fix).await.unwrap_err()),
        Refusal::Changed
    );
    assert!(!w.found(id).await.contains(&Check::NearVenue), "checked again");
    // What cannot be is told at its field, and nothing is changed.
    let version = w.one(id).await.version;
    let odd = deciding::correct(&w.desk, &rosalind, (id, version), form(&[("day", "soon")])).await;
    assert!(matches!(odd, Err(DeskError::Form(wrong)) if wrong[0].field == "day"));
    w.decide(5, id, Act::SendBack, "When does it end?").await.unwrap();
    w.pass(6);
    w.due().await;
    let mail = w.mail_of("A question about Queens in winter").unwrap();
    assert!(
        mail.contains("When does it end?") && mail.contains("Hexley Libary → Hexley Library"),
        "{mail}"
    );
    // Answered by the mailed link alone, with words and with the missing hour.
    let (nobody, key) = (Submitter::default(), w.key(id).await);
    let shown = mine::one(&w.desk, &nobody, id, &key).await.unwrap();
    assert_eq!((shown.state, shown.missing.clone()), (State::SentBack, vec!["When does it end?"]));
    assert!(matches!(
        mine::change(&w.desk, &nobody, id, &key, form(&[("note", " ")])).await,
        Err(DeskError::Form(_))
    ));
    mine::change(&w.desk, &nobody, id, &key, form(&[("note", "At nine.")])).await.unwrap();
    let a = queue::one(&w.desk, &rosalind, id, false).await.unwrap();
    assert!(
        a.happened.iter().any(|h| h.words == "At nine.") && a.submission.state == State::Received
    );
    // Copied to another date: all but the days, and it is another submission.
    let (copy, copy_key) = mine::copy(&w.desk, &nobody, id, &key).await.unwrap();
    let typed = w.one(copy).await.typed;
    assert_eq!((typed.get("title"), typed.get("day")), ("Queens in winter", ""));
    assert!(matches!(w.confirm(copy, &copy_key).await, Err(DeskError::Form(_))));
    mine::withdraw(&w.desk, &nobody, id, &key).await.unwrap();
    assert_eq!(w.one(id).await.state, State::Withdrawn);
    let none = w.decide(5, id, Act::Accept, "").await;
    assert!(matches!(
        none,
        Err(DeskError::Submission(Refusal::Elsewhere { state: State::Withdrawn, .. }))
    ));
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_near_copy_is_joined_with_what_is_there_and_others_are_no_copies() {
    let w = world().await;
    w.due().await;
    // The demo's own: a second wording of the meeting in Lower Ostrel.
    let q = queue::list(&w.desk, &w.staff(5).await).await.unwrap();
    let copies: Vec<&str> = q
        .rows
        .iter()
        .filter(|s| s.findings.iter().any(|f| f.check == Check::Copy))
        .map(|s| s.title.as_str())
        .collect();
    assert_eq!(copies, ["Lower Ostrel: meeting of the branch"]);
    let lights: Vec<(&str, Light)> = q.rows.iter().map(|s| (s.title.as_str(), s.light)).collect();
    insta::assert_debug_snapshot!(lights);
    let id = q.rows.iter().find(|s| s.title.starts_with("Lower Ostrel")).unwrap().id;
    let a = queue::one(&w.desk, &w.staff(5).await, id, false).await.unwrap();
    let Some(Other::Event(event)) = a.beside.first().map(|b| b.other) else {
        panic!("{:?}", a.beside)
    };
    // A third that is like both, and has its own contact.
    let typed = a.submission.typed;
    let same = ["title", "day", "from", "until", "place", "contact"].map(|n| (n, typed.get(n)));
    let third = w.received(&same).await;
    w.decide(5, third, Act::Accept, "").await.unwrap();
    let contacts = async || {
        let third = w.one(third).await.event.unwrap();
        let read = move |c: &matricle_store::Connection| {
            let contact = |id| Ok::<_, StoreError>(events::by_id(c, id)?.map(|e| e.contact));
            Ok::<_, StoreError>([contact(matricle_core::EventId(event))?, contact(third)?])
        };
        w.desk.store.read(read).await.unwrap().map(Option::unwrap)
    };
    let theirs = "marit.solheim@post.example";
    assert_eq!(contacts().await, ["", theirs]);
    let with = Some(Other::Event(event));
    let d =
        Decision { id, version: w.one(id).await.version, act: Act::Join, words: "".into(), with };
    let rosalind = w.staff(5).await;
    deciding::decide(&w.desk, &rosalind, d.clone()).await.unwrap();
    assert_eq!(contacts().await, [theirs, theirs], "what it lacked");
    deciding::undo(&w.desk, &rosalind, id).await.unwrap();
    assert_eq!(contacts().await, ["", theirs], "that one alone, and not what the third had");
    let version = w.one(id).await.version;
    deciding::decide(&w.desk, &rosalind, Decision { version, ..d }).await.unwrap();
    w.pass(6);
    w.due().await;
    let mail = w.mail_of("The same as “Branch meeting, Lower Ostrel”").unwrap();
    assert!(mail.contains("/events/branch-meeting-lower-ostrel"), "{mail}");
    // Two that wait and are the same find each other; joined, one is left.
    let one = w.received(&[("contact", "")]).await;
    let two = w
        .received(&[("title", "Winter queens"), ("email", "ros@post.example"), ("name", "Ros")])
        .await;
    while matricle_desk::review::checking::check_stale(&w.desk).await.unwrap() > 0 {}
    assert!(w.found(one).await.contains(&Check::Copy) && w.found(two).await.contains(&Check::Copy));
    w.decide(5, two, Act::Join, "").await.unwrap();
    assert!(!w.found(one).await.contains(&Check::Copy));
    assert_eq!(w.one(one).await.typed.get("contact"), WILMA, "what the other had");
    deciding::undo(&w.desk, &rosalind, two).await.unwrap();
    assert_eq!(w.one(one).await.typed.get("contact"), "", "and has not given");
    w.decide(5, two, Act::Join, "").await.unwrap();
    let alone = refusal(w.decide(5, one, Act::Join, "").await.unwrap_err());
    assert_eq!(alone, Refusal::NothingToJoin);
    // Another evening of the same series is none.
    let next = w.received(&[("day", "2026-12-22"), ("email", "ezra@post.example")]).await;
    assert!(!w.found(next).await.contains(&Check::Copy));
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn trust_is_proposed_decided_and_taken_back_by_a_complaint() {
    let w = world().await;
    w.due().await;
    w.rules(|r| r.trust_after = 2).await;
    let rosalind = w.staff(5).await;
    for (title, day) in [("Ink from oak galls", "2026-12-16"), ("Paper from nettles", "2027-01-20")]
    {
        let id = w.received(&[("title", title), ("day", day)]).await;
        w.decide(5, id, Act::Accept, "").await.unwrap();
        w.pass(6);
    }
    let third = w.received(&[("title", "Glue from casein"), ("day", "2027-02-20")]).await;
    let a = queue::one(&w.desk, &rosalind, third, false).await.unwrap();
    assert_eq!(a.trust.unwrap().words(), "2 of 2 accepted.");
    let person = w.one(third).await.person.unwrap();
    trust::decide(&w.desk, &rosalind, person, true).await.unwrap();
    assert!(trust::all(&w.desk, &rosalind).await.unwrap().iter().any(|t| t.person == person));
    // From now on theirs is in the Programme at once; what looks like something else is not.
    let id = w.sent(&[("title", "Dyes from walnut"), ("day", "2027-03-20")]).await.unwrap();
    let key = w.key(id).await;
    assert_eq!(w.confirm(id, &key).await.unwrap(), Handed::Published("dyes-from-walnut".into()));
    let twin = w.sent(&[("title", "Walnut dyes"), ("day", "2027-03-20")]).await.unwrap();
    let key = w.key(twin).await;
    assert_eq!(w.confirm(twin, &key).await.unwrap(), Handed::Waits);
    // A complaint that is right takes it back; the event leaves the Programme with it.
    let nobody = Submitter { from: (5, 7), ..Submitter::default() };
    complaints::complain(
        &w.desk,
        &nobody,
        "dyes-from-walnut",
        form(&[("words", "It is on another day.")]),
    )
    .await
    .unwrap();
    let q = queue::list(&w.desk, &rosalind).await.unwrap();
    let (complaint, _) =
        q.complaints.iter().find(|(c, _)| c.words.contains("another day")).unwrap();
    complaints::decide(&w.desk, &rosalind, complaint.id, true, true).await.unwrap();
    assert!(!trust::all(&w.desk, &rosalind).await.unwrap().iter().any(|t| t.person == person));
    assert!(matches!(
        programme::event(&w.desk, look("dyes-from-walnut")).await,
        Err(DeskError::NotFound)
    ));
    let twice = complaints::decide(&w.desk, &w.staff(0).await, complaint.id, false, false).await;
    assert!(matches!(twice, Err(DeskError::Submission(Refusal::Elsewhere { .. }))));
    complaints::undo(&w.desk, &rosalind, complaint.id).await.unwrap();
    assert!(programme::event(&w.desk, look("dyes-from-walnut")).await.is_ok());
    // Nobody floods the reviewers with complaints.
    let mut taken = 0;
    for n in 0..40 {
        let words = format!("Again {n}");
        taken += usize::from(
            complaints::complain(&w.desk, &nobody, FREE, form(&[("words", &words)])).await.is_ok(),
        );
    }
    assert!(taken <= 10, "{taken}");
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_house_rules_say_who_may_and_where_it_lands() {
    let w = world().await;
    w.due().await;
    let nobody = Submitter::default();
    let signed_in = |email: &'static str| {
        let desk = w.desk.clone();
        async move {
            let now = desk.clock.now();
            let know = move |tx: &matricle_store::Tx<'_>| people::know(tx, "Ana", email, now);
            let id = desk.store.write(know).await.unwrap();
            Submitter {
                person: Some(id),
                name: "Ana".into(),
                proved: Some(email.into()),
                member: false,
                from: (0, 0),
            }
        }
    };
    let (stranger, member) =
        (signed_in("ana@other.example").await, signed_in("marit.solheim@post.example").await);
    let begin = |who: Submitter| {
        let desk = w.desk.clone();
        let fields = filled(&w, &[]);
        async move { writing::keep(&desk, &who, None, &fields).await.map(|(id, _)| id) }
    };
    for (rules, who, may) in [
        (WhoMay::Nobody, &member, Err(NotYou::Closed)),
        (WhoMay::Members, &nobody, Err(NotYou::MembersOnly)),
        (WhoMay::Members, &stranger, Err(NotYou::MembersOnly)),
        (WhoMay::Members, &member, Ok(())),
        (WhoMay::Named(vec!["Ana@other.example".into()]), &member, Err(NotYou::NotNamed)),
        (WhoMay::Named(vec!["Ana@other.example".into()]), &stranger, Ok(())),
        (WhoMay::Anybody, &nobody, Ok(())),
    ] {
        let set = rules.clone();
        w.rules(move |r| r.who = set.clone()).await;
        let got = begin((*who).clone()).await.map(drop).map_err(refusal);
        assert_eq!(got, may.map_err(Refusal::NotYou), "{rules:?}");
    }
    // A member's lands as the rules say; signed in, it is handed in with one click.
    for (lands, is) in
        [(Lands::Draft, "draft"), (Lands::Published, "published"), (Lands::Review, "waits")]
    {
        w.rules(move |r| (r.who, r.members, r.a_day) = (WhoMay::Anybody, lands, 50)).await;
        let day = format!("2027-04-{}", 10 + is.len());
        let fields = filled(&w, &[("day", &day), ("title", &format!("A member’s {is}"))]);
        let (id, _) = writing::keep(&w.desk, &member, None, &fields).await.unwrap();
        let handed = writing::send(&w.desk, &member, (id, String::new()), fields).await.unwrap();
        let word = match handed {
            Handed::Draft => "draft",
            Handed::Published(_) => "published",
            Handed::Waits => "waits",
            Handed::Mailed(_) => "mailed",
        };
        assert_eq!(word, is);
    }
    // So many a day, and what is too much is kept.
    w.rules(|r| r.a_day = 3).await;
    let fields = filled(&w, &[("title", "One too many")]);
    let (id, _) = writing::keep(&w.desk, &member, None, &fields).await.unwrap();
    let enough = writing::send(&w.desk, &member, (id, String::new()), fields).await.unwrap_err();
    assert_eq!(refusal(enough), Refusal::Enough { most: 3 });
    assert_eq!(w.one(id).await.typed.get("title"), "One too many");
    // What is not allowed later is refused, but for what was sent back.
    let id = w.received(&[]).await;
    w.rules(|r| (r.change_before, r.change_after, r.withdraw) = (false, false, false)).await;
    let key = w.key(id).await;
    let other = || filled(&w, &[("title", "Another")]);
    assert_eq!(
        refusal(mine::change(&w.desk, &nobody, id, &key, other()).await.unwrap_err()),
        Refusal::ByRules(Act::Change)
    );
    assert_eq!(
        refusal(mine::withdraw(&w.desk, &nobody, id, &key).await.unwrap_err()),
        Refusal::ByRules(Act::Withdraw)
    );
    w.decide(5, id, Act::SendBack, "Which queens?").await.unwrap();
    mine::change(&w.desk, &nobody, id, &key, other()).await.unwrap();
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn programs_are_kept_out_and_nothing_a_person_typed_is_lost() {
    let w = world().await;
    w.due().await;
    let nobody = Submitter { from: (11, 12), ..Submitter::default() };
    let fields = filled(&w, &[]);
    let (id, _) = writing::keep(&w.desk, &nobody, None, &fields).await.unwrap();
    let key = w.desk.secrets.writing_key(id);
    let send = |with: Vec<(&'static str, String)>| {
        let (desk, nobody, key) = (w.desk.clone(), nobody.clone(), key.clone());
        let pairs: Vec<(&str, &str)> = with.iter().map(|(n, v)| (*n, v.as_str())).collect();
        let fields = filled_by(&w, 11, &pairs);
        async move { writing::send(&desk, &nobody, (id, key), fields).await }
    };
    let now = w.desk.clock.now();
    for (with, why) in [
        (vec![("website", "buy".to_owned())], Refusal::Trapped),
        (vec![("stamp", w.desk.secrets.stamp(now, 11))], Refusal::TooFast),
        // Another browser's page.
        (
            vec![("stamp", w.desk.secrets.stamp(now - SignedDuration::from_mins(3), 12))],
            Refusal::OldForm,
        ),
        (vec![("stamp", String::new())], Refusal::OldForm),
        (vec![("stamp", "1800000000.AAAA".into())], Refusal::OldForm),
        (
            vec![("stamp", w.desk.secrets.stamp(now - SignedDuration::from_hours(24 * 15), 11))],
            Refusal::OldForm,
        ),
    ] {
        assert_eq!(refusal(send(with).await.unwrap_err()), why);
    }
    let wrong = send(vec![
        ("email", "no".into()),
        ("name", String::new()),
        ("agreed", String::new()),
        ("day", String::new()),
    ])
    .await;
    let Err(DeskError::Form(wrong)) = wrong else { panic!() };
    let fields: Vec<&str> = wrong.iter().map(|w| w.field.as_str()).collect();
    assert_eq!(fields, ["name", "email", "agreed", "day"]);
    assert_eq!(w.one(id).await.typed.get("title"), "Queens in winter");
    // Two devices at one draft: each says what it changed, and puts back nothing of the other's.
    let device = async |title: &str, place: &str, changed: &str| {
        let fields = filled_by(&w, 11, &[("title", title), ("place", place), ("changed", changed)]);
        let begun = Some((id, key.clone()));
        writing::keep(&w.desk, &nobody, begun, &fields).await.unwrap();
        let kept = w.one(id).await.typed;
        (kept.get("title").to_owned(), kept.get("place").to_owned())
    };
    let place = w.one(id).await.typed.get("place").to_owned();
    assert_eq!(device("Drones", "here", "title").await, ("Drones".into(), place));
    let both = ("Drones".to_owned(), "Apiary".to_owned());
    assert_eq!(device("Queens in winter", "Apiary", "place").await, both);
    assert_eq!(device("", "", "").await, both, "nothing changed, nothing lost");
    assert_eq!(device("Queens in winter", "", "title place").await.1, "");
    // Without the computation it comes all the same, and says so to the reviewer.
    send(vec![("work", String::new())]).await.unwrap();
    let mailed = w.key(id).await;
    w.confirm(id, &mailed).await.unwrap();
    assert!(w.found(id).await.contains(&Check::NoWork));
    // A program that submits a thousand: few drafts, fewer mails, and nothing received.
    let before = w.mails.taken().len();
    let mut begun = 0;
    for n in 0..1_000 {
        let email = format!("victim{n}@post.example");
        let fields = filled_fast(&w, &email);
        match writing::keep(&w.desk, &nobody, None, &fields).await {
            Ok((id, _)) => {
                begun += 1;
                let key = w.desk.secrets.writing_key(id);
                let _ = writing::send(&w.desk, &nobody, (id, key), fields).await;
            }
            Err(error) => assert!(matches!(error, DeskError::TooOften { .. }), "{error}"),
        }
    }
    let waits = w.desk.store.read(|c| Ok::<_, StoreError>(submissions::waits(c)?.0)).await.unwrap();
    assert!(begun <= 10 && w.mails.taken().len() - before <= 10, "{begun} begun");
    assert_eq!(waits, 7, "the six of the demo and the one above: no address was proved");
    w.sound().await;
}

/// A form without the computation, for a thousand of them.
fn filled_fast(w: &World, email: &str) -> Form {
    let stamp = w.desk.secrets.stamp(w.desk.clock.now() - SignedDuration::from_mins(3), 11);
    form(&[
        ("title", "Buy"),
        ("day", "2026-12-15"),
        ("from", "19:00"),
        ("name", "B"),
        ("email", email),
        ("agreed", "yes"),
        ("stamp", &stamp),
    ])
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_over_is_erased_when_the_house_says_and_the_day_is_told_once() {
    let w = world().await;
    w.due().await;
    w.rules(|r| {
        r.keep_days = 3;
        r.told = vec![Told { email: "nia@ostrel.example".into(), daily: true }];
    })
    .await;
    let id = w.received(&[]).await;
    w.received(&[("title", "Second"), ("day", "2027-01-03"), ("email", "b@post.example")]).await;
    let unsent = w.sent(&[("title", "Never sent"), ("email", "c@post.example")]).await.unwrap();
    w.pass(24 * 60);
    w.due().await;
    let told: Vec<String> = w.subjects().into_iter().filter(|s| s.ends_with("to review")).collect();
    assert_eq!(told, ["8 submissions to review"], "once, of all that wait");
    w.decide(5, id, Act::TurnDown, "No.").await.unwrap();
    w.pass(24 * 60 * 4);
    w.due().await;
    let gone =
        |id| w.desk.store.read(move |c: &matricle_store::Connection| submissions::by_id(c, id));
    assert!(gone(id).await.unwrap().is_none() && gone(unsent).await.unwrap().is_some());
    w.pass(24 * 60 * 15);
    w.due().await;
    assert!(gone(unsent).await.unwrap().is_none());
    // Figures count what stands.
    let f = figures::show(&w.desk, &w.staff(5).await).await.unwrap();
    assert!(f.waiting >= 8 && f.median.is_some(), "{f:?}");
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn many_that_look_right_are_accepted_at_once_in_the_order_of_the_catalogue() {
    let w = world().await;
    w.due().await;
    let right = queue::right(&w.desk, &w.staff(5).await).await.unwrap();
    assert_eq!(right[0].1, "Fri 11 December, 19:00–21:00");
    let right: Vec<Submission> = right.into_iter().map(|(s, _)| s).collect();
    let titles: Vec<&str> = right.iter().map(|s| s.title.as_str()).collect();
    assert_eq!(titles, ["Branch meeting, Hexley", "Wax wraps from old cappings"]);
    let mut these: Vec<(SubmissionId, u32)> = right.iter().map(|s| (s.id, s.version)).collect();
    these.push((right[0].id, right[0].version));
    let (done, not) = deciding::accept_many(&w.desk, &w.staff(0).await, these).await.unwrap();
    assert_eq!((done.len(), not.len()), (2, 1), "the same one twice is told");
    let wish = programme::Wish { every_date: true, ..programme::Wish::default() };
    let all = programme::catalogue(&w.desk, wish, 200).await.unwrap().found.dates;
    assert!(all.windows(2).all(|w| w[0].date.span.starts_at <= w[1].date.span.starts_at));
    assert!(done.iter().all(|d| all.iter().any(|s| s.event.slug == d.slug)));
    // Members who only submit have no right here; nor have others of the house.
    for who in [1, 3, 4] {
        let d = Decision {
            id: right[0].id,
            version: 0,
            act: Act::Accept,
            words: String::new(),
            with: None,
        };
        let refused = deciding::decide(&w.desk, &w.staff(who).await, d).await;
        assert!(matches!(refused, Err(DeskError::Right(_))), "{who}");
    }
    w.sound().await;
}
