//! Answers that are files: lists as CSV and XLSX, papers as PDF.

use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse, Response};
use matricle_desk::DeskError;
use matricle_formats::barcode;
use matricle_formats::table::{self, Cell};

use crate::error::WebError;

/// A list as a file of the kind that an address ends in.
pub(crate) fn list_file(
    path: &str,
    name: &str,
    head: &[&str],
    rows: &[Vec<Cell>],
) -> Result<Response, WebError> {
    let (media_type, bytes) = if path.ends_with(".csv") {
        ("text/csv; charset=utf-8", table::csv(head, rows))
    } else {
        let book = table::xlsx(name, head, rows)
            .map_err(|e| DeskError::Internal(format!("writing a list: {e}")))?;
        ("application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", book)
    };
    let ending = if path.ends_with(".csv") { "csv" } else { "xlsx" };
    let file = format!("attachment; filename=\"{}.{ending}\"", name.to_lowercase());
    Ok((
        [(header::CONTENT_TYPE, media_type.to_owned()), (header::CONTENT_DISPOSITION, file)],
        bytes,
    )
        .into_response())
}

/// A PDF that opens in the browser under a name.
pub(crate) fn pdf(name: &str, bytes: Vec<u8>) -> Response {
    let headers = [
        (header::CONTENT_TYPE, "application/pdf".to_owned()),
        (header::CONTENT_DISPOSITION, format!("inline; filename=\"{name}.pdf\"")),
        (header::CACHE_CONTROL, "private, no-store".to_owned()),
    ];
    (headers, bytes).into_response()
}

/// A PDF that stands within a page of ours: its preview, or what is printed from there.
pub(crate) fn pdf_within(name: &str, bytes: Vec<u8>) -> Response {
    let mut response = pdf(name, bytes);
    let policy = HeaderValue::from_static("default-src 'none'; frame-ancestors 'self'");
    response.headers_mut().insert(header::CONTENT_SECURITY_POLICY, policy);
    response
}

/// A QR code as SVG, with its quiet zone.
pub(crate) fn qr_svg(code: matricle_core::words::codes::TicketCode) -> String {
    square_svg(&barcode::qr(code), &format!("QR code of ticket {code}"))
}

/// A QR code as SVG, with its quiet zone of four modules.
pub(crate) fn square_svg(square: &barcode::Square, label: &str) -> String {
    let side = square.side + 8;
    let dark: String = square
        .dark
        .iter()
        .enumerate()
        .filter(|(_, dark)| **dark)
        .map(|(i, _)| format!("M{} {}h1v1h-1z", i % square.side + 4, i / square.side + 4))
        .collect();
    format!(
        r#"<svg class="qr" viewBox="0 0 {side} {side}" role="img" aria-label="{label}" shape-rendering="crispEdges"><rect width="{side}" height="{side}" fill="white"/><path d="{dark}" fill="black"/></svg>"#
    )
}
