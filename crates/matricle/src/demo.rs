//! `matricle demo`.

use std::net::Ipv4Addr;
use std::path::PathBuf;

use anyhow::Context;
use matricle_demo as demo;
use matricle_desk::outside::provider::parse_webhook_secret;
use matricle_desk::{Clock, Desk};
use matricle_store::Store;
use matricle_store::house::{self, House};
use matricle_web::{Limits, Settings};
use tempfile::TempDir;
use tokio::net::TcpListener;

use crate::cli::DemoArgs;
use matricle_serve::config;
use matricle_serve::listening::Bounds;
use matricle_serve::serve::{Parts, desk, listen, stop_signal, until_stopped};
use matricle_standins::beside::{self, KEY, WEBHOOK_SECRET};

use crate::standins::mailbox_of;

/// A demo that is ready to be served.
pub struct Demo {
    /// Its desk.
    pub desk: Desk,
    /// Where its pages are.
    pub url: String,
    /// Its stand-ins.
    pub outside: beside::Running,
    folder: PathBuf,
    fresh: bool,
    listener: TcpListener,
    _temporary: Option<TempDir>,
}

/// Makes or reopens the demo house, and starts its stand-ins.
///
/// # Errors
/// A port is in use, or the folder is.
pub async fn prepare(args: &DemoArgs) -> anyhow::Result<Demo> {
    let (folder, temporary) = match &args.data {
        Some(folder) => (folder.clone(), None),
        None => {
            let temporary = tempfile::tempdir()?;
            (temporary.path().to_owned(), Some(temporary))
        }
    };
    let store = Store::open(&folder)?;
    let listener = listen((Ipv4Addr::LOCALHOST, args.port).into()).await?;
    let after = match args.port {
        0 => 0,
        port => port.checked_add(1).context("there is no port after this one")?,
    };
    let outside = beside::start(after, Some(&folder.join("stand-ins"))).await?;
    let url = format!("http://{}", listener.local_addr()?);
    let secret = parse_webhook_secret(WEBHOOK_SECRET).context("the stand-in's secret")?;
    let desk = desk(Parts {
        store,
        clock: args.now.map_or_else(Clock::real, Clock::from),
        secrets: config::secrets(&folder, "")?,
        card: Some((outside.till.clone(), KEY.into(), secret)),
        mail: (outside.smtp.clone(), None),
        mail_at_once: 4,
        letterbox: Some(mailbox_of(&outside)?),
        rooms: Some((outside.meeting.clone(), KEY.into())),
        texts: Some((outside.phone.clone(), KEY.into())),
        chat: Some(format!("{}/hook", outside.room)),
        public_url: url.clone(),
        sign_in: 60,
        backups: Default::default(),
    })?;
    let fresh = demo::seed(&desk).await?;
    if fresh && args.large {
        demo::enlarge(&desk, 200, 5_000).await?;
    }
    if fresh {
        web_calendar(&desk, &outside.mailbox).await?;
    }
    outside.scans.hold(format!("{url}/door"), todays_tickets(&desk).await?);
    Ok(Demo { desk, url, outside, folder, fresh, listener, _temporary: temporary })
}

/// Bookings of the demo are put into the web calendar that is among the stand-ins.
async fn web_calendar(desk: &Desk, standin: &str) -> anyhow::Result<()> {
    let line = format!(
        "Village calendar {standin}/calendar?what={{title}}&starts={{starts}}&ends={{ends}}&where={{place}}&about={{about}}"
    );
    let own = matricle_core::dates::web_calendar::WebCalendar::read(&line)?;
    let offered = move |tx: &matricle_store::Tx<'_>| {
        let house = house::get(tx)?.unwrap_or_default();
        house::set(tx, &House { web_calendars: vec![own], ..house })
    };
    Ok(desk.store.write(offered).await?)
}

/// Names and codes of those who may come today.
async fn todays_tickets(desk: &Desk) -> anyhow::Result<Vec<(String, String)>> {
    let now = desk.clock.now();
    let day = jiff::SignedDuration::from_hours(12);
    let tickets = desk
        .store
        .read(move |conn| matricle_store::door::tickets_between(conn, now - day, now + day, 60))
        .await?;
    Ok(tickets)
}

impl Demo {
    /// Serves it until `stop` is done.
    ///
    /// # Errors
    /// The store fails.
    pub async fn serve(
        self,
        stop: impl Future<Output = ()> + Send + 'static,
    ) -> anyhow::Result<()> {
        let settings = Settings {
            secure_cookies: false,
            behind_proxy: false,
            pay_origin: self.outside.till,
            limits: Limits { sign_in: 60, booking: 240 },
            demo: &demo::STAFF,
            observed: Default::default(),
        };
        let bounds = Bounds::of(1000, false);
        until_stopped(self.desk, settings, bounds, self.listener, stop).await
    }
}

/// Serves the demo house, with stand-ins, until told to stop.
///
/// # Errors
/// A port is in use, or the folder is.
pub async fn run(args: &DemoArgs) -> anyhow::Result<()> {
    let ready = prepare(args).await?;
    let url = &ready.url;
    println!("Programme  {url}\nOffice     {url}/office\nDoor       {url}/door");
    println!("Till       {}   (stand-in: card payments)", ready.outside.till);
    println!("Mailbox    {}   (stand-in: every mail that goes out)", ready.outside.mailbox);
    println!(
        "          {}/house   (what was written back to the house, read by IMAP)",
        ready.outside.mailbox
    );
    println!("Phone      {}   (stand-in: text messages)", ready.outside.phone);
    println!("Meetings   {}   (stand-in: rooms of dates online)", ready.outside.meeting);
    println!("Scanner    {}   (stand-in: types tickets into the door)", ready.outside.scanner);
    println!("Team room  {}   (stand-in: the team's chat)", ready.outside.room);
    for (name, email, role, password) in demo::STAFF {
        println!("Sign in    {email}  {password}   ({name}, {})", role.word());
    }
    if !ready.fresh {
        println!(
            "Reopened from {}; its dates lie around the day it was made.",
            ready.folder.display()
        );
    }
    println!("Ctrl-C stops it.");
    ready.serve(stop_signal()).await
}
