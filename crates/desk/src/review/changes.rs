//! A submission becomes an event, and a change to it reaches the event.

use matricle_core::EventId;
use matricle_core::money::shares::Share;
use matricle_core::review::rules::HouseRules;
use matricle_core::review::submission::{Proposal, Refusal};
use matricle_core::words::fold;
use matricle_store::events::{self, EventState, Format, NewEvent, NewTicketType};
use matricle_store::submissions::{self, Submission};
use matricle_store::{Tx, bookings, books, places};

use super::{checking, plain};
use crate::DeskError;
use crate::acting::Turn;
use crate::planning::board::offered;
use crate::planning::dates::{bring_to, log};

/// Most letters of the sentence that lists show.
const LEAD: usize = 160;

/// The first sentence of a text, for lists.
fn lead(text: &str) -> String {
    let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
    let end =
        text.char_indices().zip(text.chars().skip(1).chain([' '])).find_map(|((at, c), next)| {
            (matches!(c, '.' | '!' | '?') && next.is_whitespace()).then(|| at + c.len_utf8())
        });
    let first = &text[..end.unwrap_or(text.len())];
    if first.chars().count() <= LEAD {
        return first.to_owned();
    }
    let mut short: String = first.chars().take(LEAD).collect();
    if let Some(at) = short.rfind(' ') {
        short.truncate(at);
    }
    short.push('…');
    short
}

/// Slugs of the tags that are known by these names.
fn tags(tx: &Tx<'_>, names: &[String]) -> Result<Vec<String>, DeskError> {
    let known = places::tags(tx)?;
    let slug = |name: &String| {
        known
            .iter()
            .find(|t| fold(&t.name) == fold(name) && t.retired_at.is_none())
            .map(|t| t.slug.clone())
    };
    Ok(names.iter().filter_map(slug).collect())
}

/// Makes the event of a submission. Where it can be booked, it has one ticket, the house's terms,
/// and the share that the house rules give whoever leads it.
pub(crate) fn make_event(
    tx: &Tx<'_>,
    s: &Submission,
    p: &Proposal,
    state: EventState,
    rules: &HouseRules,
    turn: &Turn,
) -> Result<EventId, DeskError> {
    let dates = checking::new_dates(p, &offered(tx)?);
    let booked = p.booked.filter(|_| rules.bookable);
    let is_run = dates.len() > 1 && p.rule.is_some();
    let new = NewEvent {
        slug: events::free_slug(tx, &p.slug)?,
        title: p.title.clone(),
        kind: if p.kind.is_empty() { "Event".into() } else { p.kind.clone() },
        lead: lead(&plain(&s.typed)),
        description: s.typed.get("description").to_owned(),
        state,
        hold_minutes: 15,
        tags: tags(tx, &p.tags)?,
        pools: vec!["seats".into()],
        tickets: booked
            .map(|b| NewTicketType { minor: b.price.minor, ..NewTicketType::default() })
            .into_iter()
            .collect(),
        dates: if is_run { Vec::new() } else { dates.clone() },
        format: if fold(&p.place) == "online" { Format::Online } else { Format::InPerson },
        drop_in: booked.is_none(),
        price_words: if booked.is_none() { p.price.clone() } else { String::new() },
        contact: p.contact.clone(),
        ..NewEvent::default()
    };
    let id = events::insert(tx, &new, turn.now)?;
    if let (true, Some(rule)) = (is_run, &p.rule) {
        let run = events::add_run(tx, id, &rule.text())?;
        for date in &dates {
            events::add_date(tx, id, date, Some(run))?;
        }
        events::index(tx, id)?;
    }
    submissions::give_picture(tx, s.id, id)?;
    if booked.is_some_and(|b| b.price.minor > 0) && rules.share > 0 {
        let name = p.hosts.first().map_or_else(|| super::name_of(s), String::as_str);
        let host = places::host_named(tx, name)?;
        books::set_share(tx, id, host, Share::Percent(rules.share))?;
    }
    let what = match state {
        EventState::Published => "published the event that was submitted",
        _ => "made a draft of what was submitted",
    };
    log(tx, id, turn, what)?;
    Ok(id)
}

/// Brings the event of a submission to a wording of it: words, time, place, hosts; people who
/// booked are told of what changes for them. Seats and prices stay as they are.
///
/// # Errors
/// [`Refusal::Booked`] when a date would go that people have booked.
pub(crate) fn apply(
    tx: &Tx<'_>,
    id: EventId,
    s: &Submission,
    p: &Proposal,
    turn: &Turn,
) -> Result<(), DeskError> {
    let mut event = events::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
    event.title.clone_from(&p.title);
    if !p.kind.is_empty() {
        event.kind.clone_from(&p.kind);
    }
    event.description = s.typed.get("description").to_owned();
    event.lead = lead(&plain(&s.typed));
    event.contact.clone_from(&p.contact);
    if event.drop_in {
        event.price_words.clone_from(&p.price);
    }
    events::set(tx, &event, turn.now)?;
    events::set_tags(tx, id, &tags(tx, &p.tags)?)?;
    let dates = checking::new_dates(p, &offered(tx)?);
    let before: Vec<_> =
        events::dates_of(tx, id)?.into_iter().filter(|d| d.called_off.is_empty()).collect();
    // A date that stays keeps its bookings; the others follow in their order.
    let (mut old, mut new) = (before, dates);
    let mut pairs = Vec::new();
    old.retain(|d| match new.iter().position(|n| n.span == d.span) {
        Some(at) => {
            pairs.push((d.clone(), new.remove(at)));
            false
        }
        None => true,
    });
    let rest = old.len().min(new.len());
    let gone = old.split_off(rest);
    let added = new.split_off(rest);
    pairs.extend(old.into_iter().zip(new));
    for (date, to) in pairs {
        bring_to(tx, &date, to.span, (&to.venue, &to.room), &to.hosts, turn)?;
    }
    for date in gone {
        if !events::without_bookings(tx, date.id)? {
            let live = bookings::live_on(tx, date.id)?.len();
            let bookings = u32::try_from(live).unwrap_or(u32::MAX).max(1);
            return Err(Refusal::Booked { bookings }.into());
        }
        events::remove_date(tx, date.id)?;
    }
    let seats = events::pool_kinds(tx, id)?.len();
    for mut date in added {
        date.capacities.resize(seats, 0);
        events::add_date(tx, id, &date, None)?;
    }
    events::changed(tx, id, turn.now)?;
    log(tx, id, turn, "took a change of whoever submitted it over")
}

#[cfg(test)]
mod tests {
    use super::lead;

    #[test]
    fn a_list_shows_the_first_sentence() {
        assert_eq!(lead("We meet  at seven. Bring tea."), "We meet at seven.");
        assert_eq!(lead("No end"), "No end");
        assert_eq!(lead(""), "");
        let long = lead(&"word ".repeat(80));
        assert!(long.chars().count() <= 161 && long.ends_with("word…"), "{long}");
    }
}
