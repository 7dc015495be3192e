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
use matricle_core::words::codes::Reference;
use matricle_core::{Currency, EventId, HostId};
use matricle_desk::bookings::taking;
use matricle_desk::money::{books, cards, promos, refunds};
use matricle_desk::{Desk, DeskError};
use matricle_formats::table::Cell;
use matricle_formats::words;
use matricle_store::people::Staff;
use serde::Deserialize;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form};
use crate::parts::list::{self, Ask, Column, Columns, InFile, Shown};

/// Rows of a page: each tab has forms beside them.
const ROWS: usize = 20;

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
    list: list::View,
    /// The list as a file has it.
    sheet: InFile,
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
    /// The event that a new code is for, its tickets and its dates.
    only: Option<Only>,
    /// Kinds of stamp cards: key, words, retired.
    kinds: Vec<(i64, String, bool)>,
    d: Fields,
    q: String,
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

    fn is_tab(&self, tab: &str) -> bool {
        self.tab == tab
    }

    /// What the address of a file of this tab ends in.
    fn file(&self) -> &'static str {
        if self.tab.is_empty() { "owed" } else { self.tab }
    }

    /// Takes the rows of the list: a page of them that says so, or all for a file.
    fn put<R>(&mut self, v: &View<'_>, mut columns: Columns<'_, R>, mut rows: Vec<R>) {
        let currency = v.currency;
        columns.push(
            Column::new("currency", "Currency", move |_: &R| Cell::from(currency.letters()))
                .in_files(),
        );
        if v.in_file {
            v.ask.narrow(&columns, &mut rows);
            self.sheet = InFile::of(&columns, &rows);
            return;
        }
        let place = if self.tab.is_empty() { "" } else { "/" };
        let month = self.month.as_ref().map_or_else(String::new, |m| format!("month={}&", m.3));
        let here = format!("/office/money{place}{}?{month}", self.tab);
        self.list = v.ask.page(&columns, &mut rows, &here, ROWS);
    }
}

/// What the address of a tab says.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct MoneyQuery {
    #[serde(default)]
    month: String,
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
    asked: &'a MoneyQuery,
    ask: &'a Ask,
    /// It is for a file, not for a page.
    in_file: bool,
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

    /// A column of amounts, in minor units; what is not there leaves its cell empty.
    fn amounts<'c, R>(
        &self,
        key: &'static str,
        head: &str,
        minor: impl Fn(&R) -> Option<i64> + Send + Sync + Copy + 'c,
    ) -> Column<'c, R> {
        let currency = self.currency;
        Column::new(key, head, move |r: &R| {
            minor(r).map(|minor| Cell::amount(&currency.of(minor).figures()))
        })
        .shown(move |r| minor(r).map_or_else(String::new, |m| currency.of(m).column()))
        .number()
        .falling()
    }
}

/// A booking that a row is of.
fn booking<'c, R>(of: impl Fn(&R) -> &str + Send + Sync + Copy + 'c) -> Column<'c, R> {
    let said = |r: &str| Reference::parse(r).map_or_else(|| r.to_owned(), |r| r.to_string());
    Column::new("booking", "Booking", move |r: &R| said(of(r)))
        .shown(move |r| {
            let to = if of(r).is_empty() { String::new() } else { href(of(r)) };
            Shown::from(said(of(r))).to(to).class("ref")
        })
        .rising()
}

/// Words of a row, that the list can be ordered by.
fn text<'c, R>(
    key: &'static str,
    head: &str,
    of: impl Fn(&R) -> &str + Send + Sync + 'c,
) -> Column<'c, R> {
    Column::new(key, head, move |r: &R| of(r).to_owned()).rising()
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

async fn room(
    at: &Clerk,
    tab: &str,
    (asked, ask): (&MoneyQuery, &Ask),
    in_file: bool,
) -> Result<Room, WebError> {
    let desk = &at.app.desk;
    let now = desk.clock.now();
    let (tab, title) =
        TABS.into_iter().find(|(t, _)| *t == tab).ok_or(WebError::Desk(DeskError::NotFound))?;
    let house = desk.house().await?;
    let mut page = Room {
        f: at.frame(title, &house.name).in_room("money"),
        tab,
        title,
        lead: String::new(),
        list: list::View::default(),
        sheet: InFile::default(),
        empty: "",
        month: None,
        to_give: Vec::new(),
        giving: String::new(),
        balances: Vec::new(),
        statements: Vec::new(),
        hosts: Vec::new(),
        events: Vec::new(),
        only: None,
        kinds: Vec::new(),
        d: Fields::default(),
        q: ask.q.clone(),
    };
    let v = View { at, zone: &house.zone, currency: house.currency, now, asked, ask, in_file };
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
    Ok(page)
}

/// `GET /office/money` and its tabs.
pub(crate) async fn show(
    at: Clerk,
    Query(asked): Query<MoneyQuery>,
    ask: Ask,
) -> Result<Response, WebError> {
    html(&room(&at, "", (&asked, &ask), false).await?)
}

/// `GET /office/money/{tab}`, as a page, or as a file when it ends in `.csv` or `.xlsx`.
pub(crate) async fn tab(
    at: Clerk,
    Path(tab): Path<String>,
    uri: Uri,
    Query(asked): Query<MoneyQuery>,
    ask: Ask,
) -> Result<Response, WebError> {
    let Some((name, _)) = tab.split_once('.') else {
        return html(&room(&at, &tab, (&asked, &ask), false).await?);
    };
    let tab = if name == "owed" { "" } else { name };
    let page = room(&at, tab, (&asked, &ask), true).await?;
    let what = format!("{} of the money", page.title);
    page.sheet.hand_out((&at.app.desk, &at.staff), &uri, (page.title, &what)).await
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
            let asked = MoneyQuery { event: event.to_owned(), ..MoneyQuery::default() };
            let mut page = room(&at, tab, (&asked, &Ask::default()), false).await?;
            page.d = d;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
    }
}
