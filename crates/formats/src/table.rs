//! Lists as files: CSV (RFC 4180) and XLSX (ISO/IEC 29500), just as they are shown.

use jiff::civil::{Date, DateTime};
use rust_xlsxwriter::{ExcelDateTime, Format, Workbook, XlsxError};

/// A cell of a list.
#[derive(Debug, Clone, PartialEq)]
pub enum Cell {
    /// Words.
    Text(String),
    /// A number.
    Number(f64),
    /// An amount of money in major units, with the decimals of its currency; which currency
    /// that is stands in a column of its own.
    Amount(f64, u8),
    /// A day (ISO 8601).
    Day(Date),
    /// A time on the clocks of the place, to the minute (ISO 8601).
    At(DateTime),
}

impl Cell {
    /// An amount out of its figures; anything else stays words.
    #[must_use]
    pub fn amount(figures: &str) -> Self {
        let plain = figures.replace('−', "-").replace(',', "");
        let decimals = plain.split_once('.').map_or(0, |(_, d)| d.len());
        match (plain.parse(), u8::try_from(decimals)) {
            (Ok(n), Ok(decimals)) => Self::Amount(n, decimals),
            _ => Self::Text(figures.to_owned()),
        }
    }

    /// An instant on the clocks of a zone (of the IANA database); UTC without such a zone.
    #[must_use]
    pub fn at(at: jiff::Timestamp, zone: &str) -> Self {
        Self::At(crate::words::local(at, zone).datetime())
    }
}

impl From<Date> for Cell {
    fn from(day: Date) -> Self {
        Self::Day(day)
    }
}

impl From<DateTime> for Cell {
    fn from(at: DateTime) -> Self {
        Self::At(at)
    }
}

impl<T: Into<Cell>> From<Option<T>> for Cell {
    fn from(value: Option<T>) -> Self {
        value.map_or_else(|| Self::Text(String::new()), Into::into)
    }
}

impl From<String> for Cell {
    fn from(text: String) -> Self {
        Self::Text(text)
    }
}

impl From<&str> for Cell {
    fn from(text: &str) -> Self {
        Self::Text(text.into())
    }
}

impl From<u32> for Cell {
    fn from(n: u32) -> Self {
        Self::Number(f64::from(n))
    }
}

impl Cell {
    /// As text, written so that it sorts.
    #[must_use]
    pub fn text(&self) -> String {
        match self {
            Self::Text(text) => text.clone(),
            Self::Number(n) => n.to_string(),
            Self::Amount(n, decimals) => format!("{n:.*}", usize::from(*decimals)),
            Self::Day(day) => day.to_string(),
            Self::At(at) => at.strftime("%Y-%m-%dT%H:%M").to_string(),
        }
    }

    fn is_words(&self) -> bool {
        matches!(self, Self::Text(text) if !text.is_empty())
    }
}

/// Whether a column holds words beside numbers or days: all of it is words then, since a program
/// that reads it takes a column to be of one kind.
fn is_mixed(column: usize, rows: &[Vec<Cell>]) -> bool {
    let cells = || rows.iter().filter_map(|row| row.get(column));
    cells().any(Cell::is_words) && cells().any(|cell| !matches!(cell, Cell::Text(_)))
}

/// Spreadsheets run what begins like a formula; a leading apostrophe makes it text. After a
/// plus or a minus that is what has more in it than a number does, for a person to call or
/// for a sum: `+49 170 1234567` and `-` stay as they are.
fn harmless(text: &str) -> String {
    let mut letters = text.chars();
    let runs = match letters.next() {
        Some('=' | '@' | '＝' | '＠' | '\t' | '\r' | '\n') => true,
        Some('+' | '-' | '＋' | '－') => {
            letters.any(|c| !c.is_ascii_digit() && !" .,/()\u{a0}\u{202f}".contains(c))
        }
        _ => false,
    };
    if runs { format!("'{text}") } else { text.to_owned() }
}

/// A list as CSV in UTF-8, with a mark at the start by which spreadsheets know that.
#[must_use]
pub fn csv(head: &[&str], rows: &[Vec<Cell>]) -> Vec<u8> {
    let mut writer = csv::WriterBuilder::new()
        .terminator(csv::Terminator::CRLF)
        .from_writer("\u{feff}".as_bytes().to_vec());
    // Writing to memory does not fail.
    let _ = writer.write_record(head);
    for row in rows {
        let texts = row.iter().map(|cell| match cell {
            Cell::Text(text) => harmless(text),
            plain => plain.text(),
        });
        let _ = writer.write_record(texts);
    }
    writer.into_inner().unwrap_or_default()
}

fn excel(at: DateTime) -> Result<ExcelDateTime, XlsxError> {
    let small = |n: i8| u8::try_from(n).unwrap_or_default();
    let year = u16::try_from(at.year()).unwrap_or_default();
    ExcelDateTime::from_ymd(year, small(at.month()), small(at.day()))?.and_hms(
        u16::from(small(at.hour())),
        small(at.minute()),
        f64::from(small(at.second())),
    )
}

/// A list as a workbook of one sheet, its heading fixed at the top and with a filter, each column
/// of one kind. What is empty stays empty.
///
/// # Errors
/// The list does not fit a sheet.
pub fn xlsx(name: &str, head: &[&str], rows: &[Vec<Cell>]) -> Result<Vec<u8>, XlsxError> {
    let mut book = Workbook::new();
    let sheet = book.add_worksheet();
    let name: String = name.chars().filter(|c| !"[]:*?/\\".contains(*c)).take(31).collect();
    sheet.set_name(&name)?;
    sheet.set_freeze_panes(1, 0)?;
    let bold = Format::new().set_bold();
    let day = Format::new().set_num_format("yyyy-mm-dd");
    let minute = Format::new().set_num_format("yyyy-mm-dd hh:mm");
    for (column, title) in (0u16..).zip(head) {
        sheet.write_string_with_format(0, column, *title, &bold)?;
    }
    let mixed: Vec<bool> = (0..head.len()).map(|column| is_mixed(column, rows)).collect();
    for (line, row) in (1u32..).zip(rows) {
        for (column, cell) in (0u16..).zip(row) {
            match cell {
                Cell::Text(text) if text.is_empty() => continue,
                Cell::Text(text) => sheet.write_string(line, column, text)?,
                other if mixed.get(usize::from(column)) == Some(&true) => {
                    sheet.write_string(line, column, other.text())?
                }
                Cell::Number(n) => sheet.write_number(line, column, *n)?,
                Cell::Amount(n, decimals) => {
                    let zeros = "0".repeat(usize::from(*decimals));
                    let shape = match zeros.as_str() {
                        "" => "#,##0".to_owned(),
                        zeros => format!("#,##0.{zeros}"),
                    };
                    let amount = Format::new().set_num_format(shape);
                    sheet.write_number_with_format(line, column, *n, &amount)?
                }
                Cell::Day(date) => sheet.write_datetime_with_format(
                    line,
                    column,
                    excel(date.at(0, 0, 0, 0))?,
                    &day,
                )?,
                Cell::At(at) => {
                    sheet.write_datetime_with_format(line, column, excel(*at)?, &minute)?
                }
            };
        }
    }
    if let (Ok(last), Ok(right), false) =
        (u32::try_from(rows.len()), u16::try_from(head.len()), rows.is_empty())
    {
        sheet.autofilter(0, 0, last, right.saturating_sub(1))?;
    }
    sheet.autofit();
    book.save_to_buffer()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_is_read_back_and_runs_no_formula() {
        let rows = vec![
            vec![Cell::from("O'Hara, \"Siân\""), Cell::from(3)],
            vec![Cell::from("=HYPERLINK(1)"), Cell::from(0)],
            vec![
                Cell::at("2026-11-25T23:30:00Z".parse().unwrap(), "Europe/Athens"),
                Cell::amount("−12.50"),
            ],
            vec![Cell::from(jiff::civil::date(2026, 2, 1)), Cell::amount("unknown")],
        ];
        let bytes = csv(&["Who", "Seats"], &rows);
        let text = std::str::from_utf8(&bytes).unwrap().strip_prefix('\u{feff}').unwrap();
        let mut reader = csv::Reader::from_reader(text.as_bytes());
        let read: Vec<Vec<String>> =
            reader.records().map(|r| r.unwrap().iter().map(String::from).collect()).collect();
        assert_eq!(
            read,
            [
                vec!["O'Hara, \"Siân\"", "3"],
                vec!["'=HYPERLINK(1)", "0"],
                vec!["2026-11-26T01:30", "-12.50"],
                vec!["2026-02-01", "unknown"],
            ]
        );
        let book = xlsx("A [list]: of/all", &["Who", "Seats"], &rows).unwrap();
        assert!(book.starts_with(b"PK"));
        // Words among numbers make a column of words; nothing among them does not.
        assert_eq!([0, 1].map(|column| is_mixed(column, &rows)), [true, true]);
        let sums = [vec![Cell::from(3)], vec![Cell::from("")], vec![Cell::amount("1.50")]];
        assert!(!is_mixed(0, &sums));
    }

    #[test]
    fn an_apostrophe_stands_only_before_what_would_run() {
        for runs in ["=1+1", "@SUM(A1)", "+1+cmd|' /C calc'!A0", "-A1", "＝1", "- well"] {
            assert_eq!(harmless(runs), format!("'{runs}"));
        }
        for plain in ["+49 170 1234567", "-", "-12.50", "+353 (0)1 23", "O'Hara", "a=b", ""] {
            assert_eq!(harmless(plain), plain);
        }
    }
}
