//! Where work is done that takes a processor and memory by what somebody sent or asked for:
//! pictures, papers, mails, sheets. It has two places for the whole program, since the machine has
//! its processors and its memory once, and they are a booker's and a door's first.

use tokio::sync::Semaphore;

use crate::{DeskError, off_thread};

/// How many pieces of work are done at once.
const PLACES: u32 = 2;
/// So many may wait for a place; what each of them brought lies in memory meanwhile.
const MOST_WAITING: usize = 24;

static BENCH: Semaphore = Semaphore::const_new(PLACES as usize);
static WAITING: Semaphore = Semaphore::const_new(MOST_WAITING);

/// How much of the bench a piece of work takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Takes {
    /// One place: a paper, a sheet, a mail.
    Place,
    /// All of it: a picture, which has many times as many bytes once it is decoded.
    All,
}

/// Does a piece of work away from the async threads once there is room for it.
///
/// # Errors
/// What the work says; it panicked.
pub(crate) async fn in_turn<T: Send + 'static>(
    takes: Takes,
    work: impl FnOnce() -> Result<T, DeskError> + Send + 'static,
) -> Result<T, DeskError> {
    let places = match takes {
        Takes::Place => 1,
        Takes::All => PLACES,
    };
    let place = BENCH.acquire_many(places).await.map_err(|e| DeskError::Internal(e.to_string()))?;
    off_thread(move || {
        // Given back when the work ends, also where nobody waits for it any more.
        let _place = place;
        work()
    })
    .await
}

/// The same for what anybody may ask for: where many wait already, it is refused at once.
///
/// # Errors
/// [`DeskError::Busy`]; what the work says; it panicked.
pub(crate) async fn unless_busy<T: Send + 'static>(
    takes: Takes,
    work: impl FnOnce() -> Result<T, DeskError> + Send + 'static,
) -> Result<T, DeskError> {
    let _waits = WAITING.try_acquire().map_err(|_| DeskError::Busy)?;
    in_turn(takes, work).await
}
