//! Rules for which bookings are confirmed by themselves, and what becomes of those that wait
//! when a rule changes.

use matricle_core::booking::State;
use matricle_core::words::codes::Reference;
use matricle_desk::DeskError;
use matricle_desk::bookings::confirm::Followed;
use matricle_desk::bookings::submit;
use matricle_desk::bookings::submit::Outcome;
use matricle_desk::people::asking::Asking;
use matricle_desk::planning::tickets;
use matricle_store::events;

use crate::world::{FREE, World, form, world};

const DIPPING: &str = "thursday-dipping";

impl World {
    async fn submitted(&self, slug: &str, quantities: &[u32]) -> (Reference, Outcome) {
        let reference = self.keep(slug, quantities).await.unwrap();
        let draft = self.draft(reference).await;
        (reference, submit::submit(&self.desk, &Asking::default(), reference, draft).await.unwrap())
    }

    async fn event_id(&self, slug: &'static str) -> matricle_core::EventId {
        let find = move |c: &matricle_store::Connection| events::by_slug(c, slug);
        self.desk.store.read(find).await.unwrap().unwrap().id
    }

    async fn rule(
        &self,
        slug: &'static str,
        fields: &[(&'static str, &'static str)],
    ) -> Result<Followed, DeskError> {
        let fields = [
            fields,
            &[
                ("who", "anyone"),
                ("hold_minutes", "15"),
                ("confirm_free", "by itself"),
                ("confirm_paid", "by itself"),
            ],
        ]
        .concat();
        let id = self.event_id(slug).await;
        matricle_desk::planning::who::keep(&self.desk, &self.staff(0).await, id, form(&fields))
            .await
    }

    /// Gives the first ticket of the weekly evening a rule of its own.
    async fn ticket_rule(&self, confirm: &str, waiting: &str) -> Result<(), DeskError> {
        let (id, ilse) = (self.event_id(DIPPING).await, self.staff(0).await);
        let ticket = self.choice(DIPPING, &[1]).await.1[0].ticket;
        let fields = [
            ("name", "Seat"),
            ("price", "8"),
            ("least", "1"),
            ("most", "10"),
            ("admits", "1"),
            ("draw_0", "1"),
            ("confirm", confirm),
            ("waiting", waiting),
        ];
        tickets::save_ticket(&self.desk, &ilse, id, Some(ticket), form(&fields)).await
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn free_and_paid_bookings_wait_or_go_on_by_the_rule_and_those_who_wait_are_asked_about() {
    let w = world().await;
    w.rule(FREE, &[("confirm_paid", "after yes")]).await.unwrap();
    let (free, outcome) = w.submitted(FREE, &[1]).await;
    assert_eq!(outcome, Outcome::Confirmed, "what costs nothing is not concerned");
    let filling = w.keep(FREE, &[1]).await.unwrap();
    let told = w.rule(FREE, &[("confirm_free", "after yes")]).await.unwrap();
    assert_eq!((told.went_on, told.wait, told.will_wait), (0, 0, 1));
    assert_eq!(w.state(free).await, State::Confirmed, "what is confirmed stays so");
    let draft = w.draft(filling).await;
    assert_eq!(
        submit::submit(&w.desk, &Asking::default(), filling, draft).await.unwrap(),
        Outcome::Asked
    );
    let (second, _) = w.submitted(FREE, &[2]).await;
    // Off again: nothing is written until it is said what becomes of the two.
    let Err(DeskError::Freed { bookings }) = w.rule(FREE, &[]).await else {
        panic!("two bookings wait")
    };
    let named: Vec<Reference> = bookings.iter().map(|(reference, _)| *reference).collect();
    assert_eq!(named, [filling, second]);
    let (third, outcome) = w.submitted(FREE, &[1]).await;
    assert_eq!(outcome, Outcome::Asked, "the old rule still holds");
    let told = w.rule(FREE, &[("waiting", "wait on")]).await.unwrap();
    assert_eq!((told.went_on, told.wait), (0, 3));
    assert_eq!(w.submitted(FREE, &[1]).await.1, Outcome::Confirmed);
    let told = w.rule(FREE, &[("waiting", "go on")]).await.unwrap();
    assert_eq!(told.went_on, 3);
    for reference in [filling, second, third] {
        assert_eq!(w.state(reference).await, State::Confirmed);
    }
    let history = w.sheet(second).await.timeline;
    assert!(history.iter().any(|h| h.what.contains("changed the rules")));
    w.due().await;
    let mails = w.subjects().iter().filter(|s| s.starts_with("Your seats: ")).count();
    assert!(mails >= 5, "{:?}", w.subjects());
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_ticket_with_a_rule_of_its_own_makes_its_whole_booking_wait() {
    let w = world().await;
    w.ticket_rule("after yes", "").await.unwrap();
    let (both, outcome) = w.submitted(DIPPING, &[1, 1]).await;
    assert_eq!(outcome, Outcome::Asked, "a card beside it is decided on with it");
    let (card, outcome) = w.submitted(DIPPING, &[0, 1]).await;
    assert_eq!((outcome, w.state(card).await), (Outcome::ToPay, State::AwaitingPayment));
    assert!(
        matches!(w.ticket_rule("", "").await, Err(DeskError::Freed { bookings }) if bookings.len() == 1)
    );
    w.ticket_rule("", "go on").await.unwrap();
    assert_eq!(w.state(both).await, State::AwaitingPayment, "and is asked for the money");
    w.due().await;
    assert!(w.subjects().last().unwrap().starts_with("Your seats are kept: Thursday dipping"));
    // The event's rule is stricter, the ticket's own lets it through.
    w.rule(DIPPING, &[("confirm_paid", "after yes")]).await.unwrap();
    w.ticket_rule("by itself", "").await.unwrap();
    assert_eq!(w.submitted(DIPPING, &[1]).await.1, Outcome::ToPay);
    assert_eq!(w.submitted(DIPPING, &[1, 1]).await.1, Outcome::Asked, "the card follows the event");
    w.sound().await;
}
