//! An event planned in a TOML file.

use std::collections::BTreeMap;

use jiff::tz::TimeZone;
use jiff::{Timestamp, civil};
use matricle_core::booking::details::Answering;
use matricle_core::dates::schedule::{SaleWindow, Span, SpanError};
use matricle_core::money::price::Early;
use matricle_core::words::fold;
use matricle_core::words::text;
use matricle_core::{EventId, Money};
use matricle_store::events::{self, EventState, NewDate, NewEvent, NewQuestion, NewTicketType};
use matricle_store::house::House;
use serde::Deserialize;

use crate::{Desk, DeskError, PlanError};

/// An example with every field, to start from.
pub const EXAMPLE: &str = include_str!("plan.example.toml");

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Plan {
    title: String,
    slug: Option<String>,
    kind: String,
    lead: String,
    #[serde(default)]
    description: String,
    #[serde(default)]
    bring: String,
    #[serde(default)]
    refund_note: String,
    #[serde(default = "fifteen")]
    hold_minutes: i64,
    pools: Vec<String>,
    tickets: Vec<PlannedTicket>,
    #[serde(default)]
    questions: Vec<PlannedQuestion>,
    dates: Vec<PlannedDate>,
}

const fn fifteen() -> i64 {
    15
}

const fn one() -> u32 {
    1
}

const fn ten() -> u32 {
    10
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct PlannedTicket {
    name: String,
    #[serde(default)]
    note: String,
    price: String,
    early_price: Option<String>,
    early_until: Option<civil::DateTime>,
    sale_from: Option<civil::DateTime>,
    sale_until: Option<civil::DateTime>,
    per_date: Option<u32>,
    #[serde(default = "ten")]
    most: u32,
    #[serde(default = "one")]
    admits: u32,
    draws: BTreeMap<String, u32>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct PlannedQuestion {
    label: String,
    #[serde(default)]
    one_of: Vec<String>,
    #[serde(default)]
    yes_no: bool,
    #[serde(default)]
    needed: bool,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct PlannedDate {
    starts: civil::DateTime,
    ends: civil::DateTime,
    zone: Option<String>,
    venue: String,
    #[serde(default)]
    address: String,
    #[serde(default)]
    directions: String,
    #[serde(default)]
    room: String,
    #[serde(default)]
    hosts: String,
    seats: BTreeMap<String, u32>,
}

/// Reads a plan for a house.
///
/// # Errors
/// What is wrong with it, in a sentence that says what to do.
pub fn read(plan: &str, house: &House) -> Result<NewEvent, PlanError> {
    let plan: Plan = toml::from_str(plan).map_err(Box::new)?;
    let line = |typed: &str| text::line(typed);
    let slug = fold(plan.slug.as_deref().unwrap_or(&plan.title)).replace([' ', '@', '.'], "-");
    if slug.is_empty() {
        return Err(PlanError::NoTitle);
    }
    let filled = [
        (plan.pools.is_empty(), PlanError::NoPools),
        (plan.tickets.is_empty(), PlanError::NoTickets),
        (plan.dates.is_empty(), PlanError::NoDates),
    ];
    if let Some((_, error)) = filled.into_iter().find(|(empty, _)| *empty) {
        return Err(error);
    }
    let tickets = plan
        .tickets
        .into_iter()
        .map(|t| ticket(t, &plan.pools, house))
        .collect::<Result<_, _>>()?;
    let dates =
        plan.dates.into_iter().map(|d| date(d, &plan.pools, house)).collect::<Result<_, _>>()?;
    let questions = plan
        .questions
        .into_iter()
        .map(|q| NewQuestion {
            label: text::line(&q.label),
            answering: match (q.yes_no, q.one_of) {
                (true, _) => Answering::YesNo,
                (false, options) if options.is_empty() => Answering::Text,
                (false, options) => {
                    Answering::OneOf(options.iter().map(|o| text::line(o)).collect())
                }
            },
            needed: q.needed,
            each: false,
            only: Vec::new(),
        })
        .collect();
    Ok(NewEvent {
        slug,
        title: line(&plan.title),
        kind: line(&plan.kind),
        lead: line(&plan.lead),
        description: matricle_formats::rich::from_text(&text::lines(&plan.description)),
        bring: text::lines(&plan.bring),
        refund_note: text::lines(&plan.refund_note),
        state: EventState::Published,
        hold_minutes: plan.hold_minutes.clamp(1, 240),
        pools: plan.pools.iter().map(|p| line(p)).collect(),
        tickets,
        questions,
        dates,
        ..NewEvent::default()
    })
}

fn amount(text: &str, house: &House) -> Result<Money, PlanError> {
    house.currency.parse(text).ok_or_else(|| PlanError::Amount {
        text: text.into(),
        currency: house.currency.letters().into(),
    })
}

fn instant(at: civil::DateTime, zone: &str) -> Result<Timestamp, PlanError> {
    let tz = TimeZone::get(zone).map_err(|_| SpanError::UnknownZone { zone: zone.into() })?;
    let fixed = tz.to_ambiguous_zoned_datetime(at).unambiguous();
    Ok(fixed.map_err(|_| SpanError::Ambiguous { at, zone: zone.into() })?.timestamp())
}

fn place(pools: &[String], pool: &str, of: impl FnOnce() -> String) -> Result<usize, PlanError> {
    pools
        .iter()
        .position(|p| p == pool)
        .ok_or_else(|| PlanError::UnknownPool { place: of(), pool: pool.into() })
}

fn ticket(t: PlannedTicket, pools: &[String], house: &House) -> Result<NewTicketType, PlanError> {
    if !(1..=20).contains(&t.admits) {
        return Err(PlanError::Admits { ticket: t.name, admits: t.admits });
    }
    let when = |at: Option<civil::DateTime>| at.map(|at| instant(at, &house.zone)).transpose();
    let early = match (&t.early_price, when(t.early_until)?) {
        (Some(price), Some(until)) => Some(Early { minor: amount(price, house)?.minor, until }),
        _ => None,
    };
    let mut draws = Vec::new();
    for (pool, seats) in &t.draws {
        draws.push((place(pools, pool, || format!("the ticket {:?}", t.name))?, *seats));
    }
    Ok(NewTicketType {
        minor: amount(&t.price, house)?.minor,
        early,
        sale: SaleWindow { from: when(t.sale_from)?, until: when(t.sale_until)? },
        name: text::line(&t.name),
        note: text::line(&t.note),
        per_date: t.per_date,
        most: t.most.clamp(1, 100),
        admits: t.admits,
        draws,
        ..NewTicketType::default()
    })
}

fn date(d: PlannedDate, pools: &[String], house: &House) -> Result<NewDate, PlanError> {
    for pool in d.seats.keys() {
        place(pools, pool, || format!("the date {}", d.starts))?;
    }
    let capacities = pools
        .iter()
        .map(|pool| {
            let missing = || PlanError::NoCapacity { date: d.starts, pool: pool.clone() };
            d.seats.get(pool).copied().ok_or_else(missing)
        })
        .collect::<Result<_, _>>()?;
    let zone = d.zone.as_deref().unwrap_or(&house.zone);
    Ok(NewDate {
        span: Span::new(d.starts, d.ends, zone)?,
        venue: text::line(&d.venue),
        address: text::line(&d.address),
        directions: text::lines(&d.directions),
        room: text::line(&d.room),
        hosts: d.hosts.split(',').map(text::line).filter(|h| !h.is_empty()).collect(),
        margins: (0, 0),
        capacities,
        sessions: Vec::new(),
        online: None,
    })
}

/// Publishes an event planned in a TOML file.
///
/// # Errors
/// The plan cannot be used, its slug is taken, or the store fails.
pub async fn publish(desk: &Desk, text: &str) -> Result<(EventId, String), DeskError> {
    let plan = read(text, &desk.house().await?)?;
    let (now, slug) = (desk.clock.now(), plan.slug.clone());
    let id = desk.store.write(move |tx| events::insert(tx, &plan, now)).await?;
    Ok((id, slug))
}

#[cfg(test)]
mod tests {
    use super::*;
    use matricle_core::Currency;

    fn house() -> House {
        House {
            name: "Club".into(),
            currency: Currency::EUR,
            zone: "Europe/Dublin".into(),
            email: "office@club.example".into(),
            ..House::default()
        }
    }

    #[test]
    fn the_example_is_a_plan() {
        let plan = read(EXAMPLE, &house()).unwrap();
        assert_eq!(plan.slug, "pollen-under-the-lens");
        assert_eq!(plan.tickets.iter().map(|t| t.minor).collect::<Vec<_>>(), [3600, 4800, 7500]);
        assert_eq!(plan.dates[0].capacities, [40, 20]);
        assert_eq!(plan.questions.len(), 2);
    }

    #[test]
    fn each_mistake_is_named() {
        let broken = |from: &str, to: &str| {
            assert!(EXAMPLE.contains(from), "{from}");
            read(&EXAMPLE.replace(from, to), &house()).unwrap_err().to_string()
        };
        insta::assert_snapshot!(broken("price = \"36.00\"", "price = \"thirty\""), @r#""thirty" is not an amount in EUR; write it like "36.00""#);
        insta::assert_snapshot!(broken("{ seats = 2, microscopes = 1 }", "{ chairs = 2 }"), @r#"the ticket "Pair at one lens" names the pool "chairs", which is not among the pools"#);
        insta::assert_snapshot!(broken("seats = { seats = 40, microscopes = 20 }", "seats = { seats = 40 }"), @r#"the date 2027-12-11T10:00:00 gives no seats for the pool "microscopes""#);
        insta::assert_snapshot!(broken("ends = \"2027-12-11T15:30\"", "ends = \"2027-12-11T09:30\""), @"the end 2027-12-11T09:30:00 is not after the start 2027-12-11T10:00:00");
        assert!(broken("title = ", "titel = ").contains("unknown field `titel`"));
    }
}
