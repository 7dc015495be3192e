//! Papers, drawn once for what they show: drawing one takes as long as all else that is done for
//! the mail that brings it.

use std::collections::HashMap;
use std::fmt::Debug;
use std::sync::{LazyLock, Mutex, PoisonError};

use sha2::{Digest, Sha256};

use crate::DeskError;

/// The digest of all that something is made of.
pub(crate) type Print = [u8; 32];

/// The digest of values, by what they say of themselves.
pub(crate) fn print_of(made_of: &impl Debug) -> Print {
    Sha256::digest(format!("{made_of:?}")).into()
}

/// Most bytes of papers that are kept.
const MOST_BYTES: usize = 24 * 1024 * 1024;

#[derive(Default)]
struct Papers {
    by_print: HashMap<Print, (Vec<u8>, u64)>,
    bytes: usize,
    asked: u64,
}

static PAPERS: LazyLock<Mutex<Papers>> = LazyLock::new(Mutex::default);

/// A paper, drawn once for all that it shows.
///
/// # Errors
/// What drawing it says.
pub(crate) fn paper(
    shows: &impl Debug,
    draw: impl FnOnce() -> Result<Vec<u8>, DeskError>,
) -> Result<Vec<u8>, DeskError> {
    let print = print_of(shows);
    {
        let mut papers = PAPERS.lock().unwrap_or_else(PoisonError::into_inner);
        papers.asked += 1;
        let asked = papers.asked;
        if let Some((paper, last)) = papers.by_print.get_mut(&print) {
            *last = asked;
            return Ok(paper.clone());
        }
    }
    let paper = draw()?;
    let mut papers = PAPERS.lock().unwrap_or_else(PoisonError::into_inner);
    if papers.bytes + paper.len() > MOST_BYTES {
        // Half of them, those that nobody has asked for longest.
        let mut asked: Vec<u64> = papers.by_print.values().map(|(_, last)| *last).collect();
        asked.sort_unstable();
        let middle = asked.get(asked.len() / 2).copied().unwrap_or_default();
        papers.by_print.retain(|_, (_, last)| *last > middle);
        papers.bytes = papers.by_print.values().map(|(paper, _)| paper.len()).sum();
    }
    papers.bytes += paper.len();
    let asked = papers.asked;
    if let Some((before, _)) = papers.by_print.insert(print, (paper.clone(), asked)) {
        papers.bytes -= before.len();
    }
    Ok(paper)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_paper_is_drawn_once_for_what_it_shows_and_papers_have_a_bound() {
        let mut drawn = 0;
        let mut ask = |shows: &str| {
            let paper = paper(&(shows, "a test"), || {
                drawn += 1;
                Ok(vec![0; 1024 * 1024])
            });
            assert_eq!(paper.unwrap().len(), 1024 * 1024);
            drawn
        };
        assert_eq!((ask("a"), ask("a"), ask("b"), ask("a")), (1, 1, 2, 2));
        for n in 0..60 {
            ask(&n.to_string());
        }
        let papers = PAPERS.lock().unwrap();
        assert!(papers.bytes <= MOST_BYTES);
        assert_eq!(papers.bytes, papers.by_print.values().map(|(p, _)| p.len()).sum::<usize>());
    }
}
