//! Files of our own, by their addresses.

use axum::extract::Path;
use axum::http::{HeaderMap, HeaderValue, header};
use axum::response::{IntoResponse, Response};

use crate::assets::{VERSION, find, media_type};
use crate::serving::{self, Served};

/// `GET /static/{path}`: a file. At an address that carries [`VERSION`] it stays what it is, and
/// is kept for a year; at any other it is asked for anew each time.
pub(crate) async fn serve(Path(path): Path<String>, asked: HeaderMap) -> Response {
    let (path, stays) = match path.split_once('/') {
        Some((version, rest)) if version == *VERSION => (rest, true),
        // The version of a page from before an update: the file as it is now.
        Some((version, rest)) if version.len() == VERSION.len() && find(&path).is_none() => {
            (rest, false)
        }
        _ => (path.as_str(), false),
    };
    let Some(file) = find(path) else { return crate::error::not_found().await };
    let cache = if stays { "public, max-age=31536000, immutable" } else { "public, no-cache" };
    let served = Served { media_type: media_type(path), cache, changed: None };
    let mut response = serving::bytes(&asked, file.data.into_owned(), &served);
    // A worker obeys the policy its own script comes with; it runs WebAssembly.
    response.headers_mut().insert(
        header::CONTENT_SECURITY_POLICY,
        HeaderValue::from_static(
            "default-src 'none'; script-src 'self' 'wasm-unsafe-eval'; connect-src 'self'",
        ),
    );
    response
}

/// A script that keeps pages (W3C Service Workers), with the version of the files that it keeps,
/// for all addresses under `scope`.
pub(crate) async fn worker(name: &str, scope: &'static str) -> Response {
    let Some(file) = find(name) else { return crate::error::not_found().await };
    let script = String::from_utf8_lossy(&file.data).replace("VERSION", &VERSION);
    let headers = [
        (header::CONTENT_TYPE, HeaderValue::from_static("text/javascript; charset=utf-8")),
        (header::CACHE_CONTROL, HeaderValue::from_static("no-cache")),
        (
            header::HeaderName::from_static("service-worker-allowed"),
            HeaderValue::from_static(scope),
        ),
        (
            header::CONTENT_SECURITY_POLICY,
            HeaderValue::from_static("default-src 'none'; script-src 'self'; connect-src 'self'"),
        ),
    ];
    (headers, script).into_response()
}

/// `GET /tickets-keeper.js`: keeps the pages of tickets on a telephone.
pub(crate) async fn tickets() -> Response {
    worker("tickets-keeper.js", "/").await
}

/// `GET /favicon.ico`, where browsers look for it by themselves.
pub(crate) async fn favicon(asked: HeaderMap) -> Response {
    let Some(file) = find("icon-48.png") else { return crate::error::not_found().await };
    let served = Served { media_type: "image/png", cache: "public, max-age=86400", changed: None };
    serving::bytes(&asked, file.data.into_owned(), &served)
}
