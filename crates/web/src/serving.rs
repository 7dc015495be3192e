//! Bytes that stay as they are for a while: with a tag, revalidated, and in parts (RFC 9110
//! §8.8, §13, §14).

use axum::body::Body;
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use http_range_header::parse_range_header;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use sha2::{Digest, Sha256};

/// What is served.
pub(crate) struct Served<'a> {
    /// Its media type.
    pub(crate) media_type: &'a str,
    /// Who may keep it, and for how long.
    pub(crate) cache: &'a str,
    /// When it last changed, if that is known.
    pub(crate) changed: Option<Timestamp>,
}

/// A strong tag of bytes (RFC 9110 §8.8.3).
pub(crate) fn tag(bytes: &[u8]) -> String {
    let hash = Sha256::digest(bytes);
    let hex = hash[..12].iter().fold(String::new(), |hex, byte| format!("{hex}{byte:02x}"));
    format!("\"{hex}\"")
}

/// An instant as HTTP writes it (RFC 9110 §5.6.7).
fn http_date(at: Timestamp) -> String {
    at.to_zoned_datetime(TimeZone::UTC).strftime("%a, %d %b %Y %H:%M:%S GMT").to_string()
}

fn text(headers: &HeaderMap, name: HeaderName) -> Option<&str> {
    headers.get(name).and_then(|v| v.to_str().ok())
}

/// Codings in which an answer may be sent (RFC 9110 §8.4.1), each a representation of its own.
const CODINGS: [&str; 3] = ["gzip", "br", "zstd"];

/// An answer that was compressed has a tag of its own: a strong tag says that the bytes are the
/// same (RFC 9110 §8.8.1), and they are not those of the answer as it is.
pub(crate) async fn tag_by_coding(mut response: Response) -> Response {
    let headers = response.headers_mut();
    let coding = headers.get(header::CONTENT_ENCODING).and_then(|c| c.to_str().ok());
    let coding = coding.and_then(|c| CODINGS.into_iter().find(|known| *known == c));
    let tag = headers.get(header::ETAG).and_then(|t| t.to_str().ok()?.strip_suffix('"'));
    if let (Some(coding), Some(tag)) = (coding, tag)
        && let Ok(own) = HeaderValue::from_str(&format!("{tag}-{coding}\""))
    {
        headers.insert(header::ETAG, own);
    }
    response
}

/// A tag without the coding that it was sent with.
fn without_coding(tag: &str) -> String {
    let bare = tag
        .strip_suffix('"')
        .and_then(|t| CODINGS.into_iter().find_map(|c| t.strip_suffix(c)?.strip_suffix('-')));
    bare.map_or_else(|| tag.to_owned(), |bare| format!("{bare}\""))
}

/// Whether the asker has these very bytes (RFC 9110 §13.1.2, §13.1.3): a tag goes before a
/// date. A cache may have made a tag weak, or a compression may.
fn has_it(asked: &HeaderMap, tag: &str, changed: Option<Timestamp>) -> bool {
    if let Some(known) = text(asked, header::IF_NONE_MATCH) {
        return known
            .split(',')
            .map(|t| t.trim().trim_start_matches("W/"))
            .any(|t| t == "*" || without_coding(t) == tag);
    }
    let since = text(asked, header::IF_MODIFIED_SINCE);
    changed.is_some_and(|at| since.is_some_and(|since| since == http_date(at)))
}

/// Answers with bytes, with a part of them, or with word that the asker has them.
pub(crate) fn bytes(asked: &HeaderMap, bytes: Vec<u8>, served: &Served<'_>) -> Response {
    let tag = tag(&bytes);
    let (status, range, body) = if has_it(asked, &tag, served.changed) {
        (StatusCode::NOT_MODIFIED, None, Vec::new())
    } else {
        part(asked, &tag, bytes)
    };
    let mut response = (status, Body::from(body)).into_response();
    let headers = response.headers_mut();
    let mut put = |name: HeaderName, value: &str| {
        if let Ok(value) = HeaderValue::from_str(value) {
            headers.insert(name, value);
        }
    };
    put(header::ETAG, &tag);
    put(header::CACHE_CONTROL, served.cache);
    put(header::ACCEPT_RANGES, "bytes");
    if let Some(at) = served.changed {
        put(header::LAST_MODIFIED, &http_date(at));
    }
    if let Some(range) = range {
        put(header::CONTENT_RANGE, &range);
    }
    if status != StatusCode::NOT_MODIFIED {
        put(header::CONTENT_TYPE, served.media_type);
    }
    response
}

/// The one part that is asked for; of several parts the whole is sent, as §14.2 allows.
fn part(asked: &HeaderMap, tag: &str, bytes: Vec<u8>) -> (StatusCode, Option<String>, Vec<u8>) {
    let all = bytes.len() as u64;
    // A part of what has changed since is of no use (§13.1.5).
    let same = text(asked, header::IF_RANGE).is_none_or(|known| known == tag);
    let Some(range) = text(asked, header::RANGE).filter(|_| same) else {
        return (StatusCode::OK, None, bytes);
    };
    let Ok(parsed) = parse_range_header(range) else { return (StatusCode::OK, None, bytes) };
    match parsed.validate(all) {
        Err(_) => (StatusCode::RANGE_NOT_SATISFIABLE, Some(format!("bytes */{all}")), Vec::new()),
        Ok(ranges) => match ranges.as_slice() {
            [one] => {
                let at = |n: u64| usize::try_from(n).unwrap_or(usize::MAX);
                let (from, to) = (*one.start(), *one.end());
                let body = bytes.get(at(from)..=at(to)).unwrap_or_default().to_vec();
                (StatusCode::PARTIAL_CONTENT, Some(format!("bytes {from}-{to}/{all}")), body)
            }
            _ => (StatusCode::OK, None, bytes),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ask(pairs: &[(HeaderName, &str)]) -> Response {
        let asked =
            pairs.iter().map(|(n, v)| (n.clone(), HeaderValue::from_str(v).unwrap())).collect();
        let changed = Some("2026-11-25T08:00:00Z".parse().unwrap());
        let served = Served { media_type: "text/plain", cache: "no-cache", changed };
        bytes(&asked, b"0123456789".to_vec(), &served)
    }

    #[test]
    fn what_is_known_is_not_sent_again_and_parts_are_parts() {
        let whole = ask(&[]);
        assert_eq!(whole.headers()[header::LAST_MODIFIED], "Wed, 25 Nov 2026 08:00:00 GMT");
        let tag = whole.headers()[header::ETAG].to_str().unwrap().to_owned();
        let weak = format!("\"x\", W/{tag}");
        let packed = format!("{}-br\"", tag.trim_end_matches('"'));
        for known in [
            (header::IF_NONE_MATCH, tag.as_str()),
            (header::IF_NONE_MATCH, &weak),
            (header::IF_NONE_MATCH, &packed),
            (header::IF_MODIFIED_SINCE, "Wed, 25 Nov 2026 08:00:00 GMT"),
        ] {
            assert_eq!(ask(&[known]).status(), StatusCode::NOT_MODIFIED);
        }
        let both = [
            (header::IF_NONE_MATCH, "\"x\""),
            (header::IF_MODIFIED_SINCE, "Wed, 25 Nov 2026 08:00:00 GMT"),
        ];
        assert_eq!(ask(&both).status(), StatusCode::OK, "the tag goes before the date");
        let range = |text| ask(&[(header::RANGE, text)]);
        let content = |r: &Response| {
            r.headers().get(header::CONTENT_RANGE).map(|v| v.to_str().unwrap().to_owned())
        };
        assert_eq!(content(&range("bytes=2-4")).as_deref(), Some("bytes 2-4/10"));
        assert_eq!(content(&range("bytes=-3")).as_deref(), Some("bytes 7-9/10"));
        assert_eq!(content(&range("bytes=8-")).as_deref(), Some("bytes 8-9/10"));
        assert_eq!(range("bytes=10-").status(), StatusCode::RANGE_NOT_SATISFIABLE);
        for whole in ["bytes=0-1,4-5", "lines=1-2", "bytes=x"] {
            assert_eq!(range(whole).status(), StatusCode::OK, "{whole}");
        }
        let old = [(header::RANGE, "bytes=2-4"), (header::IF_RANGE, "\"old\"")];
        assert_eq!(ask(&old).status(), StatusCode::OK);
    }
}
