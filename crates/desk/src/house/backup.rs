//! Backups: one dated file each, with the house's secret, by a passphrase if wanted; made by a
//! timer or by hand, thinned by a rule, and noted so that Today can tell their age.

use std::fs::File;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use age::secrecy::SecretString;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use matricle_core::backups::{Keep, is_due, thinned};
use matricle_store::backup::{self, Label};
use matricle_store::{StoreError, keep_to_oneself};

use crate::rounds::{Due, Work, each};
use crate::{Desk, DeskError, off_thread};

/// Why a backup could not be made or brought back.
#[derive(Debug, thiserror::Error)]
pub enum BackupError {
    /// The file system refused.
    #[error("{file}: {source}")]
    File {
        /// What was being written or read.
        file: PathBuf,
        /// The system's reason.
        source: io::Error,
    },
    /// The copy is not as it should be, or is none.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// It is encrypted, and no passphrase was given.
    #[error("{file} is encrypted; give the file with its passphrase")]
    NeedsPassphrase {
        /// The backup.
        file: PathBuf,
    },
    /// The passphrase is another.
    #[error("{file} cannot be decrypted with this passphrase: {said}")]
    WrongPassphrase {
        /// The backup.
        file: PathBuf,
        /// What the reader says.
        said: String,
    },
}

/// How backups are made.
#[derive(Debug, Clone, Default)]
pub struct Plan {
    /// Where they go.
    pub folder: PathBuf,
    /// How long they are kept.
    pub keep: Keep,
    /// They are encrypted with this.
    pub passphrase: Option<String>,
    /// The secret of the house, 64 hexadecimal digits.
    pub secret: String,
}

/// What a desk knows of backups.
#[derive(Debug, Clone, Default)]
pub struct Backups {
    /// By the timer: how, and how often.
    pub by_timer: Option<(Plan, SignedDuration)>,
    /// Somebody should be told when there is none: not in a demo.
    pub wanted: bool,
}

/// Without a timer, a backup older than this is called late.
const WEEK: SignedDuration = SignedDuration::from_hours(24 * 7);

impl Backups {
    /// Whether the last backup is older than it should be, or missing where one is wanted.
    #[must_use]
    pub fn late(&self, last: Option<Timestamp>, now: Timestamp) -> bool {
        // Twice the time: one that is being made is not late.
        let most = self.by_timer.as_ref().map_or(WEEK, |(_, every)| *every * 2);
        self.wanted && is_due(last, most, now)
    }
}

/// The beginning of a backup's name.
const NAME: &str = "matricle-";
/// Its ending, and what comes behind it when it is encrypted.
const ENDING: &str = ".backup";
const ENCRYPTED: &str = ".age";
/// Where the last one is noted, beside the house's file.
const LAST: &str = "last-backup";

fn at_file(file: &Path) -> impl Fn(io::Error) -> BackupError + '_ {
    move |source| BackupError::File { file: file.into(), source }
}

/// When a backup of this name was made; `None` for other files.
fn made_at(name: &str) -> Option<Timestamp> {
    let stamp = name.strip_prefix(NAME)?;
    let stamp = stamp.strip_suffix(ENCRYPTED).unwrap_or(stamp).strip_suffix(ENDING)?;
    let at = jiff::civil::DateTime::strptime("%Y%m%dT%H%M%SZ", stamp).ok()?;
    at.to_zoned_datetime(TimeZone::UTC).ok().map(|at| at.timestamp())
}

fn name_at(now: Timestamp) -> String {
    let stamp = now.to_zoned_datetime(TimeZone::UTC).strftime("%Y%m%dT%H%M%SZ").to_string();
    format!("{NAME}{stamp}{ENDING}")
}

/// Makes a backup of a house's file, which may be in use, reads it through, notes it and thins
/// the others. Gives the new file.
///
/// # Errors
/// The folder cannot be written; the copy is damaged. Nothing half-made is left.
pub fn make(database: &Path, plan: &Plan, now: Timestamp) -> Result<PathBuf, BackupError> {
    std::fs::create_dir_all(&plan.folder).map_err(at_file(&plan.folder))?;
    let name = name_at(now);
    let half = plan.folder.join(format!(".{name}.half"));
    let made = write(database, plan, &half, &plan.folder.join(&name), now);
    let _ = std::fs::remove_file(&half);
    let file = made?;
    note(database, &file, now)?;
    thin(plan, now)?;
    Ok(file)
}

fn write(
    database: &Path,
    plan: &Plan,
    half: &Path,
    whole: &Path,
    now: Timestamp,
) -> Result<PathBuf, BackupError> {
    let _ = std::fs::remove_file(half);
    File::create(half).map_err(at_file(half))?;
    keep_to_oneself(half);
    backup::copy(database, half, &Label { made_at: now, secret: plan.secret.clone() })?;
    let Some(passphrase) = &plan.passphrase else {
        File::open(half).and_then(|f| f.sync_all()).map_err(at_file(half))?;
        std::fs::rename(half, whole).map_err(at_file(whole))?;
        return Ok(whole.to_owned());
    };
    let whole = PathBuf::from(format!("{}{ENCRYPTED}", whole.display()));
    let sealed = PathBuf::from(format!("{}.half", whole.display()));
    let seal = || -> io::Result<()> {
        let out = File::create(&sealed)?;
        keep_to_oneself(&sealed);
        let encryptor =
            age::Encryptor::with_user_passphrase(SecretString::from(passphrase.clone()));
        let mut writer = encryptor.wrap_output(out)?;
        io::copy(&mut File::open(half)?, &mut writer)?;
        writer.finish()?.sync_all()?;
        std::fs::rename(&sealed, &whole)
    };
    seal().map_err(at_file(&whole))?;
    Ok(whole)
}

/// Notes a backup beside the house's file.
fn note(database: &Path, file: &Path, now: Timestamp) -> Result<(), BackupError> {
    let last = database.with_file_name(LAST);
    let write = || -> io::Result<()> {
        let mut out = File::create(&last)?;
        keep_to_oneself(&last);
        writeln!(out, "{now} {}", file.display())?;
        out.sync_all()
    };
    write().map_err(at_file(&last))
}

/// The last backup of a house: when, and where it lies.
#[must_use]
pub fn last(database: &Path) -> Option<(Timestamp, String)> {
    let text = std::fs::read_to_string(database.with_file_name(LAST)).ok()?;
    let (at, file) = text.trim_end().split_once(' ')?;
    Some((at.parse().ok()?, file.to_owned()))
}

/// Removes backups that the rule does not keep; other files in the folder stay.
fn thin(plan: &Plan, now: Timestamp) -> Result<(), BackupError> {
    let listed = std::fs::read_dir(&plan.folder).map_err(at_file(&plan.folder))?;
    let known: Vec<(Timestamp, PathBuf)> = listed
        .filter_map(|entry| {
            let path = entry.ok()?.path();
            Some((made_at(path.file_name()?.to_str()?)?, path))
        })
        .collect();
    let made: Vec<Timestamp> = known.iter().map(|(at, _)| *at).collect();
    let gone = thinned(&made, plan.keep, now);
    for (_, path) in known.iter().filter(|(at, _)| gone.contains(at)) {
        std::fs::remove_file(path).map_err(at_file(path))?;
    }
    Ok(())
}

/// Brings a backup back into an empty folder; gives what it says of itself, the secret among it.
///
/// # Errors
/// It is none, or damaged; the folder holds a house; the passphrase is missing or another.
pub fn restore(
    file: &Path,
    folder: &Path,
    passphrase: Option<String>,
) -> Result<Label, BackupError> {
    let mut head = [0; 16];
    let read = File::open(file).and_then(|mut f| f.read(&mut head)).map_err(at_file(file))?;
    if !head[..read].starts_with(b"age-encryption") {
        return Ok(backup::bring_back(file, folder)?);
    }
    let Some(passphrase) = passphrase else {
        return Err(BackupError::NeedsPassphrase { file: file.into() });
    };
    let wrong = |said: String| BackupError::WrongPassphrase { file: file.into(), said };
    let plain = tempfile::NamedTempFile::new().map_err(at_file(file))?;
    let decryptor =
        age::Decryptor::new(io::BufReader::new(File::open(file).map_err(at_file(file))?))
            .map_err(|e| wrong(e.to_string()))?;
    let mut identity = age::scrypt::Identity::new(SecretString::from(passphrase));
    identity.set_max_work_factor(24);
    let mut reader = decryptor
        .decrypt(std::iter::once(&identity as &dyn age::Identity))
        .map_err(|e| wrong(e.to_string()))?;
    let mut out = plain.reopen().map_err(at_file(plain.path()))?;
    io::copy(&mut reader, &mut out).map_err(|e| wrong(e.to_string()))?;
    Ok(backup::bring_back(plain.path(), folder)?)
}

/// By the timer: a backup when one is due.
pub(crate) async fn by_timer(desk: &Desk) -> Result<usize, DeskError> {
    let Some((plan, every)) = desk.backups.by_timer.clone() else { return Ok(0) };
    let (database, now) = (desk.store.path().to_owned(), desk.clock.now());
    let looked = database.clone();
    let known = off_thread(move || Ok(last(&looked))).await?;
    if !is_due(known.map(|(at, _)| at), every, now) {
        return Ok(0);
    }
    let due = vec![Due { about: "the backup".into(), booking: None, row: (database, plan) }];
    each(desk, Work::Backup, due, 1, move |_, (database, plan)| async move {
        let made = off_thread(move || {
            make(&database, &plan, now).map_err(|e| DeskError::Internal(e.to_string()))
        });
        made.await.map(drop)
    })
    .await
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_says_when_and_other_files_are_left_alone() {
        let now: Timestamp = "2026-11-25T18:42:07Z".parse().unwrap();
        assert_eq!(name_at(now), "matricle-20261125T184207Z.backup");
        assert_eq!(made_at("matricle-20261125T184207Z.backup"), Some(now));
        assert_eq!(made_at("matricle-20261125T184207Z.backup.age"), Some(now));
        for other in
            ["matricle.sqlite", "matricle-x.backup", "matricle-20261325T184207Z.backup", ""]
        {
            assert_eq!(made_at(other), None, "{other}");
        }
    }
}
