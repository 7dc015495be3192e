//! Letters: what comes in by mail, whoever sends it and however often.

use std::sync::Arc;
use std::time::Duration;

use ical::generator::Emitter;
use ical::parser::Component;
use ical::parser::ical::component::{IcalCalendar, IcalEvent};
use ical::property::Property;
use mail_parser::{MessageParser, MimeHeaders};
use matricle_core::forms::form::Form;
use matricle_core::messages::cue::Trigger;
use matricle_core::messages::letters::{Kind, MOST_AN_HOUR, MOST_FORWARDED, Place};
use matricle_core::messages::occasion::Occasion;
use matricle_core::messages::replies::Stands;
use matricle_core::words::codes::Reference;
use matricle_desk::DeskError;
use matricle_desk::bookings::cancel::By;
use matricle_desk::bookings::pass_on;
use matricle_desk::letters::fetching::fetch;
use matricle_desk::letters::{LARGEST, Taken, take_in, tray};
use matricle_desk::messages::senders;
use matricle_desk::office::person::person;
use matricle_desk::outside::letterbox::{
    Batch, FetchError, Fetched, Fetching, Imap, Letterbox, ReadTo,
};
use matricle_desk::planning::invitations;
use matricle_standins::letterbox::{PASSWORD, USER};
use matricle_standins::mailbox::{Mailbox, Mood};
use matricle_store::Doing;
use matricle_store::letters::{Letter, List};

use crate::world::{BOOKER, World, form, text_of, world};

const OPEN_DAY: &str = "apiary-open-day";
const PRIVATE: &str = "Nia.Private@home.example";

fn letter(from: &str, to: &str, more: &str, subject: &str, words: &str, n: usize) -> Vec<u8> {
    format!(
        "From: {from}\r\nTo: {to}\r\nSubject: {subject}\r\nMessage-ID: <m{n}@writer.example>\r\n\
         Date: Wed, 25 Nov 2026 17:00:00 +0000\r\n{more}\r\n{words}\r\n"
    )
    .into_bytes()
}

impl World {
    async fn house_address(&self) -> String {
        self.desk.house().await.unwrap().email
    }

    /// All mails to an address, latest last: raw, and `Message-ID`.
    pub(crate) fn to(&self, address: &str) -> Vec<(Vec<u8>, String)> {
        let mut found = Vec::new();
        for raw in self.mails.taken() {
            let mail = MessageParser::default().parse(&raw).unwrap();
            if mail.to().unwrap().first().unwrap().address() == Some(address) {
                let id = mail.message_id().unwrap().to_owned();
                found.push((raw.clone(), id));
            }
        }
        found
    }

    async fn takes(&self, raw: Vec<u8>) -> Letter {
        let Taken::New(id) = take_in(&self.desk, raw).await.unwrap() else { panic!("known") };
        tray::one(&self.desk, &self.staff(0).await, id).await.unwrap().letter
    }

    /// Who stands behind the house's address.
    async fn behind(&self, address: &str) {
        let fields = form(&[("house_forwards_to", address)]);
        senders::forward_house(&self.desk, &self.staff(0).await, fields).await.unwrap();
    }
}

/// A picture of one pixel.
const DOG: &str = "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==";

fn base64(bytes: &[u8]) -> String {
    use base64::prelude::*;
    BASE64_STANDARD.encode(bytes)
}

#[tokio::test(flavor = "multi_thread")]
async fn what_ended_the_program_while_it_was_read_is_not_read_again() {
    use sha2::{Digest, Sha256};
    let w = world().await;
    let (house, ilse) = (w.house_address().await, w.staff(0).await);
    let mails: Vec<_> =
        (1..=3).map(|n| letter("x@y.example", &house, "", "Hello", "Words.", n)).collect();
    let digest =
        |raw: &[u8]| Sha256::digest(raw).iter().map(|b| format!("{b:02x}")).collect::<String>();
    let being_read = |raw: &[u8], alone: bool| {
        let (digest, now) = (digest(raw), w.desk.clock.now());
        w.desk
            .store
            .write(move |tx| matricle_store::letters::being_read::begin(tx, &digest, alone, now))
    };
    // The program ended among three mails: each is read by itself now …
    for raw in &mails {
        being_read(raw, false).await.unwrap();
    }
    let first = w.takes(mails[0].clone()).await;
    assert_eq!((first.kind, first.words.as_str()), (Kind::Letter, "Words."));
    // … and ended again with the second of them, which was alone.
    being_read(&mails[1], true).await.unwrap();
    let second = w.takes(mails[1].clone()).await;
    assert_eq!((second.kind, second.words.as_str()), (Kind::Unreadable, ""));
    assert!(second.note.contains("the program ended while it was being read"), "{}", second.note);
    let third = w.takes(mails[2].clone()).await;
    assert_eq!(third.kind, Kind::Letter, "it holds up no other");
    // It is told, kept as it came, and looking at it reads it no more.
    assert_eq!(matricle_desk::office::today(&w.desk, &ilse).await.unwrap().unreadable, 1);
    let raw = tray::file(&w.desk, &ilse, second.id, None).await.unwrap();
    assert_eq!(raw.bytes, mails[1]);
    let part = tray::file(&w.desk, &ilse, second.id, Some(0)).await;
    assert!(matches!(part, Err(DeskError::NotFound)));
    let left = w.desk.store.read(|conn| {
        conn.query_row("SELECT count(*) FROM being_read", [], |row| row.get::<_, u32>(0))
            .doing("counting")
    });
    assert_eq!(left.await.unwrap(), 0, "nothing is being read any more");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_letter_goes_on_and_its_answer_comes_back_and_no_private_address_with_it() {
    let w = world().await;
    let (house, ilse) = (w.house_address().await, w.staff(0).await);
    w.behind(PRIVATE).await;
    let reference = w.confirmed(OPEN_DAY).await;
    w.due().await;
    let (_, confirmation) = w.to(BOOKER).pop().unwrap();
    let thread = format!("In-Reply-To: <{confirmation}>\r\n");
    let words = "May I bring my dog?\r\n\r\nOn that day they wrote:\r\n> See you";
    let asked = letter(&format!("Siân <{BOOKER}>"), &house, &thread, "Re: Your seats", words, 1);
    let came = w.takes(asked.clone()).await;
    assert_eq!((came.kind, came.reference), (Kind::Letter, Some(reference)));
    let waits = || async {
        tray::list(&w.desk, &ilse, List::ToAnswer, 0)
            .await
            .unwrap()
            .letters
            .iter()
            .any(|l| l.id == came.id)
    };
    assert!(waits().await, "it found its booking, and waits for an answer all the same");
    // Carried here by another server, with other lines before it: the same letter.
    let again =
        [&b"Received: by other.example\r\nDelivered-To: x@y.example\r\n"[..], &asked].concat();
    assert_eq!(take_in(&w.desk, again).await.unwrap(), Taken::Known);
    w.due().await;

    let (forwarded, id) = w.to(PRIVATE).pop().unwrap();
    let text = String::from_utf8_lossy(&forwarded).into_owned();
    assert!(text.contains("May I bring my dog?") && !text.contains(&format!("<{BOOKER}>")));
    assert!(text.contains("Auto-Submitted: auto-generated"), "no machine answers it");

    // Whoever stands behind it answers from their own program, which shows their address wherever
    // it can, and so do the files they send along.
    let upper = PRIVATE.to_uppercase();
    let answer = format!(
        "In-Reply-To: <{id}>\r\nReply-To: {PRIVATE}\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=q\r\n"
    );
    let body = format!(
        "--q\r\nContent-Type: text/plain; charset=utf-8\r\n\r\nOf course! Write to {upper} any time.\r\n\
         On that day the house <{PRIVATE}> wrote:\r\n> May I bring my dog?\r\n\
         --q\r\nContent-Type: text/calendar\r\n\r\nBEGIN:VCALENDAR\r\nORGANIZER:mailto:{PRIVATE}\r\nEND:VCALENDAR\r\n\
         --q\r\nContent-Type: text/plain\r\nContent-Disposition: attachment; filename=me.txt\r\n\r\nI am {PRIVATE}\r\n\
         --q\r\nContent-Type: text/plain; charset=utf-16\r\nContent-Transfer-Encoding: base64\r\n\
         Content-Disposition: attachment; filename=hidden.txt\r\n\r\n{}\r\n\
         --q\r\nContent-Type: text/plain\r\nContent-Disposition: attachment; filename=rules.txt\r\n\r\nOn a lead.\r\n\
         --q\r\nContent-Type: application/pdf\r\nContent-Disposition: attachment; filename=map.pdf\r\n\r\n%PDF-1.7\r\n\
         --q\r\nContent-Type: image/png\r\nContent-Transfer-Encoding: base64\r\n\
         Content-Disposition: attachment; filename=dog.png\r\n\r\n{DOG}\r\n--q--",
        base64(&PRIVATE.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<_>>())
    );
    let from = format!("Nia <{PRIVATE}>");
    let answered = w.takes(letter(&from, &house, &answer, "Re: Your seats", &body, 2)).await;
    assert_eq!((answered.kind, answered.reference), (Kind::Answer, Some(reference)));
    assert!(!waits().await, "who answers from their own program has answered it");
    w.due().await;
    let (back, _) = w.to(BOOKER).pop().unwrap();
    let read = MessageParser::default().parse(&back).unwrap();
    assert_eq!(read.from().unwrap().first().unwrap().address(), Some(house.as_str()));
    assert_eq!(read.in_reply_to().as_text(), Some("m1@writer.example"));
    assert!(text_of(&read).starts_with(&format!("Of course! Write to {house} any time.")));
    let files: Vec<_> = read.attachments().filter_map(|a| a.attachment_name()).collect();
    assert_eq!(files, ["rules.txt", "dog.jpg"], "what would show it, or may, stays here");
    let out = tray::one(&w.desk, &ilse, came.id).await.unwrap().out;
    assert!(out.iter().any(|o| o.without.ends_with("me.txt, hidden.txt, map.pdf")), "and is said");

    // Their machine's answer goes no further, nor does somebody else's who has the thread.
    let sent = w.mails.taken().len();
    let away = format!("Auto-Submitted: auto-replied\r\nIn-Reply-To: <{id}>\r\n");
    let machine = w.takes(letter(&from, &house, &away, "Away", "I am away", 3)).await;
    assert_eq!(machine.kind, Kind::Automatic);
    let thread = format!("In-Reply-To: <{id}>\r\n");
    let other =
        w.takes(letter("x@other.example", &house, &thread, "Re: Your seats", "Hm", 4)).await;
    assert_eq!(other.kind, Kind::Answer);
    assert!(other.note.contains("not passed on"));
    w.due().await;
    assert_eq!(w.mails.taken().len(), sent);

    // From the Office, under the same address; never to a machine.
    tray::answer(&w.desk, &ilse, came.id, form(&[("answer", "Dogs are welcome.")])).await.unwrap();
    w.due().await;
    let (back, _) = w.to(BOOKER).pop().unwrap();
    assert!(String::from_utf8_lossy(&back).contains("Dogs are welcome."));
    // Under another address of the house, by choice; under none that is not its own.
    let senders = tray::one(&w.desk, &ilse, came.id).await.unwrap().senders;
    let (name, other) = senders.last().unwrap();
    assert!(senders.len() > 1, "{senders:?}");
    let answer = form(&[("answer", "From the house."), ("from", other)]);
    tray::answer(&w.desk, &ilse, came.id, answer).await.unwrap();
    w.due().await;
    let (back, _) = w.to(BOOKER).pop().unwrap();
    let mail = MessageParser::default().parse(&back).unwrap();
    let from = mail.from().unwrap().first().unwrap();
    assert_eq!((from.name(), from.address()), (Some(name.as_str()), Some(other.as_str())));
    let foreign = form(&[("answer", "Hello"), ("from", "mal@other.example")]);
    let foreign = tray::answer(&w.desk, &ilse, came.id, foreign).await;
    assert!(matches!(foreign, Err(DeskError::Form(_))), "{foreign:?}");
    let refused = tray::answer(&w.desk, &ilse, machine.id, form(&[("answer", "Hello")])).await;
    assert!(matches!(refused, Err(DeskError::NotFound)));
    let empty = tray::answer(&w.desk, &ilse, came.id, form(&[("answer", "  ")])).await;
    assert!(matches!(empty, Err(DeskError::Form(_))));

    // In all that left the house the private address stands in one place: in the mails to it.
    for raw in w.mails.taken() {
        let mail = MessageParser::default().parse(&raw).unwrap();
        let to_them = mail.to().unwrap().first().unwrap().address().unwrap() == PRIVATE;
        let lower = String::from_utf8_lossy(&raw).to_lowercase();
        assert_eq!(lower.contains(&PRIVATE.to_lowercase()), to_them, "{lower}");
    }
    let (letters, _) = tray::of_booking(&w.desk, &ilse, reference).await.unwrap();
    let kinds: Vec<_> = letters.iter().map(|(l, out)| (l.kind, out.len())).collect();
    let expected = [(Kind::Letter, 4), (Kind::Answer, 0), (Kind::Automatic, 0), (Kind::Answer, 0)];
    assert_eq!(kinds, expected, "on the sheet, in order");

    // Answers go where a letter asks for them, but never to the house itself.
    for (asks, to) in [("work@other.example", "work@other.example"), (&house, BOOKER)] {
        let head = format!("Reply-To: Siân <{asks}>\r\n");
        let came = w.takes(letter(BOOKER, &house, &head, "Elsewhere", asks, 9)).await;
        assert_eq!((came.answer_to.as_str(), came.from.1.as_str()), (to, BOOKER));
        let words = format!("To {to}.");
        tray::answer(&w.desk, &ilse, came.id, form(&[("answer", &words)])).await.unwrap();
        w.due().await;
        let (back, _) = w.to(to).pop().unwrap();
        assert!(String::from_utf8_lossy(&back).contains(&words));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_loop_ends_by_itself_and_what_matches_nothing_lies_in_the_tray() {
    let w = world().await;
    let (house, ilse) = (w.house_address().await, w.staff(0).await);
    w.behind(PRIVATE).await;
    // The demo house has letters of its own.
    let before = tray::list(&w.desk, &ilse, List::Tray, 0).await.unwrap().count;
    for n in 0..30 {
        let raw = letter("loop@other.example", &house, "", "Hello", "I am no machine", n);
        w.takes(raw).await;
    }
    w.due().await;
    assert_eq!(w.to(PRIVATE).len(), MOST_AN_HOUR as usize);
    // Whoever stands behind it is not written to without end, whoever writes: the rest waits.
    for n in 0..60 {
        let from = format!("writer{n}@other.example");
        w.takes(letter(&from, &house, "", "Hello", "I am no machine", 200 + n)).await;
    }
    w.due().await;
    assert_eq!(w.to(PRIVATE).len(), MOST_FORWARDED as usize);
    let waits = tray::list(&w.desk, &ilse, List::Tray, 0).await.unwrap();
    assert!(waits.letters[0].note.contains("it waits here"), "{}", waits.letters[0].note);
    for letter in &waits.letters[..60 - (MOST_FORWARDED - MOST_AN_HOUR) as usize] {
        tray::put_away(&w.desk, &ilse, letter.id, true).await.unwrap();
    }
    let waits = tray::list(&w.desk, &ilse, List::Tray, 0).await.unwrap();
    for letter in waits.letters.iter().filter(|l| l.from.1.starts_with("writer")) {
        tray::put_away(&w.desk, &ilse, letter.id, true).await.unwrap();
    }
    // From the house itself: it is kept and goes no further.
    w.takes(letter(&house, &house, "", "To myself", "words", 40)).await;
    // No mail at all is kept too.
    w.takes(b"no mail at all".to_vec()).await;
    w.due().await;
    assert_eq!(w.to(PRIVATE).len(), MOST_FORWARDED as usize);
    let found = tray::list(&w.desk, &ilse, List::Tray, 0).await.unwrap();
    // All that one writer wrote stands together, oldest first.
    let one = &found.letters[2];
    let theirs = tray::list(&w.desk, &ilse, List::Writer(one.id), 0).await.unwrap();
    assert_eq!((theirs.count, theirs.letters.len()), (30, 30));
    assert!(theirs.letters.iter().all(|l| l.from.1.eq_ignore_ascii_case(&one.from.1)));
    assert!(theirs.letters.is_sorted_by_key(|l| (l.at, l.id)));
    assert_eq!((found.count - before, found.letters[0].kind), (32, Kind::Unreadable));

    // Given to a booking by hand, taken back, put away, taken out again.
    let reference = w.confirmed(OPEN_DAY).await;
    let id = found.letters[2].id;
    let give = |to: String| {
        let (desk, ilse) = (w.desk.clone(), ilse.clone());
        async move { tray::give(&desk, &ilse, id, form(&[("booking", &to)])).await }
    };
    assert!(matches!(give("BBBB-BBBB".into()).await, Err(DeskError::Form(_))));
    assert!(give(reference.to_string()).await.is_ok());
    let one = tray::one(&w.desk, &ilse, id).await.unwrap();
    assert!(matches!(one.letter.place, Place::Booking(_)));
    tray::give(&w.desk, &ilse, id, Form::default()).await.unwrap();
    tray::put_away(&w.desk, &ilse, id, true).await.unwrap();
    assert_eq!(tray::list(&w.desk, &ilse, List::Tray, 0).await.unwrap().count - before, 31);
    tray::put_away(&w.desk, &ilse, id, false).await.unwrap();
    assert_eq!(tray::list(&w.desk, &ilse, List::Tray, 0).await.unwrap().count - before, 32);
    // Dropped files: an empty one is said, one that was read before is there once.
    let nothing = tray::drop_in(&w.desk, &ilse, vec![b" \r\n".to_vec()]).await;
    assert!(matches!(nothing, Err(DeskError::Form(_))));
    let raw = letter("loop@other.example", &house, "", "Hello", "I am no machine", 7);
    let dropped = tray::drop_in(&w.desk, &ilse, vec![raw]).await.unwrap();
    assert_eq!((dropped.new, dropped.known), (0, 1));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_did_not_arrive_marks_the_address_and_nobody_can_pretend_it() {
    let w = world().await;
    let house = w.house_address().await;
    let reference = w.confirmed(OPEN_DAY).await;
    w.due().await;
    let (_, id) = w.to(BOOKER).pop().unwrap();
    let report = |about: &str, whom: &str, action: &str, n| {
        let more = "Return-Path: <>\r\nMIME-Version: 1.0\r\nContent-Type: multipart/report; boundary=r\r\n";
        let body = format!(
            "--r\r\nContent-Type: text/plain\r\n\r\nSorry.\r\n--r\r\nContent-Type: message/delivery-status\r\n\r\n\
             Reporting-MTA: dns; x\r\n\r\nFinal-Recipient: rfc822; {whom}\r\nAction: {action}\r\nStatus: 5.1.1\r\n\r\n\
             --r\r\nContent-Type: text/rfc822-headers\r\n\r\nMessage-ID: <{about}>\r\n\r\n--r--"
        );
        letter("mailer-daemon@relay.example", &house, more, "Undelivered", &body, n)
    };
    let refused = || async { w.sheet(reference).await.refused };
    // Of two recipients the other was not reached.
    let both = String::from_utf8(report(&id, BOOKER, "delivered", 9)).unwrap().replace(
        "\r\n\r\n--r\r\nContent-Type: text/rfc822",
        "\r\n\r\nFinal-Recipient: rfc822; who@else.example\r\nAction: failed\r\n\r\n--r\r\nContent-Type: text/rfc822",
    );
    assert_eq!(w.takes(both.into_bytes()).await.kind, Kind::Bounce);
    assert_eq!(refused().await, None, "a good address stays good");
    // Another's mail, another address, one that is only late.
    w.takes(report("made.up@club.example", BOOKER, "failed", 1)).await;
    w.takes(report(&id, "somebody@else.example", "failed", 2)).await;
    w.takes(report(&id, BOOKER, "delayed", 3)).await;
    assert_eq!(refused().await, None);
    let bounce = w.takes(report(&id, BOOKER, "failed", 4)).await;
    assert_eq!((bounce.kind, bounce.reference), (Kind::Bounce, Some(reference)));
    assert!(refused().await.is_some());
    let ilse = w.staff(0).await;
    let today = matricle_desk::office::today(&w.desk, &ilse).await.unwrap();
    assert!(today.unreachable.iter().any(|u| u.0 == reference.as_str()), "Today says so");
    // Whoever complains of a mail is sent no announcements any more; of a made-up one, nobody.
    let complains = |about: &str, n| {
        let more = "MIME-Version: 1.0\r\nContent-Type: multipart/report; report-type=feedback-report; boundary=r\r\n";
        let body = format!(
            "--r\r\nContent-Type: message/feedback-report\r\n\r\nFeedback-Type: abuse\r\nVersion: 1\r\n\r\n\
             --r\r\nContent-Type: text/rfc822-headers\r\n\r\nMessage-ID: <{about}>\r\n\r\n--r--"
        );
        letter("loop@relay.example", &house, more, "Complaint", &body, n)
    };
    let wants_none = || async { person(&w.desk, &ilse, BOOKER.into()).await.unwrap().unsubscribed };
    assert_eq!(w.takes(complains("made.up@club.example", 5)).await.kind, Kind::Automatic);
    assert!(!wants_none().await);
    assert_eq!(w.takes(complains(&id, 6)).await.reference, Some(reference));
    assert!(wants_none().await);
}

/// What a calendar sends back, made and read by a library that is not ours.
fn replied(raw: &[u8], partstat: &str, house: &str, n: usize) -> Vec<u8> {
    let mail = MessageParser::default().parse(raw).unwrap();
    let part = mail
        .parts
        .iter()
        .find(|p| p.content_type().is_some_and(|t| t.subtype() == Some("calendar")))
        .unwrap();
    let invited: IcalCalendar = ical::IcalParser::new(part.contents()).next().unwrap().unwrap();
    let mut event = IcalEvent::new();
    for property in &invited.events[0].properties {
        match property.name.as_str() {
            "UID" | "SEQUENCE" | "DTSTART" | "ORGANIZER" => {
                event.add_property(property.clone());
            }
            "ATTENDEE" => {
                let params = vec![("PARTSTAT".to_owned(), vec![partstat.to_owned()])];
                event.add_property(Property { params: Some(params), ..property.clone() });
            }
            _ => {}
        }
    }
    let own = |name: &str, value: &str| Property {
        name: name.into(),
        params: None,
        value: Some(value.into()),
    };
    event.add_property(own("DTSTAMP", &format!("20261125T17{n:02}00Z")));
    event.add_property(own("COMMENT", "The car\\, alas"));
    let mut calendar = IcalCalendar::new();
    calendar.add_property(own("VERSION", "2.0"));
    calendar.add_property(own("PRODID", "-//test//EN"));
    calendar.add_property(own("METHOD", "REPLY"));
    calendar.events.push(event);
    let more = "MIME-Version: 1.0\r\nContent-Type: text/calendar; method=REPLY; charset=utf-8\r\n";
    letter(BOOKER, house, more, "Reply", &calendar.generate(), 100 + n)
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_calendar_sends_back_is_read_and_cancels_nothing() {
    let w = world().await;
    let (house, ilse) = (w.house_address().await, w.staff(0).await);
    let reference = w.confirmed(OPEN_DAY).await;
    w.due().await;
    let (raw, _) = w.to(BOOKER).pop().unwrap();
    let said = |reference: Reference| {
        let (desk, ilse) = (w.desk.clone(), ilse.clone());
        async move {
            let (_, said) = tray::of_booking(&desk, &ilse, reference).await.unwrap();
            said.first().map(|s| s.said.word())
        }
    };
    let told = || async {
        let mut about = w.about(Trigger::On(Occasion::NotComing)).await;
        about.retain(|f| f.reference == reference.to_string() || f.reference == reference.as_str());
        about.len()
    };
    assert_eq!(w.takes(replied(&raw, "ACCEPTED", &house, 1)).await.kind, Kind::Calendar);
    assert_eq!((said(reference).await, told().await), (Some("accepted"), 0));
    w.takes(replied(&raw, "DECLINED", &house, 3)).await;
    let first = told().await;
    assert_eq!(said(reference).await, Some("declined"));
    assert!(first >= 1, "the booker is offered to cancel");
    // Said again, nobody is told again.
    w.takes(replied(&raw, "DECLINED", &house, 4)).await;
    assert_eq!(told().await, first);
    // One that was overtaken on its way says nothing any more.
    w.takes(replied(&raw, "TENTATIVE", &house, 2)).await;
    assert_eq!((said(reference).await, told().await), (Some("declined"), first));
    // The file has the right address, and the mail comes from another: forty of them, each newer.
    for n in 0..40 {
        let said = if n % 2 == 0 { "ACCEPTED" } else { "DECLINED" };
        let mail = String::from_utf8(replied(&raw, said, &house, 10 + n)).unwrap();
        let mail = mail.replace(&format!("From: {BOOKER}"), "From: mal@other.example");
        assert_eq!(w.takes(mail.into_bytes()).await.place, Place::Tray);
    }
    assert_eq!((said(reference).await, told().await), (Some("declined"), first));
    // From the right one, to and fro: once a day.
    for n in 0..6 {
        w.takes(replied(&raw, if n % 2 == 0 { "ACCEPTED" } else { "DECLINED" }, &house, 30 + n))
            .await;
    }
    assert_eq!((said(reference).await, told().await), (Some("declined"), first));
    // Nobody else's word, whatever they send.
    let forged = String::from_utf8(replied(&raw, "ACCEPTED", &house, 9)).unwrap();
    let forged = forged.replace(&format!("mailto:{BOOKER}"), "mailto:x@other.example");
    assert_eq!(w.takes(forged.into_bytes()).await.place, Place::Tray, "nor on the booking's sheet");
    assert_eq!(said(reference).await, Some("declined"));
    assert_eq!(w.state(reference).await, matricle_core::booking::State::Confirmed);
    w.due().await;
    let (offer, _) = w.to(BOOKER).pop().unwrap();
    let text = text_of(&MessageParser::default().parse(&offer).unwrap());
    assert!(text.contains("The car, alas") && text.contains("/booking/"), "{text}");
    // The host is greeted by their own name, and has no key to the booking.
    let mut hosts = 0;
    for raw in w.mails.taken() {
        let mail = MessageParser::default().parse(&raw).unwrap();
        if mail.subject().unwrap().starts_with("Perhaps not coming") {
            let text = text_of(&mail);
            let name = mail.to().unwrap().first().unwrap().name().unwrap();
            assert!(text.starts_with(&format!("Dear {name}")) && name != "Siân O'Hara", "{text}");
            assert!(text.contains("people so far") && !text.contains("/booking/"), "{text}");
            hosts += 1;
        }
    }
    assert!(hosts > 0);
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_calendar_speaks_of_one_evening_proposes_a_time_and_asks_again() {
    let w = world().await;
    let (house, ilse) = (w.house_address().await, w.staff(0).await);
    let reference = w.paid("beginners-course", &[1]).await;
    w.due().await;
    let (raw, _) = w.to(BOOKER).pop().unwrap();
    let covers = w.sheet(reference).await.covers;
    let offered = || async { w.about(Trigger::On(Occasion::NotComing)).await.len() };
    let before = offered().await;
    let third = covers[2].span.clone();
    let plain = |said: &str, n| String::from_utf8(replied(&raw, said, &house, n)).unwrap();
    // Other programs name one of several dates by its beginning.
    let of_one = format!(
        "RECURRENCE-ID;TZID={}:{}\r\nCOMMENT:",
        third.zone,
        third.starts.strftime("%Y%m%dT%H%M%S")
    );
    let one = plain("DECLINED", 1).replace("COMMENT:", &of_one);
    let read = w.takes(one.into_bytes()).await;
    assert_eq!((read.kind, read.reference), (Kind::Calendar, Some(reference)));
    let day = third.starts.strftime("%-d %B").to_string();
    assert!(read.note.contains(&day) && read.note.contains("alone"), "{}", read.note);
    let (_, said) = tray::of_booking(&w.desk, &ilse, reference).await.unwrap();
    assert_eq!(said, [], "of the other evenings it says nothing");
    assert_eq!(offered().await, before);

    // Another time is proposed; whatever type the file has.
    let counter = plain("TENTATIVE", 2)
        .replace("METHOD:REPLY", "METHOD:COUNTER")
        .replace(
            "text/calendar; method=REPLY; charset=utf-8",
            "application/octet-stream; name=\"a.ics\"",
        )
        .replace("COMMENT:", "DTEND:20261224T200000Z\r\nCOMMENT:");
    let at = counter.find("DTSTART").unwrap();
    let end = counter[at..].find('\n').unwrap() + at + 1;
    let counter = format!("{}DTSTART:20261224T180000Z\r\n{}", &counter[..at], &counter[end..]);
    let read = w.takes(counter.into_bytes()).await;
    let proposed = read.proposed.expect("a time");
    assert_eq!(
        (proposed.date, proposed.starts.date()),
        (covers[0].id, jiff::civil::date(2026, 12, 24))
    );
    assert!(read.note.contains("proposes") && read.note.contains("24 December"), "{}", read.note);

    // Somebody else is sent: it stands beside the attendee. And the entry is asked for again,
    // which sends it once a day.
    let sent = plain("DELEGATED", 3).replace(
        "PARTSTAT=DELEGATED",
        "PARTSTAT=DELEGATED;DELEGATED-TO=\"mailto:kit@post.example\"",
    );
    w.takes(sent.into_bytes()).await;
    let (_, said) = tray::of_booking(&w.desk, &ilse, reference).await.unwrap();
    assert_eq!(
        (said[0].said.word(), said[0].word.as_str()),
        ("delegated", "kit@post.example: The car, alas")
    );
    let before = w.to(BOOKER).len();
    w.desk.clock.advance(jiff::SignedDuration::from_hours(25));
    for n in 4..7 {
        let again = plain("ACCEPTED", n).replace("METHOD:REPLY", "METHOD:REFRESH");
        w.takes(again.into_bytes()).await;
        w.due().await;
    }
    assert_eq!(w.to(BOOKER).len(), before + 1);
    // Whoever has a ticket that was passed to them gets theirs, and the booker nothing.
    let person = w.sheet(reference).await.attendees[0].id;
    let to = form(&[("new_name", "Kit Lee"), ("new_email", "kit@post.example")]);
    pass_on::pass_on(&w.desk, By::Staff(w.staff(0).await, None), reference, person, to)
        .await
        .unwrap();
    w.due().await;
    let (raw, _) = w.to("kit@post.example").pop().unwrap();
    w.desk.clock.advance(jiff::SignedDuration::from_hours(25));
    w.due().await;
    let before = (w.to(BOOKER).len(), w.to("kit@post.example").len());
    let again = String::from_utf8(replied(&raw, "ACCEPTED", &house, 9)).unwrap();
    let again = again
        .replace("METHOD:REPLY", "METHOD:REFRESH")
        .replace(&format!("From: {BOOKER}"), "From: kit@post.example");
    for _ in 0..2 {
        take_in(&w.desk, again.clone().into_bytes()).await.unwrap();
        w.due().await;
    }
    let after = (w.to(BOOKER).len(), w.to("kit@post.example").len());
    assert_eq!(after, (before.0, before.1 + 1));
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn ten_thousand_mails_are_read_once_each_whatever_the_line_does() {
    let mut w = world().await;
    let mailbox = Mailbox::new(None);
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("imap://{}", listener.local_addr().unwrap());
    tokio::spawn(mailbox.clone().serve_imap(listener));
    w.desk.letterbox = Arc::new(Imap::new(&url, (USER, PASSWORD), "INBOX", LARGEST).unwrap());
    let ilse = w.staff(0).await;
    let before = tray::list(&w.desk, &ilse, List::All, 0).await.unwrap().count;
    let many: usize = 10_000;
    for n in 0..many {
        // Every tenth lies there twice.
        let raw = letter(
            "x@other.example",
            "office@ostrel.example",
            "",
            "Hello",
            "words",
            n - n % 10 / 9,
        );
        mailbox.deliver(raw);
    }
    let distinct = many - many / 10;
    let (mut read, mut drops) = (0, 0);
    for turn in 0.. {
        // Now and then the line drops in the middle of it, or nobody answers.
        let drop = turn % 17 == 3;
        mailbox.behave(if drop { Mood::Drops } else { Mood::Well });
        match fetch(&w.desk).await {
            Ok((new, more)) => {
                read += new;
                if !more {
                    break;
                }
            }
            Err(_) => drops += 1,
        }
    }
    assert!(drops > 5, "{drops}");
    assert_eq!(read, distinct);
    assert_eq!(fetch(&w.desk).await.unwrap(), (0, false), "nothing is read twice");
    let after = tray::list(&w.desk, &ilse, List::All, 0).await.unwrap().count;
    assert_eq!((after - before) as usize, distinct);
    assert_eq!(mailbox.delivered().len(), many, "nothing is deleted there");
    // One more, after it was read whole.
    mailbox.deliver(letter(
        "y@other.example",
        "office@ostrel.example",
        "",
        "One more",
        "words",
        many,
    ));
    assert_eq!(fetch(&w.desk).await.unwrap(), (1, false));
    mailbox.behave(Mood::Hangs);
    let silent = tokio::time::timeout(Duration::from_millis(300), fetch(&w.desk)).await;
    assert!(silent.is_err(), "a mailbox that hangs hangs alone");
}

/// A mailbox in which one mail cannot be handed over, however often one asks.
struct Odd;

impl Letterbox for Odd {
    fn fetch(&self, read_to: Option<ReadTo>, _: jiff::civil::Date, most: usize) -> Fetching<'_> {
        Box::pin(async move {
            let from = read_to.map_or(1, |(_, uid)| uid + 1);
            let uids: Vec<u32> = (from..=6).take(most).collect();
            if uids.contains(&3) {
                let reason = "it cannot be read".into();
                return Err(FetchError { reason, stuck_at: uids.first().map(|uid| (7, *uid)) });
            }
            let mail = |uid: u32| Fetched {
                uid,
                raw: letter("x@other.example", "y@z.example", "", "Hello", "words", uid as usize),
                too_large: None,
            };
            // The fifth was taken away meanwhile.
            let mails = uids.iter().copied().filter(|uid| *uid != 5).map(mail).collect();
            let last = uids.last().copied().unwrap_or(0);
            Ok(Batch { validity: 7, mails, last, more: last < 6 && last > 0 })
        })
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mail_that_cannot_be_handed_over_holds_up_no_other() {
    let mut w = world().await;
    w.desk.letterbox = Arc::new(Odd);
    let ilse = w.staff(0).await;
    let before = tray::list(&w.desk, &ilse, List::Tray, 0).await.unwrap().count;
    let mut rounds = 0;
    while fetch(&w.desk).await.unwrap().1 {
        rounds += 1;
        assert!(rounds < 20, "it ends");
    }
    let found = tray::list(&w.desk, &ilse, List::Tray, 0).await.unwrap();
    assert_eq!(found.count - before, 5, "1, 2, 4, 6, and word of 3");
    assert!(found.letters.iter().any(|l| l.subject.contains("Mail 3 of the mailbox")));
    assert_eq!(fetch(&w.desk).await.unwrap(), (0, false));
}

/// What somebody wrote, booked, was passed and is invited to stands on one sheet, by their address,
/// whatever its case; and nothing of anybody else.
#[tokio::test(flavor = "multi_thread")]
async fn all_of_one_person_stands_on_their_sheet() {
    const DEE: &str = "dee.o'hara+bees@post.example";
    let w = world().await;
    let (house, ilse) = (w.house_address().await, w.staff(0).await);
    let sheet = async |address: &str| person(&w.desk, &ilse, address.to_owned()).await;
    assert!(matches!(sheet(DEE).await, Err(DeskError::NotFound)));
    // Known by being invited; then a ticket of somebody else's booking is passed to them.
    let council = w.event_named("winter-council").await;
    invitations::add(&w.desk, &ilse, council, form(&[("whom", DEE)])).await.unwrap();
    let reference = w.paid(OPEN_DAY, &[1]).await;
    let attendee = w.sheet(reference).await.attendees[0].id;
    let to = form(&[("new_name", "Dee O'Hara"), ("new_email", DEE)]);
    pass_on::pass_on(&w.desk, By::Booker, reference, attendee, to).await.unwrap();
    let shout = DEE.to_uppercase();
    for (n, from) in [DEE, shout.as_str(), DEE].into_iter().enumerate() {
        let subject = format!("Letter {n}");
        w.takes(letter(&format!("Dee <{from}>"), &house, "", &subject, "Hello", 40 + n)).await;
        w.pass(1);
    }
    w.takes(letter(&format!("Siân <{BOOKER}>"), &house, "", "Another", "Hello", 50)).await;

    let found = sheet(&format!(" {shout} ")).await.unwrap();
    let subjects: Vec<&str> = found.letters.iter().map(|l| l.subject.as_str()).collect();
    assert_eq!(subjects, ["Letter 0", "Letter 1", "Letter 2"], "in their order");
    assert_eq!(found.all_letters.map(|(many, _)| many), Some(3));
    assert_eq!(found.name, "Dee");
    let of: Vec<_> = found.bookings.iter().map(|b| (b.reference, b.passed)).collect();
    assert_eq!(of, [(reference, true)]);
    let asked: Vec<_> = found.invited.iter().map(|(id, _, row)| (*id, row.stands)).collect();
    assert_eq!(asked, [(council, Stands::NotAsked)]);
    assert!(found.refused.is_none() && !found.unsubscribed && !found.member);
    let booker = sheet(BOOKER).await.unwrap();
    assert!(booker.bookings.iter().any(|b| b.reference == reference && !b.passed));
    assert_eq!(booker.letters.len(), 1);
    assert!(booker.invited.is_empty());
}
