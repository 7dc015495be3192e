//! Pages that are the same for everybody who has not signed in or begun a booking.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use axum::body::Bytes;
use jiff::{SignedDuration, Timestamp};

/// How long a page is kept while nothing is written: holds run out, sales close.
const KEPT: SignedDuration = SignedDuration::from_secs(1);
/// Most pages kept.
const MOST: usize = 512;
/// Where the visitor's form token goes; no page contains it otherwise.
pub(crate) const TOKEN_MARK: &str = "\u{1}form-token\u{1}";

/// A page in pieces, the visitor's form token between them; and whole, as whoever carries
/// nothing gets it: most readers do, and it is sent to them as it lies here.
#[derive(Debug)]
struct Kept {
    /// True for this version of the store, as of then.
    version: u64,
    at: Timestamp,
    pieces: Vec<String>,
    nobodys: Bytes,
}

/// Rendered pages by address, each true for one version of the store.
#[derive(Debug, Default)]
pub(crate) struct Pages {
    kept: Mutex<HashMap<String, Arc<Kept>>>,
    house: Mutex<Option<(String, String, Timestamp)>>,
    feeds: Mutex<HashMap<String, (String, Timestamp)>>,
}

/// How long name and zone of the house are kept.
const HOUSE_KEPT: SignedDuration = SignedDuration::from_mins(1);

impl Pages {
    /// The page, if it was rendered at this version of the store and just now; with a token of
    /// the visitor's own, or as nobody in particular gets it.
    pub(crate) fn get(
        &self,
        address: &str,
        version: u64,
        now: Timestamp,
        token: Option<&str>,
    ) -> Option<Bytes> {
        let kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let page = kept.get(address)?;
        let fresh = page.version == version && now >= page.at && now.duration_since(page.at) < KEPT;
        let page = fresh.then(|| Arc::clone(page))?;
        drop(kept);
        Some(match token {
            Some(token) => page.pieces.join(token).into(),
            None => page.nobodys.clone(),
        })
    }

    /// Keeps a page that was rendered with [`TOKEN_MARK`], for nobody in particular with the
    /// token that is everybody's.
    pub(crate) fn put(
        &self,
        address: String,
        version: u64,
        now: Timestamp,
        page: &str,
        everybodys: &str,
    ) {
        let pieces: Vec<String> = page.split(TOKEN_MARK).map(String::from).collect();
        let nobodys = pieces.join(everybodys).into();
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() >= MOST {
            kept.clear();
        }
        kept.insert(address, Arc::new(Kept { version, at: now, pieces, nobodys }));
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

    /// Name and zone of the house, if they were asked for just now.
    pub(crate) fn house(&self, now: Timestamp) -> Option<(String, String)> {
        let house = self.house.lock().unwrap_or_else(PoisonError::into_inner);
        house
            .as_ref()
            .filter(|(.., at)| now.duration_since(*at).abs() < HOUSE_KEPT)
            .map(|(name, zone, _)| (name.clone(), zone.clone()))
    }

    /// Keeps name and zone of the house for a while.
    pub(crate) fn keep_house(&self, (name, zone): (String, String), now: Timestamp) {
        *self.house.lock().unwrap_or_else(PoisonError::into_inner) = Some((name, zone, now));
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
        pages.put("/a".into(), 7, at(0), &page, "all");
        let get = |address, version, ms, token| pages.get(address, version, at(ms), token);
        assert_eq!(get("/a", 7, 999, Some("two")).as_deref(), Some(&b"<i>two</i>"[..]));
        assert_eq!(get("/a", 7, 999, None).as_deref(), Some(&b"<i>all</i>"[..]));
        assert_eq!(get("/a", 8, 10, None), None);
        assert_eq!(get("/a", 7, 1000, Some("two")), None);
        assert_eq!(get("/b", 7, 10, None), None);
    }
}
