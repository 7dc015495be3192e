//! Parts of pages that keep themselves up to date (server-sent events).

use std::convert::Infallible;
use std::future::Future;
use std::time::Duration;

use axum::http::HeaderMap;
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use futures_util::stream;
use matricle_core::DateId;
use matricle_core::people::staff::Role;
use matricle_desk::Desk;
use matricle_desk::door::{Volunteer, devices};
use matricle_desk::people::signin;
use matricle_store::people::Staff;
use tokio::sync::broadcast::error::RecvError;
use tokio::time::{sleep, timeout};

use crate::App;
use crate::cookies::{device_token, session_token};
use crate::error::WebError;

/// Changes closer together than this are told as one.
const TOGETHER: Duration = Duration::from_millis(120);
/// Told again after this long without a change: the pace at the door ages.
const AGEING: Duration = Duration::from_secs(20);

/// Who looks at a part of a page: as long as this is so, it is kept up to date.
#[derive(Debug, Clone)]
pub(crate) enum Viewer {
    /// Somebody of the house with a session.
    Staff {
        /// The session's token.
        token: Option<String>,
        /// The role they had when they began to look.
        role: Role,
    },
    /// A device at a door, by its token.
    Device(String),
}

impl Viewer {
    pub(crate) fn of(headers: &HeaderMap, staff: &Staff) -> Self {
        Self::Staff { token: session_token(headers).map(String::from), role: staff.role }
    }

    pub(crate) fn at_door(headers: &HeaderMap, volunteer: &Volunteer) -> Self {
        match volunteer {
            Volunteer::Staff(staff) => Self::of(headers, staff),
            Volunteer::Device(_) => {
                Self::Device(device_token(headers).unwrap_or_default().to_owned())
            }
        }
    }

    /// Whether they may still look: a role that was taken away, a session that was closed and a
    /// device that was sent away end the stream at once.
    async fn may_look(&self, desk: &Desk) -> bool {
        match self {
            Self::Staff { token: None, .. } => false,
            Self::Staff { token: Some(token), role } => {
                let now = signin::session(desk, token).await;
                now.ok().flatten().is_some_and(|now| now.role == *role)
            }
            Self::Device(token) => {
                let device = devices::by_token(desk, token).await;
                device.ok().flatten().is_some_and(|d| d.grant.stands(desk.clock.now()).is_ok())
            }
        }
    }
}

/// A stream of a part of a page: now, and after every change of one of these dates. A
/// page has one stream only, since browsers keep few connections to one server.
pub(crate) fn stream<F, Fut>(app: &App, viewer: Viewer, dates: Vec<DateId>, render: F) -> Response
where
    F: Fn() -> Fut + Send + 'static,
    Fut: Future<Output = Result<String, WebError>> + Send,
{
    struct Watch<F> {
        changes: tokio::sync::broadcast::Receiver<DateId>,
        sessions: tokio::sync::watch::Receiver<()>,
        desk: matricle_desk::Desk,
        viewer: Viewer,
        stop: tokio::sync::watch::Receiver<bool>,
        render: F,
        dates: Vec<DateId>,
        first: bool,
    }
    // Listening begins before the first part is rendered, so that no change falls between.
    let watch = Watch {
        changes: app.desk.store.changes(),
        sessions: app.desk.sessions.listen(),
        desk: app.desk.clone(),
        viewer,
        stop: app.stop.clone(),
        render,
        dates,
        first: true,
    };
    let events = stream::unfold(watch, move |mut w| async move {
        if !w.first {
            tokio::select! {
                _ = w.stop.wait_for(|stopped| *stopped) => return None,
                open = changed(&mut w.changes, &w.dates) => if !open { return None },
                _ = w.sessions.changed() => {}
            }
        }
        w.first = false;
        if !w.viewer.may_look(&w.desk).await {
            return None;
        }
        let html = match (w.render)().await {
            Ok(html) => html,
            Err(error) => {
                tracing::warn!(%error, "a live part could not be rendered");
                return None; // the browser connects again
            }
        };
        Some((Ok::<_, Infallible>(Event::default().data(html)), w))
    });
    Sse::new(events).keep_alive(KeepAlive::new().interval(Duration::from_secs(15))).into_response()
}

/// Waits for a change of one of the dates, or until the part has aged; false when the store is gone.
async fn changed(changes: &mut tokio::sync::broadcast::Receiver<DateId>, dates: &[DateId]) -> bool {
    loop {
        match timeout(AGEING, changes.recv()).await {
            Err(_) | Ok(Err(RecvError::Lagged(_))) => return true,
            Ok(Err(RecvError::Closed)) => return false,
            Ok(Ok(which)) if dates.contains(&which) => break,
            Ok(Ok(_)) => {}
        }
    }
    sleep(TOGETHER).await;
    while let Ok(_) | Err(tokio::sync::broadcast::error::TryRecvError::Lagged(_)) =
        changes.try_recv()
    {}
    true
}
