//! One writing thread with group commit, and a small pool of readers.

use std::any::{Any, TypeId};
use std::cell::RefCell;
use std::collections::HashMap;
use std::fs::File;
use std::ops::Deref;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use matricle_core::DateId;
use rusqlite::{Connection, ErrorCode, OpenFlags};
use rusqlite_migration::MigrationDefinitionError;
use tokio::sync::{Semaphore, broadcast, mpsc, oneshot};

use crate::files::{keep_to_oneself, set_mode};
use crate::{Doing, StoreError, migrate};

/// Jobs that may wait for the writing thread; more callers than that wait to be let in.
const WAITING: usize = 1024;
/// Most jobs in one commit.
const BATCH: usize = 256;
/// Read-only connections.
const READERS: usize = 4;
/// Statements a connection keeps prepared.
const STATEMENTS: usize = 256;

/// Proof of being inside a write transaction, on the writing thread.
#[derive(Debug)]
pub struct Tx<'c> {
    conn: &'c Connection,
    touched: RefCell<Vec<DateId>>,
    memory: Rc<Memory>,
    /// What is done once for all jobs of a commit; nothing where each is done at once.
    last: Option<RefCell<Vec<Last>>>,
}

/// Work that may wait until all jobs of a commit are done.
struct Last(Box<LastAct>);
type LastAct = dyn FnOnce(&Tx<'_>) -> rusqlite::Result<()>;

impl std::fmt::Debug for Last {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Last")
    }
}

/// What the writing thread has read and remembers from job to job, by its type.
#[derive(Default)]
struct Memory(RefCell<HashMap<TypeId, Box<dyn Any>>>);

impl std::fmt::Debug for Memory {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Memory of {} kinds", self.0.borrow().len())
    }
}

impl<'c> Tx<'c> {
    /// Takes a connection that is inside a transaction of the caller's: for tests
    /// and for measuring the same writes without the writing thread.
    #[must_use]
    pub fn within(conn: &'c Connection) -> Self {
        Self { conn, touched: RefCell::default(), memory: Rc::default(), last: None }
    }

    /// Does something in this commit, after all its jobs: the index of words writes what it was
    /// given at every savepoint, and a savepoint is around each job. It goes with its job where
    /// that is taken back.
    pub(crate) fn at_last(
        &self,
        act: impl FnOnce(&Tx<'_>) -> rusqlite::Result<()> + 'static,
    ) -> rusqlite::Result<()> {
        match &self.last {
            Some(last) => {
                last.borrow_mut().push(Last(Box::new(act)));
                Ok(())
            }
            None => act(self),
        }
    }

    /// How much was touched, and is left for the end, so far.
    fn so_far(&self) -> (usize, usize) {
        let last = self.last.as_ref().map_or(0, |last| last.borrow().len());
        (self.touched.borrow().len(), last)
    }

    /// Forgets what a job that is taken back touched, read, and left for the end.
    fn take_back(&self, (touched, last): (usize, usize)) {
        self.touched.borrow_mut().truncate(touched);
        if let Some(all) = &self.last {
            all.borrow_mut().truncate(last);
        }
        self.forget();
    }

    /// What is remembered of a kind; nothing is once a job was taken back, so that it may be
    /// kept as long as its version in the database is the same.
    pub(crate) fn remembered<T: Default + 'static, R>(&self, look: impl FnOnce(&mut T) -> R) -> R {
        let mut memory = self.memory.0.borrow_mut();
        let mut fresh = T::default();
        let known = memory.entry(TypeId::of::<T>()).or_insert_with(|| Box::<T>::default());
        look(known.downcast_mut().unwrap_or(&mut fresh))
    }

    fn forget(&self) {
        self.memory.0.borrow_mut().clear();
    }

    /// Remembers that seats or people of a date changed; told to whoever listens
    /// at [`Store::changes`] once it is on disk.
    pub fn touch(&self, date: DateId) {
        let mut touched = self.touched.borrow_mut();
        if !touched.contains(&date) {
            touched.push(date);
        }
    }
}

impl Deref for Tx<'_> {
    type Target = Connection;

    fn deref(&self) -> &Connection {
        self.conn
    }
}

/// Tells a caller the outcome, once the commit succeeded or failed.
type Answer = Box<dyn FnOnce(Result<(), &str>) + Send>;
/// Runs inside the transaction, or is told that there is none; says whether to keep what it did.
type Job = Box<dyn FnOnce(Option<&Tx<'_>>) -> (bool, Answer) + Send>;

/// The one database of a house. Cheap to clone; the last clone closes it.
#[derive(Debug, Clone)]
pub struct Store {
    inner: Arc<Inner>,
}

#[derive(Debug)]
struct Inner {
    jobs: Mutex<Option<mpsc::Sender<Job>>>,
    thread: Mutex<Option<JoinHandle<()>>>,
    readers: Mutex<Vec<Connection>>,
    free_readers: Semaphore,
    version: Arc<AtomicU64>,
    changes: broadcast::Sender<DateId>,
    path: PathBuf,
    _lock: File,
}

/// How the writing connection is set up. A booking touches a dozen indexes at a place of its own
/// in each: they stay in memory (KiB, negative) while they are in use. A savepoint's copies of pages
/// stay there too, rather than in a file made for each job. Pages that many bookings change go
/// from the log into the file once for 4,000 written (16 MiB of log).
const WRITING: [(&str, i64); 3] =
    [("cache_size", -32_768), ("temp_store", 2), ("wal_autocheckpoint", 4_000)];

impl Store {
    /// Opens or makes the database in a folder, and keeps every other process off it.
    ///
    /// # Errors
    /// The folder cannot be used, another process uses it, or SQLite refuses.
    pub fn open(folder: &Path) -> Result<Self, StoreError> {
        let unusable = |source| StoreError::Folder { folder: folder.into(), source };
        own_folder(folder)?;
        let lock = File::create(folder.join("matricle.lock")).map_err(unusable)?;
        keep_to_oneself(&folder.join("matricle.lock"));
        match lock.try_lock() {
            Ok(()) => {}
            Err(std::fs::TryLockError::WouldBlock) => {
                return Err(StoreError::InUse { folder: folder.into() });
            }
            Err(std::fs::TryLockError::Error(source)) => return Err(unusable(source)),
        }
        let path = folder.join(FILE);
        if !path.exists() {
            // Made here with its rights: what SQLite makes beside it has the same.
            File::create(&path).map_err(unusable)?;
        }
        keep_to_oneself(&path);
        let mut writer = Self::writer(&path).map_err(|e| damaged(&path, e))?;
        migrate::with_a_copy(&mut writer, &path).map_err(|e| damaged(&path, e))?;
        let readers: Result<Vec<_>, _> = (0..READERS).map(|_| reader(&path)).collect();
        let (jobs, waiting) = mpsc::channel(WAITING);
        let (changes, _) = broadcast::channel(1024);
        let version = Arc::new(AtomicU64::new(1));
        let thread = std::thread::Builder::new()
            .name("writer".into())
            .spawn({
                let (version, changes) = (Arc::clone(&version), changes.clone());
                move || write_all(&writer, waiting, &version, &changes)
            })
            .map_err(unusable)?;
        let inner = Inner {
            jobs: Mutex::new(Some(jobs)),
            thread: Mutex::new(Some(thread)),
            readers: Mutex::new(readers?),
            free_readers: Semaphore::new(READERS),
            version,
            changes,
            path,
            _lock: lock,
        };
        Ok(Self { inner: Arc::new(inner) })
    }

    /// A connection set up for writing: WAL, an answer only once it is on disk.
    pub fn writer(path: &Path) -> Result<Connection, StoreError> {
        let conn = Connection::open(path).doing("opening the database")?;
        conn.pragma_update(None, "journal_mode", "WAL").doing("switching to WAL")?;
        conn.pragma_update(None, "synchronous", "FULL").doing("asking for durable commits")?;
        for (pragma, value) in WRITING {
            conn.pragma_update(None, pragma, value).doing("setting the writing connection up")?;
        }
        conn.pragma_update(None, "foreign_keys", true).doing("switching foreign keys on")?;
        conn.busy_timeout(Duration::from_secs(5)).doing("setting a time-out")?;
        conn.set_prepared_statement_cache_capacity(STATEMENTS);
        Ok(conn)
    }

    /// Runs a job in a savepoint of its own; the answer means *on disk*.
    ///
    /// A job that fails rolls back alone. Jobs run one after the other and many
    /// share one commit, so a job must not wait for anything.
    ///
    /// # Errors
    /// What the job says, or why the transaction could not be committed.
    pub async fn write<T, E>(
        &self,
        job: impl FnOnce(&Tx<'_>) -> Result<T, E> + Send + 'static,
    ) -> Result<T, E>
    where
        T: Send + 'static,
        E: From<StoreError> + Send + 'static,
    {
        let (tell, told) = oneshot::channel::<Result<T, E>>();
        let job: Job = Box::new(move |tx| {
            let outcome = match tx {
                Some(tx) => catch_unwind(AssertUnwindSafe(|| job(tx)))
                    .unwrap_or_else(|_| Err(StoreError::Panicked.into())),
                None => Err(StoreError::NotCommitted { reason: "could not begin".into() }.into()),
            };
            let keep = outcome.is_ok();
            let answer: Answer = Box::new(move |committed| {
                let outcome = match committed {
                    Ok(()) => outcome,
                    Err(reason) => Err(StoreError::NotCommitted { reason: reason.into() }.into()),
                };
                // A caller that went away loses only the answer.
                let _ = tell.send(outcome);
            });
            (keep, answer)
        });
        let jobs = self.inner.jobs.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let Some(jobs) = jobs else { return Err(StoreError::Closed.into()) };
        jobs.send(job).await.map_err(|_| StoreError::Closed)?;
        told.await.unwrap_or_else(|_| Err(StoreError::Closed.into()))
    }

    /// Runs a query on a read-only connection, off the async threads.
    ///
    /// # Errors
    /// What the query says.
    pub async fn read<T, E>(
        &self,
        query: impl FnOnce(&Connection) -> Result<T, E> + Send + 'static,
    ) -> Result<T, E>
    where
        T: Send + 'static,
        E: From<StoreError> + Send + 'static,
    {
        let inner = Arc::clone(&self.inner);
        let _permit = self.inner.free_readers.acquire().await.map_err(|_| StoreError::Closed)?;
        let run = move || {
            let taken = inner.readers.lock().unwrap_or_else(PoisonError::into_inner).pop();
            let Some(conn) = taken else { return Err(StoreError::Closed.into()) };
            let outcome = catch_unwind(AssertUnwindSafe(|| {
                // One view of the data for all statements of the query.
                let tx = conn.unchecked_transaction().doing("beginning to read")?;
                query(&tx)
            }));
            inner.readers.lock().unwrap_or_else(PoisonError::into_inner).push(conn);
            outcome.unwrap_or_else(|_| Err(StoreError::Panicked.into()))
        };
        tokio::task::spawn_blocking(run).await.unwrap_or_else(|_| Err(StoreError::Panicked.into()))
    }

    /// Counts commits; a view made at one version is true while the version stands.
    #[must_use]
    pub fn version(&self) -> u64 {
        self.inner.version.load(Ordering::Acquire)
    }

    /// Dates whose seats or people changed, told after the commit.
    #[must_use]
    pub fn changes(&self) -> broadcast::Receiver<DateId> {
        self.inner.changes.subscribe()
    }

    /// The file of the house.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.inner.path
    }

    /// Jobs that wait for the writing thread.
    #[must_use]
    pub fn waiting(&self) -> usize {
        let jobs = self.inner.jobs.lock().unwrap_or_else(PoisonError::into_inner);
        jobs.as_ref().map_or(0, |jobs| WAITING - jobs.capacity())
    }

    /// Finishes what waits, brings all of it into the one file, closes it and frees the folder:
    /// whoever copies that file afterwards has everything.
    pub fn close(&self) {
        drop(self.inner.jobs.lock().unwrap_or_else(PoisonError::into_inner).take());
        let thread = self.inner.thread.lock().unwrap_or_else(PoisonError::into_inner).take();
        if let Some(thread) = thread {
            let _ = thread.join();
        }
        // The last connection takes the log beside the file away.
        self.inner.readers.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }
}

/// The name of a house's file in its folder.
pub const FILE: &str = "matricle.sqlite";

/// Makes a folder that only its owner may look into.
pub(crate) fn own_folder(folder: &Path) -> Result<(), StoreError> {
    std::fs::create_dir_all(folder)
        .map_err(|source| StoreError::Folder { folder: folder.into(), source })?;
    #[cfg(unix)]
    set_mode(folder, 0o700);
    Ok(())
}

/// Says in a sentence that a file is none of ours, or broken.
fn damaged(path: &Path, error: StoreError) -> StoreError {
    let broken = |e: &rusqlite::Error| {
        matches!(e.sqlite_error_code(), Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase))
    };
    match &error {
        StoreError::Sqlite { source, .. } if broken(source) => {
            StoreError::Damaged { file: path.into(), said: source.to_string() }
        }
        StoreError::Migration(rusqlite_migration::Error::RusqliteError { err, .. })
            if broken(err) =>
        {
            StoreError::Damaged { file: path.into(), said: err.to_string() }
        }
        StoreError::Migration(rusqlite_migration::Error::MigrationDefinition(
            MigrationDefinitionError::DatabaseTooFarAhead,
        )) => StoreError::FromLater { file: path.into() },
        _ => error,
    }
}

fn reader(path: &Path) -> Result<Connection, StoreError> {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let conn = Connection::open_with_flags(path, flags).doing("opening the database to read")?;
    conn.busy_timeout(Duration::from_secs(5)).doing("setting a time-out")?;
    conn.set_prepared_statement_cache_capacity(STATEMENTS);
    Ok(conn)
}

/// The writing thread: takes what waits, runs each job in a savepoint, commits once, answers all.
fn write_all(
    conn: &Connection,
    mut waiting: mpsc::Receiver<Job>,
    version: &AtomicU64,
    changes: &broadcast::Sender<DateId>,
) {
    let mut batch = Vec::with_capacity(BATCH);
    let memory = Rc::<Memory>::default();
    while waiting.blocking_recv_many(&mut batch, BATCH) > 0 {
        let last = Some(RefCell::default());
        let tx = Tx { memory: Rc::clone(&memory), last, ..Tx::within(conn) };
        let mut answers = Vec::with_capacity(batch.len());
        let outcome = commit(&tx, batch.drain(..), &mut answers);
        if let Err(error) = &outcome {
            tracing::error!(%error, "a commit failed");
            tx.forget();
            if !conn.is_autocommit() {
                let _ = conn.execute_batch("ROLLBACK");
            }
        }
        // Before anybody is answered, so that whoever is sees no older view.
        version.fetch_add(1, Ordering::Release);
        let reason = outcome.as_ref().err().map(ToString::to_string);
        for answer in answers {
            answer(reason.as_deref().map_or(Ok(()), Err));
        }
        if reason.is_none() {
            for date in tx.touched.take() {
                // Nobody listening is fine.
                let _ = changes.send(date);
            }
        }
    }
    if let Err(error) = conn.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(())) {
        tracing::warn!(%error, "the log could not be brought into the file; it stays beside it");
    }
}

fn commit(
    tx: &Tx<'_>,
    jobs: impl Iterator<Item = Job>,
    answers: &mut Vec<Answer>,
) -> Result<(), rusqlite::Error> {
    let run = |sql: &str| tx.prepare_cached(sql)?.execute([]).map(drop);
    // Every job is answered, but never run outside a savepoint.
    let mut state = run("BEGIN IMMEDIATE");
    for job in jobs {
        if state.is_ok() {
            state = run("SAVEPOINT job");
        }
        let before = tx.so_far();
        let (keep, answer) = job(state.is_ok().then_some(tx));
        answers.push(answer);
        if state.is_ok() {
            if !keep {
                tx.take_back(before);
                state = run("ROLLBACK TO job");
            }
            state = state.and_then(|()| run("RELEASE job"));
        }
    }
    for Last(act) in tx.last.as_ref().map(RefCell::take).unwrap_or_default() {
        state = state.and_then(|()| act(tx));
    }
    state.and_then(|()| run("COMMIT"))
}

#[cfg(test)]
mod tests {
    use super::*;

    async fn count(store: &Store) -> i64 {
        store
            .read(|c| {
                c.query_row("SELECT count(*) FROM venues", [], |r| r.get(0)).doing("counting")
            })
            .await
            .unwrap()
    }

    fn add(tx: &Tx<'_>, name: &str) -> Result<(), StoreError> {
        tx.execute("INSERT INTO venues (name, address) VALUES (?1, '')", [name])
            .map(drop)
            .doing("adding a venue")
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn many_jobs_share_commits_and_a_failing_one_rolls_back_alone() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let first = store.version();
        let jobs = (0..200).map(|i| {
            let store = store.clone();
            tokio::spawn(async move {
                store
                    .write(move |tx| {
                        add(tx, &format!("barn {i}"))?;
                        tx.touch(DateId(i));
                        match i % 10 {
                            3 => Err(StoreError::Closed),
                            7 => panic!("a job gone wrong"),
                            8 => add(tx, &format!("barn {i}")), // the name is taken
                            _ => Ok(()),
                        }
                    })
                    .await
            })
        });
        let mut changes = store.changes();
        let mut outcomes = Vec::new();
        for job in jobs.collect::<Vec<_>>() {
            outcomes.push(job.await.unwrap());
        }
        for (i, outcome) in outcomes.iter().enumerate() {
            match i % 10 {
                3 => assert!(matches!(outcome, Err(StoreError::Closed))),
                7 => assert!(matches!(outcome, Err(StoreError::Panicked))),
                8 => assert!(matches!(outcome, Err(StoreError::Sqlite { .. }))),
                _ => assert!(outcome.is_ok()),
            }
        }
        assert_eq!(count(&store).await, 140);
        assert!(store.version() > first && store.version() < first + 200, "commits are shared");
        store.close();
        let mut told = 0;
        while let Ok(date) = changes.try_recv() {
            assert!(![3, 7, 8].contains(&(date.0 % 10)), "a rolled-back job tells nothing");
            told += 1;
        }
        assert_eq!(told, 140);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_query_sees_one_view_of_the_data_whatever_is_written_meanwhile() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let (tell, told) = std::sync::mpsc::channel::<()>();
        let reading = tokio::spawn({
            let store = store.clone();
            async move {
                store
                    .read(move |c| {
                        let count = || {
                            c.query_row("SELECT count(*) FROM venues", [], |r| r.get::<_, i64>(0))
                                .doing("counting")
                        };
                        let before = count()?;
                        let _ = told.recv_timeout(Duration::from_secs(10));
                        Ok::<_, StoreError>((before, count()?))
                    })
                    .await
            }
        });
        tokio::time::sleep(Duration::from_millis(100)).await;
        store.write(|tx| add(tx, "barn")).await.unwrap();
        assert_eq!(count(&store).await, 1, "others see what was written");
        tell.send(()).unwrap();
        assert_eq!(reading.await.unwrap().unwrap(), (0, 0));
        let refused = store.read(|c| c.execute("DELETE FROM venues", []).doing("writing")).await;
        assert!(matches!(refused, Err(StoreError::Sqlite { .. })), "readers cannot write");
    }

    /// What a test remembers: the number of venues.
    #[derive(Default)]
    struct Venues(Option<i64>);

    #[tokio::test(flavor = "multi_thread")]
    async fn a_job_that_is_taken_back_leaves_nothing_to_remember_and_nothing_for_the_end() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        // One job a commit: what is remembered outlives it, what a failing job read does not.
        for (name, fails) in [("barn", false), ("shed", true), ("hall", false)] {
            let told = store
                .write(move |tx| {
                    let known = tx.remembered(|v: &mut Venues| v.0);
                    add(tx, name)?;
                    tx.remembered(|v: &mut Venues| v.0 = Some(known.unwrap_or(0) + 1));
                    tx.at_last(move |tx| {
                        tx.execute("UPDATE venues SET address = 'done' WHERE name = ?1", [name])
                            .map(drop)
                    })
                    .doing("leaving something for the end")?;
                    if fails { Err(StoreError::Closed) } else { Ok(known) }
                })
                .await;
            match name {
                "barn" => assert_eq!(told.unwrap(), None),
                "shed" => assert!(told.is_err()),
                _ => assert_eq!(told.unwrap(), None, "forgotten with the job that was taken back"),
            }
        }
        let done = store
            .read(|c| {
                c.query_row(
                    "SELECT group_concat(name, ' ') FROM venues WHERE address = 'done'",
                    [],
                    |r| r.get::<_, String>(0),
                )
                .doing("looking")
            })
            .await;
        assert_eq!(done.unwrap(), "barn hall");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_folder_is_used_by_one_store_at_a_time() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        assert!(matches!(Store::open(folder.path()), Err(StoreError::InUse { .. })));
        store.close();
        assert!(matches!(store.write(|tx| add(tx, "late")).await, Err(StoreError::Closed)));
        drop(store);
        Store::open(folder.path()).unwrap();
    }
}
