//! A stage for browser tests: the demo in this process, ChromeDriver and headless
//! Chromium beside it.

pub mod cable;

use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use anyhow::{Context, Result, bail, ensure};
use matricle::cli::DemoArgs;
use matricle::demo;
use matricle::standins::mailbox_of;
use matricle_core::DateId;
use matricle_core::booking::State;
use matricle_core::people::staff::Role;
use matricle_desk::outside::provider::parse_webhook_secret;
use matricle_desk::people::signin;
use matricle_desk::{Clock, Desk, door};
use matricle_serve::config;
use matricle_serve::listening::Bounds;
use matricle_serve::serve::{Parts, desk, listen, until_stopped};
use matricle_standins::beside::{self, KEY, WEBHOOK_SECRET};
use matricle_store::{Store, house, people};
use matricle_web::{Limits, Settings};
use tempfile::TempDir;
use thirtyfour::prelude::*;
use tokio::sync::oneshot;

/// How long a page may take to show something.
const PATIENCE: Duration = Duration::from_secs(15);

/// A Wednesday evening in November.
const NOW: &str = "2026-11-25T17:40:00Z";

/// The demo, running in this process at a Wednesday evening in November.
pub struct House {
    /// Its desk.
    pub desk: Desk,
    /// Where its pages are.
    pub url: String,
    /// Where the mailbox's page is.
    pub mailbox: String,
    /// Where the scanner's page is.
    pub scanner: String,
    _stop: oneshot::Sender<()>,
    _folder: Option<TempDir>,
}

impl House {
    /// Starts the demo on free ports.
    ///
    /// # Errors
    /// It does not start.
    pub async fn open() -> Result<Self> {
        Self::of(false).await
    }

    /// The same with the events and bookings of many years.
    ///
    /// # Errors
    /// It does not start.
    pub async fn large() -> Result<Self> {
        Self::of(true).await
    }

    async fn of(large: bool) -> Result<Self> {
        let now = Some(NOW.parse()?);
        let demo = demo::prepare(&DemoArgs { port: 0, data: None, now, large }).await?;
        let (desk, url, mailbox) =
            (demo.desk.clone(), demo.url.clone(), demo.outside.mailbox.clone());
        let scanner = demo.outside.scanner.clone();
        let (_stop, stopped) = oneshot::channel();
        tokio::spawn(demo.serve(async move {
            let _ = stopped.await;
        }));
        Ok(Self { desk, url, mailbox, scanner, _stop, _folder: None })
    }

    /// The address and the password of the first person of an empty house.
    pub const FIRST: (&str, &str) = ("nia@club.example", "queen-right-hive");

    /// A house in which nothing is but its name and its first person.
    ///
    /// # Errors
    /// It does not start.
    pub async fn empty() -> Result<Self> {
        let folder = tempfile::tempdir()?;
        let outside = beside::start(0, None).await?;
        let listener = listen(([127, 0, 0, 1], 0).into()).await?;
        let url = format!("http://{}", listener.local_addr()?);
        let secret = parse_webhook_secret(WEBHOOK_SECRET).context("the secret")?;
        let desk = desk(Parts {
            store: Store::open(folder.path())?,
            clock: Clock::from(NOW.parse::<jiff::Timestamp>()?),
            secrets: config::secrets(folder.path(), "")?,
            card: Some((outside.till.clone(), KEY.into(), secret)),
            mail: (outside.smtp.clone(), None),
            mail_at_once: 4,
            letterbox: Some(mailbox_of(&outside)?),
            rooms: Some((outside.meeting.clone(), KEY.into())),
            texts: None,
            chat: None,
            public_url: url.clone(),
            sign_in: 60,
            backups: Default::default(),
        })?;
        let house = house::House {
            name: "Club".into(),
            zone: "Europe/Dublin".into(),
            email: "office@club.example".into(),
            terms: "I agree.".into(),
            ..Default::default()
        };
        desk.store.write(move |tx| house::set(tx, &house)).await?;
        let (email, password) = Self::FIRST;
        signin::employ(&desk, "Nia".into(), email.into(), Role::Administrator, password.into())
            .await?;
        let settings = Settings {
            secure_cookies: false,
            behind_proxy: false,
            pay_origin: outside.till.clone(),
            limits: Limits::default(),
            demo: &[],
            observed: Default::default(),
        };
        let (_stop, stopped) = oneshot::channel();
        let (desk_there, mailbox) = (desk.clone(), outside.mailbox.clone());
        let scanner = outside.scanner.clone();
        tokio::spawn(async move {
            let stop = async move {
                let _ = stopped.await;
            };
            let bounds = Bounds::of(200, false);
            let served = until_stopped(desk_there, settings, bounds, listener, stop).await;
            drop(outside);
            served
        });
        Ok(Self { desk, url, mailbox, scanner, _stop, _folder: Some(folder) })
    }

    /// The organiser opens the door of a date on another day.
    ///
    /// # Errors
    /// There is no such date.
    pub async fn open_door(&self, date: &str) -> Result<()> {
        let email = matricle_demo::STAFF[0].1;
        let ilse = self.desk.store.read(|c| people::by_email(c, email)).await?;
        let (ilse, _) = ilse.context("the organiser is there")?;
        door::open(&self.desk, &ilse, DateId(date.parse()?), true, String::new()).await?;
        Ok(())
    }
}

/// What a browser is like.
#[derive(Debug, Clone, Copy)]
pub struct Screen {
    /// Pixels across.
    pub width: u32,
    /// Pixels down.
    pub height: u32,
    /// A phone, with fingers.
    pub phone: bool,
}

/// A screen on a desk.
pub const DESKTOP: Screen = Screen { width: 1280, height: 800, phone: false };
/// A phone.
pub const PHONE: Screen = Screen { width: 390, height: 844, phone: true };

/// A browser with its own profile. Ends with the value.
pub struct Browser {
    /// The driver.
    pub driver: WebDriver,
    /// Of the screen, in CSS pixels.
    width: u32,
    child: Child,
    profile: Option<TempDir>,
}

impl Drop for Browser {
    fn drop(&mut self) {
        // A killed driver leaves its browsers behind, so the whole group is ended.
        let group = format!("-{}", self.child.id());
        let _ = Command::new("kill").args(["-KILL", "--", &group]).status();
        let _ = self.child.wait();
    }
}

impl Browser {
    /// Starts a browser, with further flags for Chromium.
    ///
    /// # Errors
    /// Chromium or its driver is missing or does not start.
    pub async fn open(screen: Screen, flags: &[&str]) -> Result<Self> {
        Self::with(screen, flags, tempfile::tempdir()?).await
    }

    /// Closes it and opens it again: what it keeps on the disk is there, all else is gone.
    ///
    /// # Errors
    /// It does not start again.
    pub async fn again(mut self, screen: Screen) -> Result<Self> {
        let profile = self.profile.take().context("the profile")?;
        self.driver.clone().quit().await?;
        drop(self);
        Self::with(screen, &[], profile).await
    }

    async fn with(screen: Screen, flags: &[&str], profile: TempDir) -> Result<Self> {
        let port = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
        let child = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()
            .context("chromedriver is missing; scripts/test installs it")?;
        let mut caps = DesiredCapabilities::chrome();
        caps.set_binary("/usr/bin/chromium")?;
        let size = format!("--window-size={},{}", screen.width, screen.height);
        let profile_flag = format!("--user-data-dir={}", profile.path().display());
        for flag in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            &size,
            &profile_flag,
        ]
        .into_iter()
        .chain(flags.iter().copied())
        {
            caps.add_arg(flag)?;
        }
        let address = format!("http://127.0.0.1:{port}");
        let mut browser = None;
        for _ in 0..100 {
            match WebDriver::new(&address, caps.clone()).await {
                Ok(driver) => {
                    browser = Some(driver);
                    break;
                }
                Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
            }
        }
        let driver = browser.context("the browser did not start")?;
        let browser = Self { driver, width: screen.width, child, profile: Some(profile) };
        browser
            .cdp(
                "Emulation.setDeviceMetricsOverride",
                serde_json::json!({
                    "width": screen.width, "height": screen.height, "deviceScaleFactor": 1, "mobile": screen.phone
                }),
            )
            .await?;
        Ok(browser)
    }

    /// A command of the browser's own protocol.
    ///
    /// # Errors
    /// The browser refuses.
    pub async fn cdp(&self, command: &str, params: serde_json::Value) -> Result<serde_json::Value> {
        Ok(self.driver.cdp().send_raw(command, params).await?)
    }

    /// The first element for a CSS selector, waited for.
    ///
    /// # Errors
    /// It does not come.
    pub async fn find(&self, css: &str) -> Result<WebElement> {
        let query = self.driver.query(By::Css(css)).wait(PATIENCE, Duration::from_millis(50));
        query.first().await.with_context(|| format!("waiting for {css}"))
    }

    /// Clicks.
    ///
    /// # Errors
    /// There is no such element, or something is in the way.
    pub async fn click(&self, css: &str) -> Result<()> {
        // A part that was just replaced is looked for again.
        for _ in 0..40 {
            match self.find(css).await?.click().await {
                Ok(()) => return Ok(()),
                Err(error) if has_left(&error) => return Ok(()),
                // Under the bar at the foot of a phone: a hand scrolls it up.
                Err(_) => {
                    let up = format!(
                        "document.querySelector({css:?})?.scrollIntoView({{block: 'center'}})"
                    );
                    self.script(&up).await?;
                    tokio::time::sleep(Duration::from_millis(100)).await;
                }
            }
        }
        bail!("{css} could not be clicked")
    }

    /// Types into a field, in place of what stands there.
    ///
    /// # Errors
    /// There is no such field.
    pub async fn fill(&self, css: &str, text: &str) -> Result<()> {
        self.still(async || {
            let field = self.find(css).await?;
            field.clear().await?;
            Ok(field.send_keys(text).await?)
        })
        .await
    }

    /// The words an element shows.
    ///
    /// # Errors
    /// There is no such element.
    pub async fn text(&self, css: &str) -> Result<String> {
        self.still(async || Ok(self.find(css).await?.text().await?)).await
    }

    /// What stands in a field; empty where it has no value.
    ///
    /// # Errors
    /// There is no such field.
    pub async fn value(&self, css: &str) -> Result<String> {
        self.still(async || Ok(self.find(css).await?.prop("value").await?.unwrap_or_default()))
            .await
    }

    /// Does it once more where the part was replaced between finding it and the act.
    async fn still<T>(&self, act: impl AsyncFn() -> Result<T>) -> Result<T> {
        for _ in 0..20 {
            match act().await {
                Err(error) if error.downcast_ref().is_some_and(is_stale) => {
                    tokio::time::sleep(Duration::from_millis(50)).await;
                }
                done => return done,
            }
        }
        bail!("the page does not come to rest")
    }

    /// Waits until an element says something.
    ///
    /// # Errors
    /// It does not say it; the error tells what it says.
    pub async fn says(&self, css: &str, words: &str) -> Result<()> {
        let mut said = String::new();
        for _ in 0..150 {
            if let Ok(element) = self.driver.find(By::Css(css)).await {
                said = element.text().await.unwrap_or_default();
                if said.contains(words) {
                    return Ok(());
                }
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        bail!("{css} should say {words:?}, but says {said:?}")
    }

    /// Presses a key, or types quickly, wherever the focus is, once the page's scripts listen.
    ///
    /// # Errors
    /// The browser refuses.
    pub async fn press(&self, keys: &str) -> Result<()> {
        for _ in 0..100 {
            match self.script("return document.readyState").await {
                Ok(state) if state == "complete" => break,
                _ => tokio::time::sleep(Duration::from_millis(50)).await,
            }
        }
        let typed = self
            .driver
            .action_chain_with_delay(Some(Duration::ZERO), Some(Duration::ZERO))
            .send_keys(keys)
            .perform()
            .await;
        match typed {
            Err(error) if !has_left(&error) => Err(error.into()),
            _ => Ok(()),
        }
    }

    /// Presses Tab until the focus is on an element.
    ///
    /// # Errors
    /// It is never reached.
    pub async fn tab_to(&self, css: &str) -> Result<()> {
        for _ in 0..60 {
            self.press("\u{e004}").await?;
            let there = format!("return !!document.activeElement?.matches({css:?})");
            if self.script(&there).await?.as_bool() == Some(true) {
                return Ok(());
            }
        }
        bail!("the focus never comes to {css}")
    }

    /// What a script gives.
    ///
    /// # Errors
    /// The script fails.
    pub async fn script(&self, script: &str) -> Result<serde_json::Value> {
        Ok(self.driver.execute(script, vec![]).await?.json().clone())
    }

    /// What a script gives that takes its time: it ends with `done(value)`.
    ///
    /// # Errors
    /// The script fails.
    pub async fn later(&self, script: &str) -> Result<serde_json::Value> {
        let whole = format!(
            "const done = arguments[arguments.length - 1]; (async () => {{ {script} }})().catch((e) => done('failed: ' + e));"
        );
        Ok(self.driver.execute_async(whole, vec![]).await?.json().clone())
    }

    /// Signs somebody of the demo in.
    ///
    /// # Errors
    /// The page does not behave.
    pub async fn sign_in(&self, house: &House, who: usize) -> Result<()> {
        self.sign_in_at(&house.url, who).await
    }

    /// The same at an address that leads to the house.
    ///
    /// # Errors
    /// The page does not behave.
    pub async fn sign_in_at(&self, url: &str, who: usize) -> Result<()> {
        let (_, email, _, password) = matricle_demo::STAFF[who];
        self.driver.goto(format!("{url}/sign-in")).await?;
        self.fill("#email", email).await?;
        self.fill("#password", password).await?;
        self.click("main button[type=submit]").await?;
        self.find(".faces").await.map(drop)
    }

    /// Nothing serious for axe, and nothing wider than the screen.
    ///
    /// # Errors
    /// What axe found, or how wide the page is.
    pub async fn is_fit_for_all(&self) -> Result<()> {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../assets/vendor/axe/axe.min.js");
        self.driver.execute(std::fs::read_to_string(path)?, vec![]).await?;
        let found = self
            .driver
            .execute_async(
                "const done = arguments[arguments.length - 1];
                 // A colour on its way from one to another is read by nobody.
                 document.getAnimations().forEach((a) => { try { a.finish(); } catch { a.cancel(); } });
                 axe.run(document, { resultTypes: ['violations'] }).then(
                    (r) => done(r.violations.filter((v) => ['serious', 'critical'].includes(v.impact))
                        .map((v) => `${v.id}: ${v.nodes.map((n) => n.target.join(' ')).join(', ')}`)),
                    (e) => done([String(e)]));",
                vec![],
            )
            .await?
            .json()
            .clone();
        let at = self.driver.current_url().await?;
        ensure!(found.as_array().is_some_and(Vec::is_empty), "axe at {at}: {found}");
        let wide = self.script("return document.documentElement.scrollWidth").await?;
        // Not the window's own word: on a phone it grows with what does not fit.
        let fits = wide.as_u64().is_some_and(|w| w <= u64::from(self.width));
        ensure!(fits, "{at} is {wide} pixels wide");
        let open = "return [...document.querySelectorAll('.rooms .on, .tabs .on')]
            .map((tab) => Math.round(tab.getBoundingClientRect().right))";
        let ends = self.script(open).await?;
        let seen = |end: &serde_json::Value| {
            end.as_i64().is_some_and(|end| end > 0 && end <= i64::from(self.width))
        };
        ensure!(
            ends.as_array().is_some_and(|ends| ends.iter().all(seen)),
            "an open tab of {at} ends at {ends} pixels, out of sight"
        );
        Ok(())
    }
}

/// Whether a driver gave up because the act itself led to another page: it was done, and what it
/// led to is waited for by whoever asks next.
fn has_left(error: &WebDriverError) -> bool {
    let said = error.to_string();
    ["no such execution context", "aborted by navigation"].iter().any(|gone| said.contains(gone))
}

/// Whether an element was replaced between finding it and the act.
fn is_stale(error: &WebDriverError) -> bool {
    error.to_string().contains("stale element")
}

/// A film of a picture held still in front of a camera, for Chromium's fake camera.
///
/// # Errors
/// ffmpeg is missing or fails.
pub fn film(picture: &Path, folder: &Path) -> Result<PathBuf> {
    let film = folder.join("camera.mjpeg");
    let done = Command::new("ffmpeg")
        .args(["-v", "error", "-y", "-loop", "1", "-i"])
        .arg(picture)
        .args([
            "-vf",
            "scale=-2:700,pad=1280:720:(ow-iw)/2:(oh-ih)/2:gray,noise=alls=6:allf=t,rotate=3*PI/180:fillcolor=gray,format=yuvj420p",
            "-t", "2", "-r", "15", "-c:v", "mjpeg", "-q:v", "4", "-f", "mjpeg",
        ])
        .arg(&film)
        .status()
        .context("ffmpeg is missing; scripts/test installs it")?;
    ensure!(done.success(), "ffmpeg failed");
    Ok(film)
}

/// The first page of a PDF as a picture.
///
/// # Errors
/// pdftoppm is missing or fails.
pub fn picture(pdf: &Path, folder: &Path) -> Result<PathBuf> {
    draw(pdf, folder, "ticket", &[])
}

/// Only the Code 128 of a ticket: what a linear scanner sees.
///
/// # Errors
/// pdftoppm is missing or fails.
pub fn picture_of_bars(pdf: &Path, folder: &Path) -> Result<PathBuf> {
    draw(pdf, folder, "bars", &["-x", "60", "-y", "745", "-W", "520", "-H", "100"])
}

fn draw(pdf: &Path, folder: &Path, name: &str, crop: &[&str]) -> Result<PathBuf> {
    let done = Command::new("pdftoppm")
        .args(["-png", "-r", "110", "-f", "1", "-l", "1", "-singlefile"])
        .args(crop)
        .arg(pdf)
        .arg(folder.join(name))
        .status()
        .context("pdftoppm is missing; scripts/test installs it")?;
    ensure!(done.success(), "pdftoppm failed");
    Ok(folder.join(format!("{name}.png")))
}

/// The ticket code of somebody expected today on a confirmed booking, and their name.
///
/// # Errors
/// The demo has nobody.
pub async fn expected(house: &House) -> Result<(String, String, i64)> {
    let email = matricle_demo::STAFF[1].1;
    let (bram, _) = house
        .desk
        .store
        .read(move |c| people::by_email(c, email))
        .await?
        .context("the door volunteer")?;
    let today = door::todays(&house.desk, &bram).await?;
    // Not of the talk that happens online.
    let here = today.iter().find(|d| d.event.slug == "candles-from-our-own-wax");
    let date = here.context("a date at a place")?.date.id;
    let names = door::names(&house.desk, &bram, (date, "gate"), "").await?;
    let one = names
        .into_iter()
        .find(|n| {
            n.verdict.admits()
                && n.person.facts.state == State::Confirmed
                && n.person.ticket != "Pair"
        })
        .context("somebody expected")?
        .person;
    let id = one.booking;
    let all = house.desk.store.read(move |c| matricle_store::bookings::attendees(c, id)).await?;
    let code = all.iter().find(|a| a.id == one.facts.attendee).context("the attendee")?.code;
    Ok((code.as_str().to_lowercase(), one.name, date.0))
}
