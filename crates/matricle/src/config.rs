//! The configuration file.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};

use anyhow::{Context, bail};
use matricle_core::Currency;
use matricle_desk::Secrets;
use matricle_desk::provider::parse_webhook_secret;
use matricle_store::house::House;
use serde::Deserialize;

/// An example with every setting explained.
pub const EXAMPLE: &str = include_str!("matricle.example.toml");

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
    /// The card provider.
    pub card: CardConfig,
    /// How much one address may ask for.
    #[serde(default)]
    pub limits: LimitsConfig,
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
            name: c.name.clone(),
            currency: c.currency,
            zone: c.zone.clone(),
            email: c.email.clone(),
            terms: c.terms.clone(),
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
}

impl Default for LimitsConfig {
    fn default() -> Self {
        Self { sign_in: 10, booking: 40 }
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
        let mut config: Self = toml::from_str(text)?;
        let over = |setting: &mut String, name: &str| {
            if let Some(value) = env(name) {
                *setting = value;
            }
        };
        over(&mut config.secret, "MATRICLE_SECRET");
        over(&mut config.mail.password, "MATRICLE_MAIL_PASSWORD");
        over(&mut config.card.key, "MATRICLE_CARD_KEY");
        over(&mut config.card.webhook_secret, "MATRICLE_WEBHOOK_SECRET");
        while config.public_url.ends_with('/') {
            config.public_url.pop();
        }
        if !config.public_url.starts_with("http://") && !config.public_url.starts_with("https://") {
            bail!("public_url must begin with http:// or https://");
        }
        if parse_webhook_secret(&config.card.webhook_secret).is_none() {
            bail!("webhook_secret must be whsec_ and at least 16 bytes in base64");
        }
        if jiff::tz::TimeZone::get(&config.house.zone).is_err() {
            bail!(
                "the zone {:?} is not known; use a name such as Europe/Dublin",
                config.house.zone
            );
        }
        if !config.secret.is_empty() {
            hex(&config.secret).context("secret must be 64 hexadecimal digits, or empty")?;
        }
        Ok(config)
    }

    /// The secret of the house: as configured, or made once and kept in the data folder.
    ///
    /// # Errors
    /// The data folder cannot be used.
    pub fn secrets(&self) -> anyhow::Result<Secrets> {
        secrets(&self.data, &self.secret)
    }
}

/// The secret as configured, or made once and kept in the folder.
///
/// # Errors
/// The folder cannot be used.
pub fn secrets(folder: &Path, configured: &str) -> anyhow::Result<Secrets> {
    if !configured.is_empty() {
        return Ok(Secrets::new(hex(configured)?));
    }
    let file = folder.join("secret");
    let failed = || format!("the secret {} cannot be kept", file.display());
    if let Ok(text) = std::fs::read_to_string(&file) {
        return Ok(Secrets::new(hex(text.trim()).with_context(failed)?));
    }
    std::fs::create_dir_all(folder).with_context(failed)?;
    let secret: [u8; 32] = matricle_desk::random_bytes();
    let text: String = secret.iter().map(|b| format!("{b:02x}")).collect();
    write_private(&file, &text).with_context(failed)?;
    Ok(Secrets::new(secret))
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

    fn parse(text: &str) -> Result<Config, String> {
        Config::parse(text, |_| None).map_err(|e| format!("{e:#}"))
    }

    #[test]
    fn the_example_is_a_configuration_and_the_environment_comes_first() {
        let config = parse(EXAMPLE).unwrap();
        assert_eq!(config.limits.booking, LimitsConfig::default().booking);
        let env = |name: &str| (name == "MATRICLE_CARD_KEY").then(|| "from outside".to_owned());
        assert_eq!(Config::parse(EXAMPLE, env).unwrap().card.key, "from outside");
    }

    #[test]
    fn odd_settings_are_named() {
        let with = |from: &str, to: &str| {
            assert!(EXAMPLE.contains(from));
            parse(&EXAMPLE.replace(from, to)).unwrap_err()
        };
        assert!(with("https://events", "events").contains("public_url must begin"));
        assert!(with("Europe/Dublin", "Ostrel").contains("\"Ostrel\" is not known"));
        assert!(with("secret = \"\"", "secret = \"abc\"").contains("64 hexadecimal digits"));
        assert!(with("whsec_", "").contains("whsec_"));
        assert!(with("\"EUR\"", "\"EUX\"").contains("unknown currency EUX"));
        assert!(with("listen =", "lisen =").contains("lisen"));
    }

    #[test]
    fn a_secret_is_made_once_and_kept_to_oneself() {
        let folder = tempfile::tempdir().unwrap();
        let reference = matricle_core::codes::Reference::from_random(1);
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
