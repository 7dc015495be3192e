//! The configuration file.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::{Context, bail};
use jiff::SignedDuration;
use jiff::tz::TimeZone;
use matricle_core::Currency;
use matricle_core::backups::Keep;
use matricle_core::words::address::is_address;
use matricle_core::words::text::line;
use matricle_desk::Secrets;
use matricle_desk::house::backup::{Backups, Plan};
use matricle_desk::letters::LARGEST;
use matricle_desk::outside::letterbox::{Imap, Letterbox};
use matricle_desk::outside::mailer::SmtpMailer;
use matricle_desk::outside::provider::parse_webhook_secret;
use matricle_store::house::House;
use serde::Deserialize;

/// An example with every setting explained.
pub const EXAMPLE: &str = include_str!("matricle.example.toml");
/// The key that the stand-ins expect.
pub const STAND_IN_KEY: &str = "stand-in-key";
/// The secret that the till signs webhooks with.
pub const STAND_IN_WEBHOOK_SECRET: &str = "whsec_c3RhbmQtaW4tc2VjcmV0LW5vdC1mb3ItcmVhbA==";
/// The webhook secret of the example, which everybody knows.
const EXAMPLE_WEBHOOK_SECRET: &str = "whsec_Y2hhbmdlLW1lLWNoYW5nZS1tZS1jaGFuZ2UtbWU=";

/// How the program runs.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Config {
    /// Where it listens.
    pub listen: SocketAddr,
    /// The data folder.
    pub data: PathBuf,
    /// How the pages are reached from outside.
    pub public_url: String,
    /// A proxy in front says who asks.
    #[serde(default)]
    pub behind_proxy: bool,
    /// 64 hexadecimal digits, or empty.
    #[serde(default)]
    pub secret: String,
    /// The house, used when the data folder is new.
    pub house: HouseConfig,
    /// The mail server.
    pub mail: MailConfig,
    /// The house's mailbox; without it letters are dropped or pasted at the Office.
    #[serde(default)]
    pub letters: Option<LettersConfig>,
    /// The card provider; without it nothing is paid by card.
    #[serde(default)]
    pub card: Option<CardConfig>,
    /// The gateway for text messages; without it none go out.
    #[serde(default)]
    pub texts: Option<TextsConfig>,
    /// The meeting-room service; without it dates online have links.
    #[serde(default)]
    pub rooms: Option<TextsConfig>,
    /// The team's chat; without it nothing is posted there.
    #[serde(default)]
    pub chat: Option<ChatConfig>,
    /// How much one network may ask for.
    #[serde(default)]
    pub limits: LimitsConfig,
    /// Backups by a timer.
    #[serde(default)]
    pub backup: BackupConfig,
    /// Where `GET /metrics` is answered, if anywhere.
    #[serde(default)]
    pub metrics: Option<SocketAddr>,
    /// What is logged, and how.
    #[serde(default)]
    pub log: LogConfig,
}

/// The gateway for text messages.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TextsConfig {
    /// Its interface.
    pub url: String,
    /// Its token.
    #[serde(default)]
    pub token: String,
}

/// The team's chat.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChatConfig {
    /// The incoming webhook, which is its own secret.
    pub url: String,
}

/// Backups by a timer.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct BackupConfig {
    /// Where they go; empty for none.
    pub folder: PathBuf,
    /// How often, in hours.
    pub every_hours: u32,
    /// All of the last so many days are kept.
    pub keep_all_days: u32,
    /// One a day, for so many days.
    pub keep_days: u32,
    /// One a month, for so many months; 0 is for ever.
    pub keep_months: u32,
    /// A file with the passphrase they are encrypted with; empty for none.
    pub passphrase_file: PathBuf,
}

impl Default for BackupConfig {
    fn default() -> Self {
        let keep = Keep::default();
        Self {
            folder: PathBuf::new(),
            every_hours: 24,
            keep_all_days: keep.all_days,
            keep_days: keep.days,
            keep_months: keep.months,
            passphrase_file: PathBuf::new(),
        }
    }
}

/// What is logged, and how.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct LogConfig {
    /// `text`, or `json` with an object a line.
    pub format: LogFormat,
    /// `error`, `warn`, `info` or `debug`.
    pub level: String,
}

impl Default for LogConfig {
    fn default() -> Self {
        Self { format: LogFormat::Text, level: "info".into() }
    }
}

/// How lines of the log are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum LogFormat {
    /// For people.
    Text,
    /// For programs: an object a line.
    Json,
}

/// The house.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HouseConfig {
    /// Its name.
    pub name: String,
    /// Its currency.
    pub currency: Currency,
    /// Its zone.
    pub zone: String,
    /// Its address.
    pub email: String,
    /// What bookers agree to.
    pub terms: String,
}

impl From<&HouseConfig> for House {
    fn from(c: &HouseConfig) -> Self {
        Self {
            name: line(&c.name),
            currency: c.currency,
            zone: c.zone.clone(),
            email: c.email.clone(),
            terms: line(&c.terms),
            ..Self::default()
        }
    }
}

/// The mail server.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MailConfig {
    /// Its URL.
    pub server: String,
    /// The name it asks for, or empty.
    #[serde(default)]
    pub user: String,
    /// The password it asks for, or empty.
    #[serde(default)]
    pub password: String,
    /// The password may go over the network without TLS.
    #[serde(default)]
    pub allow_password_in_the_open: bool,
    /// So many mails are handed over at once.
    #[serde(default = "four")]
    pub at_once: usize,
}

const fn four() -> usize {
    4
}

/// The house's mailbox, read by IMAP.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LettersConfig {
    /// Its URL.
    pub server: String,
    /// The name it asks for.
    pub user: String,
    /// The password it asks for.
    #[serde(default)]
    pub password: String,
    /// The folder that is read.
    #[serde(default = "inbox")]
    pub folder: String,
}

fn inbox() -> String {
    "INBOX".into()
}

/// The card provider.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CardConfig {
    /// Its interface.
    pub url: String,
    /// Where its pages for payers are.
    pub pay_origin: String,
    /// The key it gave us.
    #[serde(default)]
    pub key: String,
    /// The secret it signs webhooks with.
    pub webhook_secret: String,
}

/// How much one address may ask for in a minute.
#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct LimitsConfig {
    /// Tries to sign in.
    pub sign_in: u32,
    /// Choices of seats and completed forms.
    pub booking: u32,
    /// Connections open at once, half of them from one network.
    pub connections: usize,
}

impl Default for LimitsConfig {
    fn default() -> Self {
        Self { sign_in: 10, booking: 40, connections: 2000 }
    }
}

/// An address of a host and nothing after it.
fn is_origin(url: &str) -> bool {
    let rest = url.strip_prefix("https://").or_else(|| url.strip_prefix("http://"));
    rest.is_some_and(|r| {
        let after = |c: char| matches!(c, '/' | '?' | '#' | '@') || c.is_whitespace();
        !r.is_empty() && !r.contains(after)
    })
}

/// Settings that cannot be meant: which, and what is wrong.
#[derive(Default)]
struct Faults(Vec<(&'static str, String)>);

impl Faults {
    fn check(&mut self, fine: bool, setting: &'static str, said: String) {
        if !fine {
            self.0.push((setting, format!("{setting}: {said}")));
        }
    }
}

impl Config {
    /// Reads a file; what the environment says comes before it.
    ///
    /// # Errors
    /// The file cannot be read, or a setting is odd; the message says which.
    pub fn load(file: &Path, env: impl Fn(&str) -> Option<String>) -> anyhow::Result<Self> {
        let text = std::fs::read_to_string(file)
            .with_context(|| format!("the configuration {} cannot be read", file.display()))?;
        Self::parse(&text, env)
            .with_context(|| format!("the configuration {} cannot be used", file.display()))
    }

    fn parse(text: &str, env: impl Fn(&str) -> Option<String>) -> anyhow::Result<Self> {
        // The reader says line and column itself.
        let mut config: Self = toml::from_str(text)?;
        // A secret may stand in the environment, in a file the environment names, or here.
        let over = |setting: &mut String, name: &str| -> anyhow::Result<()> {
            if let Some(value) = env(name) {
                *setting = value;
            } else if let Some(file) = env(&format!("{name}_FILE")) {
                *setting = secret_file(Path::new(&file))
                    .with_context(|| format!("{name}_FILE names {file}"))?;
            }
            Ok(())
        };
        over(&mut config.secret, "MATRICLE_SECRET")?;
        over(&mut config.mail.password, "MATRICLE_MAIL_PASSWORD")?;
        if let Some(letters) = &mut config.letters {
            over(&mut letters.password, "MATRICLE_LETTERS_PASSWORD")?;
        }
        if let Some(card) = &mut config.card {
            over(&mut card.key, "MATRICLE_CARD_KEY")?;
            over(&mut card.webhook_secret, "MATRICLE_WEBHOOK_SECRET")?;
        }
        if let Some(texts) = &mut config.texts {
            over(&mut texts.token, "MATRICLE_TEXTS_TOKEN")?;
        }
        if let Some(rooms) = &mut config.rooms {
            over(&mut rooms.token, "MATRICLE_ROOMS_TOKEN")?;
        }
        if let Some(chat) = &mut config.chat {
            over(&mut chat.url, "MATRICLE_CHAT_URL")?;
        }
        while config.public_url.ends_with('/') {
            config.public_url.pop();
        }
        let mut faults = config.faults();
        if faults.is_empty() {
            return Ok(config);
        }
        for (setting, said) in &mut faults {
            // The line where the setting stands, for whoever looks for it in the file.
            if let Some(n) = line_of(text, setting) {
                *said = format!("line {n}: {said}");
            }
        }
        let all: Vec<String> = faults.into_iter().map(|(_, said)| said).collect();
        bail!("{}", all.join("\n"))
    }

    /// The house's mailbox, if there is one.
    ///
    /// # Errors
    /// Its URL is none.
    pub fn letterbox(&self) -> anyhow::Result<Option<Arc<dyn Letterbox>>> {
        let Some(l) = &self.letters else { return Ok(None) };
        Ok(Some(Arc::new(Imap::new(&l.server, (&l.user, &l.password), &l.folder, LARGEST)?)))
    }

    /// Every setting that cannot be meant, with a way out.
    fn faults(&self) -> Vec<(&'static str, String)> {
        let mut faults = Faults::default();
        self.check_house(&mut faults);
        self.check_mail(&mut faults);
        self.check_outside(&mut faults);
        self.check_card(&mut faults);
        faults.check(
            self.limits.sign_in > 0 && self.limits.booking > 0 && self.limits.connections >= 10,
            "limits",
            "sign_in and booking are at least 1, connections at least 10".into(),
        );
        faults.check(
            self.backup.folder.as_os_str().is_empty() || self.backup.every_hours > 0,
            "every_hours",
            "is at least 1".into(),
        );
        faults.check(
            self.backup.folder.as_os_str().is_empty() || self.backup.folder != self.data,
            "folder",
            "backups go to another folder than the data, and better to another disk".into(),
        );
        faults.check(
            ["error", "warn", "info", "debug"].contains(&self.log.level.as_str()),
            "level",
            format!("{:?} is none of error, warn, info, debug", self.log.level),
        );
        faults.0
    }

    fn check_house(&self, faults: &mut Faults) {
        let url = &self.public_url;
        faults.check(
            is_origin(url),
            "public_url",
            format!(
                "must begin with http:// or https:// and be a host without a path, such as https://events.club.example; {url:?} is not"
            ),
        );
        faults.check(
            TimeZone::get(&self.house.zone).is_ok(),
            "zone",
            format!(
                "the zone {:?} is not known; use a name such as Europe/Dublin",
                self.house.zone
            ),
        );
        faults.check(!line(&self.house.name).is_empty(), "name", "give the house a name".into());
        faults.check(
            is_address(&self.house.email),
            "email",
            format!("{:?} is no address that mail can be sent from", self.house.email),
        );
        faults.check(
            !self.data.as_os_str().is_empty(),
            "data",
            "name a folder to keep the house in".into(),
        );
        faults.check(
            self.secret.is_empty() || hex(&self.secret).is_ok(),
            "secret",
            "must be 64 hexadecimal digits, or empty".into(),
        );
    }

    fn check_mail(&self, faults: &mut Faults) {
        faults.check(
            SmtpMailer::new(&self.mail.server, None).is_ok(),
            "server",
            format!(
                "{:?} is not the URL of a mail server; write it like smtps://mail.club.example:465",
                self.mail.server
            ),
        );
        faults.check(
            self.mail.password.is_empty() || !self.mail.user.is_empty(),
            "password",
            "there is a password for the mail server, but no user".into(),
        );
        let open = self.mail.server.starts_with("smtp://")
            && !self.mail.server.contains("tls=required")
            && !is_here(&self.mail.server);
        faults.check(
            self.mail.password.is_empty() || !open || self.mail.allow_password_in_the_open,
            "password",
            "would be sent over the network in the open; use smtps://, or smtp://…?tls=required, or say allow_password_in_the_open = true".into(),
        );
        faults.check(
            (1..=64).contains(&self.mail.at_once),
            "at_once",
            "between 1 and 64 mails are handed over at once".into(),
        );
        if let Some(letters) = &self.letters {
            faults.check(
                Imap::new(&letters.server, ("", ""), "", 0).is_ok(),
                "letters",
                format!(
                    "server: {:?} is not the URL of a mailbox; write it like imaps://mail.club.example",
                    letters.server
                ),
            );
            faults.check(
                letters.server.starts_with("imaps://") || is_here(&letters.server),
                "letters",
                "server: the password would be sent over the network in the open; use imaps://"
                    .into(),
            );
            faults.check(
                !letters.user.is_empty() && !letters.password.is_empty(),
                "letters",
                "the mailbox wants a user and a password; the password may stand in \
                 MATRICLE_LETTERS_PASSWORD"
                    .into(),
            );
        }
    }

    fn check_outside(&self, faults: &mut Faults) {
        // What goes there is secret, or has one beside it.
        let closed = |url: &str| {
            let host = url.split_once("://").is_some_and(|(_, host)| !line(host).is_empty());
            host && (url.starts_with("https://") || (url.starts_with("http://") && is_here(url)))
        };
        if let Some(rooms) = &self.rooms {
            faults.check(
                closed(&rooms.url) && !line(&rooms.token).is_empty(),
                "rooms",
                "url and token: put those that your meeting-room service gave you; the url begins with https://".into(),
            );
        }
        if let Some(texts) = &self.texts {
            faults.check(
                closed(&texts.url),
                "texts",
                format!("url: {:?} is no address of a gateway; it begins with https://", texts.url),
            );
            faults.check(
                !line(&texts.token).is_empty(),
                "texts",
                "token: put the one that your gateway gave you".into(),
            );
        }
        if let Some(chat) = &self.chat {
            faults.check(
                closed(&chat.url),
                "chat",
                "url: put the whole address of the incoming webhook; it begins with https://"
                    .into(),
            );
        }
    }

    fn check_card(&self, faults: &mut Faults) {
        if let Some(card) = &self.card {
            let secret = parse_webhook_secret(&card.webhook_secret);
            faults.check(
                secret.is_some(),
                "webhook_secret",
                "must be whsec_ and at least 16 bytes in base64".into(),
            );
            let known = [EXAMPLE_WEBHOOK_SECRET, STAND_IN_WEBHOOK_SECRET];
            faults.check(
                !known.contains(&card.webhook_secret.as_str()) || is_here(&card.url),
                "webhook_secret",
                "is the one of the example, which everybody knows; put the one that your card provider gave you".into(),
            );
            faults.check(
                card.key != STAND_IN_KEY || is_here(&card.url),
                "key",
                "is the one of the stand-in, which everybody knows; put the one that your card provider gave you".into(),
            );
            let provider = &card.url;
            faults.check(
                provider.starts_with("https://") || provider.starts_with("http://"),
                "url",
                format!("{provider:?} is no address of a card provider; it begins with https://"),
            );
            faults.check(
                is_origin(&card.pay_origin),
                "pay_origin",
                format!(
                    "must be an origin such as https://pay.till.example; {:?} is not",
                    card.pay_origin
                ),
            );
        }
    }

    /// How backups are made.
    ///
    /// # Errors
    /// The passphrase's file cannot be read.
    pub fn backups(&self) -> anyhow::Result<Backups> {
        let by_timer = if self.backup.folder.as_os_str().is_empty() {
            None
        } else {
            let every = SignedDuration::from_hours(i64::from(self.backup.every_hours));
            Some((self.backup_plan(self.backup.folder.clone())?, every))
        };
        Ok(Backups { by_timer, wanted: true })
    }

    /// How a backup is made into a folder.
    ///
    /// # Errors
    /// The passphrase's file, or the secret, cannot be read.
    pub fn backup_plan(&self, folder: PathBuf) -> anyhow::Result<Plan> {
        let c = &self.backup;
        let passphrase = if c.passphrase_file.as_os_str().is_empty() {
            None
        } else {
            Some(secret_file(&c.passphrase_file)?)
        };
        Ok(Plan {
            folder,
            keep: Keep { all_days: c.keep_all_days, days: c.keep_days, months: c.keep_months },
            passphrase,
            secret: kept_secret(&self.data, &self.secret)?,
        })
    }

    /// The secret of the house: as configured, or made once and kept in the data folder.
    ///
    /// # Errors
    /// The data folder cannot be used; it holds a house without its secret, or a secret
    /// without its house.
    pub fn secrets(&self) -> anyhow::Result<Secrets> {
        secrets(&self.data, &self.secret)
    }
}

/// The first line of a file that holds a secret.
fn secret_file(file: &Path) -> anyhow::Result<String> {
    let text = std::fs::read_to_string(file)
        .with_context(|| format!("the file {} cannot be read", file.display()))?;
    let first = text.lines().next().unwrap_or_default().trim().to_owned();
    if first.is_empty() {
        bail!("the file {} is empty", file.display());
    }
    Ok(first)
}

/// Whether an URL leads to this machine: what is sent there crosses no network.
fn is_here(url: &str) -> bool {
    let rest = url.split_once("://").map_or(url, |(_, rest)| rest);
    let host = rest.split(['/', '?']).next().unwrap_or_default();
    let host = host.rsplit_once('@').map_or(host, |(_, host)| host);
    host.starts_with("127.") || host.starts_with("localhost") || host.starts_with("[::1]")
}

/// The line of a setting in a file, counted from one.
fn line_of(text: &str, setting: &str) -> Option<usize> {
    let is = |l: &str| {
        let name = l.split(['=', ' ', '\t']).next().unwrap_or_default();
        name == setting || l.trim() == format!("[{setting}]")
    };
    text.lines().position(|l| is(l.trim_start())).map(|n| n + 1)
}

/// Refuses a folder in which half of a house is missing: no new secret is made for an old
/// database, and no new database for an old secret.
///
/// # Errors
/// The half that is missing, and the way out.
pub fn whole_house(folder: &Path, configured: &str) -> anyhow::Result<()> {
    let size = |name: &str| std::fs::metadata(folder.join(name)).map(|m| m.len()).ok();
    let (database, secret) = (size(matricle_store::FILE), size("secret"));
    let folder = folder.display();
    match (database, secret) {
        (Some(1..), None) if configured.is_empty() => bail!(
            "{folder} holds a database but not its secret, without which no link that was mailed opens anything. \
             Put the file `secret` back, or bring a backup back with `matricle restore`"
        ),
        (None | Some(0), Some(_)) => bail!(
            "{folder} holds a secret but no database. Put the file `{}` back, or bring a backup back with \
             `matricle restore`; for a new house, take the file `secret` away first",
            matricle_store::FILE
        ),
        _ => Ok(()),
    }
}

/// The secret as configured or as it is kept in a folder, 64 hexadecimal digits.
fn kept_secret(folder: &Path, configured: &str) -> anyhow::Result<String> {
    if configured.is_empty() {
        secret_file(&folder.join("secret"))
    } else {
        Ok(configured.to_owned())
    }
}

/// The secret as configured, or made once and kept in the folder.
///
/// # Errors
/// The folder cannot be used, or its secret is none.
pub fn secrets(folder: &Path, configured: &str) -> anyhow::Result<Secrets> {
    if !configured.is_empty() {
        return Ok(Secrets::new(hex(configured)?));
    }
    let file = folder.join("secret");
    let failed = || format!("the secret {} cannot be kept", file.display());
    if file.exists() {
        let text = secret_file(&file)?;
        let is_none = || format!("the file {} does not hold a secret", file.display());
        return Ok(Secrets::new(hex(&text).with_context(is_none)?));
    }
    std::fs::create_dir_all(folder).with_context(failed)?;
    let secret: [u8; 32] = matricle_desk::random_bytes();
    let text: String = secret.iter().map(|b| format!("{b:02x}")).collect();
    write_private(&file, &text).with_context(failed)?;
    Ok(Secrets::new(secret))
}

/// Keeps a secret that came with a backup in a folder.
///
/// # Errors
/// There is one already, or the folder cannot be written.
pub fn keep_secret(folder: &Path, secret: &str) -> anyhow::Result<()> {
    let file = folder.join("secret");
    // Left by one that broke off: it is the same.
    if std::fs::read_to_string(&file).is_ok_and(|kept| kept.trim() == secret) {
        return Ok(());
    }
    write_private(&file, secret)
        .with_context(|| format!("the secret {} cannot be kept", file.display()))
}

fn write_private(file: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write;
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    let mut file = options.open(file)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()
}

fn hex(text: &str) -> anyhow::Result<[u8; 32]> {
    let mut bytes = [0; 32];
    if text.len() != 64 || !text.is_ascii() {
        bail!("{} characters given", text.len());
    }
    for (byte, pair) in bytes.iter_mut().zip(text.as_bytes().chunks(2)) {
        *byte = u8::from_str_radix(std::str::from_utf8(pair)?, 16)?;
    }
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn parse(text: &str) -> Result<Config, String> {
        Config::parse(text, |_| None).map_err(|e| format!("{e:#}"))
    }

    /// The example as somebody fills it in.
    fn filled() -> String {
        assert!(EXAMPLE.contains(EXAMPLE_WEBHOOK_SECRET));
        EXAMPLE.replace(EXAMPLE_WEBHOOK_SECRET, "whsec_MDEyMzQ1Njc4OWFiY2RlZjAx")
    }

    #[test]
    fn the_example_is_a_configuration_and_the_environment_comes_first() {
        let config = parse(&filled()).unwrap();
        assert_eq!(config.limits.booking, LimitsConfig::default().booking);
        let env = |name: &str| (name == "MATRICLE_CARD_KEY").then(|| "from outside".to_owned());
        assert_eq!(Config::parse(&filled(), env).unwrap().card.unwrap().key, "from outside");
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), "from a file\n").unwrap();
        let path = file.path().display().to_string();
        let env = |name: &str| (name == "MATRICLE_CARD_KEY_FILE").then(|| path.clone());
        assert_eq!(Config::parse(&filled(), env).unwrap().card.unwrap().key, "from a file");
    }

    #[test]
    fn a_house_without_a_card_provider_leaves_its_part_out() {
        let filled = filled();
        let (before, card) = filled.split_once("\n[card]\n").unwrap();
        let after = &card[card.find("\n[").unwrap()..];
        let config = parse(&format!("{before}{after}")).unwrap();
        assert!(config.card.is_none());
        // What the environment says of a provider that is not there is said to nobody.
        let env = |name: &str| (name == "MATRICLE_CARD_KEY").then(|| "from outside".to_owned());
        assert!(Config::parse(&format!("{before}{after}"), env).unwrap().card.is_none());
        // A part that is there is there whole.
        let half = filled.replace("webhook_secret =", "# webhook_secret =");
        assert!(parse(&half).unwrap_err().contains("webhook_secret"));
    }

    #[test]
    fn odd_settings_are_named_with_their_line_and_a_way_out() {
        let with = |from: &str, to: &str| {
            let filled = filled();
            assert!(filled.contains(from), "{from}");
            parse(&filled.replace(from, to)).unwrap_err()
        };
        assert!(with("\"https://events", "\"events").contains("public_url: must begin"));
        assert!(
            with("club.example\"\n# A proxy", "club.example/x\"\n# A proxy")
                .contains("without a path")
        );
        assert!(with("Europe/Dublin", "Ostrel").contains("\"Ostrel\" is not known"));
        assert!(with("secret = \"\"", "secret = \"abc\"").contains("64 hexadecimal digits"));
        assert!(with("whsec_", "").contains("whsec_"));
        assert!(with("\"EUR\"", "\"EUX\"").contains("unknown currency EUX"));
        assert!(with("listen =", "lisen =").contains("lisen"));
        assert!(with("smtps://mail", "mail").contains("not the URL of a mail server"));
        let open = filled()
            .replace("smtps://mail.club.example:465", "smtp://mail.club.example:587")
            .replace("password = \"\"", "password = \"x\"");
        assert!(parse(&open).unwrap_err().contains("in the open"));
        assert!(parse(&open.replace(":587", ":587?tls=required")).is_ok());
        assert!(parse(EXAMPLE).unwrap_err().contains("everybody knows"));
        for (part, said) in [
            (
                "[texts]\nurl = \"texts.example\"\ntoken = \"x\"",
                "texts: url: \"texts.example\" is no",
            ),
            ("[texts]\nurl = \"http://texts.example\"\ntoken = \"x\"", "begins with https://"),
            ("[texts]\nurl = \"https://texts.example\"", "texts: token: put the one"),
            ("[chat]\nurl = \"\"", "chat: url: put the whole address"),
        ] {
            let wrong = parse(&format!("{}\n{part}\n", filled())).unwrap_err();
            assert!(wrong.contains(said) && wrong.contains("line "), "{wrong}");
        }
        assert!(with("at_once = 4", "at_once = 0").contains("at_once: between 1 and 64"));
        assert!(with("level = \"info\"", "level = \"loud\"").contains("line "));
        let two = filled()
            .replace("Europe/Dublin", "Ostrel")
            .replace("office@club.example\"\nterms", "office\"\nterms");
        assert_eq!(parse(&two).unwrap_err().lines().filter(|l| l.contains("line ")).count(), 2);
    }

    proptest! {
        /// Lines of the example, taken out, doubled, and with other values: a configuration, or
        /// sentences.
        #[test]
        fn no_configuration_makes_reading_it_fall_over(
            changed in prop::collection::vec((any::<prop::sample::Index>(), 0..4usize, "\\PC{0,20}"), 0..6),
        ) {
            let filled = filled();
            let mut lines: Vec<String> = filled.lines().map(String::from).collect();
            for (at, how, text) in changed {
                let at = at.index(lines.len());
                let key = lines[at].split('=').next().unwrap_or_default().to_owned();
                lines[at] = match how {
                    0 => String::new(),
                    1 => format!("{0}\n{0}", lines[at]),
                    2 => format!("{key}= {text}"),
                    _ => format!("{key}= {text:?}"),
                };
            }
            if let Err(said) = parse(&lines.join("\n")) {
                prop_assert!(!said.is_empty());
            }
        }
    }

    #[test]
    fn half_a_house_is_refused_and_never_made_whole_anew() {
        let folder = tempfile::tempdir().unwrap();
        let put = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
        let said =
            |configured: &str| whole_house(folder.path(), configured).map_err(|e| e.to_string());
        assert!(said("").is_ok(), "a new house");
        put(matricle_store::FILE, "something");
        assert!(said("").unwrap_err().contains("not its secret") && said("ab").is_ok());
        put("secret", "ab");
        assert!(said("").is_ok());
        put(matricle_store::FILE, "");
        assert!(said("").unwrap_err().contains("no database"));
        std::fs::remove_file(folder.path().join(matricle_store::FILE)).unwrap();
        assert!(said("").unwrap_err().contains("no database"));
    }

    #[test]
    fn a_secret_is_made_once_and_kept_to_oneself() {
        let folder = tempfile::tempdir().unwrap();
        let reference = matricle_core::words::codes::Reference::from_random(1);
        let key = secrets(folder.path(), "").unwrap().booking_key(reference);
        assert!(secrets(folder.path(), "").unwrap().opens_booking(reference, &key));
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            let mode =
                std::fs::metadata(folder.path().join("secret")).unwrap().permissions().mode();
            assert_eq!(mode & 0o777, 0o600);
        }
    }
}
