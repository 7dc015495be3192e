//! Lists as files: CSV (RFC 4180) and XLSX (ISO/IEC 29500), just as they are shown.

use rust_xlsxwriter::{Format, Workbook, XlsxError};

/// A cell of a list.
#[derive(Debug, Clone, PartialEq)]
pub enum Cell {
    /// Words.
    Text(String),
    /// A number.
    Number(f64),
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

/// Spreadsheets run what begins like a formula; a leading apostrophe makes it text.
fn harmless(text: &str) -> String {
    if text.starts_with(['=', '+', '-', '@', '\t', '\r']) {
        format!("'{text}")
    } else {
        text.to_owned()
    }
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
            Cell::Number(n) => n.to_string(),
        });
        let _ = writer.write_record(texts);
    }
    writer.into_inner().unwrap_or_default()
}

/// A list as a workbook of one sheet, its heading fixed at the top.
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
    for (column, title) in (0u16..).zip(head) {
        sheet.write_string_with_format(0, column, *title, &bold)?;
    }
    for (line, row) in (1u32..).zip(rows) {
        for (column, cell) in (0u16..).zip(row) {
            match cell {
                Cell::Text(text) => sheet.write_string(line, column, text)?,
                Cell::Number(n) => sheet.write_number(line, column, *n)?,
            };
        }
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
        ];
        let bytes = csv(&["Who", "Seats"], &rows);
        let text = std::str::from_utf8(&bytes).unwrap().strip_prefix('\u{feff}').unwrap();
        let mut reader = csv::Reader::from_reader(text.as_bytes());
        let read: Vec<Vec<String>> =
            reader.records().map(|r| r.unwrap().iter().map(String::from).collect()).collect();
        assert_eq!(read, [vec!["O'Hara, \"Siân\"", "3"], vec!["'=HYPERLINK(1)", "0"]]);
        let book = xlsx("A [list]: of/all", &["Who", "Seats"], &rows).unwrap();
        assert!(book.starts_with(b"PK"));
    }
}
