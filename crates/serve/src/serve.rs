//! `matricle serve`, and the server that the demo shares with it.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use jiff::SignedDuration;
use matricle_desk::house::backup::Backups;
use matricle_desk::outside::chat::{NoChat, Webhook};
use matricle_desk::outside::letterbox::{Letterbox, NoLetterbox};
use matricle_desk::outside::mailer::SmtpMailer;
use matricle_desk::outside::provider::{
    CardProvider, HttpProvider, NoProvider, ProviderError, parse_webhook_secret,
};
use matricle_desk::outside::rooms::{HttpRooms, NoRooms};
use matricle_desk::outside::texts::{Gateway, NoTexts};
use matricle_desk::people::often::Often;
use matricle_desk::{Clock, Desk, Secrets, timers};
use matricle_store::{Store, StoreError, check, house, measures};
use matricle_web::{Limits, Settings, router};
use tokio::net::TcpListener;
use tokio::sync::watch;

use crate::config::{self, Config};
use crate::listening::{self, Bounds};

/// How long open requests may take when the program stops.
const LAST_WORDS: Duration = Duration::from_secs(5);

/// What a desk is made of.
pub struct Parts {
    /// The database.
    pub store: Store,
    /// The clock.
    pub clock: Clock,
    /// The keys.
    pub secrets: Secrets,
    /// The provider's interface, key and webhook secret; nothing for a house without one.
    pub card: Option<(String, String, Vec<u8>)>,
    /// The mail server, and name and password for it.
    pub mail: (String, Option<(String, String)>),
    /// So many mails are handed over at once.
    pub mail_at_once: usize,
    /// The house's mailbox.
    pub letterbox: Option<Arc<dyn Letterbox>>,
    /// The meeting-room service, and its token.
    pub rooms: Option<(String, String)>,
    /// The gateway for text messages, and its token.
    pub texts: Option<(String, String)>,
    /// The webhook of the team's chat.
    pub chat: Option<String>,
    /// How the pages are reached from outside.
    pub public_url: String,
    /// Tries to sign in that one network has in a minute.
    pub sign_in: u32,
    /// How backups are made.
    pub backups: Backups,
}

impl Parts {
    /// Of a desk in a folder, with nothing outside: what is measured is the program alone.
    ///
    /// # Errors
    /// The folder cannot be opened.
    pub fn alone(folder: &std::path::Path, public_url: String) -> anyhow::Result<Self> {
        Ok(Self {
            store: Store::open(folder)?,
            clock: Clock::real(),
            secrets: crate::config::secrets(folder, "")?,
            card: None,
            mail: ("smtp://127.0.0.1:9".into(), None),
            mail_at_once: 4,
            letterbox: None,
            rooms: None,
            texts: None,
            chat: None,
            public_url,
            sign_in: 10,
            backups: Backups::default(),
        })
    }
}

/// Puts a desk together.
///
/// # Errors
/// The mail server's URL is none, or TLS cannot be set up.
pub fn desk(parts: Parts) -> anyhow::Result<Desk> {
    let provider: Arc<dyn CardProvider> = match parts.card {
        Some((url, key, secret)) => Arc::new(HttpProvider::new(&url, &key, secret)?),
        None => Arc::new(NoProvider),
    };
    let (server, credentials) = parts.mail;
    Ok(Desk {
        store: parts.store,
        clock: parts.clock,
        secrets: Arc::new(parts.secrets),
        provider,
        mailer: Arc::new(SmtpMailer::new(&server, credentials)?),
        letterbox: parts.letterbox.unwrap_or_else(|| Arc::new(NoLetterbox)),
        rooms: match parts.rooms {
            Some((url, token)) => Arc::new(HttpRooms::new(&url, &token)),
            None => Arc::new(NoRooms),
        },
        texts: match parts.texts {
            Some((url, token)) => Arc::new(Gateway::new(&url, &token)),
            None => Arc::new(NoTexts),
        },
        chat: match parts.chat {
            Some(url) => Arc::new(Webhook::new(&url)),
            None => Arc::new(NoChat),
        },
        mail_at_once: parts.mail_at_once,
        public_url: parts.public_url.into(),
        wake: Arc::default(),
        health: Arc::default(),
        sessions: Arc::default(),
        drawing: Arc::default(),
        looking: Arc::default(),
        names: Default::default(),
        often: Arc::new(Often::new(parts.sign_in)),
        backups: Arc::new(parts.backups),
        word: Arc::from(""),
    })
}

/// Opens the house that a configuration describes; a new one is set up.
///
/// # Errors
/// The folder is in use or cannot be used, or a setting is odd.
pub async fn open(config: &Config) -> anyhow::Result<Desk> {
    config::whole_house(&config.data, &config.secret)?;
    // Before the database: a house that was begun has both.
    let secrets = config.secrets()?;
    let store = Store::open(&config.data)?;
    let credentials = (!config.mail.user.is_empty())
        .then(|| (config.mail.user.clone(), config.mail.password.clone()));
    let card = match &config.card {
        Some(c) => {
            let secret =
                parse_webhook_secret(&c.webhook_secret).context("webhook_secret is odd")?;
            Some((c.url.clone(), c.key.clone(), secret))
        }
        None => None,
    };
    let desk = desk(Parts {
        store,
        clock: Clock::real(),
        secrets,
        card,
        mail: (config.mail.server.clone(), credentials),
        mail_at_once: config.mail.at_once,
        letterbox: config.letterbox()?,
        rooms: config.rooms.as_ref().map(|r| (r.url.clone(), r.token.clone())),
        texts: config.texts.as_ref().map(|t| (t.url.clone(), t.token.clone())),
        chat: config.chat.as_ref().map(|c| c.url.clone()),
        public_url: config.public_url.clone(),
        sign_in: config.limits.sign_in,
        backups: config.backups()?,
    })?;
    // A page that is damaged amid the file is met by somebody who books, unless it is looked for.
    let file = desk.store.path().to_owned();
    match desk.store.read(check::damage).await {
        Ok(None) => {}
        Ok(Some(said)) => return Err(StoreError::Damaged { file, said }.into()),
        Err(error) => return Err(StoreError::Damaged { file, said: error.to_string() }.into()),
    }
    let (now, latest) = (desk.clock.now(), desk.store.read(measures::latest).await?);
    // A few minutes are a clock that was put right; more is a clock that is wrong.
    if let Some(latest) = latest.filter(|at| at.duration_since(now) > SignedDuration::from_mins(15))
    {
        return Err(StoreError::ClockBehind { now, latest }.into());
    }
    let new = house::House::from(&config.house);
    desk.store
        .write(move |tx| match house::get(tx)? {
            Some(_) => Ok::<_, StoreError>(()),
            None => house::set(tx, &new),
        })
        .await?;
    matricle_desk::messages::prepare(&desk).await?;
    Ok(desk)
}

/// Runs it for real until it is told to stop.
///
/// # Errors
/// It cannot start.
pub async fn run(config: &Config) -> anyhow::Result<()> {
    let desk = open(config).await?;
    if let Some((plan, _)) = &desk.backups.by_timer {
        matricle_desk::house::backup::clear_halves(&plan.folder);
    }
    let listener = listen(config.listen).await?;
    let settings = Settings {
        secure_cookies: config.public_url.starts_with("https://"),
        behind_proxy: config.behind_proxy,
        pay_origin: config.card.as_ref().map_or_else(String::new, |c| c.pay_origin.clone()),
        limits: Limits { sign_in: config.limits.sign_in, booking: config.limits.booking },
        demo: &[],
        observed: Arc::default(),
    };
    // Files and sockets are one number to the system; the usual one is small.
    if let Err(error) = rlimit::increase_nofile_limit(u64::MAX) {
        tracing::warn!(%error, "the number of open files could not be raised");
    }
    if let Some(address) = config.metrics {
        let app = matricle_web::metrics(desk.clone(), Arc::clone(&settings.observed));
        let bounds = Bounds { by_network: None, ..Bounds::of(16, false) };
        let listener = listen(address).await?;
        let (keep, stopping) = watch::channel(false);
        tokio::spawn(async move {
            listening::serve(listener, app, bounds, stopping).await;
            drop(keep);
        });
    }
    println!("Matricle is at {} (listening on {})", config.public_url, listener.local_addr()?);
    if !desk.store.read(matricle_store::people::anybody).await? {
        println!("Nobody can sign in yet: stop it and run `matricle person`.");
    }
    tokio::spawn(try_accounts(desk.clone()));
    let bounds = Bounds::of(config.limits.connections, config.behind_proxy);
    until_stopped(desk, settings, bounds, listener, stop_signal()).await
}

/// Asks the mail server and the card provider once whether they know us, and says which does
/// not, and why: better now than when the first booking waits for its ticket.
async fn try_accounts(desk: Desk) {
    if let Err(error) = desk.mailer.check().await {
        let reason = error.reason;
        tracing::error!(
            reason,
            "[mail] the mail server does not take our mails: see server, user and password in the configuration"
        );
    }
    if let Err(error) = matricle_desk::letters::fetching::fetch(&desk).await {
        tracing::error!(%error, "[letters] the mailbox cannot be read: see server, user, password and folder");
    }
    match desk.provider.list().await {
        Ok(_) => {}
        Err(ProviderError::None) => println!(
            "No card provider is configured ([card]): nothing can be paid by card. Bank transfers, stamp cards \
             and money at the door are."
        ),
        Err(error) => tracing::error!(
            %error,
            "[card] the card provider does not know us: see url and key in the configuration"
        ),
    }
}

/// Listens on an address.
///
/// # Errors
/// Somebody else does.
pub async fn listen(address: SocketAddr) -> anyhow::Result<TcpListener> {
    TcpListener::bind(address)
        .await
        .with_context(|| format!("cannot listen on {address}; is another program using the port?"))
}

/// Serves pages and runs timers until `stop` is done, then ends cleanly.
///
/// # Errors
/// The store fails at the start.
pub async fn until_stopped(
    desk: Desk,
    settings: Settings,
    bounds: Bounds,
    listener: TcpListener,
    stop: impl Future<Output = ()> + Send + 'static,
) -> anyhow::Result<()> {
    matricle_desk::bookings::keys::load(&desk).await?;
    let timers = tokio::spawn(timers::run(desk.clone()));
    let (tell_stop, stopping) = watch::channel(false);
    let store = desk.store.clone();
    let app = router(desk, settings, stopping.clone());
    let serving = tokio::spawn(listening::serve(listener, app, bounds, stopping));
    stop.await;
    let _ = tell_stop.send(true);
    if tokio::time::timeout(LAST_WORDS, serving).await.is_err() {
        tracing::warn!("some requests were still open at the end");
    }
    timers.abort();
    let _ = timers.await;
    tokio::task::spawn_blocking(move || store.close()).await?;
    Ok(())
}

/// Waits for Ctrl-C, or for the system's word to end.
pub async fn stop_signal() {
    let interrupt = async {
        if tokio::signal::ctrl_c().await.is_err() {
            std::future::pending::<()>().await;
        }
    };
    #[cfg(unix)]
    let terminate = async {
        match tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate()) {
            Ok(mut signal) => {
                signal.recv().await;
            }
            Err(_) => std::future::pending().await,
        }
    };
    #[cfg(not(unix))]
    let terminate = std::future::pending::<()>();
    tokio::select! { () = interrupt => {}, () = terminate => {} }
}
