//! `matricle standins`, and the stand-ins that the demo starts beside itself.

use std::io::Write as _;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use axum::Router;
use matricle_desk::letters::LARGEST;
use matricle_desk::outside::letterbox::{Imap, Letterbox};
use matricle_desk::outside::provider::parse_webhook_secret;
use matricle_standins::letterbox;
use matricle_standins::mailbox::Mailbox;
use matricle_standins::meeting::Meeting;
use matricle_standins::phone::Phone;
use matricle_standins::scanner::Scanner;
use matricle_standins::till::Till;
use tokio::net::TcpListener;

use crate::cli::StandinArgs;
use crate::config::{STAND_IN_KEY as KEY, STAND_IN_WEBHOOK_SECRET as WEBHOOK_SECRET};
use crate::serve::{listen, stop_signal};

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

impl Running {
    /// The house's mailbox, as the demo reads it.
    ///
    /// # Errors
    /// Its URL is none.
    pub fn letterbox(&self) -> anyhow::Result<Arc<dyn Letterbox>> {
        let account = (letterbox::USER, letterbox::PASSWORD);
        let imap = Imap::new(&self.imap, account, "INBOX", LARGEST)?;
        Ok(Arc::new(imap.every(Duration::from_secs(2))))
    }
}

fn local(port: u16) -> SocketAddr {
    (Ipv4Addr::LOCALHOST, port).into()
}

/// Starts the stand-ins on a port and the seven after it; 0 takes any that are free.
///
/// # Errors
/// A port is in use.
pub async fn start(port: u16, folder: Option<&Path>) -> anyhow::Result<Running> {
    let port_after = |n: u16| if port == 0 { Some(0) } else { port.checked_add(n) };
    let port = |n| port_after(n).context("there are no eight ports after this one");
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
    let secret = parse_webhook_secret(WEBHOOK_SECRET).context("the stand-in's own secret")?;
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

fn serve(listener: TcpListener, router: Router) {
    tokio::spawn(async move {
        if let Err(error) = axum::serve(listener, router).await {
            tracing::error!(%error, "a stand-in stopped");
        }
    });
}

/// Runs the stand-ins alone until told to stop.
///
/// # Errors
/// A port is in use.
pub async fn run(args: &StandinArgs) -> anyhow::Result<()> {
    let running = start(args.port, args.data.as_deref()).await?;
    // Whoever reads the first lines and goes away does not end it.
    let _ = writeln!(
        std::io::stdout(),
        "Till      {till}\nMailbox   {}\nSMTP      {smtp}\n\n\
         What follows is a whole configuration for trying `matricle serve` on this machine. Put it into a file\n\
         as it is, such as matricle.toml; only the house is yours to name.\n\n\
         listen = \"127.0.0.1:8420\"\ndata = \"house\"\npublic_url = \"http://127.0.0.1:8420\"\nbehind_proxy = false\nsecret = \"\"\n\n\
         [house]\nname = \"Our club\"\ncurrency = \"EUR\"\nzone = \"Europe/Dublin\"\nemail = \"office@club.example\"\nterms = \"I have read how cancelling works.\"\n\n\
         [card]\nurl = \"{till}\"\npay_origin = \"{till}\"\nkey = \"{KEY}\"\nwebhook_secret = \"{WEBHOOK_SECRET}\"\n\n\
         [mail]\nserver = \"{smtp}\"\n\n\
         [letters]\nserver = \"{imap}\"\nuser = \"{user}\"\npassword = \"{password}\"\n\n[rooms]\nurl = \"{meeting}\"\ntoken = \"{KEY}\"\n\n[texts]\nurl = \"{phone}\"\ntoken = \"{KEY}\"\n\n[chat]\nurl = \"{room}/hook\"",
        running.mailbox,
        till = running.till,
        smtp = running.smtp,
        phone = running.phone,
        room = running.room,
        imap = running.imap,
        meeting = running.meeting,
        user = letterbox::USER,
        password = letterbox::PASSWORD,
    );
    stop_signal().await;
    Ok(())
}
