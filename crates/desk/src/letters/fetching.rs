//! Reading the house's mailbox: each mail once, in order, however often the line drops.

use std::sync::Arc;

use jiff::ToSpan;
use matricle_store::letters as stored;
use matricle_store::{StoreError, Tx};

use super::taking::{Brought, Taken, forget, keep_plainly, take_in_all};
use crate::outside::letterbox::{AT_ONCE, FetchError, Fetched, ReadTo};
use crate::{Desk, DeskError};

/// The name under which it is kept how far the mailbox was read.
const MAILBOX: &str = "house";

/// So many days back a mailbox is read that was never read before.
const DAYS_BACK: i64 = 14;

/// So many mails are written down with one commit.
const TOGETHER: usize = 25;

/// Reads what is new in the mailbox: how many were new, and whether there are more.
///
/// # Errors
/// The mailbox cannot be read; the store fails.
pub async fn fetch(desk: &Desk) -> Result<(usize, bool), DeskError> {
    let now = desk.clock.now();
    let read_to = desk.store.read(|conn| stored::read_to(conn, MAILBOX)).await?;
    let day = matricle_formats::words::local(now, "UTC").date();
    let since = day.checked_sub(DAYS_BACK.days()).unwrap_or(day);
    let batch = match desk.letterbox.fetch(read_to, since, AT_ONCE).await {
        // Something in it cannot be handed over: one by one, until it is found.
        Err(stuck) if stuck.stuck_at.is_some() => {
            match desk.letterbox.fetch(read_to, since, 1).await {
                Err(FetchError { reason, stuck_at: Some(at) }) => {
                    return pass_over(desk, at, &reason).await;
                }
                one => one,
            }
        }
        all => all,
    };
    let batch = batch.map_err(|e| DeskError::Internal(e.reason))?;
    let last = batch.last;
    let (validity, more) = (batch.validity, batch.more);
    let mut new = 0;
    let mut mails = batch.mails.into_iter().peekable();
    let brought = |m: Fetched| Brought { raw: Arc::new(m.raw), too_large: m.too_large };
    while mails.peek().is_some() {
        let some: Vec<(u32, Brought)> =
            mails.by_ref().take(TOGETHER).map(|m| (m.uid, brought(m))).collect();
        // How far it was read is written with what was read: a line that drops loses nothing, and
        // nothing is read twice.
        let up_to = move |uid| {
            move |tx: &Tx<'_>| Ok(stored::set_read_to(tx, MAILBOX, (validity, uid), now)?)
        };
        let last = some.last().map_or(0, |(uid, _)| *uid);
        let all = some.iter().map(|(_, mail)| mail.clone()).collect();
        let taken = match take_in_all(desk, all, up_to(last)).await {
            Ok(taken) => taken,
            Err(closed @ DeskError::Store(StoreError::Closed)) => return Err(closed),
            // Something that follows from one of them fails: it is kept as it came, and holds up
            // no other.
            Err(_) => {
                let mut taken = Vec::new();
                for (uid, mail) in &some {
                    forget(desk, mail).await?;
                    let one = take_in_all(desk, vec![mail.clone()], up_to(*uid)).await;
                    taken.extend(match one {
                        Err(failed) if !matches!(failed, DeskError::Store(_)) => {
                            vec![keep_plainly(desk, mail.clone(), up_to(*uid)).await?]
                        }
                        one => one?,
                    });
                }
                taken
            }
        };
        new += taken.iter().filter(|t| matches!(t, Taken::New(_))).count();
    }
    // What was asked for and did not come was taken away meanwhile.
    let read_to = read_to.filter(|(v, _)| *v == validity).map_or(0, |(_, uid)| uid);
    if last > read_to {
        desk.store.write(move |tx| stored::set_read_to(tx, MAILBOX, (validity, last), now)).await?;
    }
    Ok((new, more))
}

/// Goes on behind a mail that the mailbox cannot hand over: that there is one is kept and shown.
async fn pass_over(
    desk: &Desk,
    (validity, uid): ReadTo,
    reason: &str,
) -> Result<(usize, bool), DeskError> {
    let now = desk.clock.now();
    let words = format!("Mail {uid} of the mailbox could not be handed over: {reason}");
    let raw = format!("Subject: {words}\r\nMessage-ID: <{validity}.{uid}@mailbox>\r\n\r\n");
    let brought = Brought { raw: Arc::new(raw.into_bytes()), too_large: None };
    take_in_all(desk, vec![brought], move |tx| {
        Ok(stored::set_read_to(tx, MAILBOX, (validity, uid), now)?)
    })
    .await?;
    Ok((1, true))
}
