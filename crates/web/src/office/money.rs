//! `/office/money`: the treasurer's room.

mod by_event;
mod codes;
mod hosts;
mod ledger;
mod movements;
mod owed;
mod provider;
mod stamp_cards;

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::{StatusCode, Uri};
use axum::response::{IntoResponse, Redirect, Response};
use jiff::Timestamp;
use matricle_core::{Currency, EventId, HostId};
use matricle_desk::bookings::taking;
use matricle_desk::money::{books, cards, promos, refunds};
use matricle_desk::{Desk, DeskError};
use matricle_formats::table::Cell;
use matricle_formats::words;
use matricle_store::people::Staff;
use serde::Deserialize;

use crate::address::encode;
use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form};
use crate::parts::files::list_file;
use crate::parts::pager::{self, Pager};

/// A table that is shown as it comes out in a file.
#[derive(Default)]
struct Table {
    head: Vec<&'static str>,
    /// Columns of amounts, from the left.
    amounts: Vec<usize>,
    rows: Vec<Row>,
}

struct Row {
    href: String,
    cells: Vec<String>,
    /// What a file has instead in some columns: a time that is not told from today.
    exact: Vec<(usize, Cell)>,
}

impl Table {
    fn new(head: &[&'static str], amounts: &[usize]) -> Self {
        Self { head: head.to_vec(), amounts: amounts.to_vec(), rows: Vec::new() }
    }

    fn push(&mut self, href: String, cells: Vec<String>) {
        self.push_exact(href, cells, Vec::new());
    }

    fn push_exact(&mut self, href: String, cells: Vec<String>, exact: Vec<(usize, Cell)>) {
        self.rows.push(Row { href, cells, exact });
    }

    fn is_amount(&self, column: &usize) -> bool {
        self.amounts.contains(column)
    }

    /// The heading and the rows of a file: amounts and times are what they are, so that they
    /// can be added up and sorted, and the currency stands in a column.
    fn in_file(&self, currency: &str) -> (Vec<&'static str>, Vec<Vec<Cell>>) {
        let mut head = self.head.clone();
        head.push("Currency");
        let row = |row: &Row| {
            let cell = |(column, text): (usize, &String)| match row
                .exact
                .iter()
                .find(|(c, _)| *c == column)
            {
                Some((_, cell)) => cell.clone(),
                None if self.amounts.contains(&column) => Cell::amount(text),
                None => Cell::from(text.clone()),
            };
            row.cells.iter().enumerate().map(cell).chain([Cell::from(currency)]).collect()
        };
        (head, self.rows.iter().map(row).collect())
    }
}

/// Money that somebody gives back by hand.
struct ToGive {
    id: String,
    amount: String,
    name: String,
    href: String,
    note: String,
}

/// What a host is owed: their shares, each with what it comes to.
struct HostRow {
    id: i64,
    name: String,
    /// What was paid out so far, if anything was.
    paid: Option<String>,
    owed: String,
    shares: Vec<(String, String)>,
}

#[derive(Template)]
#[template(path = "office/money.html")]
struct Room {
    f: Frame,
    tab: &'static str,
    title: &'static str,
    lead: String,
    table: Table,
    empty: &'static str,
    /// The month shown, the one before and the one after, for what goes by month.
    month: Option<(String, String, String, String)>,
    to_give: Vec<ToGive>,
    /// How many there are to give, where not all stand here.
    giving: String,
    balances: Vec<(&'static str, String)>,
    statements: Vec<HostRow>,
    hosts: Vec<(i64, String)>,
    events: Vec<(i64, String)>,
    promos: Vec<(i64, bool)>,
    /// The event that a new code is for, its tickets and its dates.
    only: Option<Only>,
    /// Kinds of stamp cards: key, words, retired.
    kinds: Vec<(i64, String, bool)>,
    /// Stamp cards of the rows, by key.
    cards: Vec<i64>,
    d: Fields,
    q: String,
    currency: String,
    pager: Pager,
}

const TABS: [(&str, &str); 8] = [
    ("", "Owed"),
    ("movements", "Came and went"),
    ("events", "By event"),
    ("ledger", "Ledger"),
    ("provider", "Card provider"),
    ("hosts", "Hosts"),
    ("promos", "Promo codes"),
    ("cards", "Stamp cards"),
];

impl Room {
    fn tabs(&self) -> [(&'static str, &'static str); 8] {
        TABS
    }

    /// The stamp card of a row, by key.
    fn card(&self, row: &usize) -> i64 {
        self.cards.get(self.pager.first + *row).copied().unwrap_or_default()
    }

    fn is_tab(&self, tab: &str) -> bool {
        self.tab == tab
    }

    /// The code of a row: its key, and whether it is stopped.
    fn promo(&self, row: &usize) -> (i64, bool) {
        self.promos.get(self.pager.first + *row).copied().unwrap_or_default()
    }
}

/// What the address of a tab says.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct Asked {
    #[serde(default)]
    month: String,
    #[serde(default)]
    q: String,
    #[serde(default)]
    page: usize,
    /// The event whose tickets and dates a new code can be narrowed to.
    #[serde(default)]
    event: String,
}

/// What a code of one event can be narrowed to: keys and words.
struct Only {
    tickets: Vec<(i64, String)>,
    dates: Vec<(i64, String)>,
}

/// What a tab is filled from.
struct View<'a> {
    at: &'a Clerk,
    zone: &'a str,
    currency: Currency,
    now: Timestamp,
    asked: &'a Asked,
}

impl View<'_> {
    fn desk(&self) -> &Desk {
        &self.at.app.desk
    }

    fn staff(&self) -> &Staff {
        &self.at.staff
    }

    fn moment(&self, at: Timestamp) -> String {
        words::moment(at, self.zone, self.now)
    }

    fn figures(&self, minor: i64) -> String {
        self.currency.of(minor).column()
    }
}

fn href(reference: &str) -> String {
    format!("/office/bookings/{}", reference.replace('-', ""))
}

/// The month asked for, or this one: its first instant, the first of the next, and words.
fn month(asked: &str, zone: &str, now: Timestamp) -> (Timestamp, Timestamp, [String; 4]) {
    let today = words::local(now, zone).date();
    let first = format!("{asked}-01").parse().unwrap_or(today).first_of_month();
    let tz = words::zone(zone);
    let at =
        |day: jiff::civil::Date| day.to_zoned_datetime(tz.clone()).map_or(now, |z| z.timestamp());
    let next = first.last_of_month().tomorrow().unwrap_or(first);
    let before = first.yesterday().unwrap_or(first).first_of_month();
    let name = |d: jiff::civil::Date| d.strftime("%Y-%m").to_string();
    (at(first), at(next), [words::month_of(first), name(before), name(next), name(first)])
}

async fn room(at: &Clerk, tab: &str, asked: &Asked) -> Result<Room, WebError> {
    let desk = &at.app.desk;
    let now = desk.clock.now();
    let (tab, title) =
        TABS.into_iter().find(|(t, _)| *t == tab).ok_or(WebError::Desk(DeskError::NotFound))?;
    let house = desk.house().await?;
    let currency = house.currency;
    let mut page = Room {
        f: at.frame(title, &house.name).in_room("money"),
        tab,
        title,
        currency: currency.letters().to_owned(),
        lead: String::new(),
        table: Table::default(),
        empty: "",
        month: None,
        to_give: Vec::new(),
        giving: String::new(),
        balances: Vec::new(),
        statements: Vec::new(),
        hosts: Vec::new(),
        events: Vec::new(),
        promos: Vec::new(),
        only: None,
        kinds: Vec::new(),
        cards: Vec::new(),
        d: Fields::default(),
        q: asked.q.clone(),
        pager: Pager::default(),
    };
    let v = View { at, zone: &house.zone, currency: house.currency, now, asked };
    match tab {
        "" => owed::fill(&mut page, &v).await?,
        "movements" => movements::fill(&mut page, &v).await?,
        "ledger" => ledger::fill(&mut page, &v).await?,
        "events" => by_event::fill(&mut page, &v).await?,
        "provider" => provider::fill(&mut page, &v).await?,
        "hosts" => hosts::fill(&mut page, &v).await?,
        "cards" => stamp_cards::fill(&mut page, &v).await?,
        _ => codes::fill(&mut page, &v).await?,
    }
    narrow(&mut page.table, &asked.q);
    Ok(page)
}

/// A tab as a page shows it: a part of its rows, which says so. A file has them all.
async fn page(at: &Clerk, tab: &str, asked: &Asked) -> Result<Room, WebError> {
    let mut page = room(at, tab, asked).await?;
    let (q, month) = (encode(&asked.q), encode(&asked.month));
    let place = if tab.is_empty() { String::new() } else { format!("/{tab}") };
    let address = format!("/office/money{place}?q={q}&month={month}&");
    page.pager = Pager::of(page.table.rows.len(), asked.page, pager::ROWS, &address);
    page.pager.cut(&mut page.table.rows);
    Ok(page)
}

/// Keeps the rows that have all the words typed.
fn narrow(table: &mut Table, q: &str) {
    let typed = matricle_core::words::fold(q);
    table.rows.retain(|row| {
        let text = matricle_core::words::fold(&row.cells.join(" "));
        typed.split(' ').all(|word| text.contains(word))
    });
}

/// `GET /office/money` and its tabs.
pub(crate) async fn show(at: Clerk, Query(asked): Query<Asked>) -> Result<Response, WebError> {
    html(&page(&at, "", &asked).await?)
}

/// `GET /office/money/{tab}`, as a page, or as a file when it ends in `.csv` or `.xlsx`.
pub(crate) async fn tab(
    at: Clerk,
    Path(tab): Path<String>,
    uri: Uri,
    Query(asked): Query<Asked>,
) -> Result<Response, WebError> {
    let Some((name, _)) = tab.split_once('.') else {
        return html(&page(&at, &tab, &asked).await?);
    };
    let page = room(&at, if name == "owed" { "" } else { name }, &asked).await?;
    let (head, cells) = page.table.in_file(&page.currency);
    let what = format!("{} of the money, {} rows", page.title, cells.len());
    matricle_desk::house::audit::taken_away(&at.app.desk, &at.staff, what).await?;
    list_file(uri.path(), page.title, &head, &cells)
}

/// What an act of this room did.
fn said(act: &str, posted: &Posted) -> &'static str {
    match act {
        "given" => "Noted as given back.",
        "transfer" => "The transfer is booked.",
        "share" => "The share is kept.",
        "pay-host" => "Paid out to the host; the ledger has it.",
        "promo" => "The code can be used.",
        "stop" if posted.get("stopped") == "yes" => {
            "The code is stopped; what was booked with it stays."
        }
        "stop" => "The code can be used again.",
        "card-kind" => "The kind of card is kept.",
        "retire-kind" if posted.get("retired") == "yes" => {
            "It is not sold any more; cards that are out stay good."
        }
        "retire-kind" => "It is sold again.",
        "sell-card" => "The card is sold.",
        "take-stamps" => "The stamps are taken.",
        _ => "The card provider was asked for its payouts.",
    }
}

/// `POST /office/money/{act}`.
pub(crate) async fn act(
    at: Clerk,
    Path(act): Path<String>,
    posted: Posted,
) -> Result<Response, WebError> {
    let (desk, staff) = (&at.app.desk, &at.staff);
    let event = || posted.get("event").parse().ok().map(EventId);
    let number = |name: &str| posted.get(name).parse::<i64>().unwrap_or(0);
    let tab = match act.as_str() {
        "given" | "transfer" => "",
        "share" | "pay-host" => "hosts",
        "promo" | "stop" => "promos",
        "card-kind" | "retire-kind" | "sell-card" | "take-stamps" => "cards",
        "payouts" => "provider",
        _ => return Err(DeskError::NotFound.into()),
    };
    let there = format!("/office/money{}{tab}", if tab.is_empty() { "" } else { "/" });
    // Sent a second time, it is done already: the tab shows what it did.
    if !at.app.guards.is_first(&act, &posted) {
        return Ok(Redirect::to(&there).into_response());
    }
    let outcome = match act.as_str() {
        "given" => refunds::given(desk, staff, posted.get("refund").to_owned()).await,
        "transfer" => taking::take_transfer(desk, staff, form(&posted)).await.map(drop),
        "share" => books::set_share(desk, staff, form(&posted)).await,
        "pay-host" => books::pay_host(desk, staff, HostId(number("host"))).await.map(drop),
        "promo" => promos::make(desk, staff, event(), form(&posted)).await,
        "stop" => promos::stop(desk, staff, number("promo"), posted.get("stopped") == "yes").await,
        "card-kind" => cards::make_kind(desk, staff, form(&posted)).await,
        "retire-kind" => {
            cards::retire_kind(desk, staff, number("kind"), posted.get("retired") == "yes").await
        }
        "sell-card" => cards::sell(desk, staff, form(&posted)).await.map(drop),
        "take-stamps" => cards::take(desk, staff, number("card"), form(&posted)).await,
        _ => books::ask_payouts(desk, staff).await,
    };
    match outcome {
        Ok(()) => Ok(at.done(&there, said(&act, &posted))),
        Err(error) => {
            at.app.guards.not_done(&act, &posted);
            let d = Fields::again(&posted, error)?;
            let event = if tab == "promos" { posted.get("event") } else { "" };
            let asked = Asked { event: event.to_owned(), ..Asked::default() };
            let mut page = page(&at, tab, &asked).await?;
            page.d = d;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
    }
}
