//! Refusals in words: one sentence each, saying what to do.

use std::fmt::Write;

use jiff::Timestamp;
use jiff::civil::DateTime;
use matricle_core::booking::details::{Field, Problem};
use matricle_core::booking::{ChoiceRefusal, State};
use matricle_core::dates::schedule::Sale;
use matricle_core::dates::sessions::SignUpRefusal;
use matricle_core::dates::web_calendar::TemplateFault;
use matricle_core::door::Verdict;
use matricle_core::door::passages::{Finding, Passage};
use matricle_core::door::rooms::Room;
use matricle_core::forms::form::Fault;
use matricle_core::forms::quick;
use matricle_core::messages::cue::CueRefusal;
use matricle_core::messages::replies::HandOnRefusal;
use matricle_core::messages::template::Wrong;
use matricle_core::money::price::PriceRefusal;
use matricle_core::money::promo::PromoRefusal;
use matricle_core::money::stamps::StampRefusal;
use matricle_core::money::transfer::IbanFault;
use matricle_core::people::who::WhoRefusal;
use matricle_core::review::submission::{Act, NotYou, Refusal};
use matricle_core::seats::SeatRefusal;
use matricle_core::seats::hold_limits::KeepRefusal;
use matricle_core::words::accent::AccentRefusal;
use matricle_core::{Currency, Money, SessionId, TicketTypeId};
use matricle_desk::door::{Told, Why};
use matricle_desk::rounds::Work;
use matricle_formats::words;
use matricle_store::bookings::ChargedLine;
use matricle_store::events::sessions::Session;
use matricle_store::events::{TicketRow, TicketType};

/// Why a stamp card does not pay; days are told in `zone`.
pub(crate) fn stamps(refusal: &StampRefusal, zone: &str) -> String {
    match refusal {
        StampRefusal::Unknown => {
            "This is no card of ours. Look at its letters once more; case and blanks do not matter."
                .into()
        }
        StampRefusal::NotForThis => "None of these tickets is paid with stamps.".into(),
        StampRefusal::Expired { until } => format!(
            "This card was good until {}.",
            words::long_day(words::local(*until, zone).date())
        ),
        StampRefusal::TooFew { needed, left } => format!(
            "This takes {}, and {} on the card.",
            words::count(*needed, "stamps"),
            match left {
                0 => "none is".to_owned(),
                1 => "1 is left".to_owned(),
                n => format!("{n} are left"),
            }
        ),
    }
}

/// How long to wait, in words.
pub(crate) fn wait(seconds: u64) -> String {
    match seconds {
        0..=90 => format!("{seconds} seconds"),
        91..=5_400 => format!("{} minutes", seconds.div_ceil(60)),
        _ => format!("{} hours", seconds.div_ceil(3_600)),
    }
}

/// Why something cannot be done with a submission.
pub(crate) fn submission(refusal: &Refusal, zone: &str, now: Timestamp) -> String {
    match refusal {
        Refusal::Elsewhere { state, who, what, at } => format!(
            "{who} {what}, {}: it is {} now. Nothing was changed by you.",
            words::moment(*at, zone, now),
            state.word()
        ),
        Refusal::Changed => {
            "Its words are others than those you looked at. Read it once more, then decide.".into()
        }
        Refusal::TooLate => {
            "That can be taken back for five minutes only, and those are over: the mail has gone. Write to the submitter, or change the event at the Office.".into()
        }
        Refusal::NothingToUndo => "There is no decision of a reviewer to take back.".into(),
        Refusal::ByRules(Act::Withdraw) => {
            "The house does not let submissions be withdrawn at this point. Write to it, and say why.".into()
        }
        Refusal::ByRules(_) => {
            "The house does not let this be changed at this point. Write to it, and say what is to be another.".into()
        }
        Refusal::NotYou(NotYou::Closed) => "The house takes no submissions at present.".into(),
        Refusal::NotYou(NotYou::MembersOnly) => {
            "Members submit events here. Sign in by mail with the address that the house knows you by.".into()
        }
        Refusal::NotYou(NotYou::NotNamed) => {
            "Only people whom the house has named submit events here. Sign in by mail with the address that was named.".into()
        }
        Refusal::Enough { most } => format!(
            "That is enough for one day: {most} are taken from one sender. What you wrote is kept; send it tomorrow."
        ),
        Refusal::Own => "You submitted this yourself, so another reviewer decides on it. Whether reviewers may accept their own is said under House, Submissions.".into(),
        Refusal::TooFast => {
            "That was sent faster than anybody types. Everything is kept: send it once more.".into()
        }
        Refusal::Trapped => {
            "One field at the foot of the form is to stay empty, and it is filled in. Empty it, then send the form once more.".into()
        }
        Refusal::OldForm => {
            "This page is too old to be sent. What you wrote is kept: load the page again, then send it.".into()
        }
        Refusal::Booked { bookings } => format!(
            "{} in the way. An organiser cancels them first, or calls the date off.",
            match bookings {
                1 => "One booking is".to_owned(),
                n => format!("{n} bookings are"),
            }
        ),
        Refusal::NothingToJoin => {
            "There is nothing any more that it is nearly the same as. Accept it, or turn it down.".into()
        }
        Refusal::NoChange => "No change to it waits any more.".into(),
    }
}

/// Why a promo code is not taken; days are told in `zone`.
pub(crate) fn promo(code: &str, refusal: &PromoRefusal, zone: &str) -> String {
    let day = |at: &jiff::Timestamp| words::long_day(words::local(*at, zone).date());
    match refusal {
        PromoRefusal::Unknown => {
            format!("“{code}” is no code that can be used here. Look at its letters once more.")
        }
        PromoRefusal::Given => format!("“{code}” is on this booking already."),
        PromoRefusal::NotYet { from } => format!("“{code}” can be used from {} on.", day(from)),
        PromoRefusal::Over { until } => format!("“{code}” could be used until {}.", day(until)),
        PromoRefusal::UsedUp { most: 1 } => format!("“{code}” has been used already."),
        PromoRefusal::UsedUp { most } => {
            format!("“{code}” has been used {most} times, and that is as often as it may be.")
        }
        PromoRefusal::Again => format!("You have used “{code}” before; it is for once a person."),
        PromoRefusal::NotTheirs => format!(
            "“{code}” is for another address. Book with the one it was sent to, or take the code off."
        ),
        PromoRefusal::OtherTickets => format!("“{code}” is for other tickets than you chose."),
        PromoRefusal::OtherDate => format!("“{code}” is for other dates."),
        PromoRefusal::TooLittle { .. } => {
            format!("“{code}” is for larger bookings. Choose more, or go on without it.")
        }
        PromoRefusal::TooMuch { .. } => format!("“{code}” is for smaller bookings."),
        PromoRefusal::Alone => {
            format!("“{code}” cannot be used beside another code. Take that one off first.")
        }
    }
}

/// What a booking is charged, line by line: prices, what codes take off, what is kept of
/// tickets that were cancelled.
pub(crate) fn money_lines(lines: &[ChargedLine]) -> Vec<(String, Money)> {
    let mut rows = Vec::new();
    for l in lines {
        let currency = l.charge.currency;
        let price = l.unit.minor * i64::from(l.quantity);
        if l.quantity > 0 {
            rows.push((l.label(), currency.of(price)));
        }
        if l.discount.minor > 0 {
            rows.push(("Promo code".to_owned(), currency.of(-l.discount.minor)));
        }
        let added = if l.tax_added { l.tax.minor } else { 0 };
        if added > 0 {
            rows.push(("Tax".to_owned(), currency.of(added)));
        }
        let rest = l.charge.minor - (price - l.discount.minor + added);
        if rest > 0 {
            rows.push((format!("Kept of {} cancelled", l.name), currency.of(rest)));
        } else if rest < 0 {
            rows.push((format!("No longer charged of {}", l.name), currency.of(rest)));
        }
    }
    rows
}

/// Ticket types by their names, for wording a refusal.
pub(crate) fn ticket_names(rows: &[TicketRow]) -> Vec<TicketType> {
    rows.iter()
        .map(|t| TicketType {
            id: t.id,
            name: t.plan.name.clone(),
            note: String::new(),
            admits: t.plan.admits,
            tax: None,
            card: None,
            confirm: None,
        })
        .collect()
}

/// Why a choice of tickets was refused.
pub(crate) fn choice(refusal: &ChoiceRefusal, tickets: &[TicketType]) -> String {
    let name = |id: TicketTypeId| {
        tickets.iter().find(|t| t.id == id).map_or("this ticket", |t| t.name.as_str())
    };
    match refusal {
        ChoiceRefusal::Nothing => "Choose at least one ticket.".into(),
        ChoiceRefusal::NotOnSale { ticket, sale } => match sale {
            Sale::Over(_) => format!("“{}” is no longer on sale for this date.", name(*ticket)),
            Sale::NotYet(_) | Sale::Open => {
                format!("“{}” is not on sale yet; come back later.", name(*ticket))
            }
        },
        ChoiceRefusal::TooManyInOne { ticket, most, .. } => format!(
            "One booking can have at most {most} of “{}”. Book the others separately, or write to us.",
            name(*ticket)
        ),
        ChoiceRefusal::Seats(SeatRefusal::TooFew { name, free: 0, .. }) => {
            format!("No {name} are left for this date. Somebody else was quicker.")
        }
        ChoiceRefusal::Seats(SeatRefusal::TooFew { name, wanted, free, .. }) => format!(
            "You chose {}, but only {free} {} left. Choose fewer.",
            words::count(*wanted, name),
            if *free == 1 { "is" } else { "are" }
        ),
        ChoiceRefusal::Seats(SeatRefusal::TicketLimit { ticket, left, .. }) => match left {
            0 => format!("“{}” is sold out for this date.", name(*ticket)),
            left => {
                format!("Only {left} of “{}” are left for this date. Choose fewer.", name(*ticket))
            }
        },
        ChoiceRefusal::Seats(SeatRefusal::UnknownTicket { .. }) => {
            "One of the tickets is not offered any more. Choose again.".into()
        }
        ChoiceRefusal::TooFewInOne { ticket, least, .. } => {
            format!("“{}” is sold from {least} on. Choose more, or another ticket.", name(*ticket))
        }
        ChoiceRefusal::Closed { ticket } => {
            format!("“{}” is not on sale at present.", name(*ticket))
        }
        ChoiceRefusal::MembersOnly { ticket } => {
            format!("“{}” is for members. Sign in, or choose another ticket.", name(*ticket))
        }
        ChoiceRefusal::InvitedOnly { ticket } => format!(
            "“{}” is by invitation. Sign in with the address you were invited at, or choose another ticket.",
            name(*ticket)
        ),
        ChoiceRefusal::CalledOff => "This date will not take place. Choose another one.".into(),
        ChoiceRefusal::Notice { notice } => format!(
            "This appointment can be booked from {} to {} before it. Choose another one.",
            words::count(notice.days_ahead, "days"),
            words::count(notice.hours, "hours")
        ),
        ChoiceRefusal::Price(PriceRefusal::OutOfRange { .. }) => {
            "That many cannot be booked at once. Choose fewer.".into()
        }
    }
}

/// What is wrong with a field.
pub(crate) fn problem(field: Field, problem: &Problem) -> String {
    match (field, problem) {
        (Field::Name, Problem::Missing) => "Tell us your name.".into(),
        (Field::Email, Problem::Missing) => "We need an address to send your tickets to.".into(),
        (Field::Attendee(_), Problem::Missing) => "Who is coming? A name is enough.".into(),
        (Field::AnswerOf(..) | Field::Answer(_) | Field::Terms, Problem::Missing) => {
            "Please answer this.".into()
        }
        (_, Problem::TooLong { most }) => format!("Shorten this to {most} characters."),
        (_, Problem::NotAnAddress) => {
            "This does not look like an e-mail address; it should be like name@post.example.".into()
        }
        (_, Problem::NotOffered) => "Choose one of the answers.".into(),
        (_, Problem::NotAgreed) => "Tick this to book.".into(),
        (_, Problem::NotANumber) => "Write a whole number, such as 12.".into(),
        (_, Problem::NotADay) => "Write the day like 2026-12-31.".into(),
        (_, Problem::NotAPhone) => "Write a telephone number like +353 1 555 0199.".into(),
    }
}

/// A time of the clocks that comes twice, or never.
fn clock_change(at: DateTime) -> String {
    format!(
        "The clocks change at {} on {}, so that hour comes twice or not at all. Choose another hour.",
        words::clock(at),
        words::long_day(at.date())
    )
}

/// What is wrong with a field of a form of the Office.
pub(crate) fn fault(field: &str, fault: &Fault) -> String {
    of_field(field, fault).unwrap_or_else(|| of_any(fault))
}

/// What is wrong with one field in particular.
fn of_field(field: &str, fault: &Fault) -> Option<String> {
    match (field, fault) {
        ("drop_in", Fault::Taken) => Some("People have booked it. Cancel those bookings first, or leave it to be booked.".into()),
        ("draw_0", Fault::Missing) => Some("A ticket takes at least one seat of one pool. Say how many, here or at another pool.".into()),
        ("words", Fault::Missing) => Some("Say why: whoever reads it wants to know.".into()),
        ("repeat", Fault::Missing) => Some("Say how it repeats.".into()),
        ("note", Fault::Missing) => Some("Nothing is another than before. Change something, or write a few words.".into()),
        ("agreed", Fault::Missing) => Some("Agree to this first.".into()),
        ("forwards_to" | "house_forwards_to", Fault::Taken) => Some("The house writes from this address itself: what goes on to it would come back. Give the private address of whoever reads it.".into()),
        ("booking", Fault::Unknown) => Some("There is no such booking. Its letters stand on the ticket and in the mails, such as KRTB-XNLD.".into()),
        ("mail", Fault::Missing) => Some("Choose a file, or paste a mail with its headers.".into()),
        ("mail", Fault::TooLong(_)) => Some("A mail may have 25 MB. Leave its attachments out.".into()),
        ("told_daily", Fault::Taken) => Some("One address stands in both fields. Leave it in one.".into()),
        ("named", Fault::Missing) => Some("Name at least one address.".into()),
        ("bad_domains", Fault::LineNotAnAddress(line)) => Some(format!("“{line}” is no domain. Write it like pills.example.")),
        ("count", Fault::NeedsOther) => Some("Say how many dates, or until which day.".into()),
        ("seats", Fault::Missing) => Some("How many people can come?".into()),
        ("alt", Fault::Missing) => Some("Say what the picture shows, for those who cannot see it.".into()),
        ("reason", Fault::Missing) => Some("Say why; everybody booked will read it.".into()),
        ("options", Fault::Missing) => Some("Write at least two answers, one on a line.".into()),
        ("from", Fault::Unknown) => Some("The session has to lie within its date.".into()),
        ("host", Fault::Missing) => Some("Say which host they are: the name that stands on the dates they lead.".into()),
        ("into", Fault::Missing) => Some("Choose the other venue.".into()),
        ("room", Fault::Unknown) => Some("There is no such room.".into()),
        ("name" | "host", Fault::Unknown) => Some("A host’s name has no comma, since commas part several hosts.".into()),
        ("role", Fault::Taken) => Some("You cannot take the key from yourself; let another administrator do it.".into()),
        ("currency", Fault::Taken) => Some("There are prices or bookings in the old currency, so it stays. Another house would be a new file.".into()),
        ("currency", Fault::Unknown) => Some("Write the three letters of a currency, such as EUR.".into()),
        ("new_rate", Fault::NotANumber(..)) => Some("Write a name and a percentage, such as Courses 9.".into()),
        ("percent", Fault::NotANumber(..)) => Some("Write a percentage from 0 to 100, such as 9 or 13.5.".into()),
        ("most", Fault::EndsFirst) => Some("The most has to be at least as many as the fewest.".into()),
        ("password" | "new_password", Fault::TooShort(least)) => Some(format!("A password needs at least {least} characters.")),
        ("password", Fault::Missing) => Some("Somebody new needs a first password.".into()),
        ("embed_sites", Fault::NotALink) => Some("Write each site on a line of its own like https://club.example, with nothing after the name.".into()),
        ("early_until", Fault::Past) => Some("That is over already, so nobody would ever pay it. Choose a time to come, or say below that it is meant so.".into()),
        ("member_price", Fault::TooMuch) => Some("Members would pay more than everybody else. Change it, or say below that it is meant so.".into()),
        ("early_price" | "group_price", Fault::TooMuch) => Some("That is more than the price itself. Change it, or say below that it is meant so.".into()),
        ("back", Fault::TooMuch) => Some("No more can go back than was paid, and nothing while something is due: then set a price by hand.".into()),
        ("file", Fault::Taken) => Some("A file of this name is in use already. Give this one another name.".into()),
        ("last", Fault::OneOfTwo) => Some("Give the number of dates or the last day, not both: take one of them away.".into()),
        ("also" | "named" | "told_at_once" | "told_daily" | "whom" | "invited" | "web_calendars" | "bad_domains", Fault::TooMany(most)) => Some(format!("There may be {most} at the most. Leave some out.")),
        ("who_domains" | "only_domains", Fault::LineNotAnAddress(line)) => Some(format!("“{line}” does not look like a domain, such as club.example.")),
        _ => None,
    }
}

/// What is wrong with a field, whichever it is.
fn of_any(fault: &Fault) -> String {
    match fault {
        Fault::Missing => "Fill this in.".into(),
        Fault::TooShort(least) => format!("Give this at least {least} characters."),
        Fault::TooLong(most) => format!("Shorten this to {most} characters."),
        Fault::NotADay => "Write days like 2026-12-31.".into(),
        Fault::NotATime => "Write the time like 19:30.".into(),
        Fault::NotAnAmount => "Write an amount like 12.50.".into(),
        Fault::NotANumber(least, most) => {
            format!("Write a whole number from {least} to {most}.")
        }
        Fault::EndsFirst => "It has to end after it starts.".into(),
        Fault::ClockChange(at) => clock_change(*at),
        Fault::TooMuch => "That is more than it can be.".into(),
        Fault::Past => "That is in the past. Choose a time to come.".into(),
        Fault::Taken => "Another one has this already. Choose another.".into(),
        Fault::Unknown => "Choose one of those offered.".into(),
        Fault::NeedsOther => "This belongs together with the field beside it: fill in both or neither.".into(),
        Fault::OneOfTwo => "Give this or the field beside it, not both.".into(),
        Fault::NoDate => "This gives no date at all. Change the rule or the exceptions.".into(),
        Fault::TooMany(most) => format!("That is more than {most} dates. Make two runs of it."),
        Fault::LineNotAnAddress(line) => {
            format!("“{line}” does not look like an e-mail address.")
        }
        Fault::NoZone(None) => {
            "There is no time zone of this name. Write a region and a town, such as Europe/Dublin.".into()
        }
        Fault::NoZone(Some(like)) => format!("There is no time zone of this name. Is {like} meant?"),
        Fault::NotAnIban(fault) => iban(fault),
        Fault::NotABic => {
            "A BIC has 8 or 11 letters and figures, the fifth and sixth the country, such as AIBKIE2D.".into()
        }
        Fault::NotAnAddress => "This does not look like an e-mail address.".into(),
        Fault::OtherDomain(line) => {
            format!("“{line}” is not at one of the domains that may be invited. Leave it out, or add its domain below.")
        }
        Fault::HandOn(refusal) => hand_on(refusal),
        Fault::WebCalendar(line, fault) => format!("“{line}” {}.", web_calendar(fault)),
        Fault::NotAPhone => "Write a telephone number like +353 1 555 0199.".into(),
        Fault::NotALink => "A web address begins with https://.".into(),
        Fault::NotAColour | Fault::TooFaint(AccentRefusal::NotAColour) => {
            "A colour is a # and six of the signs 0 to 9 and a to f, such as #1d4f3f.".into()
        }
        Fault::TooFaint(AccentRefusal::TooFaint { tenths, nearest }) => format!(
            "Words in it could not be read: its contrast with the paper is {}.{} to 1, and 4.5 is the least. The nearest that will do is {nearest}.",
            tenths / 10,
            tenths % 10
        ),
        Fault::NotAPicture => "This is not a JPEG, PNG or WebP picture that can be read.".into(),
        Fault::NotAFile => "This is no PDF, JPEG or PNG file. Choose one that is.".into(),
        Fault::FileTooLarge(most) => format!("The file is too large to go with every mail: at most {most} megabytes."),
        Fault::TooLarge => "The picture is too large: at most 12 megabytes and 12,000 pixels across.".into(),
        Fault::NoWord => "This needs at least one letter or digit.".into(),
        Fault::Cue(refusal) => cue(refusal),
        Fault::Words(wrong) => template(wrong),
        Fault::OtherWords => "The words below were changed, but belong to another template than this. Choose that one again, or words of its own.".into(),
        Fault::Already(1) => "One person who has booked already would get it too. Say whether.".into(),
        Fault::Already(n) => format!("{n} people who have booked already would get it too. Say whether."),
        Fault::Nobody => "Nobody would get it. Choose a date, and who.".into(),
    }
}

/// Why something is no IBAN.
fn iban(fault: &IbanFault) -> String {
    match fault {
            IbanFault::Head => "An IBAN begins with the two letters of a country and two figures, such as IE29.".into(),
            IbanFault::Signs => "An IBAN has letters and figures only; take the other signs away.".into(),
            IbanFault::Length(n) => format!("This has {n} letters and figures; an IBAN has 15 to 34."),
            IbanFault::Check => {
                "The two figures after the country do not fit the rest: a letter or figure is wrong, or two are swapped.".into()
            }
    }
}

/// Why a line gives no address of a web calendar.
fn web_calendar(fault: &TemplateFault) -> String {
    match fault {
        TemplateFault::NoName => "has no name before its address".to_owned(),
        TemplateFault::NotALink => {
            "needs a web address after its name, with fields only after the first slash".into()
        }
        TemplateFault::Brace => "has a brace without its other".into(),
        TemplateFault::Unknown(name) => format!("has a field {{{name}}} that there is not"),
        TemplateFault::Needs => "needs at least {title} and {starts} or {from}".into(),
    }
}

/// Why an invitation is not handed on.
fn hand_on(refusal: &HandOnRefusal) -> String {
    match refusal {
        HandOnRefusal::TheirsAlone => "This invitation is for you alone.".into(),
        HandOnRefusal::Booked => {
            "You have booked: pass the ticket on instead, on the page of your booking.".into()
        }
        HandOnRefusal::TooOften => "It has been handed on often enough. Ask the organiser.".into(),
        HandOnRefusal::NotAnAddress => "This does not look like an e-mail address.".into(),
        HandOnRefusal::Invited => "They are invited already. Choose somebody else.".into(),
        HandOnRefusal::OtherDomain { domains } => {
            format!("Only addresses at {} are invited.", domains.join(", "))
        }
    }
}

/// Why a cue cannot be kept.
fn cue(refusal: &CueRefusal) -> String {
    match refusal {
        CueRefusal::Trigger => "No automatic message goes because of this. Choose from the list.".into(),
        CueRefusal::BeforeAnOccasion => "Nobody knows it before it happens: choose at once, or after.".into(),
        CueRefusal::TooFar { most, unit } => format!("At most {most} {unit}."),
        CueRefusal::Nobody { whom, why } => format!("This cannot reach {whom}: {why}. Choose others, or another moment."),
        CueRefusal::ToldTwice { .. } => {
            "Another automatic message tells the same people of the same thing by the same way, so somebody would get two. Join the two, change that one, switch it off, or choose other people here.".into()
        }
        CueRefusal::Address => "This does not look like an e-mail address.".into(),
        CueRefusal::NotPublic => "A notice is read by everybody: it tells that a date moves or is called off, before or after it starts or ends, or of its sale. Choose one of these, or another way.".into(),
        CueRefusal::Way => "Mail and the team chat reach these people; text messages go to those who have booked, at the numbers they gave. Choose another way.".into(),
    }
}

/// What is wrong with a template.
pub(crate) fn template(wrong: &Wrong) -> String {
    match wrong {
        Wrong::Unknown { name, near: Some(near) } => {
            format!("There is no field “{name}”. Is “{near}” meant?")
        }
        Wrong::Unknown { name, near: None } => {
            format!("There is no field “{name}”. Choose one at “Put in”.")
        }
        Wrong::NotTheirs { name } => format!(
            "“{name}” has nothing to say to those who get this. Take it out, or choose others."
        ),
        Wrong::Length { name, length } => {
            format!("“{name}” does not come as “{length}”. Times come long, short, day or clock.")
        }
        Wrong::NeverClosed { name } => {
            format!("The part “if {name}” never ends. Put {{{{end}}}} where it does.")
        }
        Wrong::ClosesNothing => {
            "An {{end}} here ends nothing. Take it out, or begin the part with {{if …}}.".into()
        }
        Wrong::Braces => "Two braces open here and never close. Close the field with }}.".into(),
        Wrong::Across { name } => format!(
            "The part “if {name}” begins in one paragraph and ends in another. Put its begin and its end on lines of their own."
        ),
        Wrong::NoSubject => "Give it a subject: it is the first that is read.".into(),
        Wrong::NoWords => "Write something.".into(),
        Wrong::Link { to } => format!(
            "The link “{to}” leads nowhere. Give it a whole web address, or field: and the name of a link."
        ),
        Wrong::Block { name } => format!("“{name}” is several lines; a subject has one."),
    }
}

/// What cancelling gives back, step by step, in days for this date.
pub(crate) fn steps(told: &[(Timestamp, u32)], zone: &str, now: Timestamp) -> String {
    let ahead: Vec<&(Timestamp, u32)> = told.iter().filter(|(until, _)| *until >= now).collect();
    let part = |percent: u32| match percent {
        100 => "all of it".to_owned(),
        50 => "half of it".to_owned(),
        n => format!("{n} % of it"),
    };
    let said: Vec<String> = ahead
        .iter()
        .map(|(until, percent)| {
            format!("{} until {}", part(*percent), words::deadline(*until, zone, now))
        })
        .collect();
    match said.is_empty() {
        true => "Cancelling gives nothing back any more.".into(),
        false => format!("Cancelling gives back {}; after that nothing.", said.join(", ")),
    }
}

/// Why somebody may not keep more seats for now.
pub(crate) fn keep(refusal: &KeepRefusal) -> String {
    match refusal {
        KeepRefusal::Browser { kept } => format!(
            "You keep seats of this date in {kept} bookings that are not finished. Finish one, or give its seats back, then choose again."
        ),
        KeepRefusal::Network { kept, .. } => format!(
            "{} of this date are kept from your network just now, by others perhaps. They come free within minutes; or sign in by mail, and choose again.",
            words::count(*kept, "seats")
        ),
        KeepRefusal::Address { kept } => format!(
            "With this address {kept} bookings of this date wait to be paid or answered. Pay or cancel one of them first."
        ),
    }
}

/// Why somebody may not book.
pub(crate) fn who(refusal: &WhoRefusal) -> String {
    match refusal {
        WhoRefusal::NotSignedIn => {
            "Show that this address is yours: a number is mailed to it, and you type it here. What you filled in is kept.".into()
        }
        WhoRefusal::WrongWord => {
            "This event is booked with a word. Go back to the event and give the word there.".into()
        }
        WhoRefusal::OtherDomain { domains } => {
            format!("This event is for people with an address at {}.", domains.join(" or "))
        }
        WhoRefusal::NotInvited => {
            "This event is by invitation, and this address is not on the list. Use the one you were invited at.".into()
        }
        WhoRefusal::Again => {
            "Somebody with this address has booked already; this event is booked once a person.".into()
        }
    }
}

/// Why sessions cannot be had.
pub(crate) fn sign_up(refusal: &SignUpRefusal, title: impl Fn(SessionId) -> String) -> String {
    match refusal {
        SignUpRefusal::OpenToAll { session } => {
            format!("“{}” is open to everybody; just go in.", title(*session))
        }
        SignUpRefusal::Unknown { .. } => {
            "One of the sessions is not offered any more. Choose again.".into()
        }
        SignUpRefusal::Begun { session } => format!("“{}” has begun.", title(*session)),
        SignUpRefusal::Full { session } => {
            format!("“{}” is full. Somebody else was quicker.", title(*session))
        }
        SignUpRefusal::Overlaps { session, with } => format!(
            "“{}” is at the same time as “{}”. Choose one of the two.",
            title(*session),
            title(*with)
        ),
    }
}

/// What is wrong with a field of the quick form.
pub(crate) fn quick(field: quick::Field, problem: quick::Problem) -> String {
    use quick::{Field, Problem};
    match (field, problem) {
        (Field::Title, Problem::Missing) => "Give it a title.".into(),
        (Field::Day, Problem::Missing) => "Choose a day.".into(),
        (Field::From, Problem::Missing) => "When does it start?".into(),
        (Field::Until, Problem::Missing) => "When does it end?".into(),
        (Field::Place, Problem::Missing) => "Where is it?".into(),
        (Field::Seats, Problem::Missing) => "How many people can come?".into(),
        (Field::Weeks, Problem::Missing) => "For how many weeks?".into(),
        (Field::Minutes, Problem::Missing) => "How long does one take?".into(),
        (Field::Link, Problem::Missing) => "Where do they join?".into(),
        (Field::Places, Problem::Missing) => "How many may join online?".into(),
        (_, Problem::MoreThanRoom { most }) => {
            format!("This room has {most} seats. Write {most} or fewer, or choose another place.")
        }
        (_, Problem::NotALink) => {
            "Write the whole address, such as https://meet.example/room.".into()
        }
        (_, Problem::NotWeeks { most }) => {
            format!("Write a whole number of weeks from 2 to {most}.")
        }
        (_, Problem::NotMinutes) => "Write a whole number of minutes from 5 to 720.".into(),
        (Field::Kind | Field::Price, Problem::Missing) => "Fill this in.".into(),
        (_, Problem::TooLong { most }) => format!("Shorten this to {most} characters."),
        (_, Problem::NoWord) => "The title needs at least one letter or digit.".into(),
        (_, Problem::NotADay) => "Write the day like 2026-12-31.".into(),
        (_, Problem::NotATime) => "Write the time like 19:30.".into(),
        (_, Problem::EndsFirst) => {
            "It has to end after it starts; if it ends after midnight, tick that.".into()
        }
        (_, Problem::ClockChange(at)) => clock_change(at),
        (_, Problem::Past) => "That is in the past. Choose a day to come.".into(),
        (_, Problem::NotACount { most }) => format!("Write a whole number from 1 to {most}."),
        (_, Problem::NotAnAmount) => {
            "Write an amount like 12.50, or leave this empty if it is free.".into()
        }
    }
}

/// A refusal of core as a sentence of its own.
pub(crate) fn sentence(refusal: &str) -> String {
    let mut sentence = format!("{refusal}.");
    if let Some(first) = sentence.get_mut(..1) {
        first.make_ascii_uppercase();
    }
    sentence
}

/// Somebody was let in twice.
pub(crate) fn twice(first: &Passage, second: &Passage, zone: &str) -> String {
    let clock = |at| words::clock(words::local(at, zone).datetime());
    // Two devices at one door are told apart by their names.
    let place = |p: &Passage| match p.by.as_str() {
        by if first.door == second.door && !by.is_empty() => format!("{} ({by})", p.door),
        _ => p.door.clone(),
    };
    format!(
        "let in twice: at {}, {}, and at {}, {}. The first stands.",
        clock(first.at),
        place(first),
        clock(second.at),
        place(second)
    )
}

/// What somebody has to look into after a device was without network.
pub(crate) fn line(found: &Finding, currency: Currency) -> String {
    match found {
        Finding::Cancelled => "let in, but the booking was cancelled by then".into(),
        Finding::PassedOn => {
            "let in with a ticket that had been passed on; whoever has it now may come too".into()
        }
        Finding::OtherDate => "let in with a ticket for another date".into(),
        Finding::Test => "let in with a ticket that was made to try the steps out".into(),
        Finding::Unknown => "let in with a code of nobody".into(),
        Finding::Unpaid { due } => format!("let in, and {due} were still to pay"),
        Finding::PaidTwice { minor } => {
            format!("paid {} too much at the door: to be given back", currency.of(*minor))
        }
        Finding::WalkedIn { people, minor: 0 } => format!(
            "let in without a ticket, {}, and not booked: the seats had gone, or are sold no more",
            words::people(*people)
        ),
        Finding::WalkedIn { people, minor } => format!(
            "let in without a ticket, {}, {} taken, and not booked: the seats had gone, or are sold no more",
            words::people(*people),
            currency.of(*minor)
        ),
        Finding::GivenUp => "let in, though the seat had gone to somebody who waited".into(),
        Finding::Full { inside, most } => {
            format!("let in as number {}, and {most} may be inside", inside + 1)
        }
        Finding::AfterSentAway => "scanned on a device after it had been sent away".into(),
        Finding::OfSentAway => "done on a device that has been sent away since".into(),
        Finding::CashSaid { minor } => format!(
            "a device that was sent away says it took {} in cash: nothing is booked until you take it in on the booking",
            currency.of(*minor)
        ),
    }
}

/// Why the door was told so at an instant; empty where the verdict says it all.
pub(crate) fn verdict(told: &Told, zone: &str, at: Timestamp) -> String {
    match (&told.verdict, &told.why) {
        (_, Why::Said(said)) => said.clone(),
        (Verdict::ComeIn, _) => String::new(),
        (Verdict::AlreadyIn { at: since, door }, _) => {
            let since = words::local(*since, zone);
            let today = words::local(at, zone).date();
            let day = match since.date() == today {
                true => String::new(),
                false => format!("{}, ", words::near_day(since.date(), today)),
            };
            format!("{day}{}, {door}", words::clock(since.datetime()))
        }
        (Verdict::ToPay { due }, Why::NoYesYet) => {
            format!("{due} to pay, and the organiser has not said yes")
        }
        (Verdict::ToPay { due }, _) => format!("{due} to pay"),
        (Verdict::Out, _) => String::new(),
        (Verdict::NotIn, _) => "nobody saw them come in; let them in first if they did".into(),
        (Verdict::WentOut, _) => "they went out, and nobody comes in again here".into(),
        (Verdict::OtherDoor { door }, _) => format!("that way: {door}"),
        (Verdict::SignUpsFirst { from }, _) => format!(
            "seats of those who have not come are free from {}",
            words::clock(words::local(*from, zone).datetime())
        ),
        (Verdict::Full { inside, most }, _) => format!("{inside} are inside, {most} may be"),
        (Verdict::GivenUp { at: since }, _) => format!(
            "kept until {}, then given to somebody who waited",
            words::clock(words::local(*since, zone).datetime())
        ),
        (Verdict::StampCard { left: 0 }, _) => "no stamps left".into(),
        (Verdict::StampCard { left }, _) => format!("{} left", words::count(*left, "stamps")),
        (Verdict::OtherDate { .. }, Why::Other { title, span }) => {
            let today = words::local(at, &span.zone).date();
            format!("{title}, {}", words::span(span.starts, span.ends, today))
        }
        (Verdict::OtherDate { .. }, _) => String::new(),
        (Verdict::Test, _) => "made to try the steps out; it lets nobody in".into(),
        (Verdict::Cancelled, Why::PassedOn) => "this ticket was passed to somebody else".into(),
        (Verdict::Cancelled, _) => "this booking was cancelled".into(),
        (Verdict::Unknown, _) => "not a ticket of this house".into(),
        (Verdict::Misread, _) => "a letter is wrong or missing; scan again".into(),
    }
}

/// How a session stands, in words.
pub(crate) fn session_stands(session: &Session, room: &Room, zone: &str, now: Timestamp) -> String {
    let mut said = format!(
        "{}, {}: {} in the room",
        session.title,
        words::clock(session.span.starts),
        room.inside()
    );
    if let Some(seats) = room.seats {
        let _ = write!(said, ", {seats} may be");
    }
    let missing = room.signed_up.saturating_sub(room.signed_in);
    if room.sign_up && missing > 0 && now < session.facts.until {
        let free = words::clock(words::local(room.free_from, zone).datetime());
        let _ = match now < room.free_from {
            true => write!(
                said,
                "; {missing} signed up and are not here yet, their seats are free from {free}"
            ),
            false => write!(said, "; {missing} signed up and have not come, their seats are free"),
        };
    }
    said
}

/// What is said before a date with bookings goes into the past.
pub(crate) const INTO_PAST: &str = "That is over already, and people have booked it. Look at the day and the year once more before they are told.";

/// Why nothing is sent to an address.
pub(crate) fn refuses_mail(address: &str) -> String {
    format!(
        "Mail to {address} is refused for good, so nothing was sent. Correct the address, or write to it again on the page of its person if it is right."
    )
}

/// Why a booking stays as it is while somebody is inside with it.
pub(crate) fn inside(name: &str) -> String {
    format!(
        "{name} has been let in with this booking, so it stays as it is. If that was a mistake, it is undone at the door first."
    )
}

/// A booking's state as the Office says it.
pub(crate) const fn state(state: State) -> &'static str {
    match state {
        State::Held => "held",
        State::Requested => "asking",
        State::AwaitingPayment => "to pay",
        State::Confirmed => "confirmed",
        State::Declined => "declined",
        State::Cancelled => "cancelled",
        State::Lapsed => "lapsed",
    }
}

/// The class of the mark beside a state.
pub(crate) const fn state_class(state: State) -> &'static str {
    match state {
        State::Held => "held",
        State::Requested => "asking",
        State::AwaitingPayment => "pay",
        State::Confirmed => "conf",
        State::Declined | State::Cancelled | State::Lapsed => "over",
    }
}

/// What runs by itself, as Today names it.
pub(crate) const fn work(work: Work) -> &'static str {
    match work {
        Work::Deadlines => "holds and times to pay that run out",
        Work::Payments => "asking the card provider about payments",
        Work::Refunds => "money on its way back",
        Work::Telling => "planning messages",
        Work::Mail => "sending messages",
        Work::Letters => "reading the house’s mailbox",
        Work::Rooms => "rooms of dates online",
        Work::Answers => "forwarding and answering letters",
        Work::Planning => "publishing at a set time, and slots",
        Work::Books => "payouts and stamp cards",
        Work::Backup => "the backup",
    }
}

/// A row that was set aside, as Today names it.
pub(crate) fn set_aside(work: &str, about: &str, reference: Option<&str>) -> String {
    let of = reference.map_or_else(|| about.to_owned(), |r| format!("booking {r}"));
    match work {
        "deadlines" => format!("The deadline of {of}"),
        "payments" => format!("A payment of {of}"),
        "refunds" => format!("Giving money back for {of}"),
        "backup" => "The backup".into(),
        "answers" => "Forwarding or answering a letter".into(),
        _ => format!("{of} ({work})"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::Timestamp;
    use matricle_core::{PoolId, QuestionId};

    fn tickets() -> Vec<TicketType> {
        vec![TicketType {
            id: TicketTypeId(1),
            name: "Family".into(),
            note: String::new(),
            admits: 4,
            tax: None,
            card: None,
            confirm: None,
        }]
    }

    /// A sentence: it begins like one, ends like one, and shows nothing from inside.
    fn is_a_sentence(text: &str) {
        assert!(text.starts_with(|c: char| c.is_uppercase() || c == '“'), "{text}");
        assert!(text.ends_with(['.', '?']), "{text}");
        for inside in ["{", "}", "Some(", "::", "TicketTypeId", "  "] {
            assert!(!text.contains(inside), "{text}");
        }
    }

    #[test]
    fn every_refused_choice_is_a_sentence_with_the_number_in_the_way() {
        let id = TicketTypeId(1);
        let few = |wanted, free| {
            ChoiceRefusal::Seats(SeatRefusal::TooFew {
                pool: PoolId(1),
                name: "protective suits".into(),
                wanted,
                free,
            })
        };
        let limit =
            |left| ChoiceRefusal::Seats(SeatRefusal::TicketLimit { ticket: id, wanted: 9, left });
        let at = Timestamp::UNIX_EPOCH;
        let said: Vec<String> = [
            ChoiceRefusal::Nothing,
            few(4, 0),
            few(4, 1),
            few(4, 3),
            limit(0),
            limit(2),
            ChoiceRefusal::Seats(SeatRefusal::UnknownTicket { ticket: TicketTypeId(9) }),
            ChoiceRefusal::TooManyInOne { ticket: id, wanted: 9, most: 3 },
            ChoiceRefusal::NotOnSale { ticket: id, sale: Sale::Over(at) },
            ChoiceRefusal::NotOnSale { ticket: id, sale: Sale::NotYet(at) },
            ChoiceRefusal::Price(PriceRefusal::OutOfRange { ticket: id, quantity: 9 }),
            ChoiceRefusal::TooFewInOne { ticket: id, wanted: 1, least: 5 },
            ChoiceRefusal::Closed { ticket: id },
            ChoiceRefusal::MembersOnly { ticket: id },
            ChoiceRefusal::InvitedOnly { ticket: id },
            ChoiceRefusal::CalledOff,
            ChoiceRefusal::Notice {
                notice: matricle_core::dates::slots::Notice { hours: 18, days_ahead: 35 },
            },
        ]
        .iter()
        .map(|refusal| choice(refusal, &tickets()))
        .collect();
        said.iter().for_each(|text| is_a_sentence(text));
        insta::assert_snapshot!(said.join("\n"));
    }

    #[test]
    fn every_problem_of_a_form_is_a_sentence() {
        let fields = [
            Field::Name,
            Field::Email,
            Field::Attendee(0),
            Field::Answer(QuestionId(1)),
            Field::Terms,
        ];
        let problems = [
            Problem::Missing,
            Problem::TooLong { most: 200 },
            Problem::NotAnAddress,
            Problem::NotOffered,
            Problem::NotAgreed,
        ];
        for field in fields {
            problems.iter().for_each(|p| is_a_sentence(&problem(field, p)));
        }
        use super::quick::{Field as Q, Problem as P};
        let problems = [
            P::Missing,
            P::TooLong { most: 200 },
            P::NoWord,
            P::NotADay,
            P::NotATime,
            P::EndsFirst,
            P::ClockChange(jiff::civil::datetime(2027, 3, 28, 1, 30, 0, 0)),
            P::NotWeeks { most: 53 },
            P::NotMinutes,
            P::Past,
            P::NotACount { most: 9 },
            P::NotAnAmount,
        ];
        let fields = [Q::Title, Q::Kind, Q::Day, Q::From, Q::Until, Q::Weeks, Q::Minutes];
        for field in fields.into_iter().chain([Q::Place, Q::Seats, Q::Price]) {
            problems.iter().for_each(|p| is_a_sentence(&quick(field, *p)));
        }
    }

    #[test]
    fn every_verdict_says_why() {
        let at: Timestamp = "2026-11-25T18:42:07Z".parse().unwrap();
        let due = matricle_core::Currency::EUR.of(4200);
        let starts = jiff::civil::datetime(2026, 11, 29, 19, 0, 0, 0);
        let ends = jiff::civil::datetime(2026, 11, 29, 21, 0, 0, 0);
        let span =
            matricle_core::dates::schedule::Span::new(starts, ends, "Europe/Dublin").unwrap();
        let other = Why::Other { title: "Is beekeeping for me?".into(), span };
        let told = |verdict, why| Told {
            verdict,
            why,
            name: String::new(),
            ticket: String::new(),
            place: None,
            companions: Vec::new(),
            note: String::new(),
            with: Vec::new(),
            others: Vec::new(),
            session: String::new(),
        };
        let yesterday = at - jiff::SignedDuration::from_hours(26);
        let said: Vec<String> = [
            told(Verdict::ComeIn, Why::Itself),
            told(Verdict::AlreadyIn { at, door: "side gate".into() }, Why::Itself),
            told(Verdict::AlreadyIn { at: yesterday, door: "side gate".into() }, Why::Itself),
            told(Verdict::ToPay { due }, Why::Itself),
            told(Verdict::ToPay { due }, Why::NoYesYet),
            told(Verdict::OtherDate { date: matricle_core::DateId(2) }, other),
            told(Verdict::WentOut, Why::Itself),
            told(Verdict::NotIn, Why::Itself),
            told(Verdict::OtherDoor { door: "upper room".into() }, Why::Itself),
            told(Verdict::SignUpsFirst { from: at }, Why::Itself),
            told(Verdict::Full { inside: 39, most: 40 }, Why::Itself),
            told(Verdict::GivenUp { at }, Why::Itself),
            told(Verdict::StampCard { left: 0 }, Why::Itself),
            told(Verdict::StampCard { left: 10 }, Why::Itself),
            told(Verdict::Test, Why::Itself),
            told(Verdict::Cancelled, Why::Itself),
            told(Verdict::Cancelled, Why::PassedOn),
            told(Verdict::Unknown, Why::Itself),
            told(Verdict::Misread, Why::Itself),
            told(Verdict::Unknown, Why::Said("as it was worded once".into())),
        ]
        .iter()
        .map(|t| format!("{}: {}", t.verdict.word(), verdict(t, "Europe/Dublin", at)))
        .collect();
        insta::assert_snapshot!(said.join("\n"));
    }

    #[test]
    fn every_other_refusal_is_a_sentence() {
        let at = jiff::civil::datetime(2027, 3, 28, 1, 30, 0, 0);
        let faults = [
            Fault::Missing,
            Fault::TooShort(9),
            Fault::TooLong(9),
            Fault::NotADay,
            Fault::NotATime,
            Fault::NotAnAmount,
            Fault::NotANumber(1, 9),
            Fault::EndsFirst,
            Fault::ClockChange(at),
            Fault::Past,
            Fault::TooMuch,
            Fault::Taken,
            Fault::Unknown,
            Fault::NeedsOther,
            Fault::NoDate,
            Fault::TooMany(9),
            Fault::NotAnAddress,
            Fault::NotALink,
            Fault::NotAPicture,
            Fault::NotAFile,
            Fault::FileTooLarge(2),
            Fault::TooLarge,
            Fault::NoWord,
        ];
        for field in [
            "count",
            "seats",
            "alt",
            "reason",
            "options",
            "from",
            "room",
            "name",
            "role",
            "percent",
            "most",
            "password",
            "embed_sites",
            "other",
        ] {
            faults.iter().for_each(|f| is_a_sentence(&fault(field, f)));
        }
        let (a, b) = (SessionId(1), SessionId(2));
        let said: Vec<String> = [
            SignUpRefusal::OpenToAll { session: a },
            SignUpRefusal::Unknown { session: a },
            SignUpRefusal::Begun { session: a },
            SignUpRefusal::Full { session: a },
            SignUpRefusal::Overlaps { session: a, with: b },
        ]
        .iter()
        .map(|r| sign_up(r, |id| format!("Talk {id}")))
        .chain(
            [
                WhoRefusal::NotSignedIn,
                WhoRefusal::WrongWord,
                WhoRefusal::OtherDomain { domains: vec!["school.example".into()] },
                WhoRefusal::NotInvited,
                WhoRefusal::Again,
            ]
            .iter()
            .map(who),
        )
        .collect();
        said.iter().for_each(|text| is_a_sentence(text));
        insta::assert_snapshot!(said.join("\n"));
    }

    #[test]
    fn every_state_has_a_word_and_a_mark() {
        for s in State::ALL {
            assert!(!state(s).is_empty() && !state_class(s).is_empty());
            let over = matches!(s, State::Declined | State::Cancelled | State::Lapsed);
            assert_eq!(state_class(s) == "over", over, "{s:?}");
        }
    }
}
