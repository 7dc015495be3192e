//! All stand-ins beside one another, on ports of this machine.

use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};

use axum::Router;
use base64::Engine as _;
use tokio::net::TcpListener;

use crate::mailbox::Mailbox;
use crate::meeting::Meeting;
use crate::phone::Phone;
use crate::scanner::Scanner;
use crate::till::Till;

/// The key of the stand-ins, wherever one is asked for.
pub const KEY: &str = "stand-in-key";
/// The secret of the till's webhooks, as it is configured.
pub const WEBHOOK_SECRET: &str = "whsec_c3RhbmQtaW4tc2VjcmV0LW5vdC1mb3ItcmVhbA==";

/// Stand-ins that are running.
#[derive(Debug, Clone)]
pub struct Running {
    /// The till's page and interface.
    pub till: String,
    /// The mailbox's page.
    pub mailbox: String,
    /// The mailbox's SMTP.
    pub smtp: String,
    /// The phone's page and interface.
    pub phone: String,
    /// The team room's page.
    pub room: String,
    /// The scanner's page.
    pub scanner: String,
    /// The scanner itself, to be given tickets.
    pub scans: Scanner,
    /// The house's mailbox, by IMAP.
    pub imap: String,
    /// The meeting rooms' page and interface.
    pub meeting: String,
}

fn local(port: u16) -> SocketAddr {
    (Ipv4Addr::LOCALHOST, port).into()
}

/// Starts the stand-ins on a port and the seven after it; 0 takes any that are free.
///
/// # Errors
/// A port is in use.
pub async fn start(port: u16, folder: Option<&Path>) -> io::Result<Running> {
    let port_after = |n: u16| if port == 0 { Some(0) } else { port.checked_add(n) };
    let port = |n| {
        let none = || io::Error::other("there are no eight ports after this one");
        port_after(n).ok_or_else(none)
    };
    let (till, page, smtp, texts, chat, scans, imap, rooms) = (
        listen(local(port(0)?)).await?,
        listen(local(port(1)?)).await?,
        listen(local(port(2)?)).await?,
        listen(local(port(3)?)).await?,
        listen(local(port(4)?)).await?,
        listen(local(port(5)?)).await?,
        listen(local(port(6)?)).await?,
        listen(local(port(7)?)).await?,
    );
    let scanner = Scanner::default();
    let running = Running {
        till: format!("http://{}", till.local_addr()?),
        mailbox: format!("http://{}", page.local_addr()?),
        smtp: format!("smtp://{}", smtp.local_addr()?),
        phone: format!("http://{}", texts.local_addr()?),
        room: format!("http://{}", chat.local_addr()?),
        scanner: format!("http://{}", scans.local_addr()?),
        scans: scanner.clone(),
        imap: format!("imap://{}", imap.local_addr()?),
        meeting: format!("http://{}", rooms.local_addr()?),
    };
    if let Some(folder) = folder {
        std::fs::create_dir_all(folder)?;
    }
    let within = |name: &str| folder.map(|f: &Path| -> PathBuf { f.join(name) });
    let secret = WEBHOOK_SECRET.trim_start_matches("whsec_");
    let secret =
        base64::engine::general_purpose::STANDARD.decode(secret).map_err(io::Error::other)?;
    let books = Till::new(&running.till, KEY, secret, within("till.json"));
    let mailbox = Mailbox::new(within("mails"));
    serve(till, books.router());
    serve(page, mailbox.clone().router());
    serve(texts, Phone::gateway(KEY).router());
    serve(chat, Phone::room().router());
    serve(rooms, Meeting::new(&running.meeting, KEY).router());
    serve(scans, scanner.router());
    tokio::spawn(mailbox.clone().serve_imap(imap));
    tokio::spawn(mailbox.serve_smtp(smtp));
    Ok(running)
}

async fn listen(address: SocketAddr) -> io::Result<TcpListener> {
    TcpListener::bind(address).await.map_err(|error| {
        let said =
            format!("cannot listen on {address}; is another program using the port? {error}");
        io::Error::new(error.kind(), said)
    })
}

fn serve(listener: TcpListener, router: Router) {
    tokio::spawn(async move {
        if let Err(error) = axum::serve(listener, router).await {
            tracing::error!(%error, "a stand-in stopped");
        }
    });
}
