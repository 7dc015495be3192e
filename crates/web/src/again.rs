//! A form is answered with a redirect: what there is to say stands at an address of its own, so
//! that going back and loading again ask nothing and send nothing.

use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use axum::body::{Body, Bytes, to_bytes};
use axum::http::{HeaderValue, StatusCode, Uri, header};
use axum::response::{IntoResponse, Redirect, Response};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use matricle_desk::random_bytes;

/// The field of an address that names an answer.
const FIELD: &str = "kept";
/// Its value where there is none any more.
const OVER: &str = "over";
/// So long an answer can be read again.
const LIFE: Duration = Duration::from_mins(30);
/// Most answers kept, and most bytes in all of them: a thousand people may be refused within a
/// second, and each reads theirs a moment later.
const MOST: usize = 4096;
const MOST_BYTES: usize = 64 * 1024 * 1024;

#[derive(Debug)]
struct Kept {
    key: String,
    /// The visitor it was given to, and their session.
    owner: String,
    at: Instant,
    status: StatusCode,
    /// A page with the editor has a policy of its own.
    policy: Option<HeaderValue>,
    page: Bytes,
}

/// Answers to forms, each readable again for a while by whoever got it.
#[derive(Debug, Default)]
pub(crate) struct Answers {
    kept: Mutex<VecDeque<Kept>>,
}

/// Whether an answer to a form is one to be read: what failed or asks to wait is not kept.
fn is_read(response: &Response) -> bool {
    let kind = response.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok());
    let is_page = kind.is_some_and(|k| k.starts_with("text/html"));
    let status = response.status();
    is_page
        && matches!(
            status,
            StatusCode::OK | StatusCode::CONFLICT | StatusCode::UNPROCESSABLE_ENTITY
        )
}

impl Answers {
    /// Keeps the answer to a form that was sent to an address, and leads to it; cookies go with
    /// that. What is no page to be read stays as it is.
    pub(crate) async fn keep(&self, sent_to: &Uri, owner: &str, response: Response) -> Response {
        if !is_read(&response) {
            return response;
        }
        let (parts, body) = response.into_parts();
        let Ok(page) = to_bytes(body, MOST_BYTES).await else {
            return StatusCode::INTERNAL_SERVER_ERROR.into_response();
        };
        let key = URL_SAFE_NO_PAD.encode(random_bytes::<16>());
        let mut to = Redirect::to(&with(sent_to, &key)).into_response();
        for cookie in parts.headers.get_all(header::SET_COOKIE) {
            to.headers_mut().append(header::SET_COOKIE, cookie.clone());
        }
        let policy = parts.headers.get(header::CONTENT_SECURITY_POLICY).cloned();
        self.put(Kept {
            key,
            owner: owner.to_owned(),
            at: Instant::now(),
            status: parts.status,
            policy,
            page,
        });
        to
    }

    fn put(&self, new: Kept) {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.push_back(new);
        let mut bytes: usize = kept.iter().map(|k| k.page.len()).sum();
        while kept.len() > MOST
            || bytes > MOST_BYTES
            || kept.front().is_some_and(|k| k.at.elapsed() > LIFE)
        {
            let Some(oldest) = kept.pop_front() else { break };
            bytes -= oldest.page.len();
        }
    }

    /// The answer that an address names; where it is over, the way to the address without it.
    /// Nothing for an address that names none.
    pub(crate) fn get(&self, address: &Uri, visitor: &str) -> Option<Response> {
        let key = named(address)?;
        if key == OVER {
            return None;
        }
        let kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let found = kept
            .iter()
            .find(|k| k.key == key && k.owner == visitor && k.at.elapsed() <= LIFE)
            .map(|k| (k.status, k.policy.clone(), k.page.clone()));
        drop(kept);
        let Some((status, policy, page)) = found else {
            return Some(Redirect::to(&with(address, OVER)).into_response());
        };
        let kind = (header::CONTENT_TYPE, "text/html; charset=utf-8");
        let mut response = (status, [kind], Body::from(page)).into_response();
        if let Some(policy) = policy {
            response.headers_mut().insert(header::CONTENT_SECURITY_POLICY, policy);
        }
        Some(response)
    }
}

/// Where an answer is over and its address takes forms only, the address above it.
pub(crate) fn above(address: &Uri, response: Response) -> Response {
    if response.status() != StatusCode::METHOD_NOT_ALLOWED || named(address) != Some(OVER) {
        return response;
    }
    let above = address.path().rsplit_once('/').map_or("", |(above, _)| above);
    Redirect::to(&format!("{}?{FIELD}={OVER}", here(above))).into_response()
}

/// A path that leads nowhere but here: one that begins with two slashes names another host
/// (RFC 3986 §4.2), and browsers read a backslash as a slash (WHATWG URL).
fn here(path: &str) -> String {
    format!("/{}", path.trim_start_matches(['/', '\\']))
}

fn named(address: &Uri) -> Option<&str> {
    let fields = address.query()?.split('&');
    fields.filter_map(|f| f.split_once('=')).find(|(name, _)| *name == FIELD).map(|(_, key)| key)
}

/// The address with an answer named in it, and no other.
fn with(address: &Uri, key: &str) -> String {
    let others = address.query().unwrap_or_default().split('&');
    let others: Vec<&str> = others
        .filter(|f| !f.is_empty() && f.split_once('=').is_none_or(|(name, _)| name != FIELD))
        .collect();
    let mut query = others.join("&");
    if !query.is_empty() {
        query.push('&');
    }
    format!("{}?{query}{FIELD}={key}", here(address.path()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn an_answer_is_read_again_by_whoever_got_it_and_only_while_it_is_kept() {
        let answers = Answers::default();
        let page = |text: String| {
            let kind = (header::CONTENT_TYPE, "text/html; charset=utf-8");
            (StatusCode::CONFLICT, [kind], text).into_response()
        };
        let to: Uri = "/office/events/3/rules?tab=2&kept=old".parse().unwrap();
        let led = answers.keep(&to, "ana", page("no".into())).await;
        assert_eq!(led.status(), StatusCode::SEE_OTHER);
        let at: Uri = led.headers()[header::LOCATION].to_str().unwrap().parse().unwrap();
        assert!(at.to_string().starts_with("/office/events/3/rules?tab=2&kept="), "{at}");
        for _ in 0..2 {
            let again = answers.get(&at, "ana").unwrap();
            assert_eq!(again.status(), StatusCode::CONFLICT);
            assert_eq!(to_bytes(again.into_body(), 9).await.unwrap(), "no");
        }
        let for_another = answers.get(&at, "kit").unwrap();
        assert_eq!(
            for_another.headers()[header::LOCATION],
            "/office/events/3/rules?tab=2&kept=over"
        );
        for i in 0..MOST {
            answers.keep(&to, "kit", page(i.to_string())).await;
        }
        assert_eq!(answers.get(&at, "ana").unwrap().status(), StatusCode::SEE_OTHER);
        // Where an address takes forms only, the way leads up until a page is there.
        let over: Uri = "/office/dates/3/change?kept=over".parse().unwrap();
        assert!(answers.get(&over, "ana").is_none());
        let up = above(&over, StatusCode::METHOD_NOT_ALLOWED.into_response());
        assert_eq!(up.headers()[header::LOCATION], "/office/dates/3?kept=over");
        // What leads on already, or asks to wait, is left alone.
        let late = answers.keep(&to, "ana", StatusCode::TOO_MANY_REQUESTS.into_response()).await;
        assert_eq!(late.status(), StatusCode::TOO_MANY_REQUESTS);
    }

    #[tokio::test]
    async fn what_is_kept_has_a_bound_in_bytes_and_what_is_no_page_is_not_kept() {
        let answers = Answers::default();
        let to: Uri = "/office/house".parse().unwrap();
        let kind = (header::CONTENT_TYPE, "text/html; charset=utf-8");
        let large = || ([kind.clone()], vec![b'x'; MOST_BYTES / 3]).into_response();
        let mut at = Vec::new();
        for _ in 0..4 {
            let led = answers.keep(&to, "ana", large()).await;
            at.push(led.headers()[header::LOCATION].to_str().unwrap().parse::<Uri>().unwrap());
        }
        let is_kept =
            |at: &Uri| answers.get(at, "ana").is_some_and(|r| r.status() == StatusCode::OK);
        assert_eq!(at.iter().map(is_kept).collect::<Vec<_>>(), [false, true, true, true]);
        let bytes: usize = answers.kept.lock().unwrap().iter().map(|k| k.page.len()).sum();
        assert!(bytes <= MOST_BYTES);
        // Files, and what leads elsewhere, stay what they are; cookies go with the redirect.
        let file = [(header::CONTENT_TYPE, "text/csv")];
        assert_eq!(answers.keep(&to, "ana", (file, "a;b").into_response()).await.status(), 200);
        let on = Redirect::to("/office").into_response();
        assert_eq!(answers.keep(&to, "ana", on).await.headers()[header::LOCATION], "/office");
        let cookie = [(header::SET_COOKIE, "a=b")];
        let led = answers.keep(&to, "ana", (cookie, [kind.clone()], "page").into_response()).await;
        assert_eq!(led.headers()[header::SET_COOKIE], "a=b");
        assert_eq!(led.headers()[header::LOCATION].to_str().unwrap().matches("kept=").count(), 1);
        // An address that names nothing is nobody's business.
        for plain in ["/", "/?q=kept", "/?kept", "/x?y=kept=1"] {
            assert!(answers.get(&plain.parse().unwrap(), "ana").is_none(), "{plain}");
        }
    }
}
