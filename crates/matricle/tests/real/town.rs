//! A town for tests: the real program, its stand-ins, and people with browsers.

use std::io::{BufRead, BufReader, Write};
use std::net::{Ipv4Addr, TcpListener};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use tempfile::TempDir;

/// The clerk of a town that has one.
const ILSE: (&str, &str) = ("ilse@club.example", "comb-and-wax");

/// The door volunteer of every town.
pub(crate) const BRAM: (&str, &str) = ("bram@club.example", "smoker-is-lit");

fn program() -> Command {
    Command::new(env!("CARGO_BIN_EXE_matricle"))
}

/// A data folder with a configuration, stand-ins beside it, and perhaps a server.
pub(crate) struct Town {
    folder: TempDir,
    /// Where the pages are.
    pub(crate) url: String,
    /// Where the mailbox's page is.
    pub(crate) mailbox: String,
    /// Where the till's page is.
    pub(crate) till: String,
    standins: Child,
    server: Option<Child>,
}

impl Drop for Town {
    fn drop(&mut self) {
        self.kill();
        let _ = self.standins.kill();
        let _ = self.standins.wait();
    }
}

impl Town {
    /// Founds a town with one event, planned in TOML.
    pub(crate) fn found(event: &str) -> Self {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let folder = tempfile::tempdir().unwrap();
        let mut standins = program()
            .args(["standins", "--port", "0", "--data"])
            .arg(folder.path().join("stand-ins"))
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let lines = BufReader::new(standins.stdout.take().unwrap()).lines();
        let said: Vec<String> = lines.take(3).map(Result::unwrap).collect();
        let of = |name: &str| {
            let line = said.iter().find(|l| l.starts_with(name)).unwrap();
            line.split_whitespace().nth(1).unwrap().to_owned()
        };
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let url = format!("http://127.0.0.1:{port}");
        let (till, mailbox, smtp) = (of("Till"), of("Mailbox"), of("SMTP"));
        let config = format!(
            r#"listen = "127.0.0.1:{port}"
data = {data:?}
public_url = "{url}"
behind_proxy = true
[house]
name = "Club"
currency = "EUR"
zone = "Europe/Dublin"
email = "office@club.example"
terms = "I agree."
[mail]
server = "{smtp}"
[card]
url = "{till}"
pay_origin = "{till}"
key = "{key}"
webhook_secret = "{secret}"
[limits]
sign_in = 1000
booking = 1000000
"#,
            data = folder.path().join("data"),
            key = matricle_standins::beside::KEY,
            secret = matricle_standins::beside::WEBHOOK_SECRET,
        );
        std::fs::write(folder.path().join("matricle.toml"), config).unwrap();
        let town = Self { folder, url, mailbox, till: till.clone(), standins, server: None };
        std::fs::write(town.path("event.toml"), event).unwrap();
        assert!(town.command("import").arg(town.path("event.toml")).status().unwrap().success());
        town.employ("Bram Tully", BRAM, "door volunteer");
        town
    }

    /// Reaches another mail server and another card provider from the next start on.
    pub(crate) fn reach(&self, mail: &str, provider: &str) {
        let file = self.path("matricle.toml");
        let config: String = std::fs::read_to_string(&file)
            .unwrap()
            .lines()
            .map(|line| match line.split(' ').next() {
                Some("server") => format!("server = {mail:?}\n"),
                Some("url" | "pay_origin") => {
                    format!("{} = {provider:?}\n", line.split(' ').next().unwrap())
                }
                _ => format!("{line}\n"),
            })
            .collect();
        std::fs::write(file, config).unwrap();
    }

    /// Gives somebody a role, while the server is not running.
    pub(crate) fn employ(&self, name: &str, (email, password): (&str, &str), role: &str) {
        let mut person = self.command("person");
        person.args(["--name", name, "--email", email, "--role", role]);
        let mut person = person.stdin(Stdio::piped()).spawn().unwrap();
        writeln!(person.stdin.take().unwrap(), "{password}").unwrap();
        assert!(person.wait().unwrap().success());
    }

    /// Employs a clerk, while the server is not running.
    pub(crate) fn employ_a_clerk(&self) {
        self.employ("Ilse Karrow", ILSE, "organiser");
    }

    /// A path in the town's folder.
    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// A command of the program that reads the configuration.
    pub(crate) fn command(&self, name: &str) -> Command {
        let mut command = program();
        command.arg(name).arg("--config").arg(self.path("matricle.toml")).stdout(Stdio::null());
        command
    }

    /// Starts the server and waits until it answers.
    pub(crate) async fn open(&mut self) {
        self.server = Some(self.command("serve").spawn().unwrap());
        for _ in 0..200 {
            if reqwest::get(&self.url).await.is_ok() {
                return;
            }
            tokio::time::sleep(Duration::from_millis(25)).await;
        }
        panic!("the server does not answer");
    }

    /// The most memory that the server has held, in kB, as the machine counts it.
    pub(crate) fn most_memory_kb(&self) -> u64 {
        let id = self.server.as_ref().unwrap().id();
        let status = std::fs::read_to_string(format!("/proc/{id}/status")).unwrap();
        let line = status.lines().find_map(|l| l.strip_prefix("VmHWM:")).unwrap();
        line.trim().trim_end_matches(" kB").parse().unwrap()
    }

    /// Kills the server (SIGKILL): no last words.
    pub(crate) fn kill(&mut self) {
        if let Some(mut server) = self.server.take() {
            let _ = server.kill();
            let _ = server.wait();
        }
    }

    /// Asks the server to stop (SIGINT) and says how it ended.
    pub(crate) fn stop(&mut self) -> ExitStatus {
        let mut server = self.server.take().unwrap();
        let id = server.id().to_string();
        assert!(Command::new("kill").args(["-INT", &id]).status().unwrap().success());
        server.wait().unwrap()
    }

    /// The one copy of a folder, put back into an empty one and found sound: to be read.
    pub(crate) fn restored(&self, folder: &str) -> matricle_store::Connection {
        let copy = std::fs::read_dir(self.path(folder)).unwrap().next().unwrap().unwrap().path();
        let into = self.path("restored");
        let done = program().arg("restore").arg(copy).arg("--into").arg(&into).output().unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        let config = std::fs::read_to_string(self.path("matricle.toml")).unwrap();
        let (data, other) = (format!("data = {:?}", self.path("data")), format!("data = {into:?}"));
        assert!(config.contains(&data));
        std::fs::write(self.path("restored.toml"), config.replace(&data, &other)).unwrap();
        let mut check = program();
        check.arg("check").arg("--config").arg(self.path("restored.toml"));
        let done = check.output().unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stdout));
        matricle_store::Store::writer(&into.join(matricle_store::FILE)).unwrap()
    }

    /// `matricle check` finds nothing.
    pub(crate) fn is_sound(&self) {
        let done = self.command("check").stdout(Stdio::piped()).output().unwrap();
        let said = String::from_utf8_lossy(&done.stdout).into_owned();
        assert!(done.status.success(), "{said}");
    }
}

/// Somebody with a browser: one cookie jar, no script.
pub(crate) struct Person {
    client: reqwest::Client,
    cookies: Vec<(String, String)>,
    token: String,
    from: Ipv4Addr,
}

/// What a page answered.
pub(crate) struct Page {
    /// HTTP status.
    pub(crate) status: u16,
    /// Where it sends one, if it does.
    pub(crate) location: String,
    /// Its text.
    pub(crate) body: String,
}

impl Page {
    /// The value of the first field of this name.
    pub(crate) fn field(&self, name: &str) -> String {
        let from = self.body.split(&format!("name=\"{name}\" value=\"")).nth(1).unwrap_or_default();
        from.split('"').next().unwrap_or_default().to_owned()
    }
}

impl Person {
    /// Somebody new.
    pub(crate) fn new() -> Self {
        // One pool of connections for everybody: making one costs more than a booking.
        static CLIENT: OnceLock<reqwest::Client> = OnceLock::new();
        let client = CLIENT.get_or_init(|| {
            reqwest::Client::builder()
                .redirect(reqwest::redirect::Policy::none())
                .timeout(Duration::from_secs(20))
                .build()
                .unwrap()
        });
        // Everybody sits behind a network of their own: what one network may do has its tests.
        static PEOPLE: AtomicU32 = AtomicU32::new(0);
        let n = PEOPLE.fetch_add(1, Ordering::Relaxed);
        let from = Ipv4Addr::from_bits(u32::from(Ipv4Addr::new(100, 64, 0, 0)) + (n << 8));
        Self { client: client.clone(), cookies: Vec::new(), token: String::new(), from }
    }

    /// Sends a request; the answer to a form is read where it leads to, as a browser does.
    async fn send(&mut self, request: reqwest::RequestBuilder) -> Result<Page, reqwest::Error> {
        let (page, site) = self.send_once(request).await?;
        if page.status != 303 || !page.location.contains("kept=") {
            return Ok(page);
        }
        let there = self.client.get(format!("{site}{}", page.location));
        Ok(self.send_once(there).await?.0)
    }

    async fn send_once(
        &mut self,
        request: reqwest::RequestBuilder,
    ) -> Result<(Page, String), reqwest::Error> {
        let jar: Vec<String> = self.cookies.iter().map(|(n, v)| format!("{n}={v}")).collect();
        let response = request
            .header("cookie", jar.join("; "))
            .header("x-forwarded-for", self.from.to_string())
            .send()
            .await?;
        for set in response.headers().get_all("set-cookie") {
            let pair = set.to_str().unwrap().split(';').next().unwrap();
            let (name, value) = pair.split_once('=').unwrap();
            self.cookies.retain(|(known, _)| known != name);
            self.cookies.push((name.into(), value.into()));
        }
        let location =
            response.headers().get("location").map_or("", |v| v.to_str().unwrap()).to_owned();
        let status = response.status().as_u16();
        let site = response.url().origin().ascii_serialization();
        let page = Page { status, location, body: response.text().await? };
        if !page.field("token").is_empty() {
            self.token = page.field("token");
        }
        Ok((page, site))
    }

    /// Asks for a page.
    pub(crate) async fn get(&mut self, url: &str) -> Result<Page, reqwest::Error> {
        self.send(self.client.get(url)).await
    }

    /// Sends a form.
    pub(crate) async fn post(
        &mut self,
        url: &str,
        fields: &[(&str, &str)],
    ) -> Result<Page, reqwest::Error> {
        let mut body = format!("token={}", self.token);
        for (name, value) in fields {
            let value: String = value.bytes().map(|b| format!("%{b:02X}")).collect();
            body.push_str(&format!("&{name}={value}"));
        }
        let form = "application/x-www-form-urlencoded";
        self.send(self.client.post(url).header("content-type", form).body(body)).await
    }

    /// Sends a form with a file.
    pub(crate) async fn post_file(
        &mut self,
        url: &str,
        field: &str,
        fields: &[(&str, &str)],
        name: &str,
        bytes: &[u8],
    ) -> Result<Page, reqwest::Error> {
        let mut body = Vec::new();
        let token = self.token.clone();
        for (name, value) in fields.iter().chain(&[("token", token.as_str())]) {
            let head =
                format!("--xx-xx\r\ncontent-disposition: form-data; name=\"{name}\"\r\n\r\n");
            body.extend([head.as_bytes(), value.as_bytes(), b"\r\n"].concat());
        }
        let head = format!(
            "--xx-xx\r\ncontent-disposition: form-data; name=\"{field}\"; filename=\"{name}\"\r\n\r\n"
        );
        body.extend([head.as_bytes(), bytes, b"\r\n--xx-xx--\r\n"].concat());
        let form = "multipart/form-data; boundary=xx-xx";
        self.send(self.client.post(url).header("content-type", form).body(body)).await
    }

    /// Chooses seats of the town's event; the booking's address when they are kept.
    pub(crate) async fn keep(
        &mut self,
        town: &str,
        quantity: &str,
    ) -> Result<Result<String, String>, reqwest::Error> {
        self.keep_of(town, "q_1", quantity).await
    }

    /// Chooses seats of one ticket type, by its field.
    pub(crate) async fn keep_of(
        &mut self,
        town: &str,
        ticket: &str,
        quantity: &str,
    ) -> Result<Result<String, String>, reqwest::Error> {
        let event = format!("{town}/events/evening");
        let date = self.get(&event).await?.field("date");
        self.keep_on(town, &date, ticket, quantity).await
    }

    /// Chooses seats on one date.
    pub(crate) async fn keep_on(
        &mut self,
        town: &str,
        date: &str,
        ticket: &str,
        quantity: &str,
    ) -> Result<Result<String, String>, reqwest::Error> {
        let event = format!("{town}/events/evening");
        if self.token.is_empty() {
            self.get(&event).await?;
        }
        let kept =
            self.post(&format!("{event}/keep"), &[("date", date), (ticket, quantity)]).await?;
        if kept.status != 303 {
            return Ok(Err(kept.body));
        }
        // The form to fill in is made for this browser.
        let own = format!("{town}{}", kept.location);
        self.get(&own).await?;
        Ok(Ok(own))
    }

    /// Fills the form in and books.
    pub(crate) async fn book(
        &mut self,
        own: &str,
        name: &str,
        people: usize,
    ) -> Result<Page, reqwest::Error> {
        let email = format!("{}@post.example", name.to_lowercase());
        let mut fields = vec![
            ("name".to_owned(), name.to_owned()),
            ("email".into(), email),
            ("agreed".into(), "yes".into()),
        ];
        fields.extend((0..people).map(|i| (format!("attendee_{i}"), format!("{name} {i}"))));
        let fields: Vec<_> = fields.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
        self.post(&format!("{own}/book"), &fields).await
    }

    /// Pays at the till; the booking's page afterwards.
    pub(crate) async fn pay(&mut self, own: &str) -> Result<Page, reqwest::Error> {
        self.decide(own, "paid").await
    }

    /// Decides at the till; the booking's page afterwards.
    pub(crate) async fn decide(
        &mut self,
        own: &str,
        outcome: &'static str,
    ) -> Result<Page, reqwest::Error> {
        let there = self.get(&format!("{own}/pay")).await?;
        let back = self
            .client
            .post(&there.location)
            .header("content-type", "application/x-www-form-urlencoded")
            .body(format!("outcome={outcome}"))
            .send()
            .await?;
        let back =
            back.headers().get("location").map_or(own, |v| v.to_str().unwrap_or(own)).to_owned();
        self.get(&back).await
    }

    /// Signs in at the Office as the town's clerk.
    pub(crate) async fn sign_in_as_clerk(&mut self, town: &str) -> Result<(), reqwest::Error> {
        self.sign_in_as(town, ILSE).await?;
        self.get(&format!("{town}/office")).await.map(drop)
    }

    async fn sign_in_as(
        &mut self,
        town: &str,
        (email, password): (&str, &str),
    ) -> Result<Page, reqwest::Error> {
        self.get(&format!("{town}/sign-in")).await?;
        let fields = [("email", email), ("password", password)];
        self.post(&format!("{town}/sign-in"), &fields).await
    }

    /// Signs the door volunteer in.
    pub(crate) async fn sign_in(&mut self, town: &str) {
        let page = self.sign_in_as(town, BRAM).await.unwrap();
        assert_eq!(page.location, "/door");
        self.get(&format!("{town}/door/1")).await.unwrap();
    }

    /// Scans a code at the door; the verdict's class.
    pub(crate) async fn scan(&mut self, town: &str, code: &str) -> Result<String, reqwest::Error> {
        let page =
            self.post(&format!("{town}/door/1/scan"), &[("text", code), ("by", "scanner")]).await?;
        let verdict = page.body.split("data-verdict=\"").nth(1).unwrap_or_default();
        Ok(verdict.split('"').next().unwrap_or_default().to_owned())
    }
}

/// An event with so many seats at a price, in an hour: its door is open.
#[allow(clippy::disallowed_methods, reason = "the real program asks the machine's clock")]
pub(crate) fn event(seats: u32, price: &str) -> String {
    let zone = jiff::tz::TimeZone::get("Europe/Dublin").unwrap();
    let at = |hours| {
        let at = jiff::Timestamp::now() + jiff::SignedDuration::from_hours(hours);
        at.to_zoned_datetime(zone.clone()).datetime().strftime("%Y-%m-%dT%H:%M").to_string()
    };
    let (starts, ends) = (at(1), at(3));
    format!(
        r#"title = "Evening"
kind = "Talk"
lead = "Come."
pools = ["seats"]
[[tickets]]
name = "Seat"
price = "{price}"
draws = {{ seats = 1 }}
[[dates]]
starts = "{starts}"
ends = "{ends}"
venue = "Hall"
seats = {{ seats = {seats} }}
"#
    )
}

/// A file of the stand-ins as JSON.
pub(crate) fn json(file: &Path) -> serde_json::Value {
    serde_json::from_slice(&std::fs::read(file).unwrap()).unwrap()
}
