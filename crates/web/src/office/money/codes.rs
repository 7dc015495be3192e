//! Promo codes.

use askama::Template;
use matricle_core::EventId;
use matricle_core::money::promo::{Gives, Promo};
use matricle_desk::money::promos::{self, Parts};
use matricle_formats::words;
use matricle_store::promos::PromoRow;

use super::{Only, Room, View};
use crate::error::WebError;
use crate::parts::list::{Column, Shown};

/// A code, and the parts of an event that it is for.
type Code = (PromoRow, Parts);

/// Stops a code, or lets it be used again.
#[derive(Template)]
#[template(path = "office/stop_code.html")]
struct Stop<'a> {
    token: &'a str,
    once: &'a str,
    promo: i64,
    stopped: bool,
}

/// What a code is for, and how far.
fn bounds(v: &View<'_>, (row, parts): &Code) -> Vec<String> {
    let p = &row.promo;
    let today = words::local(v.now, v.zone).date();
    let mut bounds: Vec<String> = Vec::new();
    bounds.extend(row.event.as_ref().map(|(_, title)| title.clone()));
    bounds.extend(parts.tickets.iter().map(|(_, name)| name.clone()));
    bounds.extend(parts.dates.iter().map(|d| words::day(d.span.starts.date(), today)));
    bounds.extend(Some(p.address.clone()).filter(|address| !address.is_empty()));
    bounds.extend(p.once.then(|| "once a person".to_owned()));
    bounds.extend(p.least_minor.map(|least| format!("from {}", v.currency.of(least))));
    bounds.extend(p.most_minor.map(|most| format!("up to {}", v.currency.of(most))));
    bounds.extend(p.together.then(|| "beside others".to_owned()));
    bounds
}

/// When a code can be used.
fn good(v: &View<'_>, p: &Promo) -> String {
    match (p.stopped, p.from, p.until) {
        (true, ..) => "stopped".to_owned(),
        (_, Some(from), Some(until)) => format!("{} – {}", v.moment(from), v.moment(until)),
        (_, Some(from), None) => format!("from {}", v.moment(from)),
        (_, None, Some(until)) => format!("until {}", v.moment(until)),
        _ => "always".to_owned(),
    }
}

/// Fills the tab.
pub(super) async fn fill(page: &mut Room, v: &View<'_>) -> Result<(), WebError> {
    let all = promos::all(v.desk(), v.staff()).await?;
    page.empty = "No code yet. A code takes a percentage or an amount off, for whom and as often as you say.";
    let (token, once) = (page.f.token.clone(), page.f.once.clone());
    let columns = vec![
        Column::new("code", "Code", |(row, _): &Code| row.promo.code.clone()).rising(),
        Column::new("gives", "Takes off", |(row, _): &Code| match row.promo.gives {
            Gives::Percent(percent) => format!("{percent} %"),
            Gives::Amount(minor) => v.currency.of(minor).to_string(),
        }),
        Column::new("for", "For", |code: &Code| bounds(v, code).join(", ")),
        Column::new("used", "Used", |(row, _): &Code| match row.promo.most {
            None => row.used.to_string(),
            Some(most) => format!("{} of {most}", row.used),
        })
        .number(),
        v.amounts("off", "Taken off so far", |(row, _): &Code| Some(row.taken_off)),
        Column::new("good", "Good", |(row, _): &Code| good(v, &row.promo)).named(),
        Column::screen("act", "Act", move |(row, _): &Code| {
            let (promo, stopped) = (row.promo.id, row.promo.stopped);
            let form = Stop { token: &token, once: &once, promo, stopped };
            Shown::drawn(form.render().unwrap_or_default())
        }),
    ];
    page.put(v, columns, all);
    page.events = events_to_choose(v).await?;
    if let Ok(event) = v.asked.event.parse() {
        page.only = Some(only(v, event).await?);
        page.d.set("event", event.to_string());
    }
    Ok(())
}

async fn only(v: &View<'_>, event: i64) -> Result<Only, WebError> {
    let today = words::local(v.now, v.zone).date();
    let parts = promos::parts(v.desk(), v.staff(), EventId(event)).await?;
    let dates =
        parts.dates.iter().map(|d| (d.id.0, words::span(d.span.starts, d.span.ends, today)));
    Ok(Only {
        tickets: parts.tickets.into_iter().map(|(id, name)| (id.0, name)).collect(),
        dates: dates.collect(),
    })
}

async fn events_to_choose(v: &View<'_>) -> Result<Vec<(i64, String)>, WebError> {
    let (_, rows) = matricle_desk::office::events(v.desk(), v.staff()).await?;
    Ok(rows.into_iter().map(|r| (r.event.id.0, r.event.title)).collect())
}
