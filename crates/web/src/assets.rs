//! Scripts, styles and fonts that ship with the program.

use std::sync::LazyLock;

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

pub(crate) fn find(path: &str) -> Option<EmbeddedFile> {
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

pub(crate) fn media_type(path: &str) -> &'static str {
    match path.rsplit_once('.').map_or("", |(_, ending)| ending) {
        "css" => "text/css; charset=utf-8",
        "js" => "text/javascript; charset=utf-8",
        "wasm" => "application/wasm",
        "woff2" => "font/woff2",
        "svg" => "image/svg+xml",
        "png" => "image/png",
        _ => "application/octet-stream",
    }
}
