//! Pages that are the same for everybody who has not signed in or begun a booking.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use jiff::{SignedDuration, Timestamp};

/// How long a page is kept while nothing is written: holds run out, sales close.
const KEPT: SignedDuration = SignedDuration::from_secs(1);
/// Most pages kept.
const MOST: usize = 512;
/// Where the visitor's form token goes; no page contains it otherwise.
pub(crate) const TOKEN_MARK: &str = "\u{1}form-token\u{1}";

/// A page in pieces, the visitor's form token between them.
type Pieces = Arc<Vec<String>>;

/// Rendered pages by address, each true for one version of the store.
#[derive(Debug, Default)]
pub(crate) struct Pages {
    kept: Mutex<HashMap<String, (u64, Timestamp, Pieces)>>,
    zone: Mutex<Option<(String, Timestamp)>>,
    feeds: Mutex<HashMap<String, (String, Timestamp)>>,
}

/// How long the zone of the house is kept.
const ZONE_KEPT: SignedDuration = SignedDuration::from_mins(1);

impl Pages {
    /// The page, if it was rendered at this version of the store and just now.
    pub(crate) fn get(
        &self,
        address: &str,
        version: u64,
        now: Timestamp,
        token: &str,
    ) -> Option<String> {
        let kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let (then, at, pieces) = kept.get(address)?;
        let fresh = *then == version && now >= *at && now.duration_since(*at) < KEPT;
        let pieces = fresh.then(|| Arc::clone(pieces))?;
        drop(kept);
        Some(pieces.join(token))
    }

    /// Keeps a page that was rendered with [`TOKEN_MARK`]; gives it with the token.
    pub(crate) fn put(
        &self,
        address: String,
        version: u64,
        now: Timestamp,
        page: &str,
        token: &str,
    ) -> String {
        let pieces: Pieces = Arc::new(page.split(TOKEN_MARK).map(String::from).collect());
        let whole = pieces.join(token);
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() >= MOST {
            kept.clear();
        }
        kept.insert(address, (version, now, pieces));
        whole
    }

    /// Since when a feed has been what it is, by its tag. Its dates cannot tell: one may have
    /// been added or have passed. A feed not seen before is as of now, so that whoever asks by
    /// date gets it whole once too often rather than once too seldom.
    pub(crate) fn since(&self, path: &str, tag: &str, now: Timestamp) -> Timestamp {
        let mut feeds = self.feeds.lock().unwrap_or_else(PoisonError::into_inner);
        if feeds.len() >= MOST {
            feeds.clear();
        }
        match feeds.get_mut(path) {
            Some((known, since)) if known == tag => *since,
            Some((known, since)) => {
                // HTTP tells seconds: another content has another one.
                *since = now.max(*since + SignedDuration::from_secs(1));
                tag.clone_into(known);
                *since
            }
            None => {
                feeds.insert(path.to_owned(), (tag.to_owned(), now));
                now
            }
        }
    }

    /// The zone of the house, if it was asked for just now.
    pub(crate) fn zone(&self, now: Timestamp) -> Option<String> {
        let zone = self.zone.lock().unwrap_or_else(PoisonError::into_inner);
        zone.as_ref()
            .filter(|(_, at)| now.duration_since(*at).abs() < ZONE_KEPT)
            .map(|(zone, _)| zone.clone())
    }

    /// Keeps the zone of the house for a while.
    pub(crate) fn keep_zone(&self, zone: String, now: Timestamp) {
        *self.zone.lock().unwrap_or_else(PoisonError::into_inner) = Some((zone, now));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_lives_until_something_is_written_or_a_second_has_passed() {
        let pages = Pages::default();
        let at = |ms| Timestamp::from_millisecond(ms).unwrap();
        let page = format!("<i>{TOKEN_MARK}</i>");
        assert_eq!(pages.put("/a".into(), 7, at(0), &page, "one"), "<i>one</i>");
        assert_eq!(pages.get("/a", 7, at(999), "two").as_deref(), Some("<i>two</i>"));
        assert_eq!(pages.get("/a", 8, at(10), "two"), None);
        assert_eq!(pages.get("/a", 7, at(1000), "two"), None);
        assert_eq!(pages.get("/b", 7, at(10), "two"), None);
    }
}
