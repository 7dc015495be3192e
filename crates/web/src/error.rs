//! Failures as pages: what happened, and what to do.

use std::any::Any;

use askama::Template;
use axum::http::{StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use matricle_desk::DeskError;
use matricle_desk::outside::provider::ProviderError;
use matricle_desk::outside::rooms::RoomError;

use crate::assets;

/// Why a request was not answered as asked.
#[derive(Debug, thiserror::Error)]
pub(crate) enum WebError {
    #[error(transparent)]
    Desk(#[from] DeskError),
    #[error("sign in first")]
    SignInFirst { back: String },
    #[error("somebody without a role at the Office")]
    OnlySubmits,
    #[error("a form of another site")]
    Elsewhere,
    #[error("a form of an old page")]
    OldPage,
    #[error("a form that cannot be read")]
    Unreadable,
    #[error("a form that is too large")]
    TooLarge,
    #[error("a form that came too slowly")]
    TooSlow,
    #[error("a request for no host, or for several")]
    NoHost,
    /// A refusal that the page has put into words.
    #[error("{what}")]
    Refused { title: &'static str, what: String },
    #[error("too often")]
    TooOften { seconds: u64 },
    #[error("a page that cannot be rendered: {0}")]
    Page(#[from] askama::Error),
}

#[derive(Template)]
#[template(path = "error.html")]
struct ErrorPage<'a> {
    version: &'static str,
    house: &'a str,
    title: &'static str,
    what: String,
}

impl IntoResponse for WebError {
    #[expect(clippy::too_many_lines, reason = "a table: every refusal beside its words")]
    fn into_response(self) -> Response {
        let (status, title, what) = match self {
            Self::SignInFirst { back } => {
                let back = crate::address::encode(&back);
                return Redirect::to(&format!("/sign-in?back={back}")).into_response();
            }
            Self::OnlySubmits => {
                return Redirect::to("/submissions?from=office").into_response();
            }
            Self::Refused { title, what } => (StatusCode::CONFLICT, title, what),
            Self::Desk(DeskError::NotFound) => missing(),
            Self::Desk(DeskError::Right(refusal)) => (
                StatusCode::FORBIDDEN,
                "Not for your role",
                format!(
                    "You are signed in as a {}, who may not do this. Ask an organiser, or sign in as somebody else.",
                    refusal.role.word()
                ),
            ),
            Self::Desk(DeskError::NotSetUp) => (
                StatusCode::SERVICE_UNAVAILABLE,
                "Not set up yet",
                "This house has no name yet. Whoever runs the program gives it one in its configuration.".into(),
            ),
            Self::Desk(DeskError::Move(refusal)) => (
                StatusCode::CONFLICT,
                "That is no longer possible",
                format!(
                    "This booking is {} by now. Go back and load the page again to see what can be done.",
                    refusal.state.word()
                ),
            ),
            Self::Desk(DeskError::Choice(refusal)) => (
                StatusCode::CONFLICT,
                "The seats cannot be kept",
                crate::wording::choice(&refusal, &[]),
            ),
            Self::Desk(DeskError::Submission(refusal)) => (
                StatusCode::CONFLICT,
                "That cannot be done",
                crate::wording::submission(&refusal, "UTC", jiff::Timestamp::UNIX_EPOCH),
            ),
            Self::Desk(DeskError::Keep(refusal)) => {
                (StatusCode::CONFLICT, "The seats cannot be kept", crate::wording::keep(&refusal))
            }
            Self::Desk(DeskError::TooOften { seconds }) => {
                return Self::TooOften { seconds }.into_response();
            }
            Self::Desk(DeskError::Busy) => (
                StatusCode::SERVICE_UNAVAILABLE,
                "A moment, please",
                "Many pictures and papers are being made just now, so nothing was done. Go back and try again in a few seconds.".into(),
            ),
            Self::Desk(DeskError::KeyOfAnother) => (
                StatusCode::CONFLICT,
                "Scan again",
                "This scan was of somebody else, so nothing was done. Scan the ticket again.".into(),
            ),
            Self::Desk(DeskError::IntoPast) => {
                (StatusCode::CONFLICT, "In the past", crate::wording::INTO_PAST.into())
            }
            Self::Desk(DeskError::RefusesMail(address)) => {
                (StatusCode::CONFLICT, "No mail goes there", crate::wording::refuses_mail(&address))
            }
            Self::Desk(DeskError::Inside { name }) => (
                StatusCode::CONFLICT,
                "Somebody is inside",
                crate::wording::inside(&name),
            ),
            Self::Desk(DeskError::Device(refusal)) => (
                StatusCode::FORBIDDEN,
                "Not on this device",
                crate::wording::sentence(&refusal.to_string()),
            ),
            Self::Desk(DeskError::HallFull { inside, most }) => (
                StatusCode::CONFLICT,
                "The hall is full",
                format!("{inside} are inside and {most} may be. Nothing was booked and nothing taken. Wait until somebody goes out, or ask an organiser to lift the limit."),
            ),
            Self::Desk(DeskError::ListClosed) => (
                StatusCode::CONFLICT,
                "The list is closed",
                "Who came is settled, or the date has not begun yet. A closed list is opened again on its page, with a reason.".into(),
            ),
            Self::Desk(DeskError::DoorShut) => (
                StatusCode::FORBIDDEN,
                "This door is not open",
                "A door opens by itself on the day of its date. For another day an organiser opens it, on the page of its dates.".into(),
            ),
            Self::Desk(DeskError::PriceChanged { old, new }) => (
                StatusCode::CONFLICT,
                "The price has changed",
                format!("These seats cost {old} before and cost {new} now. Go back to see them."),
            ),
            Self::Desk(DeskError::NotADraft) => (
                StatusCode::CONFLICT,
                "Not a draft",
                "Only a draft is thrown away or publishes itself, and one that was thrown away is brought back first. Go back and load its sheet again.".into(),
            ),
            Self::Desk(DeskError::Booked { bookings }) => (
                StatusCode::CONFLICT,
                "People have booked",
                format!(
                    "{} in the way: an event that people have booked stays in the Programme. Cancel them first, if it must go.",
                    if bookings == 1 { "One booking is".into() } else { format!("{bookings} bookings are") }
                ),
            ),
            Self::Desk(DeskError::Who(refusal)) => {
                (StatusCode::FORBIDDEN, "Not open to everybody", crate::wording::who(&refusal))
            }
            Self::Desk(DeskError::SignUp(refusal)) => (
                StatusCode::CONFLICT,
                "The session cannot be had",
                crate::wording::sign_up(&refusal, |_| "This session".into()),
            ),
            Self::Desk(DeskError::Clashes(_)) => (
                StatusCode::CONFLICT,
                "Used twice at one time",
                "A room or a host is needed elsewhere then. Go back and say whether that is meant.".into(),
            ),
            Self::Desk(DeskError::Freed { bookings }) => (
                StatusCode::CONFLICT,
                "Bookings wait for a yes",
                format!(
                    "{} for a yes and would not need it any more. Go back and say what becomes of them.",
                    if bookings.len() == 1 { "One booking waits".into() } else { format!("{} bookings wait", bookings.len()) }
                ),
            ),
            Self::Desk(DeskError::NotByBooker) => (
                StatusCode::FORBIDDEN,
                "This is for the organiser",
                "It has begun, or it is not open to bookers here. Write to us, and we will see to it.".into(),
            ),
            Self::Desk(DeskError::BookedBefore { .. }) => (
                StatusCode::CONFLICT,
                "Booked before",
                "There is a booking of this date with the same address. Go back and say that you mean another.".into(),
            ),
            Self::Desk(DeskError::NoTransfer) => (
                StatusCode::CONFLICT,
                "Not by bank transfer",
                "The date is too near for a transfer to arrive. Go back and pay by card.".into(),
            ),
            Self::Desk(DeskError::Promo { code, refusal }) => {
                (StatusCode::CONFLICT, "The code is not taken", crate::wording::promo(&code, &refusal, "UTC"))
            }
            Self::Desk(DeskError::Stamps(refusal)) => {
                (StatusCode::CONFLICT, "The card does not pay", crate::wording::stamps(&refusal, "UTC"))
            }
            Self::Desk(DeskError::SeatsFree) => (
                StatusCode::CONFLICT,
                "The seats are free",
                "Nobody need wait any more: go back and book them.".into(),
            ),
            Self::Desk(DeskError::NotPublished) => (
                StatusCode::CONFLICT,
                "Not in the Programme yet",
                "Publish the event first; whoever is invited could not open it.".into(),
            ),
            Self::Desk(DeskError::OverFull(_)) => (
                StatusCode::CONFLICT,
                "More people than seats",
                "More have booked than would fit. Go back and say whether that is meant.".into(),
            ),
            Self::Desk(DeskError::Details(_) | DeskError::Quick(_) | DeskError::Form(_)) => (
                StatusCode::UNPROCESSABLE_ENTITY,
                "Some fields need another look",
                "Go back to the form; what you typed is kept.".into(),
            ),
            Self::Desk(DeskError::EnoughLinks) => (
                StatusCode::CONFLICT,
                "Mailed before",
                "The link was mailed three times. Look in the folder for unwanted mail, or keep the address of the booking’s page.".into(),
            ),
            Self::Desk(DeskError::NothingToUndo) => (
                StatusCode::CONFLICT,
                "Nothing to undo",
                "This scan let nobody in, or was undone before.".into(),
            ),
            Self::Desk(DeskError::SignIn | DeskError::ShortPassword { .. }) => (
                StatusCode::UNPROCESSABLE_ENTITY,
                "That did not work",
                "Address and password do not belong together.".into(),
            ),
            Self::Desk(DeskError::MailAway) => (
                StatusCode::BAD_GATEWAY,
                "The mail cannot be sent at present",
                "Wait some minutes, then ask for the number again.".into(),
            ),
            Self::Desk(DeskError::Unsigned) => {
                (StatusCode::UNAUTHORIZED, "Not signed", "This call is not signed as it should be.".into())
            }
            Self::Desk(DeskError::Room(RoomError::Full)) => (
                StatusCode::CONFLICT,
                "The room is full",
                "Nobody more gets in just now. Make it larger at the meeting-room service, then try again.".into(),
            ),
            Self::Desk(DeskError::Room(error)) => {
                tracing::warn!(%error, "the meeting-room service failed");
                (
                    StatusCode::BAD_GATEWAY,
                    "The room does not answer",
                    "Wait a moment, then try again.".into(),
                )
            }
            Self::Desk(DeskError::Provider(ProviderError::None)) => (
                StatusCode::CONFLICT,
                "Not by card",
                "Nothing can be paid by card here. Go back to your booking: it says how else.".into(),
            ),
            Self::Desk(DeskError::Provider(error)) => {
                tracing::warn!(%error, "the card provider failed");
                (
                    StatusCode::BAD_GATEWAY,
                    "The card provider does not answer",
                    "Your seats are kept. Wait a moment, then load this page again.".into(),
                )
            }
            Self::Elsewhere => (
                StatusCode::FORBIDDEN,
                "A form from another site",
                "This form was not sent from one of our pages, so nothing was done. Open the page here and try again.".into(),
            ),
            Self::OldPage => (
                StatusCode::FORBIDDEN,
                "This page was too old",
                "Nothing was done. Go back, load the page again and send it once more.".into(),
            ),
            Self::Unreadable => (
                StatusCode::BAD_REQUEST,
                "The form could not be read",
                "Nothing was done. Go back, load the page again and send it once more.".into(),
            ),
            Self::TooLarge => (
                StatusCode::PAYLOAD_TOO_LARGE,
                "Too much at once",
                "The form was larger than any of its fields may be, so nothing was done. Go back, shorten it and send it again.".into(),
            ),
            Self::TooSlow => (
                StatusCode::REQUEST_TIMEOUT,
                "It took too long",
                "The form did not arrive whole, so nothing was done. Go back and send it again.".into(),
            ),
            Self::NoHost => (
                StatusCode::BAD_REQUEST,
                "Not for us",
                "The request does not say which site it is for. Open the page by its address.".into(),
            ),
            Self::TooOften { seconds } => {
                let wait = crate::wording::wait(seconds);
                let what = format!(
                    "Wait {wait}, then try again; nothing you typed is lost if you go back."
                );
                let page = render(StatusCode::TOO_MANY_REQUESTS, "Too often in a short time", what);
                return ([(header::RETRY_AFTER, seconds.to_string())], page).into_response();
            }
            error @ (Self::Page(_)
            | Self::Desk(
                DeskError::Store(_)
                | DeskError::Plan(_)
                | DeskError::Paper(_)
                | DeskError::Mail(_)
                | DeskError::Internal(_),
            )) => {
                tracing::error!(%error, "a request failed");
                broken()
            }
        };
        render(status, title, what)
    }
}

fn missing() -> (StatusCode, &'static str, String) {
    (
        StatusCode::NOT_FOUND,
        "There is nothing at this address",
        "It may have been typed wrongly, or what was here is over. The programme shows what is coming.".into(),
    )
}

fn broken() -> (StatusCode, &'static str, String) {
    (
        StatusCode::INTERNAL_SERVER_ERROR,
        "Something went wrong on our side",
        "It has been noted. Go back and try again; what was saved is still there.".into(),
    )
}

fn render(status: StatusCode, title: &'static str, what: String) -> Response {
    let page =
        ErrorPage { version: &assets::VERSION, house: "Matricle", title, what: what.clone() };
    let mut response = match page.render() {
        Ok(html) => (status, Html(html)).into_response(),
        Err(_) => (status, what.clone()).into_response(),
    };
    response.extensions_mut().insert(InShort { title, what });
    response
}

/// The same failure in short, for a page that asked for a part of itself.
#[derive(Debug, Clone)]
pub(crate) struct InShort {
    title: &'static str,
    what: String,
}

#[derive(Template)]
#[template(path = "parts/flash.html")]
struct Flash<'a> {
    title: &'a str,
    what: &'a str,
}

/// Replaces a page that says what failed by a few words, for [`InShort`].
pub(crate) fn in_short(response: Response) -> Response {
    let Some(short) = response.extensions().get::<InShort>().cloned() else { return response };
    let status = response.status();
    match (Flash { title: short.title, what: &short.what }).render() {
        Ok(html) => (status, Html(html)).into_response(),
        Err(_) => response,
    }
}

/// Whether an answer is a page that says what failed.
pub(crate) fn is_failure(response: &Response) -> bool {
    response.extensions().get::<InShort>().is_some()
}

/// The page that says what failed, with the face of the house.
pub(crate) fn dressed(house: &str, response: Response) -> Response {
    let Some(short) = response.extensions().get::<InShort>().cloned() else { return response };
    let (mut parts, body) = response.into_parts();
    let InShort { title, what } = short;
    match (ErrorPage { version: &assets::VERSION, house, title, what }).render() {
        Ok(html) => {
            parts.headers.remove(header::CONTENT_LENGTH);
            Response::from_parts(parts, html.into())
        }
        Err(_) => Response::from_parts(parts, body),
    }
}

/// What is said of an address with a part that is none, such as a number with letters in it: that
/// nothing is there, as of any other, and nothing of the program's inside.
pub(crate) fn of_address(response: Response) -> Response {
    let kind = response.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok());
    let is_plain = kind.is_some_and(|k| k.starts_with("text/plain"));
    if response.status() == StatusCode::BAD_REQUEST && is_plain {
        return WebError::Desk(DeskError::NotFound).into_response();
    }
    response
}

/// Any address that no route knows.
pub(crate) async fn not_found() -> Response {
    WebError::Desk(DeskError::NotFound).into_response()
}

/// A handler that panicked: the cause goes to the log, none of it to the page.
pub(crate) fn panicked(cause: Box<dyn Any + Send>) -> Response {
    let cause = cause
        .downcast_ref::<String>()
        .map(String::as_str)
        .or_else(|| cause.downcast_ref::<&str>().copied())
        .unwrap_or("unknown");
    tracing::error!(cause, "a handler panicked");
    let (status, title, what) = broken();
    render(status, title, what)
}
