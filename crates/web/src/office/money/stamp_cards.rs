//! Stamp cards.

use askama::Template;
use matricle_core::money::transfer::grouped;
use matricle_desk::money::cards;
use matricle_formats::table::Cell;
use matricle_formats::words;
use matricle_store::cards::HeldCard;

use super::{Room, View, text};
use crate::error::WebError;
use crate::parts::list::{Column, Shown};

/// Takes stamps off a card.
#[derive(Template)]
#[template(path = "office/take_stamps.html")]
struct TakeStamps<'a> {
    token: &'a str,
    once: &'a str,
    card: i64,
}

/// Fills the tab.
pub(super) async fn fill(page: &mut Room, v: &View<'_>) -> Result<(), WebError> {
    let all = cards::all(v.desk(), v.staff()).await?;
    page.empty = "No card yet. A card is stamps paid for beforehand; what is not used is a debt of the house.";
    let (token, once) = (page.f.token.clone(), page.f.once.clone());
    let until =
        |c: &HeldCard| c.card.expires_at.map_or_else(|| "for ever".to_owned(), |at| v.moment(at));
    let columns = vec![
        Column::new("card", "Card", |c: &HeldCard| grouped(&c.code))
            .shown(|c| Shown::from(grouped(&c.code)).class("nobr")),
        text("kind", "Kind", |c: &HeldCard| &c.kind),
        text("holder", "Holder", |c: &HeldCard| &c.name),
        text("address", "Address", |c: &HeldCard| &c.email),
        Column::new("left", "Stamps left", |c: &HeldCard| c.card.left).number().falling(),
        v.amounts("worth", "Worth", |c: &HeldCard| Some(c.card.value)),
        Column::new("until", "Good until", |c: &HeldCard| match c.card.expires_at {
            Some(at) => Cell::at(at, v.zone),
            None => "for ever".into(),
        })
        .shown(until)
        .named()
        .rising(),
        Column::screen("act", "Act", move |c: &HeldCard| {
            let form = TakeStamps { token: &token, once: &once, card: c.id };
            Shown::drawn(form.render().unwrap_or_default())
        }),
    ];
    page.put(v, columns, all.cards);
    page.kinds = all
        .kinds
        .into_iter()
        .map(|k| {
            let life = k.life_days.map_or_else(String::new, |d| format!(", good for {d} days"));
            (
                k.id,
                format!(
                    "{}, {} for {}{life}",
                    k.name,
                    words::count(k.stamps, "stamps"),
                    v.currency.of(k.price)
                ),
                k.retired,
            )
        })
        .collect();
    Ok(())
}
