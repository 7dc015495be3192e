//! Mails that a server did not take, kept as they were put together until they have gone: a second
//! try at the same words costs nothing.

use std::collections::HashMap;
use std::sync::{LazyLock, Mutex, PoisonError};

use matricle_core::MessageId;

use super::Composed;
use crate::drawn::Print;

/// Most mails that wait, put together, for a server to take them.
const MOST_MAILS: usize = 256;

static MAILS: LazyLock<Mutex<HashMap<MessageId, (Print, Composed)>>> =
    LazyLock::new(Mutex::default);

/// A mail as it was put together before, if it says the same still.
pub(crate) fn get(id: MessageId, print: &Print) -> Option<Composed> {
    let mails = MAILS.lock().unwrap_or_else(PoisonError::into_inner);
    mails.get(&id).filter(|(of, _)| of == print).map(|(_, mail)| mail.clone())
}

/// Keeps a mail until it has gone.
pub(crate) fn keep(id: MessageId, print: Print, mail: Composed) {
    let mut mails = MAILS.lock().unwrap_or_else(PoisonError::into_inner);
    if mails.len() >= MOST_MAILS
        && let Some(any) = mails.keys().next().copied()
    {
        mails.remove(&any);
    }
    mails.insert(id, (print, mail));
}

/// It has gone, or goes no more.
pub(crate) fn forget(id: MessageId) {
    MAILS.lock().unwrap_or_else(PoisonError::into_inner).remove(&id);
}
