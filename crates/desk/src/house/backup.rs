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

/// A backup that was made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Made {
    /// Where it lies.
    pub file: PathBuf,
    /// What is wrong in the house and so in the copy, a sentence each: it is kept, and marked.
    pub faults: Vec<String>,
}

/// Makes a backup of a house's file, which may be in use, reads it through, notes it and thins
/// the others. What a backup that was killed left half-made is cleared away first.
///
/// # Errors
/// The folder cannot be written; SQLite cannot read the copy. Nothing half-made is left.
pub fn make(database: &Path, plan: &Plan, now: Timestamp) -> Result<Made, BackupError> {
    std::fs::create_dir_all(&plan.folder).map_err(at_file(&plan.folder))?;
    clear_halves(&plan.folder);
    let name = name_at(now);
    let half = plan.folder.join(format!(".{name}{HALF}"));
    let made = write(database, plan, &half, &plan.folder.join(&name), now);
    backup::clear(&half);
    let made = made?;
    note(database, &made, now)?;
    thin(plan, now)?;
    Ok(made)
}

/// The ending of what is not whole yet.
const HALF: &str = ".half";

/// Clears away what backups that were killed left in a folder: halves of them, and of what was
/// being encrypted, with SQLite's files beside them. Other files stay.
pub fn clear_halves(folder: &Path) {
    let Ok(listed) = std::fs::read_dir(folder) else { return };
    for path in listed.filter_map(|entry| Some(entry.ok()?.path())) {
        let name = path.file_name().and_then(|n| n.to_str()).unwrap_or_default();
        let is_half = name.trim_start_matches('.').split_once(HALF).is_some_and(|(of, beside)| {
            made_at(of).is_some() && ["", "-journal", "-wal", "-shm"].contains(&beside)
        });
        if is_half {
            let _ = std::fs::remove_file(&path);
        }
    }
}

fn write(
    database: &Path,
    plan: &Plan,
    half: &Path,
    whole: &Path,
    now: Timestamp,
) -> Result<Made, BackupError> {
    File::create(half).map_err(at_file(half))?;
    keep_to_oneself(half);
    let label = Label { made_at: now, secret: plan.secret.clone() };
    let faults = backup::copy(database, half, &label)?;
    let Some(passphrase) = &plan.passphrase else {
        File::open(half).and_then(|f| f.sync_all()).map_err(at_file(half))?;
        std::fs::rename(half, whole).map_err(at_file(whole))?;
        return Ok(Made { file: whole.to_owned(), faults });
    };
    let whole = PathBuf::from(format!("{}{ENCRYPTED}", whole.display()));
    let sealed = PathBuf::from(format!("{}{HALF}", whole.display()));
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
    if let Err(error) = seal() {
        let _ = std::fs::remove_file(&sealed);
        return Err(at_file(&whole)(error));
    }
    Ok(Made { file: whole, faults })
}

/// Notes a backup beside the house's file, and what is wrong in it on the lines below.
fn note(database: &Path, made: &Made, now: Timestamp) -> Result<(), BackupError> {
    let last = database.with_file_name(LAST);
    let write = || -> io::Result<()> {
        let mut out = File::create(&last)?;
        keep_to_oneself(&last);
        writeln!(out, "{now} {}", made.file.display())?;
        for fault in made.faults.iter().take(MOST_FAULTS) {
            writeln!(out, "{}", fault.replace('\n', " "))?;
        }
        out.sync_all()
    };
    write().map_err(at_file(&last))
}

/// So many faults of a backup are noted.
const MOST_FAULTS: usize = 20;

/// The last backup of a house, as it was noted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LastBackup {
    /// When it was made.
    pub at: Timestamp,
    /// Where it lies.
    pub file: String,
    /// What was wrong in the house then, and so is in the copy.
    pub faults: Vec<String>,
}

/// The last backup of a house.
#[must_use]
pub fn last(database: &Path) -> Option<LastBackup> {
    let text = std::fs::read_to_string(database.with_file_name(LAST)).ok()?;
    let mut lines = text.lines();
    let (at, file) = lines.next()?.split_once(' ')?;
    let faults = lines.map(str::to_owned).collect();
    Some(LastBackup { at: at.parse().ok()?, file: file.to_owned(), faults })
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

/// Brings a backup back into a folder without a house; gives what it says of itself, the secret
/// among it. `first` keeps that secret before the house is there.
///
/// # Errors
/// It is none, or damaged; the folder holds a house; the passphrase is missing or another.
pub fn restore(
    file: &Path,
    folder: &Path,
    passphrase: Option<String>,
    first: impl FnOnce(&Label) -> io::Result<()>,
) -> Result<Label, BackupError> {
    let mut head = [0; 16];
    let read = File::open(file).and_then(|mut f| f.read(&mut head)).map_err(at_file(file))?;
    if !head[..read].starts_with(b"age-encryption") {
        return Ok(backup::bring_back(file, folder, first)?);
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
    Ok(backup::bring_back(plain.path(), folder, first)?)
}

/// By the timer: a backup when one is due.
pub(crate) async fn by_timer(desk: &Desk) -> Result<usize, DeskError> {
    let Some((plan, every)) = desk.backups.by_timer.clone() else { return Ok(0) };
    let (database, now) = (desk.store.path().to_owned(), desk.clock.now());
    let looked = database.clone();
    let known = off_thread(move || Ok(last(&looked))).await?;
    if !is_due(known.map(|l| l.at), every, now) {
        return Ok(0);
    }
    let due = vec![Due { about: "the backup".into(), booking: None, row: (database, plan) }];
    each(desk, Work::Backup, due, 1, move |_, (database, plan)| async move {
        let made = off_thread(move || {
            make(&database, &plan, now).map_err(|e| DeskError::Internal(e.to_string()))
        });
        let made = made.await?;
        for fault in &made.faults {
            tracing::error!(fault, "the backup has what is wrong in the house");
        }
        Ok(())
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
