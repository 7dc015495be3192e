use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};

use jiff::{SignedDuration, Timestamp};

/// The one clock. Tests make it stand still; the demo may set it ahead.
#[derive(Debug, Clone)]
pub struct Clock {
    inner: Arc<Inner>,
}

#[derive(Debug)]
enum Inner {
    /// The machine's clock, so many microseconds ahead.
    Running { ahead: i64 },
    /// Microseconds since 1970-01-01T00:00Z.
    Still(AtomicI64),
}

impl Clock {
    /// The machine's clock.
    #[must_use]
    pub fn real() -> Self {
        Self { inner: Arc::new(Inner::Running { ahead: 0 }) }
    }

    /// A clock that runs on from `now`.
    #[must_use]
    pub fn from(now: Timestamp) -> Self {
        let ahead = now.as_microsecond() - machine().as_microsecond();
        Self { inner: Arc::new(Inner::Running { ahead }) }
    }

    /// A clock that stands still.
    #[must_use]
    pub fn still(now: Timestamp) -> Self {
        Self { inner: Arc::new(Inner::Still(AtomicI64::new(now.as_microsecond()))) }
    }

    /// What time it is.
    #[must_use]
    pub fn now(&self) -> Timestamp {
        match &*self.inner {
            Inner::Running { ahead } => {
                matricle_store::at(machine().as_microsecond().saturating_add(*ahead))
            }
            Inner::Still(now) => matricle_store::at(now.load(Ordering::Relaxed)),
        }
    }

    /// What time it is outside, whatever this clock was set to: for signatures that
    /// others date by their own clocks.
    #[must_use]
    pub fn outside(&self) -> Timestamp {
        match &*self.inner {
            Inner::Running { .. } => machine(),
            Inner::Still(_) => self.now(),
        }
    }

    /// Moves a still clock on; a running clock goes its own way.
    pub fn advance(&self, by: SignedDuration) {
        if let Inner::Still(now) = &*self.inner {
            let by = i64::try_from(by.as_micros()).unwrap_or(i64::MAX);
            now.fetch_add(by, Ordering::Relaxed);
        }
    }
}

#[allow(clippy::disallowed_methods, reason = "this is the one place that asks the machine")]
fn machine() -> Timestamp {
    Timestamp::now()
}
