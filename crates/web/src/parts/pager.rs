//! A page of a long list: which rows it shows, of how many, and the ways to its neighbours.

/// Rows of a page.
pub(crate) const ROWS: usize = 30;

/// Which rows are shown.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Pager {
    /// The first row, counted from zero.
    pub(crate) first: usize,
    /// How many there are in all.
    pub(crate) count: usize,
    /// The addresses of the pages before and after, if there are such.
    pub(crate) before: Option<String>,
    pub(crate) after: Option<String>,
    rows: usize,
}

impl Pager {
    /// The page asked for, counted from zero; one past the end is the last. `address` is that
    /// of the list, up to its page.
    pub(crate) fn of(count: usize, page: usize, rows: usize, address: &str) -> Self {
        let last = count.saturating_sub(1) / rows;
        let page = page.min(last);
        let to = |page: usize| format!("{address}page={page}");
        Self {
            first: page * rows,
            count,
            before: page.checked_sub(1).map(to),
            after: (page < last).then(|| to(page + 1)),
            rows,
        }
    }

    /// Keeps the rows of this page.
    pub(crate) fn cut<T>(&self, all: &mut Vec<T>) {
        all.truncate(self.first + self.rows);
        all.drain(..self.first.min(all.len()));
    }

    /// `101 to 200 of 5,000`; nothing where all rows are shown.
    pub(crate) fn said(&self) -> String {
        if self.before.is_none() && self.after.is_none() {
            return String::new();
        }
        let last = (self.first + self.rows).min(self.count);
        format!("{} to {last} of {}", self.first + 1, self.count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_row_is_on_one_page_and_every_page_is_reached() {
        for count in [0, 1, 99, 100, 101, 250] {
            let (mut seen, mut page) = (Vec::new(), 0);
            loop {
                let pager = Pager::of(count, page, 100, "?");
                let mut rows: Vec<usize> = (0..count).collect();
                pager.cut(&mut rows);
                seen.extend(rows);
                page += 1;
                if pager.after.is_none() {
                    break;
                }
                assert_eq!(pager.after, Some(format!("?page={page}")));
            }
            assert_eq!(seen, (0..count).collect::<Vec<_>>());
            let past = Pager::of(count, 999, 100, "?");
            assert_eq!(past.first / 100, page - 1, "past the end is the last page");
        }
        assert_eq!(Pager::of(100, 0, 100, "?").said(), "");
        assert_eq!(Pager::of(250, 2, 100, "?").said(), "201 to 250 of 250");
    }
}
