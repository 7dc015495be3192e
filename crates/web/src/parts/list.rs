//! A list of the Office, declared once: its columns, each with its key, its heading, its cell, how
//! the list is ordered by it and where it stands on the screen. The table of the screen and of a
//! telephone, the files, the order and the search come of it.

use std::cmp::Ordering;

use askama::Template;
use axum::extract::FromRequestParts;
use axum::http::Uri;
use axum::http::request::Parts;
use axum::response::Response;
use matricle_core::words::{fold, looked_for};
use matricle_desk::Desk;
use matricle_formats::table::Cell;
use matricle_store::people::Staff;

use crate::address::encode;
use crate::error::WebError;
use crate::parts::files::list_file;
use crate::parts::pager::Pager;

/// What a column says of a row.
type Of<'a, R, T> = Box<dyn Fn(&R) -> T + Send + Sync + 'a>;

/// A column of a list of rows `R`.
pub(crate) struct Column<'a, R> {
    key: &'static str,
    head: String,
    number: bool,
    named: bool,
    in_file: bool,
    on_screen: bool,
    order: Option<By>,
    spot: Spot,
    cell: Of<'a, R, Cell>,
    shown: Option<Of<'a, R, Shown>>,
}

/// How a list is ordered by a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum By {
    /// The least first.
    Rising,
    /// The most first.
    Falling,
    /// The store does it, and can do it the other way round.
    Store { turns: bool },
}

/// Where a column stands in an entry: a row without headings, that leads to what it is of.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) enum Spot {
    /// What it is.
    #[default]
    Name,
    /// Beside that.
    Beside,
    /// Below it, after what is there already.
    Below,
    /// In a line of its own below.
    Line,
    /// At the right.
    State,
    /// Below that.
    Minute,
}

impl<'a, R> Column<'a, R> {
    /// A column by its key in addresses, its heading, and what stands in it.
    pub(crate) fn new<C: Into<Cell>>(
        key: &'static str,
        head: impl Into<String>,
        cell: impl Fn(&R) -> C + Send + Sync + 'a,
    ) -> Self {
        Self {
            key,
            head: head.into(),
            number: false,
            named: false,
            in_file: true,
            on_screen: true,
            order: None,
            spot: Spot::default(),
            cell: Box::new(move |row| cell(row).into()),
            shown: None,
        }
    }

    /// A column of the screen alone.
    pub(crate) fn screen<S: Into<Shown>>(
        key: &'static str,
        head: impl Into<String>,
        shown: impl Fn(&R) -> S + Send + Sync + 'a,
    ) -> Self {
        let mut column = Self::new(key, head, |_| "").shown(shown);
        column.in_file = false;
        column
    }

    /// How it stands on the screen, where that is not the text of the cell.
    pub(crate) fn shown<S: Into<Shown>>(
        mut self,
        shown: impl Fn(&R) -> S + Send + Sync + 'a,
    ) -> Self {
        self.shown = Some(Box::new(move |row| shown(row).into()));
        self
    }

    /// A number: it stands at the right, and on a telephone after its heading.
    pub(crate) fn number(self) -> Self {
        Self { number: true, ..self.named() }
    }

    /// On a telephone its heading stands before it.
    pub(crate) fn named(self) -> Self {
        Self { named: true, ..self }
    }

    /// The list can be ordered by it, the least first.
    pub(crate) fn rising(self) -> Self {
        Self { order: Some(By::Rising), ..self }
    }

    /// The list can be ordered by it, the most first.
    pub(crate) fn falling(self) -> Self {
        Self { order: Some(By::Falling), ..self }
    }

    /// The store orders the list by it; whether it can turn that round.
    pub(crate) fn by_store(self, turns: bool) -> Self {
        Self { order: Some(By::Store { turns }), ..self }
    }

    /// It is on the screen where that is so; in files it always is.
    pub(crate) fn on_screen(self, on_screen: bool) -> Self {
        Self { on_screen, ..self }
    }

    /// It stands in files alone.
    pub(crate) fn in_files(self) -> Self {
        self.on_screen(false)
    }

    /// Where it stands in an entry.
    pub(crate) fn at(self, spot: Spot) -> Self {
        Self { spot, ..self }
    }

    /// Its key in addresses.
    pub(crate) const fn key(&self) -> &'static str {
        self.key
    }

    /// What stands above it.
    pub(crate) fn heading(&self) -> &str {
        &self.head
    }

    fn show(&self, row: &R) -> Shown {
        match &self.shown {
            Some(shown) => shown(row),
            None => (self.cell)(row).text().into(),
        }
    }
}

/// Columns of a list.
pub(crate) type Columns<'a, R> = Vec<Column<'a, R>>;

/// Which of two cells of one column comes first: words as they are read, numbers and times as they
/// are.
fn compare(a: &Cell, b: &Cell) -> Ordering {
    match (a, b) {
        (Cell::Number(a), Cell::Number(b)) | (Cell::Amount(a, _), Cell::Amount(b, _)) => {
            a.total_cmp(b)
        }
        (Cell::Day(a), Cell::Day(b)) => a.cmp(b),
        (Cell::At(a), Cell::At(b)) => a.cmp(b),
        (a, b) => fold(&a.text()).cmp(&fold(&b.text())),
    }
}

/// What an address asks of a list: the words that are looked for, the column it is ordered by,
/// whether that is turned round, and the page.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Ask {
    pub(crate) q: String,
    pub(crate) sort: String,
    pub(crate) back: bool,
    pub(crate) page: usize,
}

impl<S: Sync> FromRequestParts<S> for Ask {
    type Rejection = std::convert::Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Self::Rejection> {
        Ok(Self::read(parts.uri.query().unwrap_or_default()))
    }
}

impl Ask {
    /// Out of the query of an address.
    pub(crate) fn read(query: &str) -> Self {
        let mut ask = Self::default();
        for (name, value) in form_urlencoded::parse(query.as_bytes()) {
            match &*name {
                "q" => ask.q = value.into_owned(),
                "sort" => ask.sort = value.into_owned(),
                "back" => ask.back = !value.is_empty(),
                "page" => ask.page = value.parse().unwrap_or(0),
                _ => {}
            }
        }
        ask
    }

    /// The words that are looked for, a bounded number of bounded words.
    pub(crate) fn looked_for(&self) -> Vec<String> {
        looked_for(&self.q)
    }

    /// The query of an address again, up to the order.
    fn words(&self) -> String {
        format!("q={}&", encode(&self.q))
    }

    /// The query of an address again, up to the page.
    pub(crate) fn query(&self) -> String {
        let back = if self.back { "back=1&" } else { "" };
        match self.sort.as_str() {
            "" => format!("{}{back}", self.words()),
            sort => format!("{}sort={}&{back}", self.words(), encode(sort)),
        }
    }

    /// Keeps the rows that have all the words in what is seen of them, in the order asked for; by
    /// a column that none can be ordered by they stay as they are.
    pub(crate) fn narrow<R>(&self, columns: &[Column<'_, R>], rows: &mut Vec<R>) {
        let typed = fold(&self.looked_for().join(" "));
        let words: Vec<&str> = typed.split(' ').filter(|word| !word.is_empty()).collect();
        if !words.is_empty() {
            rows.retain(|row| {
                let seen: String = columns
                    .iter()
                    .filter(|c| c.on_screen)
                    .map(|c| c.show(row))
                    .flat_map(|shown| [shown.text, " ".into(), shown.small, " ".into()])
                    .collect();
                let seen = fold(&seen);
                words.iter().all(|word| seen.contains(word))
            });
        }
        let Some(column) = columns.iter().find(|c| c.key == self.sort) else { return };
        let falls = match column.order {
            Some(By::Rising) => self.back,
            Some(By::Falling) => !self.back,
            Some(By::Store { .. }) | None => return,
        };
        let cell = |row: &R| (column.cell)(row);
        if falls {
            rows.sort_by(|a, b| compare(&cell(b), &cell(a)));
        } else {
            rows.sort_by(|a, b| compare(&cell(a), &cell(b)));
        }
    }

    /// A page of the rows that fit, of `most` of them, and what stands around it. `here` is the
    /// address of the list with its question mark, and whatever else it says.
    pub(crate) fn page<R>(
        &self,
        columns: &[Column<'_, R>],
        rows: &mut Vec<R>,
        here: &str,
        most: usize,
    ) -> View {
        self.narrow(columns, rows);
        let pager = Pager::of(rows.len(), self.page, most, &format!("{here}{}", self.query()));
        pager.cut(rows);
        View { count: pager.count, table: Table::new(columns, rows, here, self), pager }
    }
}

/// A list as it stands in a file: headings and cells.
#[derive(Default)]
pub(crate) struct InFile {
    head: Vec<String>,
    cells: Vec<Vec<Cell>>,
}

impl InFile {
    /// All of the rows, with the columns that files have.
    pub(crate) fn of<R>(columns: &[Column<'_, R>], rows: &[R]) -> Self {
        let columns = || columns.iter().filter(|c| c.in_file);
        let row = |row: &R| columns().map(|c| (c.cell)(row)).collect();
        Self {
            head: columns().map(|c| c.head.clone()).collect(),
            cells: rows.iter().map(row).collect(),
        }
    }

    /// As a file of the kind that an address ends in. Who took it away is written down.
    ///
    /// # Errors
    /// They may not see the Office, or the store fails.
    pub(crate) async fn hand_out(
        self,
        (desk, staff): (&Desk, &Staff),
        uri: &Uri,
        (name, what): (&str, &str),
    ) -> Result<Response, WebError> {
        let what = format!("{what}, {} rows", self.cells.len());
        matricle_desk::house::audit::taken_away(desk, staff, what).await?;
        let head: Vec<&str> = self.head.iter().map(String::as_str).collect();
        list_file(uri.path(), name, &head, &self.cells)
    }
}

/// What stands in a cell on the screen.
#[derive(Debug, Clone, Default)]
pub(crate) struct Shown {
    text: String,
    small: String,
    href: String,
    strong: bool,
    /// Markup of ours before the text.
    drawn: String,
    /// The class of the mark of a state.
    mark: String,
    class: String,
}

impl From<String> for Shown {
    fn from(text: String) -> Self {
        Self { text, ..Self::default() }
    }
}

impl From<&str> for Shown {
    fn from(text: &str) -> Self {
        text.to_owned().into()
    }
}

impl Shown {
    /// A state, with the class of its mark.
    pub(crate) fn state(text: &str, mark: impl Into<String>) -> Self {
        Self { text: text.into(), mark: mark.into(), class: "nobr".into(), ..Self::default() }
    }

    /// Markup of ours, and no words.
    pub(crate) fn drawn(drawn: String) -> Self {
        Self { drawn, ..Self::default() }
    }

    /// With a smaller line below.
    pub(crate) fn small(self, small: impl Into<String>) -> Self {
        Self { small: small.into(), ..self }
    }

    /// Leading somewhere.
    pub(crate) fn to(self, href: impl Into<String>) -> Self {
        Self { href: href.into(), ..self }
    }

    /// What the row is of.
    pub(crate) fn strong(self) -> Self {
        Self { strong: true, ..self }
    }

    /// In a cell of a class of the look.
    pub(crate) fn class(self, class: impl Into<String>) -> Self {
        Self { class: class.into(), ..self }
    }
}

/// What the list can be ordered by.
pub(crate) struct Head {
    pub(crate) words: String,
    number: bool,
    /// Where it leads: the order by it, or the other way round; empty for nowhere.
    pub(crate) href: String,
    /// How the list is ordered by it now, as `aria-sort` says it; empty for not.
    pub(crate) now: &'static str,
}

/// The headings of the columns on the screen.
pub(crate) fn heads<R>(columns: &[Column<'_, R>], here: &str, ask: &Ask) -> Vec<Head> {
    let head = |c: &Column<'_, R>| {
        let is_now = c.order.is_some() && ask.sort == c.key;
        let turns = c.order != Some(By::Store { turns: false });
        let back = if is_now && turns && !ask.back { "&back=1" } else { "" };
        let falls = (c.order == Some(By::Falling)) != ask.back;
        Head {
            words: c.head.clone(),
            number: c.number,
            href: match c.order {
                Some(_) => format!("{here}{}sort={}{back}", ask.words(), c.key),
                None => String::new(),
            },
            now: match (is_now, falls) {
                (false, _) => "",
                (true, false) => "ascending",
                (true, true) => "descending",
            },
        }
    };
    columns.iter().filter(|c| c.on_screen).map(head).collect()
}

/// A page of a list.
#[derive(Default)]
pub(crate) struct View {
    /// How many fit in all.
    pub(crate) count: usize,
    pub(crate) table: Table,
    pub(crate) pager: Pager,
}

struct Row {
    /// Stands above it, over all columns.
    heading: String,
    /// A box to tick: its field, its value, what it is called.
    tick: Option<(&'static str, String, String)>,
    cells: Vec<Shown>,
}

/// A list as a table; on a telephone, a card for each row.
#[derive(Template, Default)]
#[template(path = "parts/table.html")]
pub(crate) struct Table {
    ticks: bool,
    heads: Vec<Head>,
    named: Vec<bool>,
    rows: Vec<Row>,
}

impl askama::filters::HtmlSafe for Table {}

impl Table {
    /// The rows of a list, under headings that lead to its order.
    pub(crate) fn new<R>(columns: &[Column<'_, R>], rows: &[R], here: &str, ask: &Ask) -> Self {
        let on_screen = || columns.iter().filter(|c| c.on_screen);
        let row = |row: &R| Row {
            heading: String::new(),
            tick: None,
            cells: on_screen().map(|c| c.show(row)).collect(),
        };
        Self {
            ticks: false,
            heads: heads(columns, here, ask),
            named: on_screen().map(|c| c.named).collect(),
            rows: rows.iter().map(row).collect(),
        }
    }

    /// With a box before each row: the field, and of each row the value and what it is called.
    pub(crate) fn ticked(
        mut self,
        field: &'static str,
        of: impl Iterator<Item = (String, String)>,
    ) -> Self {
        self.ticks = true;
        for (row, (value, called)) in self.rows.iter_mut().zip(of) {
            row.tick = Some((field, value, called));
        }
        self
    }

    /// With words above the rows where they change.
    pub(crate) fn headed(mut self, of: impl Iterator<Item = String>) -> Self {
        let mut before = String::new();
        for (row, heading) in self.rows.iter_mut().zip(of) {
            if heading != before {
                row.heading.clone_from(&heading);
                before = heading;
            }
        }
        self
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// It can be ordered: on a telephone its headings stand above it.
    fn is_ordered(&self) -> bool {
        self.heads.iter().any(|head| !head.href.is_empty())
    }

    fn width(&self) -> usize {
        self.heads.len() + usize::from(self.ticks)
    }
}

/// A row without headings, that leads to what it is of.
#[derive(Default)]
struct Entry {
    href: String,
    /// A box to tick: its field, its value, what it is called.
    tick: Option<(String, String, String)>,
    name: String,
    beside: String,
    below: String,
    lines: Vec<String>,
    mark: String,
    state: String,
    minute: String,
}

/// A list as entries.
#[derive(Template, Default)]
#[template(path = "parts/entries.html")]
pub(crate) struct Entries {
    ticks: bool,
    entries: Vec<Entry>,
}

impl askama::filters::HtmlSafe for Entries {}

impl Entries {
    /// The rows of a list, each leading to its address.
    pub(crate) fn new<R>(columns: &[Column<'_, R>], rows: &[R], to: impl Fn(&R) -> String) -> Self {
        let entry = |row: &R| {
            let mut entry = Entry { href: to(row), ..Entry::default() };
            for column in columns.iter().filter(|c| c.on_screen) {
                let Shown { text, mark, .. } = column.show(row);
                match column.spot {
                    _ if text.is_empty() => {}
                    Spot::Name => entry.name = text,
                    Spot::Beside => entry.beside = text,
                    Spot::Below if entry.below.is_empty() => entry.below = text,
                    Spot::Below => entry.below.push_str(&format!(" · {text}")),
                    Spot::Line => entry.lines.push(text),
                    Spot::State => (entry.state, entry.mark) = (text, mark),
                    Spot::Minute => entry.minute = text,
                }
            }
            entry
        };
        Self { ticks: false, entries: rows.iter().map(entry).collect() }
    }

    /// With a box before each that has one: field, value, what it is called.
    pub(crate) fn ticked(
        mut self,
        of: impl Iterator<Item = Option<(String, String, String)>>,
    ) -> Self {
        self.ticks = true;
        self.entries.iter_mut().zip(of).for_each(|(entry, tick)| entry.tick = tick);
        self
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn columns() -> Columns<'static, (&'static str, u32)> {
        vec![
            Column::new("name", "Name", |r: &(&str, u32)| r.0).rising(),
            Column::new("seats", "Seats", |r: &(&str, u32)| r.1).number().falling(),
            Column::new("house", "House", |_: &(&str, u32)| "Ostrel").in_files().rising(),
        ]
    }

    fn narrowed(query: &str) -> Vec<(&'static str, u32)> {
        let mut rows = vec![("Émile", 2), ("anna", 10), ("Zoë", 1)];
        Ask::read(query).narrow(&columns(), &mut rows);
        rows
    }

    #[test]
    fn a_list_is_narrowed_and_ordered_by_what_its_columns_say() {
        let seats = |query| narrowed(query).iter().map(|r| r.1).collect::<Vec<_>>();
        assert_eq!(seats("sort=name"), [10, 2, 1]);
        assert_eq!(seats("sort=name&back=1"), [1, 2, 10]);
        assert_eq!(seats("sort=seats"), [10, 2, 1]);
        assert_eq!(seats("sort=seats&back=1"), [1, 2, 10]);
        assert_eq!(seats("sort=none+such&page=x"), [2, 10, 1], "nothing is turned about");
        assert_eq!(narrowed("q=+emile+2"), [("Émile", 2)]);
        assert_eq!(narrowed("q=++").len(), 3, "no word finds all");
        assert!(narrowed("q=ostrel").is_empty(), "what is not seen is not found");
    }

    #[test]
    fn a_page_has_what_fits_and_its_addresses_ask_for_the_same_again() {
        let mut rows = vec![("Émile", 2), ("anna", 10), ("Zoë", 1)];
        let ask = Ask::read("q=n%26m&sort=name&back=1&page=7");
        assert_eq!(Ask::read(&ask.query()), Ask { page: 0, ..ask.clone() });
        let ask = Ask { q: String::new(), page: 1, ..ask };
        let view = ask.page(&columns(), &mut rows, "/list?of=4&", 2);
        assert_eq!((view.count, &rows[..]), (3, &[("anna", 10)][..]));
        assert_eq!(view.pager.before.as_deref(), Some("/list?of=4&q=&sort=name&back=1&page=0"));
    }

    #[test]
    fn a_table_has_the_columns_of_the_screen_and_headings_where_they_change() {
        let rows = [("<b>", 2), ("anna", 10)];
        let ask = Ask { q: "x&y".into(), sort: "name".into(), ..Ask::default() };
        let table = Table::new(&columns(), &rows, "?", &ask)
            .ticked("id", rows.iter().map(|r| (r.1.to_string(), r.0.to_owned())))
            .headed(["May".to_owned(), "May".to_owned()].into_iter());
        let html = table.render().unwrap();
        let name = r#"aria-sort="ascending"><a href="?q=x%26y&#38;sort=name&#38;back=1">Name</a>"#;
        assert!(html.contains(name), "{html}");
        assert!(html.contains("&#60;b&#62;") && !html.contains("Ostrel"), "{html}");
        assert!(html.contains(r#"<td class="n" data-head="Seats">10</td>"#), "{html}");
        assert_eq!(html.matches("May").count(), 1);
        assert!(html.contains(r#"colspan="3""#) && html.contains(r#"name="id" value="10""#));
    }

    #[test]
    fn an_entry_says_what_is_there_and_nothing_of_what_is_not() {
        let columns: Columns<'_, [&str; 3]> = vec![
            Column::new("a", "A", |r: &[&str; 3]| r[0]),
            Column::new("b", "B", |r: &[&str; 3]| r[1]).at(Spot::Below),
            Column::new("c", "C", |r: &[&str; 3]| r[2]).at(Spot::Below),
            Column::new("d", "D", |_: &[&str; 3]| "sent")
                .at(Spot::State)
                .shown(|_| Shown::state("sent", "st st-conf")),
        ];
        let entries = Entries::new(&columns, &[["one", "", "three"]], |_| "/one".into());
        let html = entries.render().unwrap();
        assert!(html.contains("<b>one</b><small>three</small>"), "{html}");
        assert!(html.contains(r#"<i class="st st-conf"></i>sent"#), "{html}");
    }
}
