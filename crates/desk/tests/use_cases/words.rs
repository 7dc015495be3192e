//! The words of every kind of mail, frozen: one of each is brought about and read.

use std::collections::BTreeMap;

use matricle_core::seats::Wanted;
use matricle_core::seats::waiting::Manner;
use matricle_desk::bookings::cancel::{self, By};
use matricle_desk::bookings::{change, decide, hold, pass_on, submit, waiting};
use matricle_desk::people::asking::Asking;
use matricle_desk::planning::dates::{self, Scope};
use matricle_desk::planning::{asking, invitations};
use matricle_store::events;

use crate::world::{CANDLES, FREE, World, form, look, text_of, world};

const WALK: &str = "apiary-open-day";
const DIPPING: &str = "thursday-dipping";
const TALK: &str = "pollen-under-the-lens";

/// What differs from one run to the next, told alike: secret keys, references, codes, keys of
/// messages.
fn alike(text: &str) -> String {
    let mut lines = Vec::new();
    for line in text.replace("\r\n", "\n").lines() {
        let words: Vec<String> = line
            .split(' ')
            .map(|word| {
                let bare = word.trim_end_matches(['.', ',', ':', ';']);
                let end = &word[bare.len()..];
                let capitals = bare.chars().all(|c| c.is_ascii_uppercase() || c == '-');
                match bare {
                    _ if bare.starts_with("http://") => {
                        let path = bare.split('/').skip(3).take(1).collect::<String>();
                        format!("http://club.example/{path}/…{end}")
                    }
                    _ if capitals && bare.len() == 9 && bare.contains('-') => {
                        format!("REFERENCE{end}")
                    }
                    _ if capitals && bare.len() == 14 && bare.contains('-') => format!("CODE{end}"),
                    _ => word.to_owned(),
                }
            })
            .collect();
        let line = words.join(" ").trim_end().to_owned();
        // ISO 11649: two check digits and the booking's reference.
        lines.push(match line.split_once("Reference: RF") {
            Some((before, _)) => format!("{before}Reference: RF…"),
            None => line,
        });
    }
    lines.join("\n").trim_end().to_owned()
}

impl World {
    async fn event_of(&self, slug: &'static str) -> matricle_core::EventId {
        let find = move |c: &matricle_store::Connection| events::by_slug(c, slug);
        self.desk.store.read(find).await.unwrap().unwrap().id
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_kind_of_mail_has_its_words() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let desk = &w.desk;
    let by = || By::Staff(ilse.clone(), None);
    // Confirmation, a change, a ticket passed on, a second booking, a link, a cancellation.
    let free = w.book(FREE, &[2]).await;
    let one = w.sheet(free).await.lines[0].ticket;
    let wanted = vec![Wanted { ticket: one, quantity: 1 }];
    change::add_tickets(desk, &ilse, free, wanted, vec!["Una".into()]).await.unwrap();
    let person = w.sheet(free).await.attendees[0].id;
    let to = form(&[("new_name", "Ros O'Hara"), ("new_email", "ros@post.example")]);
    pass_on::pass_on(desk, by(), free, person, to).await.unwrap();
    let (date, wanted) = w.choice(FREE, &[1]).await;
    let stranger = matricle_store::bookings::HeldBy::default();
    let second = hold::keep(desk, date, wanted, stranger, None).await.unwrap();
    let draft = w.draft(second).await;
    submit::submit(desk, &Asking::default(), second, draft).await.unwrap();
    let begun = w.keep(WALK, &[1]).await.unwrap();
    hold::type_on(desk, begun, w.draft(begun).await).await.unwrap();
    hold::mail_link(desk, &Asking::default(), begun).await.unwrap();
    w.due().await;
    cancel::cancel(desk, by(), free, Vec::new()).await.unwrap();
    // A yes with money due, a no.
    let asks = form(&[("who", "anyone"), ("confirm_paid", "after yes"), ("hold_minutes", "15")]);
    matricle_desk::planning::who::keep(desk, &ilse, w.event_of(TALK).await, asks).await.unwrap();
    let talk = w.book(TALK, &[1, 0, 0]).await;
    decide::approve(desk, &ilse, talk, None).await.unwrap();
    let other = w.book(TALK, &[1, 0, 0]).await;
    decide::decline(desk, &ilse, other, "The bees are unwell.".into()).await.unwrap();
    // A place on the list, an offer, seats free for everybody.
    let rules = |manner: Manner| form(&[("waiting", manner.word()), ("offer_hours", "24")]);
    for (slug, manner) in [(CANDLES, Manner::OfferFirst), (DIPPING, Manner::TellAll)] {
        matricle_desk::planning::after_booking::keep(
            desk,
            &ilse,
            w.event_of(slug).await,
            rules(manner),
        )
        .await
        .unwrap();
        let all = w.free(slug).await;
        let held = if slug == CANDLES { [0, all, 0] } else { [all, 0, 0] };
        let held = w.keep(slug, &held).await.unwrap();
        let (date, wanted) = w.choice(slug, &[1]).await;
        let waits = form(&[("name", "Greta"), ("email", "greta@post.example")]);
        waiting::join(desk, date, wanted, &Asking::default(), waits).await.unwrap();
        w.due().await;
        hold::give_back(desk, held).await.unwrap();
        w.due().await;
    }
    // A date that moved, one that is called off, an invitation.
    let page = matricle_desk::programme::event(desk, look(TALK)).await.unwrap();
    w.due().await;
    let span = &page.dates[0].date.span;
    let later = form(&[
        ("day", &span.starts.date().to_string()),
        ("from", "11:30"),
        ("until", "16:00"),
        ("venue", &page.dates[0].date.venue),
        ("room", &page.dates[0].date.room),
        ("hosts", &page.dates[0].date.hosts),
        ("seats_0", ""),
    ]);
    let date = page.dates[0].date.id;
    dates::change(desk, &ilse, date, Scope::One, later, true).await.unwrap();
    w.due().await;
    let event = page.event.id;
    dates::call_off(desk, &ilse, event, None, "The microscope is broken.".into()).await.unwrap();
    let ana = form(&[("whom", "ana@post.example")]);
    invitations::add(desk, &ilse, w.event_of(DIPPING).await, ana).await.unwrap();
    asking::send(desk, &ilse, w.event_of(DIPPING).await).await.unwrap();
    w.due().await;

    // Each by the name of its template: what the program's own say.
    let kinds: BTreeMap<String, String> = desk
        .store
        .read(|conn| {
            let mut kinds = BTreeMap::new();
            let mut all = conn
                .prepare(
                    "SELECT o.message_id, coalesce(t.standard, o.happened) FROM outbox o
                     LEFT JOIN templates t ON t.id = o.template_id",
                )
                .unwrap();
            let mut rows = all.query([]).unwrap();
            while let Some(row) = rows.next().unwrap() {
                kinds.insert(row.get(0).unwrap(), row.get(1).unwrap());
            }
            Ok::<_, matricle_store::StoreError>(kinds)
        })
        .await
        .unwrap();
    let mut said: BTreeMap<&str, String> = BTreeMap::new();
    for raw in w.mails.taken() {
        let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
        let Some(kind) = mail.message_id().and_then(|id| kinds.get(id)) else { continue };
        let text = format!("{}\n\n{}", mail.subject().unwrap(), alike(&text_of(&mail)));
        // The first of each kind.
        said.entry(kind.as_str()).or_insert(text);
    }
    let all: Vec<String> =
        said.into_iter().map(|(kind, text)| format!("===== {kind}\n{text}")).collect();
    insta::assert_snapshot!(all.join("\n\n"));
    w.sound().await;
}
