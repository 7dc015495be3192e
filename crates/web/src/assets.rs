//! Scripts, styles and fonts that ship with the program.

use std::sync::LazyLock;

use rust_embed::{EmbeddedFile, RustEmbed};
use sha2::{Digest, Sha256};

#[derive(RustEmbed)]
#[folder = "assets"]
struct Own;

#[derive(RustEmbed)]
#[folder = "../../assets/vendor/bootstrap"]
#[prefix = "bootstrap/"]
struct Bootstrap;

#[derive(RustEmbed)]
#[folder = "../../assets/vendor/htmx"]
#[prefix = "htmx/"]
struct Htmx;

#[derive(RustEmbed)]
#[folder = "../../assets/vendor/trix"]
#[prefix = "trix/"]
struct Trix;

#[derive(RustEmbed)]
#[folder = "../../assets/vendor/zxing"]
#[prefix = "zxing/"]
struct Zxing;

#[derive(RustEmbed)]
#[folder = "../../assets/vendor/webfonts"]
#[prefix = "fonts/"]
struct Fonts;

pub(crate) fn find(path: &str) -> Option<EmbeddedFile> {
    let get = match path.split_once('/').map(|(folder, _)| folder) {
        Some("bootstrap") => Bootstrap::get,
        Some("htmx") => Htmx::get,
        Some("trix") => Trix::get,
        Some("zxing") => Zxing::get,
        Some("fonts") => Fonts::get,
        _ => Own::get,
    };
    get(path)
}

/// The names of all that ships.
fn names() -> impl Iterator<Item = std::borrow::Cow<'static, str>> {
    let scripts = Bootstrap::iter().chain(Htmx::iter()).chain(Trix::iter());
    Own::iter().chain(scripts).chain(Zxing::iter()).chain(Fonts::iter())
}

/// Changes with any of the files, so that browsers keep them for ever and still
/// never see an old one.
pub(crate) static VERSION: LazyLock<String> = LazyLock::new(|| {
    let mut hash = Sha256::new();
    for name in names() {
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
