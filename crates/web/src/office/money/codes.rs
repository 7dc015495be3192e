//! Promo codes.

use matricle_core::EventId;
use matricle_core::money::promo::Gives;
use matricle_desk::money::promos;
use matricle_formats::words;

use super::{Only, Room, Table, View};
use crate::error::WebError;

/// Fills the tab.
pub(super) async fn fill(page: &mut Room, v: &View<'_>) -> Result<(), WebError> {
    let all = promos::all(v.desk(), v.staff()).await?;
    page.empty = "No code yet. A code takes a percentage or an amount off, for whom and as often as you say.";
    page.table =
        Table::new(&["Code", "Takes off", "For", "Used", "Taken off so far", "Good"], &[3, 4]);
    for (row, parts) in all {
        let p = &row.promo;
        let gives = match p.gives {
            Gives::Percent(percent) => format!("{percent} %"),
            Gives::Amount(minor) => v.currency.of(minor).to_string(),
        };
        let mut bounds: Vec<String> = Vec::new();
        bounds.extend(row.event.as_ref().map(|(_, title)| title.clone()));
        bounds.extend(parts.tickets.into_iter().map(|(_, name)| name));
        let today = words::local(v.now, v.zone).date();
        bounds.extend(parts.dates.iter().map(|d| words::day(d.span.starts.date(), today)));
        if !p.address.is_empty() {
            bounds.push(p.address.clone());
        }
        if p.once {
            bounds.push("once a person".into());
        }
        if let Some(least) = p.least_minor {
            bounds.push(format!("from {}", v.currency.of(least)));
        }
        if let Some(most) = p.most_minor {
            bounds.push(format!("up to {}", v.currency.of(most)));
        }
        if p.together {
            bounds.push("beside others".into());
        }
        let used =
            p.most.map_or_else(|| row.used.to_string(), |most| format!("{} of {most}", row.used));
        let good = match (p.stopped, p.from, p.until) {
            (true, ..) => "stopped".to_owned(),
            (_, Some(from), Some(until)) => format!("{} – {}", v.moment(from), v.moment(until)),
            (_, Some(from), None) => format!("from {}", v.moment(from)),
            (_, None, Some(until)) => format!("until {}", v.moment(until)),
            _ => "always".to_owned(),
        };
        page.promos.push((p.id, p.stopped));
        page.table.push(
            String::new(),
            vec![p.code.clone(), gives, bounds.join(", "), used, v.figures(row.taken_off), good],
        );
    }
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
