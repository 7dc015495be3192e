//! `/office/money`: the treasurer's room.

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::{StatusCode, Uri};
use axum::response::{IntoResponse, Redirect, Response};
use jiff::Timestamp;
use matricle_core::codes::Reference;
use matricle_core::ledger::Account;
use matricle_core::promo::Gives;
use matricle_core::shares::Share;
use matricle_core::transfer::{creditor_reference, grouped};
use matricle_core::{EventId, HostId};
use matricle_desk::DeskError;
use matricle_desk::bookings::taking;
use matricle_desk::money::{books, cards, promos, refunds};
use matricle_formats::table::Cell;
use matricle_formats::words;
use serde::Deserialize;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form};
use crate::parts::files::list_file;

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
        self.cards.get(*row).copied().unwrap_or_default()
    }

    fn is_tab(&self, tab: &str) -> bool {
        self.tab == tab
    }

    /// The code of a row: its key, and whether it is stopped.
    fn promo(&self, row: &usize) -> (i64, bool) {
        self.promos.get(*row).copied().unwrap_or_default()
    }
}

/// What the address of a tab says.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct Asked {
    #[serde(default)]
    month: String,
    #[serde(default)]
    q: String,
    /// The event whose tickets and dates a new code can be narrowed to.
    #[serde(default)]
    event: String,
}

/// What a code of one event can be narrowed to: keys and words.
struct Only {
    tickets: Vec<(i64, String)>,
    dates: Vec<(i64, String)>,
}

async fn only(at: &Clerk, event: i64, zone: &str) -> Result<Only, WebError> {
    let desk = &at.app.desk;
    let today = words::local(desk.clock.now(), zone).date();
    let parts = promos::parts(desk, &at.staff, EventId(event)).await?;
    let dates =
        parts.dates.iter().map(|d| (d.id.0, words::span(d.span.starts, d.span.ends, today)));
    Ok(Only {
        tickets: parts.tickets.into_iter().map(|(id, name)| (id.0, name)).collect(),
        dates: dates.collect(),
    })
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
    let (desk, staff) = (&at.app.desk, &at.staff);
    let now = desk.clock.now();
    let (tab, title) =
        TABS.into_iter().find(|(t, _)| *t == tab).ok_or(WebError::Desk(DeskError::NotFound))?;
    let house = desk.house().await?;
    let (zone, currency) = (house.zone.clone(), house.currency);
    let moment = |at| words::moment(at, &zone, now);
    let figures = |minor: i64| currency.of(minor).figures();
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
    };
    match tab {
        "" => {
            let all = books::overview(desk, staff).await?;
            let sum: i64 = all.owing.iter().map(|o| o.due).sum();
            page.lead = match all.owing.len() {
                0 => "Nobody owes anything.".into(),
                n => format!(
                    "{} to come from {}.",
                    currency.of(sum),
                    words::count(u32::try_from(n).unwrap_or(u32::MAX), "bookings")
                ),
            };
            page.empty = "Whoever has booked and not paid stands here, longest first.";
            page.table = Table::new(
                &[
                    "Booking",
                    "Booker",
                    "Event",
                    "Due",
                    "Since",
                    "Seats kept until",
                    "Reference on a transfer",
                ],
                &[3],
            );
            for o in all.owing {
                let reference = Reference::parse(&o.reference);
                let shown = reference.map_or_else(|| o.reference.clone(), |r| r.to_string());
                let rf = reference
                    .filter(|_| o.invoiced)
                    .map_or_else(String::new, |r| grouped(&creditor_reference(r)));
                let days = now.duration_since(o.since).as_hours() / 24;
                let since = match days {
                    0 => "today".to_owned(),
                    1 => "1 day".to_owned(),
                    n => format!("{n} days"),
                };
                let until = o.until.map_or_else(|| "confirmed".to_owned(), &moment);
                let exact = o.until.map(|at| (5, Cell::at(at, &zone)));
                page.table.push_exact(
                    href(&o.reference),
                    vec![shown, o.name, o.title, figures(o.due), since, until, rf],
                    std::iter::once((4, Cell::at(o.since, &zone))).chain(exact).collect(),
                );
            }
            page.to_give = all
                .refunds
                .into_iter()
                .filter(|(r, ..)| r.by_hand)
                .map(|(r, reference, name)| ToGive {
                    amount: figures(r.minor),
                    note: format!(
                        "{}; it came by {}",
                        r.reason.trim_end_matches('.'),
                        r.method.word()
                    ),
                    id: r.id,
                    href: href(&reference),
                    name,
                })
                .collect();
            page.balances = Account::ALL
                .into_iter()
                .filter_map(|a| {
                    let minor = all.balances.get(&a).copied().filter(|m| *m != 0)?;
                    Some((a.word(), figures(minor)))
                })
                .collect();
        }
        "movements" | "ledger" => {
            let (from, until, [shown, before, after, this]) = month(&asked.month, &zone, now);
            page.month = Some((shown, before, after, this));
            if tab == "movements" {
                page.empty = "No money came or went in this month.";
                page.table = Table::new(
                    &["When", "Booking", "Booker", "Event", "How", "Amount", "Fee", "Who", "Note"],
                    &[5, 6],
                );
                let (_, all) = books::movements(desk, staff, from, until).await?;
                for m in all {
                    let fee = if m.fee > 0 { figures(m.fee) } else { String::new() };
                    let shown = Reference::parse(&m.reference)
                        .map_or_else(|| m.reference.clone(), |r| r.to_string());
                    page.table.push_exact(
                        href(&m.reference),
                        vec![
                            moment(m.at),
                            shown,
                            m.name,
                            m.title,
                            m.method.word().into(),
                            figures(m.minor),
                            fee,
                            m.who,
                            m.note,
                        ],
                        vec![(0, Cell::at(m.at, &zone))],
                    );
                }
            } else {
                page.empty = "Nothing was booked in this month.";
                page.table = Table::new(
                    &["Entry", "When", "What", "Booking", "Account", "Debit", "Credit", "Who"],
                    &[5, 6],
                );
                let (_, all) = books::ledger_lines(desk, staff, from, until).await?;
                for l in all {
                    let (debit, credit) = if l.minor > 0 {
                        (figures(l.minor), String::new())
                    } else {
                        (String::new(), figures(-l.minor))
                    };
                    let account = match l.account {
                        Account::Tax => format!("tax {}.{:02} %", l.about / 100, l.about % 100),
                        account => account.word().to_owned(),
                    };
                    let shown = Reference::parse(&l.reference)
                        .map_or_else(|| l.reference.clone(), |r| r.to_string());
                    let to =
                        if l.reference.is_empty() { String::new() } else { href(&l.reference) };
                    page.table.push_exact(
                        to,
                        vec![
                            l.entry.to_string(),
                            moment(l.at),
                            l.what,
                            shown,
                            account,
                            debit,
                            credit,
                            l.who,
                        ],
                        vec![(1, Cell::at(l.at, &zone))],
                    );
                }
            }
        }
        "events" => {
            page.empty = "Once something is sold, each event stands here with what came of it.";
            page.table = Table::new(
                &[
                    "Event",
                    "People",
                    "Sold",
                    "Discounts",
                    "Tax",
                    "Fees",
                    "Came",
                    "Given back",
                    "Net",
                ],
                &[1, 2, 3, 4, 5, 6, 7, 8],
            );
            let (_, all) = books::by_event(desk, staff).await?;
            for e in all {
                let cells = vec![
                    e.title.clone(),
                    e.heads.to_string(),
                    figures(e.sold),
                    figures(e.discounts),
                    figures(e.tax),
                    figures(e.fees),
                    figures(e.came),
                    figures(e.refunds),
                    figures(e.net()),
                ];
                page.table.push(format!("/office/events/{}", e.id), cells);
            }
        }
        "provider" => {
            let compared = books::compare(desk, staff).await?;
            page.lead = if !compared.answered {
                "The card provider does not answer. Try again in a while.".into()
            } else if compared.differences.is_empty() {
                format!(
                    "{} compared with the provider’s own list: all the same. {} lies there.",
                    words::count(u32::try_from(compared.count).unwrap_or(u32::MAX), "payments"),
                    currency.of(compared.there)
                )
            } else {
                format!(
                    "{} of {} payments differ from the provider’s own list.",
                    compared.differences.len(),
                    compared.count
                )
            };
            page.empty = "No differences.";
            page.table = Table::new(
                &["Booking", "Payment", "Came, ours", "Came, theirs", "Back, ours", "Back, theirs"],
                &[2, 3, 4, 5],
            );
            for x in compared.differences {
                let theirs = |pick: fn((i64, i64)) -> i64| {
                    x.theirs.map_or_else(|| "unknown".to_owned(), |t| figures(pick(t)))
                };
                let cells = vec![
                    x.reference.clone(),
                    x.payment.clone(),
                    figures(x.ours.0),
                    theirs(|t| t.0),
                    figures(x.ours.1),
                    theirs(|t| t.1),
                ];
                let to = if x.reference.is_empty() { String::new() } else { href(&x.reference) };
                page.table.push(to, cells);
            }
            page.balances = compared
                .payouts
                .iter()
                .map(|(at, amount, fees)| {
                    (
                        "payout",
                        format!(
                            "{}: {} to the bank, {} fees",
                            moment(*at),
                            figures(*amount),
                            figures(*fees)
                        ),
                    )
                })
                .collect();
        }
        "hosts" => {
            let all = books::hosts(desk, staff).await?;
            page.empty = "";
            let said = |s: Share| match s {
                Share::Percent(p) => format!("{p} % of what is earned"),
                Share::PerHead(m) => format!("{} a head", currency.of(m)),
                Share::Fixed(m) => format!("{} in all", currency.of(m)),
                Share::AfterCosts { percent, costs } => {
                    format!("{percent} % after {} of costs", currency.of(costs))
                }
            };
            page.statements = all
                .statements
                .into_iter()
                .map(|s| {
                    let rows = s
                        .shares
                        .iter()
                        .map(|(share, minor)| {
                            (format!("{}: {}", share.title, said(share.share)), figures(*minor))
                        })
                        .collect();
                    HostRow { id: s.host.0, name: s.name, owed: figures(s.owed), shares: rows }
                })
                .collect();
            page.hosts = all.hosts;
            page.events = all.events;
        }
        "cards" => {
            let all = cards::all(desk, staff).await?;
            page.empty = "No card yet. A card is stamps paid for beforehand; what is not used is a debt of the house.";
            page.table = Table::new(
                &["Card", "Kind", "Holder", "Address", "Stamps left", "Worth", "Good until"],
                &[4, 5],
            );
            for c in all.cards {
                let until = c.card.expires_at.map_or_else(|| "for ever".to_owned(), &moment);
                page.cards.push(c.id);
                let exact = c.card.expires_at.map(|at| (6, Cell::at(at, &zone)));
                page.table.push_exact(
                    String::new(),
                    vec![
                        grouped(&c.code),
                        c.kind,
                        c.name,
                        c.email,
                        c.card.left.to_string(),
                        figures(c.card.value),
                        until,
                    ],
                    exact.into_iter().collect(),
                );
            }
            page.kinds = all
                .kinds
                .into_iter()
                .map(|k| {
                    let life =
                        k.life_days.map_or_else(String::new, |d| format!(", good for {d} days"));
                    (
                        k.id,
                        format!(
                            "{}, {} for {}{life}",
                            k.name,
                            words::count(k.stamps, "stamps"),
                            currency.of(k.price)
                        ),
                        k.retired,
                    )
                })
                .collect();
        }
        _ => {
            let all = promos::all(desk, staff).await?;
            page.empty = "No code yet. A code takes a percentage or an amount off, for whom and as often as you say.";
            page.table = Table::new(
                &["Code", "Takes off", "For", "Used", "Taken off so far", "Good"],
                &[3, 4],
            );
            for (row, parts) in all {
                let p = &row.promo;
                let gives = match p.gives {
                    Gives::Percent(percent) => format!("{percent} %"),
                    Gives::Amount(minor) => currency.of(minor).to_string(),
                };
                let mut bounds: Vec<String> = Vec::new();
                bounds.extend(row.event.as_ref().map(|(_, title)| title.clone()));
                bounds.extend(parts.tickets.into_iter().map(|(_, name)| name));
                let today = words::local(now, &zone).date();
                bounds.extend(parts.dates.iter().map(|d| words::day(d.span.starts.date(), today)));
                if !p.address.is_empty() {
                    bounds.push(p.address.clone());
                }
                if p.once {
                    bounds.push("once a person".into());
                }
                if let Some(least) = p.least_minor {
                    bounds.push(format!("from {}", currency.of(least)));
                }
                if let Some(most) = p.most_minor {
                    bounds.push(format!("up to {}", currency.of(most)));
                }
                if p.together {
                    bounds.push("beside others".into());
                }
                let used = p
                    .most
                    .map_or_else(|| row.used.to_string(), |most| format!("{} of {most}", row.used));
                let good = match (p.stopped, p.from, p.until) {
                    (true, ..) => "stopped".to_owned(),
                    (_, Some(from), Some(until)) => format!("{} – {}", moment(from), moment(until)),
                    (_, Some(from), None) => format!("from {}", moment(from)),
                    (_, None, Some(until)) => format!("until {}", moment(until)),
                    _ => "always".to_owned(),
                };
                page.promos.push((p.id, p.stopped));
                page.table.push(
                    String::new(),
                    vec![
                        p.code.clone(),
                        gives,
                        bounds.join(", "),
                        used,
                        figures(row.taken_off),
                        good,
                    ],
                );
            }
            page.events = books_events(at).await?;
            if let Ok(event) = asked.event.parse() {
                page.only = Some(only(at, event, &zone).await?);
                page.d.set("event", event.to_string());
            }
        }
    }
    narrow(&mut page.table, &asked.q);
    Ok(page)
}

async fn books_events(at: &Clerk) -> Result<Vec<(i64, String)>, WebError> {
    let (_, rows) = matricle_desk::office::events(&at.app.desk, &at.staff).await?;
    Ok(rows.into_iter().map(|r| (r.event.id.0, r.event.title)).collect())
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
    html(&room(&at, "", &asked).await?)
}

/// `GET /office/money/{tab}`, as a page, or as a file when it ends in `.csv` or `.xlsx`.
pub(crate) async fn tab(
    at: Clerk,
    Path(tab): Path<String>,
    uri: Uri,
    Query(asked): Query<Asked>,
) -> Result<Response, WebError> {
    let Some((name, _)) = tab.split_once('.') else {
        return html(&room(&at, &tab, &asked).await?);
    };
    let page = room(&at, if name == "owed" { "" } else { name }, &asked).await?;
    let (head, cells) = page.table.in_file(&page.currency);
    let what = format!("{} of the money, {} rows", page.title, cells.len());
    matricle_desk::house::audit::taken_away(&at.app.desk, &at.staff, what).await?;
    list_file(uri.path(), page.title, &head, &cells)
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
        Ok(()) => Ok(Redirect::to(&there).into_response()),
        Err(error) => {
            at.app.guards.not_done(&act, &posted);
            let d = Fields::again(&posted, error)?;
            let event = if tab == "promos" { posted.get("event") } else { "" };
            let asked = Asked { event: event.to_owned(), ..Asked::default() };
            let mut page = room(&at, tab, &asked).await?;
            page.d = d;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
    }
}
