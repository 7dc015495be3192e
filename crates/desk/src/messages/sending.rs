//! Handing messages over, several at a time: what is marked as being handed over really is, so
//! that a kill leaves only those few in doubt.
//!
//! A place that comes free is taken at once. Mass mail comes after all else; one domain has a few
//! places and no more, and a conversation that lasts gives its place to another, so that one slow
//! server holds nobody else's mail up. Text messages wait for the morning.

use std::collections::HashMap;
use std::sync::PoisonError;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use matricle_core::messages::cue::{Trigger, Way};
use matricle_core::messages::due::WhyNot;
use matricle_core::messages::occasion::Occasion;
use matricle_core::people::acting::Acting;
use matricle_core::people::unasked::{Goes, goes as goes_unasked};
use matricle_core::people::wish::What;
use matricle_core::{BookingId, EventId, HostId, SubmissionId};
use matricle_store::outbox::{self, About, Message};
use matricle_store::{
    Connection, StoreError, bookings, invited, readers, replies, submissions, wishes,
};
use tokio::task::JoinSet;

use crate::messages::announcements::is_still_for;
use crate::messages::{Composed, Ready, compose, compose_for, kept};
use crate::outside::mailer::SendError;
use crate::rounds::{Fate, Outcome, Work, backoff, guarded};
use crate::telling::{Still, is_still_due, news, plan_wishes};
use crate::{Desk, DeskError};

/// Tries of a message, over some two days, before it is given up.
const TRIES: u32 = 300;
/// At most so many conversations with one receiving domain at once.
const AT_ONE_DOMAIN: usize = 4;

/// A conversation that has lasted so long is slow: another may begin beside it.
const SLOW: Duration = Duration::from_secs(3);
/// At most so many slow conversations beside those that may be under way at once.
const MOST_SLOW: usize = 64;
/// How long is waited at most before it is asked again what is due, while conversations go on.
const LOOK: Duration = Duration::from_millis(500);
/// So many messages are looked at to find those whose domains have room.
const LOOKED_AT: u32 = 200;

/// The domain that a message went to, and whether what became of it could be written down.
type Handed = Result<(String, Result<(), DeskError>), DeskError>;

/// What is being handed over.
#[derive(Default)]
struct UnderWay {
    conversations: JoinSet<Handed>,
    began: HashMap<tokio::task::Id, Instant>,
    at_domain: HashMap<String, usize>,
}

impl UnderWay {
    /// How many more may begin: a slow one gives its place up, so that a server that hangs now and
    /// then holds nothing else up.
    fn room(&self, at_once: usize) -> usize {
        let slow = self.began.values().filter(|at| at.elapsed() >= SLOW).count();
        let quick = self.began.len() - slow;
        let most = at_once.max(1);
        let by_all = (most + MOST_SLOW).saturating_sub(self.began.len());
        most.saturating_sub(quick).min(by_all)
    }

    /// Domains with as many conversations as they may have.
    fn full(&self) -> Vec<String> {
        let full = self.at_domain.iter().filter(|(d, n)| !d.is_empty() && **n >= AT_ONE_DOMAIN);
        full.map(|(domain, _)| domain.clone()).collect()
    }

    fn begin(&mut self, desk: &Desk, message: Message) {
        let key = domain(&message.address);
        *self.at_domain.entry(key.clone()).or_default() += 1;
        let desk = desk.clone();
        let begun = self.conversations.spawn(async move {
            let outcome = hand_over(&desk, message.clone()).await?;
            let fate = Fate { message, outcome, at: desk.clock.now() };
            let written = write(&desk, fate.clone()).await;
            if let Err(error) = &written
                && !matches!(error, DeskError::Store(StoreError::Closed))
            {
                // A full disk, perhaps. What became of it is remembered, so that it is not sent
                // twice once it can be written.
                let unwritten = &desk.health.unwritten;
                unwritten
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .insert(fate.message.id, fate);
            }
            Ok((key, written))
        });
        self.began.insert(begun.id(), Instant::now());
    }

    /// One has ended: what could not be written down.
    fn ended(
        &mut self,
        done: Result<(tokio::task::Id, Handed), tokio::task::JoinError>,
    ) -> Result<(), DeskError> {
        let (id, handed) = done.map_err(|_| StoreError::Closed)?;
        self.began.remove(&id);
        let (key, written) = handed?;
        if let Some(n) = self.at_domain.get_mut(&key) {
            *n = n.saturating_sub(1);
        }
        written
    }
}

/// Hands over what is due, until nothing is; says whether there may be more. A place that comes
/// free is taken by the next at once, what is due meanwhile before mass mail.
pub(crate) async fn send(desk: &Desk) -> Result<bool, DeskError> {
    write_what_is_known(desk).await?;
    take_up(desk).await?;
    let mut under_way = UnderWay::default();
    let mut woken = desk.wake.listen();
    let mut failed = None;
    loop {
        // While nothing can be written down nothing more is taken.
        if failed.is_none() {
            take(desk, &mut under_way).await?;
            desk.health.turned(Work::Mail, desk.clock.now());
        }
        tokio::select! {
            done = under_way.conversations.join_next_with_id() => match done {
                None => break,
                Some(done) => {
                    let mut ended = under_way.ended(done);
                    while let Some(done) = under_way.conversations.try_join_next_with_id() {
                        ended = ended.and(under_way.ended(done));
                    }
                    failed = failed.or(ended.err());
                }
            },
            _ = woken.changed() => {}
            () = tokio::time::sleep(LOOK) => {}
        }
    }
    failed.map_or(Ok(false), Err)
}

/// Takes as many messages as there is room for, each at a domain that has room. What is marked as
/// being handed over is being handed over.
async fn take(desk: &Desk, under_way: &mut UnderWay) -> Result<(), DeskError> {
    loop {
        let room = under_way.room(desk.mail_at_once);
        if room == 0 {
            return Ok(());
        }
        let (now, full) = (desk.clock.now(), under_way.full());
        let due = desk.store.read(move |conn| outbox::due(conn, &full, LOOKED_AT, now)).await?;
        let looked_at = due.len();
        let mut at_domain = under_way.at_domain.clone();
        let mut chosen = Vec::new();
        for (id, address) in due {
            let of_domain = at_domain.entry(domain(&address)).or_default();
            if chosen.len() < room && (*of_domain < AT_ONE_DOMAIN || address.is_empty()) {
                *of_domain += 1;
                chosen.push(id);
            }
        }
        if chosen.is_empty() {
            return Ok(());
        }
        let taken = desk.store.write(move |tx| outbox::take(tx, &chosen, now)).await?;
        let none = taken.is_empty();
        for message in taken {
            under_way.begin(desk, message);
        }
        if none || looked_at < LOOKED_AT as usize && under_way.room(desk.mail_at_once) == 0 {
            return Ok(());
        }
    }
}

fn domain(address: &str) -> String {
    address.rsplit_once('@').map_or_else(String::new, |(_, domain)| domain.to_lowercase())
}

/// Puts a message together and hands it over; a panic in that is a failure of this message.
async fn hand_over(desk: &Desk, message: Message) -> Result<Outcome, DeskError> {
    let with = desk.clone();
    match guarded(Work::Mail, async move { one(&with, &message).await }).await {
        Ok(outcome) => Ok(outcome),
        Err(closed @ DeskError::Store(StoreError::Closed)) => Err(closed),
        Err(error) => {
            Ok(Outcome::Refused(SendError { for_good: false, reason: error.to_string() }))
        }
    }
}

/// Whether a message is still to go, asked at the last moment.
fn goes(
    conn: &Connection,
    message: &Message,
    now: Timestamp,
) -> Result<Option<Outcome>, DeskError> {
    if let About::House(person) = message.about {
        return Ok(match news(conn, person, &message.knows, now)? {
            None => Some(Outcome::Withdrawn("not wished for any more")),
            Some(n) if n.lines.is_empty() && !n.nothing => {
                Some(Outcome::Skipped("nothing to tell"))
            }
            Some(_) => None,
        });
    }
    if let About::Submission(id, _) = message.about {
        return Ok(match of_submission(conn, message, id)? {
            None => unasked(conn, message, now)?,
            not => not,
        });
    }
    if !is_their_ticket(conn, message)? {
        return Ok(Some(Outcome::Withdrawn("the ticket was passed on once more")));
    }
    match message.trigger {
        Trigger::At(_) => match is_still_due(conn, message, now)? {
            Still::Yes => {}
            Still::Later(at) => return Ok(Some(Outcome::Later(at))),
            Still::No(why) => return Ok(Some(Outcome::Withdrawn(why))),
        },
        Trigger::On(occasion) => {
            if let About::Booking(id) = message.about
                && message.announcement.is_none()
                && let Some(state) = bookings::by_id(conn, id)?.map(|b| b.state)
                && !occasion.holds(state)
            {
                return Ok(Some(Outcome::Withdrawn("not true any more")));
            }
            if message.announcement.is_some() && !is_still_for(conn, message)? {
                let why = "they are none of those whom it is for any more";
                return Ok(Some(Outcome::Withdrawn(why)));
            }
            // What happened to the address since it was planned: nobody booked these.
            let wants_none = occasion == Occasion::Announced;
            if wants_none || occasion == Occasion::Invited {
                let known = outbox::address(conn, &message.address)?;
                if known.refused.is_some() {
                    return Ok(Some(Outcome::Skipped(WhyNot::Bounced.words())));
                }
                if wants_none && known.unsubscribed {
                    return Ok(Some(Outcome::Skipped(WhyNot::Unsubscribed.words())));
                }
            }
            if let (Occasion::Invited, About::Event(event)) = (occasion, message.about) {
                return is_asked_still(conn, message, event);
            }
        }
    }
    // A list of nobody is not sent, unless the cue or its reader wants it.
    if let (About::Event(event), Some(date), None) = (message.about, message.date, message.waiter)
        && let Some(cue) = message.cue
        && let Some(cue) = matricle_store::cues::by_id(conn, cue)?
        && matches!(cue.trigger, Trigger::At(_))
        && !cue.whom.has_booked()
        && !cue.only.nobody
        && cue.way != Way::Notice
        && !wants_nobody(conn, message)?
        && bookings::coming(conn, event, bookings::Which::Date(date))?.is_empty()
    {
        return Ok(Some(Outcome::Skipped("nobody has booked")));
    }
    unasked(conn, message, now)
}

/// Whether what a stranger's act makes go still may: so much goes to one box and no more.
fn unasked(
    conn: &Connection,
    message: &Message,
    now: Timestamp,
) -> Result<Option<Outcome>, DeskError> {
    if !message.unasked || message.by_hand {
        return Ok(None);
    }
    let proved = match message.about {
        About::Booking(id) => bookings::by_id(conn, id)?
            .is_some_and(|b| b.buyer.address.eq_ignore_ascii_case(&message.address)),
        About::Submission(..) => true,
        About::Event(_) | About::House(_) => false,
    };
    let went = outbox::went_to_box(conn, message, now)?;
    Ok(match goes_unasked(&went, proved, now) {
        Goes::Now => None,
        Goes::At(at) => Some(Outcome::Later(at)),
        Goes::Not => Some(Outcome::Skipped(
            "enough went to this address within a day, and nobody has shown that it is theirs",
        )),
    })
}

/// Whether whoever a message about one ticket goes to still has it; and, where it says that they
/// have it no more, whether that is so.
fn is_their_ticket(conn: &Connection, message: &Message) -> Result<bool, DeskError> {
    let person = message.reader.split_once('.').and_then(|(_, no)| no.parse::<usize>().ok());
    let (About::Booking(booking), Some(person)) = (message.about, person) else { return Ok(true) };
    if message.occasion() == Some(Occasion::PassedBack) {
        return Ok(true);
    }
    let holders = readers::holders(conn, booking)?;
    Ok(holders.iter().any(|(no, _, at)| *no == person && at.eq_ignore_ascii_case(&message.address)))
}

/// Whether an invitation is still to go: to whoever is on a list and has not handed it on; and once
/// again only to whoever has neither replied nor booked meanwhile.
fn is_asked_still(
    conn: &Connection,
    message: &Message,
    event: EventId,
) -> Result<Option<Outcome>, DeskError> {
    let found = invited::by_email(conn, event, &message.address)?;
    let Some(found) = found.filter(|i| i.handed_to.is_empty()) else {
        return Ok(Some(Outcome::Withdrawn("on no list any more")));
    };
    if found.message == Some(message.id) {
        return Ok(None);
    }
    let answered = replies::of(conn, event, &message.address)?.is_some()
        || bookings::booked_already(conn, event, &message.address, BookingId(0))?;
    Ok(answered.then_some(Outcome::Withdrawn("has replied")))
}

/// Whether reviewers are still to hear that something waits: of what is decided they need not.
fn of_submission(
    conn: &Connection,
    message: &Message,
    id: SubmissionId,
) -> Result<Option<Outcome>, DeskError> {
    if message.occasion() != Some(Occasion::ToReview) {
        return Ok(None);
    }
    if crate::review::told::is_of_a_day(&message.reader) {
        let waits = submissions::waits(conn)?.0 > 0;
        return Ok((!waits).then_some(Outcome::Skipped("nothing waits")));
    }
    let waits = submissions::by_id(conn, id)?.is_some_and(|s| s.waits_since.is_some());
    Ok((!waits).then_some(Outcome::Withdrawn("it is decided")))
}

/// Whether a host wants to hear that nobody has booked.
fn wants_nobody(conn: &Connection, message: &Message) -> Result<bool, DeskError> {
    let host = message.reader.strip_prefix('h').and_then(|h| h.parse().ok()).map(HostId);
    let Some(host) = host else { return Ok(false) };
    Ok(wishes::of_host(conn, host, What::Tomorrow)?.is_some_and(|w| w.nothing))
}

async fn one(desk: &Desk, message: &Message) -> Result<Outcome, DeskError> {
    let now = desk.clock.now();
    if message.way == Way::Text
        && let Some(at) = quiet_until(&desk.house().await?.zone, now)
        && !message.by_hand
    {
        return Ok(Outcome::Later(at));
    }
    let asked = message.clone();
    if let Some(outcome) = desk.store.read(move |conn| goes(conn, &asked, now)).await? {
        return Ok(outcome);
    }
    let (composed, print) = match compose_for(desk, message).await {
        Ok(composed) => composed,
        // What it is about is gone, or its wording cannot be read: that does not mend itself.
        Err(error @ (DeskError::NotFound | DeskError::Internal(_) | DeskError::Mail(_))) => {
            return Ok(Outcome::Refused(SendError { for_good: true, reason: error.to_string() }));
        }
        Err(error) => return Err(error),
    };
    let again = print.map(|print| (print, composed.clone()));
    let Composed { ready, subject, words } = composed;
    let handed = match (message.way, ready) {
        (_, Ready::Mail(mail)) => desk.mailer.send(*mail).await,
        (Way::Text, Ready::Words(words)) => {
            desk.texts.send(&message.address, &words, &message.message_id).await
        }
        (Way::Chat, Ready::Words(words)) => desk.chat.post(&words).await,
        (_, Ready::Words(_)) => Ok("put up".into()),
    };
    Ok(match handed {
        Ok(answer) => {
            kept::forget(message.id);
            Outcome::Sent { answer, subject, words }
        }
        Err(error) => {
            match again.filter(|_| !error.for_good) {
                Some((print, mail)) => kept::keep(message.id, print, mail),
                None => kept::forget(message.id),
            }
            Outcome::Refused(error)
        }
    })
}

/// Subject and words of a message as they would be now; nothing where they cannot be.
pub async fn words_now(desk: &Desk, message: &Message) -> Option<(String, String)> {
    if message.way == Way::Ring {
        return Some((message.trigger.word().to_owned(), message.knows.said()));
    }
    let composed = compose(desk, message).await.ok()?;
    Some((composed.subject, composed.words))
}

/// Between nine in the evening and eight in the morning nobody's telephone rings for what can
/// wait.
fn quiet_until(zone: &str, now: Timestamp) -> Option<Timestamp> {
    let local = matricle_formats::words::local(now, zone);
    let day = match local.hour() {
        21.. => local.date().tomorrow().ok()?,
        0..8 => local.date(),
        _ => return None,
    };
    let morning = day.to_datetime(jiff::civil::time(8, 0, 0, 0));
    local.time_zone().to_timestamp(morning).ok()
}

async fn write(desk: &Desk, fate: Fate) -> Result<(), DeskError> {
    let Fate { message, outcome, at } = fate;
    let is_of_a_day = matches!(message.about, About::House(_));
    desk.store
        .write(move |tx| match outcome {
            Outcome::Sent { answer, subject, words } => {
                outbox::sent(tx, message.id, &answer, at)?;
                outbox::say(tx, message.id, &subject, &words)?;
                if message.way == Way::Notice {
                    outbox::notices_changed(tx)?;
                }
                let to =
                    if message.address.is_empty() { message.way.word() } else { &message.address };
                let what = format!("{} sent to {to}", message.trigger.word());
                match message.about {
                    About::Booking(booking) => {
                        bookings::happened(tx, booking, at, &Acting::program(), &what)
                    }
                    About::Event(_) | About::House(_) | About::Submission(..) => Ok(()),
                }
            }
            Outcome::Refused(error) => {
                let again = (!error.for_good && message.tries < TRIES)
                    .then(|| at + backoff(message.tries.saturating_sub(1)));
                if error.for_good && message.way == Way::Mail && error.is_of_address() {
                    outbox::refused(tx, &message.address, &error.reason, at)?;
                }
                outbox::not_sent(tx, message.id, &error.reason, again)
            }
            Outcome::Withdrawn(why) => outbox::withdraw_one(tx, message.id, why),
            Outcome::Skipped(why) => outbox::skip(tx, message.id, why),
            Outcome::Later(at) => outbox::put_off(tx, message.id, at),
        })
        .await?;
    // The next day's is planned as soon as this one's has gone.
    if is_of_a_day { plan_wishes(desk).await } else { Ok(()) }
}

/// Writes down what could not be written when it happened.
async fn write_what_is_known(desk: &Desk) -> Result<(), DeskError> {
    let known: Vec<Fate> = {
        let unwritten = desk.health.unwritten.lock().unwrap_or_else(PoisonError::into_inner);
        unwritten.values().cloned().collect()
    };
    for fate in known {
        let id = fate.message.id;
        match write(desk, fate).await {
            Ok(()) => {
                let unwritten = &desk.health.unwritten;
                unwritten.lock().unwrap_or_else(PoisonError::into_inner).remove(&id);
            }
            Err(error) => {
                tracing::error!(%id, %error, "what became of a message cannot be written down");
                desk.health.failed(Work::Mail, error.to_string(), desk.clock.now());
            }
        }
    }
    Ok(())
}

/// Takes up what is marked as being handed over while nobody does.
async fn take_up(desk: &Desk) -> Result<(), DeskError> {
    if !desk.store.read(outbox::any_sending).await? {
        return Ok(());
    }
    let known: Vec<_> = {
        let unwritten = desk.health.unwritten.lock().unwrap_or_else(PoisonError::into_inner);
        unwritten.keys().copied().collect()
    };
    let now = desk.clock.now();
    let left = desk.store.write(move |tx| outbox::take_up(tx, &known, now)).await?;
    if left > 0 {
        tracing::warn!(left, "messages were left half-way; they are tried again");
    }
    Ok(())
}
