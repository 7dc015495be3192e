//! What was done a moment ago: one line for the next page of whoever did it, with the way to
//! undo it where there is one.

use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// So long a line waits for its page.
const LIFE: Duration = Duration::from_mins(2);
/// Most lines that wait.
const MOST: usize = 1024;

/// One line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct NewsLine {
    pub(crate) what: String,
    pub(crate) undo: Option<Undo>,
}

/// A form that undoes it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Undo {
    /// Where it is sent.
    pub(crate) to: String,
    pub(crate) fields: Vec<(String, String)>,
}

impl Undo {
    pub(crate) fn new(to: impl Into<String>, fields: &[(&str, &str)]) -> Self {
        let own = |&(name, value): &(&str, &str)| (name.to_owned(), value.to_owned());
        Self { to: to.into(), fields: fields.iter().map(own).collect() }
    }
}

/// Lines by the visitor they are for, the oldest first.
#[derive(Debug, Default)]
pub(crate) struct News {
    waiting: Mutex<VecDeque<(String, Instant, NewsLine)>>,
}

impl News {
    /// Leaves a line for the next page of a visitor, in the place of any that waits.
    pub(crate) fn tell(&self, visitor: &str, line: NewsLine) {
        if visitor.is_empty() {
            return;
        }
        let mut waiting = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
        waiting.retain(|(who, at, _)| who != visitor && at.elapsed() < LIFE);
        if waiting.len() >= MOST {
            waiting.pop_front();
        }
        waiting.push_back((visitor.to_owned(), Instant::now(), line));
    }

    /// The line for a visitor, once.
    pub(crate) fn take(&self, visitor: &str) -> Option<NewsLine> {
        let mut waiting = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
        let at = waiting.iter().position(|(who, ..)| who == visitor)?;
        let (_, at, line) = waiting.remove(at)?;
        (at.elapsed() < LIFE).then_some(line)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_told_once_to_whoever_it_is_for_and_the_latest_counts() {
        let news = News::default();
        let line = |what: &str| NewsLine { what: what.into(), undo: None };
        news.tell("ana", line("one"));
        news.tell("kit", line("other"));
        news.tell("ana", line("two"));
        news.tell("", line("nobody's"));
        assert_eq!(news.take("ana"), Some(line("two")));
        assert_eq!(news.take("ana"), None);
        assert_eq!((news.take(""), news.take("kit")), (None, Some(line("other"))));
        for i in 0..=MOST {
            news.tell(&i.to_string(), line("x"));
        }
        assert_eq!((news.take("0"), news.take("1")), (None, Some(line("x"))), "bounded");
    }
}
