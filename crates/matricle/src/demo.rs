//! `matricle demo`.

use std::net::Ipv4Addr;

use anyhow::Context;
use matricle_desk::provider::parse_webhook_secret;
use matricle_desk::{Clock, demo};
use matricle_store::Store;
use matricle_web::{Limits, Settings};

use crate::cli::DemoArgs;
use crate::serve::{Parts, desk, listen, stop_signal, until_stopped};
use crate::{config, standins};

/// Makes or reopens the demo house and serves it, with stand-ins, until told to stop.
///
/// # Errors
/// A port is in use, or the folder is.
pub async fn run(args: &DemoArgs) -> anyhow::Result<()> {
    let temporary = if args.data.is_none() { Some(tempfile::tempdir()?) } else { None };
    let folder = match (&args.data, &temporary) {
        (Some(folder), _) => folder.clone(),
        (None, Some(temporary)) => temporary.path().to_owned(),
        (None, None) => anyhow::bail!("no folder for the demo"),
    };
    let store = Store::open(&folder)?;
    let listener = listen((Ipv4Addr::LOCALHOST, args.port).into()).await?;
    let after = if args.port == 0 {
        0
    } else {
        args.port.checked_add(1).context("no port after this one")?
    };
    let outside = standins::start(after, Some(&folder.join("stand-ins"))).await?;
    let url = format!("http://{}", listener.local_addr()?);
    let secret = parse_webhook_secret(standins::WEBHOOK_SECRET).context("the stand-in's secret")?;
    let desk = desk(Parts {
        store,
        clock: args.now.map_or_else(Clock::real, Clock::from),
        secrets: config::secrets(&folder, "")?,
        card: (outside.till.clone(), standins::KEY.into(), secret),
        mail: (outside.smtp.clone(), None),
        public_url: url.clone(),
    })?;
    let fresh = demo::seed(&desk).await?;
    println!("Programme  {url}");
    println!("Office     {url}/office");
    println!("Door       {url}/door");
    println!("Till       {}   (stand-in: card payments)", outside.till);
    println!("Mailbox    {}   (stand-in: every mail that goes out)", outside.mailbox);
    for (name, email, role, password) in demo::STAFF {
        println!("Sign in    {email}  {password}   ({name}, {})", role.word());
    }
    if !fresh {
        println!("Reopened from {}; its dates lie around the day it was made.", folder.display());
    }
    println!("Ctrl-C stops it.");
    let settings = Settings {
        secure_cookies: false,
        behind_proxy: false,
        pay_origin: outside.till,
        limits: Limits { sign_in: 60, booking: 240 },
        demo: true,
    };
    until_stopped(desk, settings, listener, stop_signal()).await
}
