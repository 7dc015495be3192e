//! Scripts, styles and fonts that ship with the program.

use std::sync::LazyLock;

use axum::extract::Path;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use rust_embed::{EmbeddedFile, RustEmbed};
use sha2::{Digest, Sha256};

#[derive(RustEmbed)]
#[folder = "assets"]
struct Own;

#[derive(RustEmbed)]
#[folder = "../../assets/vendor"]
#[include = "bootstrap/*.css"]
#[include = "htmx/*.js"]
#[include = "trix/trix*"]
#[include = "zxing/zxing*"]
#[include = "fonts/*.woff2"]
struct Vendor;

fn find(path: &str) -> Option<EmbeddedFile> {
    Own::get(path).or_else(|| Vendor::get(path))
}

/// Changes with any of the files, so that browsers keep them for ever and still
/// never see an old one.
pub(crate) static VERSION: LazyLock<String> = LazyLock::new(|| {
    let mut hash = Sha256::new();
    for name in Own::iter().chain(Vendor::iter()) {
        if let Some(file) = find(&name) {
            hash.update(file.metadata.sha256_hash());
        }
    }
    hash.finalize()[..6].iter().fold(String::new(), |hex, byte| format!("{hex}{byte:02x}"))
});

/// `GET /static/{path}`: a file, to be kept for a year; its address carries [`VERSION`].
pub(crate) async fn serve(Path(path): Path<String>) -> Response {
    let path = path.strip_prefix(&format!("{}/", *VERSION)).unwrap_or(&path);
    let Some(file) = find(path) else { return StatusCode::NOT_FOUND.into_response() };
    let media_type = match path.rsplit_once('.').map_or("", |(_, ending)| ending) {
        "css" => "text/css; charset=utf-8",
        "js" => "text/javascript; charset=utf-8",
        "wasm" => "application/wasm",
        "woff2" => "font/woff2",
        "svg" => "image/svg+xml",
        _ => "application/octet-stream",
    };
    let headers = [
        (header::CONTENT_TYPE, media_type),
        (header::CACHE_CONTROL, "public, max-age=31536000, immutable"),
        // A worker obeys the policy its own script comes with; it runs WebAssembly.
        (
            header::CONTENT_SECURITY_POLICY,
            "default-src 'none'; script-src 'self' 'wasm-unsafe-eval'; connect-src 'self'",
        ),
    ];
    (headers, file.data).into_response()
}
