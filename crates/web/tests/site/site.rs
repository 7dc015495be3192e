//! A site for tests: the demo house behind the real router, and browsers without script.

use std::path::Path;
use std::sync::Arc;

use axum::Router;
use axum::body::{Body, to_bytes};
use axum::http::{Request, StatusCode, header};
use matricle_demo as demo;
use matricle_desk::outside::mailer::Recorder;
use matricle_desk::outside::provider::Rehearsal;
use matricle_desk::people::often::Often;
use matricle_desk::{Clock, Desk, Secrets, door};
use matricle_store::{Store, people};
use matricle_web::{Limits, Settings, router};
use tempfile::TempDir;
use tokio::sync::{OnceCell, watch};
use tower::ServiceExt;

pub(crate) struct Site {
    pub(crate) app: Router,
    pub(crate) desk: Desk,
    pub(crate) mails: Arc<Recorder>,
    pub(crate) provider: Arc<Rehearsal>,
    pub(crate) _folder: TempDir,
    pub(crate) stop: watch::Sender<bool>,
}

impl Site {
    /// An organiser opens the door of a date, whatever day it is.
    pub(crate) async fn open_door(&self, date: &str) {
        let ilse = self.desk.store.read(|c| people::by_email(c, demo::STAFF[0].1)).await.unwrap();
        let date = matricle_core::DateId(date.parse().unwrap());
        door::open(&self.desk, &ilse.unwrap().0, date, true, String::new()).await.unwrap();
    }

    /// The number for signing in of the newest mail, which its subject begins with.
    pub(crate) fn mailed_number(&self) -> String {
        let mails = self.mails.taken();
        let mail = String::from_utf8_lossy(mails.last().expect("a mail"));
        mail.split("Subject: ").nth(1).expect("a subject")[..6].to_owned()
    }
}

pub(crate) struct Reply {
    pub(crate) status: StatusCode,
    pub(crate) headers: axum::http::HeaderMap,
    pub(crate) body: String,
}

impl Reply {
    pub(crate) fn location(&self) -> &str {
        self.headers.get(header::LOCATION).map_or("", |v| v.to_str().unwrap())
    }

    pub(crate) fn header(&self, name: &str) -> &str {
        self.headers.get(name).map_or("", |v| v.to_str().unwrap())
    }

    /// The value of the first form field of this name.
    pub(crate) fn field(&self, name: &str) -> String {
        let from = self.body.split(&format!("name=\"{name}\" value=\"")).nth(1).unwrap_or_default();
        from.split('"').next().unwrap_or_default().to_owned()
    }
}

/// The file of the demo house: made once, since making it takes longer than most of what is tested.
static MADE: OnceCell<Vec<u8>> = OnceCell::const_new();

fn desk(
    folder: &Path,
    (mails, provider): (&Arc<Recorder>, &Arc<Rehearsal>),
    limits: Limits,
) -> Desk {
    Desk {
        store: Store::open(folder).unwrap(),
        clock: Clock::still("2026-11-25T17:40:00Z".parse().unwrap()),
        secrets: Arc::new(Secrets::new([1; 32])),
        provider: Arc::clone(provider) as _,
        mailer: Arc::clone(mails) as _,
        texts: std::sync::Arc::new(matricle_desk::outside::texts::NoTexts),
        chat: std::sync::Arc::new(matricle_desk::outside::chat::NoChat),
        mail_at_once: 1,
        letterbox: std::sync::Arc::new(matricle_desk::outside::letterbox::NoLetterbox),
        rooms: std::sync::Arc::new(matricle_desk::outside::rooms::NoRooms),
        public_url: "http://club.example".into(),
        wake: Arc::default(),
        health: Arc::default(),
        sessions: Arc::default(),
        drawing: Arc::default(),
        looking: Arc::default(),
        names: Default::default(),
        often: Arc::new(Often::new(limits.sign_in)),
        backups: std::sync::Arc::default(),
        word: std::sync::Arc::from(""),
    }
}

pub(crate) async fn site(limits: Limits, secure: bool) -> Site {
    let folder = tempfile::tempdir().unwrap();
    let (mails, provider) = (Arc::new(Recorder::default()), Arc::new(Rehearsal::default()));
    let file = folder.path().join(matricle_store::FILE);
    let open = || desk(folder.path(), (&mails, &provider), limits);
    let make = || async {
        let made = open();
        demo::seed(&made).await.unwrap();
        made.store.close();
        std::fs::read(&file).unwrap()
    };
    let made = MADE.get_or_init(make).await;
    std::fs::write(&file, made).unwrap();
    let desk = open();
    let settings = Settings {
        secure_cookies: secure,
        behind_proxy: true,
        pay_origin: "https://till.example".into(),
        limits,
        demo: &[],
        observed: Default::default(),
    };
    let (stop, stopping) = watch::channel(false);
    let app = router(desk.clone(), settings, stopping);
    Site { app, desk, mails, provider, _folder: folder, stop }
}

/// A browser: keeps cookies, sends forms with the token of the last page.
pub(crate) struct Browser<'s> {
    pub(crate) site: &'s Site,
    pub(crate) cookies: Vec<(String, String)>,
    pub(crate) token: String,
}

impl<'s> Browser<'s> {
    pub(crate) fn new(site: &'s Site) -> Self {
        Self { site, cookies: Vec::new(), token: String::new() }
    }

    pub(crate) async fn send(
        &mut self,
        request: axum::http::request::Builder,
        body: String,
    ) -> Reply {
        self.send_bytes(request, body.into_bytes()).await
    }

    /// Sends a request; the answer to a form is read where it leads to, as a browser does.
    pub(crate) async fn send_bytes(
        &mut self,
        request: axum::http::request::Builder,
        body: Vec<u8>,
    ) -> Reply {
        let reply = self.send_once(request, body).await;
        if reply.status != StatusCode::SEE_OTHER || !reply.location().contains("kept=") {
            return reply;
        }
        let to = reply.location().to_owned();
        self.send_once(Request::get(to), Vec::new()).await
    }

    pub(crate) async fn send_once(
        &mut self,
        request: axum::http::request::Builder,
        body: Vec<u8>,
    ) -> Reply {
        let jar: Vec<String> = self.cookies.iter().map(|(n, v)| format!("{n}={v}")).collect();
        let request = request
            .header(header::COOKIE, jar.join("; "))
            .header(header::HOST, "club.example")
            .body(Body::from(body))
            .unwrap();
        let response = self.site.app.clone().oneshot(request).await.unwrap();
        let (status, headers) = (response.status(), response.headers().clone());
        for set in headers.get_all(header::SET_COOKIE) {
            let pair = set.to_str().unwrap().split(';').next().unwrap();
            let (name, value) = pair.split_once('=').unwrap();
            self.cookies.retain(|(known, _)| known != name);
            self.cookies.push((name.into(), value.into()));
        }
        let bytes = to_bytes(response.into_body(), 10_000_000).await.unwrap();
        let reply = Reply { status, headers, body: String::from_utf8_lossy(&bytes).into_owned() };
        if !reply.field("token").is_empty() {
            self.token = reply.field("token");
        }
        reply
    }

    pub(crate) async fn get(&mut self, path: &str) -> Reply {
        self.send(Request::get(path), String::new()).await
    }

    pub(crate) async fn post(&mut self, path: &str, fields: &[(&str, &str)]) -> Reply {
        let token = self.token.clone();
        let mut body = format!("token={token}");
        for (name, value) in fields {
            let value: String = value.bytes().map(|b| format!("%{b:02X}")).collect();
            body.push_str(&format!("&{name}={value}"));
        }
        let form =
            Request::post(path).header(header::CONTENT_TYPE, "application/x-www-form-urlencoded");
        self.send(form, body).await
    }

    /// Signs in by mail: the address is proved from here on.
    pub(crate) async fn prove(&mut self, email: &str) {
        self.get("/me").await;
        self.post("/me/number", &[("email", email)]).await;
        let code = self.site.mailed_number();
        let signed_in = self.post("/me", &[("email", email), ("code", &code)]).await;
        assert_eq!(signed_in.location(), "/me");
    }

    pub(crate) async fn sign_in(&mut self, who: usize) -> Reply {
        self.get("/sign-in").await;
        let (_, email, _, password) = demo::STAFF[who];
        self.post("/sign-in", &[("email", email), ("password", password)]).await
    }
}

impl Browser<'_> {
    /// Sends a form with a text file in its field `file`.
    pub(crate) async fn post_with_file(
        &mut self,
        path: &str,
        fields: &[(&str, &str)],
        file: &str,
    ) -> Reply {
        let token = self.token.clone();
        let mut body = String::new();
        for (name, value) in [("token", token.as_str())].iter().chain(fields) {
            let head = format!("Content-Disposition: form-data; name=\"{name}\"");
            body.push_str(&format!("--xx\r\n{head}\r\n\r\n{value}\r\n"));
        }
        let head = "Content-Disposition: form-data; name=\"file\"; filename=\"list.csv\"";
        body.push_str(&format!("--xx\r\n{head}\r\n\r\n{file}\r\n--xx--\r\n"));
        let form =
            Request::post(path).header(header::CONTENT_TYPE, "multipart/form-data; boundary=xx");
        self.send(form, body).await
    }

    /// Sends a form as htmx does, which wants a part of the page.
    pub(crate) async fn post_for_part(&mut self, path: &str, body: &str) -> Reply {
        let form = Request::post(path)
            .header(header::CONTENT_TYPE, "application/x-www-form-urlencoded")
            .header("hx-request", "true")
            .header("x-form-token", self.token.clone());
        self.send(form, body.to_owned()).await
    }

    /// Keeps seats: `quantities` by ticket type in their order. The booking's address.
    pub(crate) async fn keep(&mut self, slug: &str, quantities: &[u32]) -> Reply {
        let page = self.get(&format!("/events/{slug}")).await;
        let date = page.field("date");
        let tickets: Vec<String> = page
            .body
            .split("name=\"q_")
            .skip(1)
            .map(|t| format!("q_{}", t.split('"').next().unwrap()))
            .collect();
        let numbers: Vec<String> = quantities.iter().map(u32::to_string).collect();
        let mut fields = vec![("date", date.as_str())];
        fields.extend(tickets.iter().map(String::as_str).zip(numbers.iter().map(String::as_str)));
        self.post(&format!("/events/{slug}/keep"), &fields).await
    }
}
