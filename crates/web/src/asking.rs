//! Who asks, taken from a request: visitor, session, network, the form that was sent.

use std::net::{IpAddr, Ipv4Addr, SocketAddr};

use axum::extract::{ConnectInfo, FromRequest, FromRequestParts, Multipart, Request};
use axum::http::request::Parts;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::IntoResponse;
use matricle_core::people::network;
use matricle_core::words::text;
use matricle_desk::people::asking::Asking;
use matricle_desk::people::signin::{self, Browser};
use matricle_store::people::{Known, Staff};

use crate::App;
use crate::cookies::{invitation_of, is_personal, session_token};
use crate::error::WebError;

/// A random name that a browser keeps, to which its forms are bound. Empty for whoever only
/// reads what is public: they are given none. And whether the browser carries a session.
#[derive(Debug, Clone)]
pub(crate) struct Visitor(pub(crate) String, pub(crate) bool);

/// What a page that is the same for everybody sends: a choice of tickets, and seats to keep.
/// It is made for nobody, so its token is everybody's; that another site sent it is still
/// refused by what the browser says of where it comes from.
fn is_sent_by_anybody(path: &str) -> bool {
    path.strip_prefix("/events/")
        .and_then(|rest| rest.split_once('/'))
        .is_some_and(|(_, act)| act == "choose" || act == "keep")
}

impl FromRequestParts<App> for Visitor {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, _: &App) -> Result<Self, WebError> {
        parts.extensions.get::<Self>().cloned().ok_or(WebError::Elsewhere)
    }
}

/// The network somebody asks from, and the address they ask from, shortened.
#[derive(Debug, Clone)]
pub(crate) struct Asker(pub(crate) IpAddr, pub(crate) String);

impl FromRequestParts<App> for Asker {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        let peer = parts
            .extensions
            .get::<ConnectInfo<SocketAddr>>()
            .map_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED), |ConnectInfo(addr)| addr.ip());
        let address = asker(peer, &parts.headers, app.settings.behind_proxy);
        Ok(Self(network::of(address), network::shortened(address)))
    }
}

/// Only the last entry of `X-Forwarded-For` was written by the proxy in front; the
/// others say what the asker likes.
fn asker(peer: IpAddr, headers: &HeaderMap, behind_proxy: bool) -> IpAddr {
    let forwarded = headers
        .get_all("x-forwarded-for")
        .iter()
        .next_back()
        .and_then(|v| v.to_str().ok())
        .and_then(|v| v.rsplit(',').next())
        .and_then(|v| v.trim().parse().ok());
    forwarded.filter(|_| behind_proxy).unwrap_or(peer)
}

/// Somebody who works here and has signed in.
#[derive(Debug, Clone)]
pub(crate) struct SignedIn(pub(crate) Staff);

impl FromRequestParts<App> for SignedIn {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        match staff(&parts.headers, app).await? {
            Some(staff) => Ok(Self(staff)),
            // Whoever only books and submits has signed in, and has nothing to do at the Office.
            None if only_submits(&parts.headers, app).await? => Err(WebError::OnlySubmits),
            None => {
                let path = parts.uri.path_and_query().map_or("/office", |p| p.as_str());
                Err(WebError::SignInFirst { back: path.to_owned() })
            }
        }
    }
}

/// Whoever asks, perhaps signed in.
#[derive(Debug, Clone)]
pub(crate) struct Perhaps(pub(crate) Option<Staff>);

impl FromRequestParts<App> for Perhaps {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        Ok(Self(staff(&parts.headers, app).await?))
    }
}

/// Whether somebody has signed in who has no role in the house.
async fn only_submits(headers: &HeaderMap, app: &App) -> Result<bool, WebError> {
    let Some(token) = session_token(headers) else { return Ok(false) };
    Ok(signin::known(&app.desk, token).await?.is_some_and(|known| !known.staff))
}

async fn staff(headers: &HeaderMap, app: &App) -> Result<Option<Staff>, WebError> {
    match session_token(headers) {
        Some(token) => Ok(signin::session(&app.desk, token).await?),
        None => Ok(None),
    }
}

/// Whoever has proved their address by signing in, whether they work here or only book.
#[derive(Debug, Clone)]
pub(crate) struct Somebody(pub(crate) Option<Known>);

impl FromRequestParts<App> for Somebody {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        match session_token(&parts.headers) {
            Some(token) => Ok(Self(signin::known(&app.desk, token).await?)),
            None => Ok(Self(None)),
        }
    }
}

/// What is known of somebody who books: what they have proved, and where they ask from.
pub(crate) struct Booker(pub(crate) Asking);

impl FromRequestParts<App> for Booker {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        let Somebody(known) = Somebody::from_request_parts(parts, app).await?;
        let Asker(network, _) = Asker::from_request_parts(parts, app).await?;
        let Visitor(visitor, _) = Visitor::from_request_parts(parts, app).await?;
        let secrets = &app.desk.secrets;
        Ok(Self(Asking {
            member: known.as_ref().is_some_and(|k| k.member),
            proved: known.map(|k| k.email),
            invitation: invitation_of(&parts.headers),
            from: (
                secrets.trace("browser", &visitor),
                secrets.trace("network", &network.to_string()),
            ),
        }))
    }
}

/// The same for whoever only reads: somebody who carries nothing of their own is nobody.
pub(crate) struct Reader(pub(crate) Asking);

impl FromRequestParts<App> for Reader {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        if !is_personal(&parts.headers) {
            return Ok(Self(Asking::default()));
        }
        let Booker(asking) = Booker::from_request_parts(parts, app).await?;
        Ok(Self(asking))
    }
}

/// The browser that signs in.
pub(crate) struct Signer(pub(crate) Browser);

impl FromRequestParts<App> for Signer {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        let Asker(_, from_where) = Asker::from_request_parts(parts, app).await?;
        let Visitor(visitor, _) = Visitor::from_request_parts(parts, app).await?;
        let agent = parts.headers.get(header::USER_AGENT).and_then(|v| v.to_str().ok());
        Ok(Self(Browser { visitor, agent: agent.unwrap_or_default().into(), from_where }))
    }
}

/// The fields of a form that came from one of our pages, made for this visitor.
#[derive(Debug, Clone)]
pub(crate) struct Posted(pub(crate) Vec<(String, String)>);

impl Posted {
    /// The value of a field; empty when it is missing.
    pub(crate) fn get(&self, name: &str) -> &str {
        self.0.iter().find(|(known, _)| known == name).map_or("", |(_, value)| value)
    }

    /// Whether a field was sent, be it empty.
    pub(crate) fn has(&self, name: &str) -> bool {
        self.0.iter().any(|(known, _)| known == name)
    }

    /// Fields whose names begin with `prefix`, with the rest of the name.
    pub(crate) fn starting<'p>(
        &'p self,
        prefix: &'p str,
    ) -> impl Iterator<Item = (&'p str, &'p str)> {
        self.0
            .iter()
            .filter_map(move |(name, value)| Some((name.strip_prefix(prefix)?, value.as_str())))
    }
}

/// A field without what is unseen in it; a password is whatever somebody types.
fn seen((name, typed): (String, String)) -> (String, String) {
    let typed = if name.contains("password") { typed } else { text::lines(&typed) };
    (name, typed)
}

impl FromRequest<App> for Posted {
    type Rejection = WebError;

    async fn from_request(request: Request, app: &App) -> Result<Self, WebError> {
        let visitor = request.extensions().get::<Visitor>().cloned().ok_or(WebError::Elsewhere)?;
        let by_anybody = is_sent_by_anybody(request.uri().path());
        let in_header =
            request.headers().get("x-form-token").and_then(|v| v.to_str().ok()).map(String::from);
        let axum::Form(fields) = axum::Form::<Vec<(String, String)>>::from_request(request, &())
            .await
            .map_err(|refusal| match refusal.into_response().status() {
                StatusCode::PAYLOAD_TOO_LARGE => WebError::TooLarge,
                StatusCode::REQUEST_TIMEOUT => WebError::TooSlow,
                _ => WebError::Unreadable,
            })?;
        let posted = Self(fields.into_iter().map(seen).collect());
        let token = in_header.unwrap_or_else(|| posted.get("token").to_owned());
        let secrets = &app.desk.secrets;
        if secrets.is_form_token(&visitor.0, &token)
            || by_anybody && secrets.is_form_token("", &token)
        {
            Ok(posted)
        } else {
            Err(WebError::OldPage)
        }
    }
}

/// A form with a file, that came from one of our pages, made for this visitor.
#[derive(Debug, Default)]
pub(crate) struct WithFile {
    /// What else is to be done: `drop` takes the file away.
    pub(crate) act: String,
    /// Words for those who cannot see it.
    pub(crate) alt: String,
    /// What the file is called; empty where none was chosen.
    pub(crate) name: String,
    /// What is in it.
    pub(crate) bytes: Vec<u8>,
}

impl WithFile {
    /// Reads it; `file` is the field that has the file. A handler that has a bound of its own
    /// asks for that first: this reads the whole body.
    pub(crate) async fn read(
        app: &App,
        visitor: &Visitor,
        file: &str,
        mut parts: Multipart,
    ) -> Result<Self, WebError> {
        let (mut sent, mut token) = (Self::default(), String::new());
        let unreadable = |_| WebError::Unreadable;
        while let Some(part) = parts.next_field().await.map_err(unreadable)? {
            match part.name().unwrap_or_default() {
                "token" => token = part.text().await.map_err(unreadable)?,
                "alt" => sent.alt = part.text().await.map_err(unreadable)?,
                "act" => sent.act = part.text().await.map_err(unreadable)?,
                name if name == file => {
                    part.file_name().unwrap_or_default().clone_into(&mut sent.name);
                    sent.bytes = part.bytes().await.map_err(unreadable)?.to_vec();
                }
                _ => {}
            }
        }
        if app.desk.secrets.is_form_token(&visitor.0, &token) {
            Ok(sent)
        } else {
            Err(WebError::OldPage)
        }
    }
}

/// Mails that were dropped as files, any number, or pasted as text.
#[derive(Debug, Default)]
pub(crate) struct Mails(pub(crate) Vec<Vec<u8>>);

impl Mails {
    /// Reads the form: files in the field `mail`, a text in the field `pasted`.
    pub(crate) async fn read(
        app: &App,
        visitor: &Visitor,
        mut parts: Multipart,
    ) -> Result<Self, WebError> {
        let (mut mails, mut token) = (Vec::new(), String::new());
        let unreadable = |_| WebError::Unreadable;
        while let Some(part) = parts.next_field().await.map_err(unreadable)? {
            match part.name().unwrap_or_default() {
                "token" => token = part.text().await.map_err(unreadable)?,
                "mail" | "pasted" => {
                    let bytes = part.bytes().await.map_err(unreadable)?;
                    if !bytes.is_empty() {
                        mails.push(bytes.to_vec());
                    }
                }
                _ => {}
            }
        }
        if app.desk.secrets.is_form_token(&visitor.0, &token) {
            Ok(Self(mails))
        } else {
            Err(WebError::OldPage)
        }
    }
}

/// A form with a text file in the field `file`, that came from one of our pages, made for this
/// visitor.
#[derive(Debug)]
pub(crate) struct Mixed {
    /// All other fields.
    pub(crate) posted: Posted,
    /// What is in the file; empty where none was chosen.
    pub(crate) file: Vec<u8>,
}

impl Mixed {
    /// Reads the form.
    pub(crate) async fn read(
        app: &App,
        visitor: &Visitor,
        mut parts: Multipart,
    ) -> Result<Self, WebError> {
        let (mut fields, mut file) = (Vec::new(), Vec::new());
        let unreadable = |_| WebError::Unreadable;
        while let Some(part) = parts.next_field().await.map_err(unreadable)? {
            match part.name().unwrap_or_default().to_owned() {
                name if name == "file" => {
                    file = part.bytes().await.map_err(unreadable)?.to_vec();
                }
                name => fields.push(seen((name, part.text().await.map_err(unreadable)?))),
            }
        }
        let posted = Posted(fields);
        if app.desk.secrets.is_form_token(&visitor.0, posted.get("token")) {
            Ok(Self { posted, file })
        } else {
            Err(WebError::OldPage)
        }
    }
}

/// Whether htmx asks for a part of a page.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Part(pub(crate) bool);

impl FromRequestParts<App> for Part {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, _: &App) -> Result<Self, WebError> {
        Ok(Self(parts.headers.contains_key("hx-request")))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::http::HeaderValue;

    #[test]
    fn only_the_entry_written_by_our_proxy_counts() {
        let forwarded = |said: &'static str| {
            HeaderMap::from_iter([(
                "x-forwarded-for".parse().unwrap(),
                HeaderValue::from_static(said),
            )])
        };
        let peer: IpAddr = "10.0.0.1".parse().unwrap();
        let told = forwarded("1.1.1.1, 203.0.113.9");
        assert_eq!(asker(peer, &told, true).to_string(), "203.0.113.9");
        assert_eq!(asker(peer, &told, false), peer);
        assert_eq!(asker(peer, &forwarded("nobody"), true), peer);
    }
}
