//! Cookies: which there are, and what they say.

use axum::http::{HeaderMap, HeaderValue, header};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;

use matricle_core::DateId;

use crate::Settings;

/// Whether a request carries anything of somebody's own: then its page is theirs alone.
pub(crate) fn is_personal(headers: &HeaderMap) -> bool {
    session_token(headers).is_some()
        || cookie(headers, HOLD).is_some()
        || cookie(headers, INVITED).is_some()
}

pub(crate) const VISITOR: &str = "visitor";
const SESSION: &str = "session";
/// The hold that this browser has begun.
const HOLD: &str = "hold";
/// The invitation that this browser has opened.
const INVITED: &str = "invited";
/// Which door this device stands at.
const DOOR: &str = "door";

/// The token of a device that has joined.
const DEVICE: &str = "device";

/// The value of a cookie.
pub(crate) fn cookie<'h>(headers: &'h HeaderMap, name: &str) -> Option<&'h str> {
    headers
        .get_all(header::COOKIE)
        .iter()
        .filter_map(|line| line.to_str().ok())
        .flat_map(|line| line.split(';'))
        .filter_map(|pair| pair.trim().split_once('='))
        .find(|(known, _)| *known == name)
        .map(|(_, value)| value)
}

pub(crate) fn set_cookie(
    settings: &Settings,
    name: &str,
    value: &str,
    seconds: Option<u64>,
) -> HeaderValue {
    let secure = if settings.secure_cookies { "; Secure" } else { "" };
    let age = seconds.map_or(String::new(), |s| format!("; Max-Age={s}"));
    HeaderValue::from_str(&format!("{name}={value}; Path=/; HttpOnly; SameSite=Lax{age}{secure}"))
        .unwrap_or(HeaderValue::from_static("visitor=; Max-Age=0"))
}

/// Sets the cookie of a session.
pub(crate) fn session_cookie(settings: &Settings, token: &str) -> HeaderValue {
    set_cookie(settings, SESSION, token, Some(14 * 24 * 3600))
}

/// Removes the cookie of a session.
pub(crate) fn no_session(settings: &Settings) -> HeaderValue {
    set_cookie(settings, SESSION, "", Some(0))
}

/// Remembers the invitation whose link this browser has opened: it is known there for that
/// event, and for nothing else.
pub(crate) fn invitation_cookie(settings: &Settings, id: i64, key: &str) -> HeaderValue {
    set_cookie(settings, INVITED, &format!("{id}.{key}"), Some(30 * 24 * 3600))
}

/// Number and secret part of the invitation that this browser has opened.
pub(crate) fn invitation_of(headers: &HeaderMap) -> Option<(i64, String)> {
    let (id, key) = cookie(headers, INVITED)?.split_once('.')?;
    Some((id.parse().ok()?, key.to_owned()))
}

/// Remembers the hold that this browser has begun.
pub(crate) fn hold_cookie(settings: &Settings, address: &str) -> HeaderValue {
    set_cookie(settings, HOLD, address, Some(24 * 3600))
}

/// Remembers at which door of a date this device stands. Written in base64, since names of doors
/// may hold anything.
pub(crate) fn door_cookie(settings: &Settings, date: DateId, door: &str) -> HeaderValue {
    let name = format!("{DOOR}-{date}");
    set_cookie(settings, &name, &URL_SAFE_NO_PAD.encode(door), Some(7 * 24 * 3600))
}

/// Remembers that this device has joined.
pub(crate) fn device_cookie(settings: &Settings, token: &str, seconds: u64) -> HeaderValue {
    set_cookie(settings, DEVICE, token, Some(seconds))
}

/// The token of a device that has joined.
pub(crate) fn device_token(headers: &HeaderMap) -> Option<&str> {
    cookie(headers, DEVICE).filter(|token| !token.is_empty())
}

/// The door of a date at which this device stands.
pub(crate) fn door_name(headers: &HeaderMap, date: DateId) -> String {
    cookie(headers, &format!("{DOOR}-{date}"))
        .and_then(|v| URL_SAFE_NO_PAD.decode(v).ok())
        .and_then(|bytes| String::from_utf8(bytes).ok())
        .filter(|name| !name.trim().is_empty())
        .unwrap_or_else(|| "main door".into())
}

/// The session token of a request.
pub(crate) fn session_token(headers: &HeaderMap) -> Option<&str> {
    cookie(headers, SESSION).filter(|token| !token.is_empty())
}

/// Reference and key of the hold that this browser has begun.
pub(crate) fn hold_of(headers: &HeaderMap) -> Option<(String, String)> {
    let (reference, key) = cookie(headers, HOLD)?.split_once('.')?;
    Some((reference.to_owned(), key.to_owned()))
}
