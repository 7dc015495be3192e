//! The house's mailbox, read by IMAP (RFC 3501). Nothing in it is changed: it is opened to be
//! looked at, and what is fetched stays unread.

use std::collections::HashMap;
use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;

use async_imap::types::Fetch;
use async_imap::{Client, Session};
use futures_util::TryStreamExt;
use jiff::civil::Date;
use rustls::pki_types::ServerName;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;

/// Why the mailbox cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{reason}")]
pub struct FetchError {
    /// Why, in words.
    pub reason: String,
    /// It is what lies in the mailbox that cannot be handed over, and not the line: from this
    /// mail on. Asked again, it is no better.
    pub stuck_at: Option<ReadTo>,
}

impl FetchError {
    fn new(reason: impl Into<String>) -> Self {
        Self { reason: reason.into(), stuck_at: None }
    }

    fn from(what: &str, error: impl fmt::Display) -> Self {
        Self::new(format!("{what}: {error}"))
    }

    /// Of the mails from this one on: only a line that dropped makes another try worth it.
    fn of(at: Option<ReadTo>, error: &async_imap::error::Error) -> Self {
        use async_imap::error::Error as E;
        let line = matches!(error, E::Io(_) | E::ConnectionLost);
        let failed = Self::from("the mailbox cannot be read", error);
        Self { stuck_at: at.filter(|_| !line), ..failed }
    }
}

/// How far a mailbox was read: its validity and the last identifier (RFC 3501 §2.3.1.1).
pub type ReadTo = (u32, u32);

/// A mail in the mailbox.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fetched {
    /// Its identifier.
    pub uid: u32,
    /// What it is: the whole mail, or its head where the whole is too large.
    pub raw: Vec<u8>,
    /// How large it is, where only its head was fetched.
    pub too_large: Option<u32>,
}

/// Some mails of a mailbox, in their order.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Batch {
    /// The mailbox's validity: where it changed, identifiers begin anew.
    pub validity: u32,
    /// The mails.
    pub mails: Vec<Fetched>,
    /// The last identifier that was asked for; what is missing up to it is gone.
    pub last: u32,
    /// There are more.
    pub more: bool,
}

/// Mails being fetched.
pub type Fetching<'a> = Pin<Box<dyn Future<Output = Result<Batch, FetchError>> + Send + 'a>>;

/// A mailbox that can be read.
pub trait Letterbox: Send + Sync {
    /// Whether there is one.
    fn is_there(&self) -> bool {
        true
    }
    /// How long it is left alone after it was read.
    fn pause(&self) -> Duration {
        Duration::from_secs(20)
    }
    /// Fetches some mails after those read before, so many at most; for one that was never read,
    /// those that came since a day.
    fn fetch(&self, read_to: Option<ReadTo>, since: Date, most: usize) -> Fetching<'_>;
}

/// A house that reads no mailbox: letters are dropped or pasted at the Office.
#[derive(Debug, Default)]
pub struct NoLetterbox;

impl Letterbox for NoLetterbox {
    fn is_there(&self) -> bool {
        false
    }

    fn fetch(&self, _: Option<ReadTo>, _: Date, _: usize) -> Fetching<'_> {
        Box::pin(async { Ok(Batch::default()) })
    }
}

/// Numbers in rising order as a set (RFC 3501 §9, sequence-set), those in a row as a range.
fn set(uids: &[u32]) -> String {
    let mut runs: Vec<(u32, u32)> = Vec::new();
    for uid in uids {
        match runs.last_mut() {
            Some((_, last)) if last.checked_add(1) == Some(*uid) => *last = *uid,
            _ => runs.push((*uid, *uid)),
        }
    }
    let run = |(a, b): &(u32, u32)| if a == b { a.to_string() } else { format!("{a}:{b}") };
    runs.iter().map(run).collect::<Vec<_>>().join(",")
}

/// Most mails of one conversation.
pub const AT_ONCE: usize = 100;
/// Most bytes of mails of one conversation, but for one mail alone: they lie in memory together.
const MOST_BYTES: u64 = 16 * 1024 * 1024;
/// What is fetched of a mail that is too large: where its headers are.
const HEAD: &str = "(UID BODY.PEEK[HEADER]<0.65536>)";
/// How many mails, from the first on, are fetched together: at least one, and no more than the
/// budget of bytes holds.
fn within_budget(uids: &[u32], bytes: impl Fn(&u32) -> u64) -> usize {
    let mut sum = 0_u64;
    let fit = uids.iter().take_while(|uid| {
        sum = sum.saturating_add(bytes(uid));
        sum <= MOST_BYTES
    });
    fit.count().max(1).min(uids.len())
}

/// How long a conversation may take.
const CONVERSATION: Duration = Duration::from_secs(60);

trait Wire: AsyncRead + AsyncWrite + Unpin + Send + fmt::Debug {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send + fmt::Debug> Wire for T {}

/// A mailbox reached by IMAP.
pub struct Imap {
    host: String,
    port: u16,
    tls: Option<tokio_rustls::TlsConnector>,
    user: String,
    password: String,
    folder: String,
    largest: u32,
    pause: Duration,
}

impl Imap {
    /// A server at an URL such as `imaps://mail.club.example` or `imap://127.0.0.1:8427`, and a
    /// folder of it.
    ///
    /// # Errors
    /// Not an URL of a mailbox.
    pub fn new(
        url: &str,
        (user, password): (&str, &str),
        folder: &str,
        largest: usize,
    ) -> Result<Self, FetchError> {
        let wrong = || FetchError::new(format!("{url:?} is not the URL of a mailbox"));
        let (scheme, rest) = url.trim_end_matches('/').split_once("://").ok_or_else(wrong)?;
        let secure = match scheme {
            "imaps" => true,
            "imap" => false,
            _ => return Err(wrong()),
        };
        let usual = if secure { 993 } else { 143 };
        let (host, port) = match rest.rsplit_once(':') {
            Some((host, port)) => (host, port.parse().map_err(|_| wrong())?),
            None => (rest, usual),
        };
        if host.is_empty() || host.contains(['/', '@', ' ']) {
            return Err(wrong());
        }
        let tls = secure.then(|| {
            let roots = rustls::RootCertStore { roots: webpki_roots::TLS_SERVER_ROOTS.to_vec() };
            let provider = Arc::new(rustls::crypto::ring::default_provider());
            rustls::ClientConfig::builder_with_provider(provider)
                .with_safe_default_protocol_versions()
                .map(|b| b.with_root_certificates(roots).with_no_client_auth())
                .map(|config| tokio_rustls::TlsConnector::from(Arc::new(config)))
        });
        Ok(Self {
            host: host.to_owned(),
            port,
            tls: tls.transpose().map_err(|e| FetchError::from("TLS cannot be set up", e))?,
            user: user.to_owned(),
            password: password.to_owned(),
            folder: folder.to_owned(),
            largest: u32::try_from(largest).unwrap_or(u32::MAX),
            pause: Duration::from_secs(20),
        })
    }

    /// The same, left alone for so long after it was read.
    #[must_use]
    pub fn every(self, pause: Duration) -> Self {
        Self { pause, ..self }
    }

    async fn open(&self) -> Result<Session<Box<dyn Wire>>, FetchError> {
        let stream = TcpStream::connect((self.host.as_str(), self.port))
            .await
            .map_err(|e| FetchError::from("the mailbox does not answer", e))?;
        // A command goes out in pieces: none waits for the other side to have the one before.
        let _ = stream.set_nodelay(true);
        let wire: Box<dyn Wire> = match &self.tls {
            Some(tls) => {
                let name = ServerName::try_from(self.host.clone())
                    .map_err(|e| FetchError::from("the mailbox has no name", e))?;
                let stream = tls.connect(name, stream).await;
                Box::new(
                    stream
                        .map_err(|e| FetchError::from("the mailbox cannot prove who it is", e))?,
                )
            }
            None => Box::new(stream),
        };
        let mut client = Client::new(wire);
        client
            .read_response()
            .await
            .map_err(|e| FetchError::from("the mailbox does not answer", e))?
            .ok_or_else(|| FetchError::new("the mailbox hung up"))?;
        client
            .login(&self.user, &self.password)
            .await
            .map_err(|(e, _)| FetchError::from("the mailbox does not know us", e))
    }

    async fn read(
        &self,
        read_to: Option<ReadTo>,
        since: Date,
        most: usize,
    ) -> Result<Batch, FetchError> {
        let failed = |e: async_imap::error::Error| FetchError::of(None, &e);
        let mut session = self.open().await?;
        let mailbox = session.examine(&self.folder).await.map_err(|e| {
            FetchError::from(&format!("the folder {} cannot be opened", self.folder), e)
        })?;
        let validity = mailbox.uid_validity.unwrap_or(0);
        // Identifiers of another validity mean nothing any more.
        let after = read_to.filter(|(v, _)| *v == validity).map(|(_, uid)| uid);
        let query = match (after, read_to) {
            (Some(uid), _) => format!("UID {}:*", uid.saturating_add(1)),
            (None, Some(_)) => "ALL".to_owned(),
            (None, None) => format!("SINCE {}", since.strftime("%-d-%b-%Y")),
        };
        let found = session.uid_search(&query).await.map_err(failed)?;
        // “n:*” names the last one also when it is before n (RFC 3501 §9, seq-range).
        let mut uids: Vec<u32> =
            found.into_iter().filter(|uid| after.is_none_or(|a| *uid > a)).collect();
        uids.sort_unstable();
        let mut more = uids.len() > most;
        uids.truncate(most);
        let first = uids.first().copied();
        let at = first.map(|uid| (validity, uid));
        let stuck = |e: async_imap::error::Error| FetchError::of(at, &e);
        let mut mails = Vec::new();
        if !uids.is_empty() {
            let sizes: Vec<Fetch> = session
                .uid_fetch(set(&uids), "(UID RFC822.SIZE)")
                .await
                .map_err(stuck)?
                .try_collect()
                .await
                .map_err(stuck)?;
            let sizes: HashMap<u32, u32> =
                sizes.iter().filter_map(|f| Some((f.uid?, f.size?))).collect();
            let too_large = |uid: &u32| sizes.get(uid).copied().filter(|s| *s > self.largest);
            let fits = within_budget(&uids, |uid| match too_large(uid) {
                Some(_) => 65_536,
                None => sizes.get(uid).copied().unwrap_or(0).into(),
            });
            more |= fits < uids.len();
            uids.truncate(fits);
            let (large, fine): (Vec<u32>, Vec<u32>) =
                uids.iter().partition(|uid| too_large(uid).is_some());
            for (uids, what) in [(fine, "(UID BODY.PEEK[])"), (large, HEAD)] {
                if uids.is_empty() {
                    continue;
                }
                let fetched = session.uid_fetch(set(&uids), what).await.map_err(stuck)?;
                // Each is let go of before the next comes.
                let mut each: Vec<Fetched> = fetched
                    .try_filter_map(|f| async move {
                        let Some(uid) = f.uid else { return Ok(None) };
                        let raw = f.body().or_else(|| f.header()).map(<[u8]>::to_vec);
                        Ok(raw.map(|raw| Fetched { uid, raw, too_large: None }))
                    })
                    .try_collect()
                    .await
                    .map_err(stuck)?;
                for mail in &mut each {
                    mail.too_large = too_large(&mail.uid);
                }
                mails.append(&mut each);
            }
            mails.sort_by_key(|m| m.uid);
            mails.dedup_by_key(|m| m.uid);
        }
        let last = uids.last().copied().unwrap_or(0);
        // Whether it says goodbye does not matter any more.
        let _ = session.logout().await;
        Ok(Batch { validity, mails, last, more })
    }
}

impl Letterbox for Imap {
    fn pause(&self) -> Duration {
        self.pause
    }

    fn fetch(&self, read_to: Option<ReadTo>, since: Date, most: usize) -> Fetching<'_> {
        Box::pin(async move {
            match tokio::time::timeout(CONVERSATION, self.read(read_to, since, most)).await {
                Ok(read) => read,
                Err(_) => Err(FetchError::new(format!(
                    "the mailbox did not answer within {} seconds",
                    CONVERSATION.as_secs()
                ))),
            }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_in_a_row_are_a_range() {
        assert_eq!(set(&[1, 2, 3, 7, 9, 10]), "1:3,7,9:10");
        assert_eq!((set(&[]), set(&[u32::MAX])), (String::new(), "4294967295".into()));
    }

    #[test]
    fn mails_are_fetched_by_a_budget_of_bytes_and_one_at_least() {
        let fit = |sizes: &[u64]| {
            let uids: Vec<u32> = (0..).take(sizes.len()).collect();
            within_budget(&uids, |uid| sizes[*uid as usize])
        };
        assert_eq!(fit(&[MOST_BYTES - 1, 1, 1]), 2);
        assert_eq!(fit(&[MOST_BYTES + 1, 1]), 1);
        assert_eq!(fit(&[9 << 20; 100]), 1);
        assert_eq!((fit(&[0; 100]), fit(&[])), (100, 0));
        assert_eq!(fit(&[u64::MAX, u64::MAX]), 1);
    }

    #[test]
    fn an_url_of_a_mailbox_is_known() {
        let read =
            |url| Imap::new(url, ("a", "b"), "INBOX", 9).map(|i| (i.host, i.port, i.tls.is_some()));
        assert_eq!(read("imaps://mail.club.example"), Ok(("mail.club.example".into(), 993, true)));
        assert_eq!(read("imap://127.0.0.1:8427/"), Ok(("127.0.0.1".into(), 8427, false)));
        for wrong in ["", "mail.club.example", "smtp://x", "imap://", "imap://x:y", "imaps://a@b"] {
            assert!(read(wrong).is_err(), "{wrong}");
        }
    }
}
