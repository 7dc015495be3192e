//! The treasurer's pages: who owes, what came and went, by event, the ledger, the card
//! provider, hosts.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::money::ledger::{Account, Entry, LedgerLine};
use matricle_core::money::shares::Share;
use matricle_core::people::staff::{Right, require};
use matricle_core::{EventId, HostId};
use matricle_store::books::{self, EventSums, HostShare, Movement, Owing};
use matricle_store::house::House;
use matricle_store::ledger::{self, Booked};
use matricle_store::people::Staff;
use matricle_store::refunds::{self, Refund};
use matricle_store::{Connection, Tx, places};

use crate::outside::provider::Status;
use crate::{Desk, DeskError, house_of};

fields! {
    SHARE: Line = "share", "Percent, or amount" needed;
    COSTS: Amount = "costs", "Costs taken off first", "For “after costs”.";
}

/// How often the provider is asked for its payouts.
const EVERY: SignedDuration = SignedDuration::from_hours(1);

/// What the treasurer sees first.
#[derive(Debug, Clone)]
pub struct Overview {
    /// The house.
    pub house: House,
    /// Who owes what.
    pub owing: Vec<Owing>,
    /// Money on its way back, with reference and name.
    pub refunds: Vec<(Refund, String, String)>,
    /// What each account comes to.
    pub balances: BTreeMap<Account, i64>,
}

/// Who owes what, what goes back, and how the accounts stand.
pub async fn overview(desk: &Desk, staff: &Staff) -> Result<Overview, DeskError> {
    require(staff.role, Right::HandleMoney)?;
    desk.store
        .read(|conn| {
            Ok(Overview {
                house: house_of(conn)?,
                owing: books::owing(conn)?,
                refunds: refunds::open_ones(conn)?,
                balances: ledger::balances(conn)?,
            })
        })
        .await
}

/// What came and went between two instants.
pub async fn movements(
    desk: &Desk,
    staff: &Staff,
    from: Timestamp,
    until: Timestamp,
) -> Result<(House, Vec<Movement>), DeskError> {
    require(staff.role, Right::HandleMoney)?;
    desk.store.read(move |conn| Ok((house_of(conn)?, books::movements(conn, from, until)?))).await
}

/// The money of each event.
pub async fn by_event(desk: &Desk, staff: &Staff) -> Result<(House, Vec<EventSums>), DeskError> {
    require(staff.role, Right::HandleMoney)?;
    desk.store.read(|conn| Ok((house_of(conn)?, books::by_event(conn)?))).await
}

/// The lines of the ledger between two instants.
pub async fn ledger_lines(
    desk: &Desk,
    staff: &Staff,
    from: Timestamp,
    until: Timestamp,
) -> Result<(House, Vec<Booked>), DeskError> {
    require(staff.role, Right::HandleMoney)?;
    desk.store.read(move |conn| Ok((house_of(conn)?, ledger::lines(conn, from, until)?))).await
}

/// How the books and the card provider differ about one payment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// The booking's reference, as stored; empty when the books know no such payment.
    pub reference: String,
    /// The payment's UUID.
    pub payment: String,
    /// Came and went back by the books.
    pub ours: (i64, i64),
    /// Came and went back by the provider; `None` when it knows no such payment.
    pub theirs: Option<(i64, i64)>,
}

/// The card provider beside the books.
#[derive(Debug, Clone)]
pub struct Compared {
    /// The house.
    pub house: House,
    /// The provider answered.
    pub answered: bool,
    /// Payments compared.
    pub count: usize,
    /// Where they differ.
    pub differences: Vec<Difference>,
    /// Payouts booked: when, to the bank, fees.
    pub payouts: Vec<(Timestamp, i64, i64)>,
    /// Minor units that the ledger says lie at the provider.
    pub there: i64,
}

/// Compares the books with the provider's own list.
///
/// # Errors
/// The role may not, or the store fails. A provider that is away is told as that.
pub async fn compare(desk: &Desk, staff: &Staff) -> Result<Compared, DeskError> {
    require(staff.role, Right::HandleMoney)?;
    let list = desk.provider.list().await;
    desk.store
        .read(move |conn| {
            let ours = books::card_payments(conn)?;
            let mut compared = Compared {
                house: house_of(conn)?,
                answered: list.is_ok(),
                count: ours.len(),
                differences: Vec::new(),
                payouts: books::payouts(conn)?,
                there: ledger::balances(conn)?.get(&Account::Provider).copied().unwrap_or(0),
            };
            let Ok(list) = list else { return Ok(compared) };
            let mut theirs: BTreeMap<String, (i64, i64)> = list
                .into_iter()
                .map(|p| {
                    let came = if p.status == Status::Paid { p.amount } else { 0 };
                    (p.reference, (came, p.refunded))
                })
                .collect();
            for our in ours {
                let their = theirs.remove(&our.id);
                if their != Some((our.came, our.refunded)) {
                    compared.differences.push(Difference {
                        reference: our.reference,
                        payment: our.id,
                        ours: (our.came, our.refunded),
                        theirs: their,
                    });
                }
            }
            // Payments that never came are no difference.
            for (payment, their) in theirs.into_iter().filter(|(_, t)| *t != (0, 0)) {
                let (reference, ours) = (String::new(), (0, 0));
                compared.differences.push(Difference {
                    reference,
                    payment,
                    ours,
                    theirs: Some(their),
                });
            }
            Ok(compared)
        })
        .await
}

/// Asks the provider for its payouts, once an hour, and books those that are new.
///
/// # Errors
/// The store fails. A provider that is away is asked again.
pub(crate) async fn ask_for_payouts(desk: &Desk) -> Result<(), DeskError> {
    let now = desk.clock.now();
    let since = now.saturating_sub(EVERY).unwrap_or(now);
    let fresh = desk.store.read(move |conn| books::asked_since(conn, "payouts", since)).await?;
    if fresh {
        return Ok(());
    }
    take_payouts(desk).await
}

/// Asks the provider for its payouts now, because somebody wants to know.
pub async fn ask_payouts(desk: &Desk, staff: &Staff) -> Result<(), DeskError> {
    require(staff.role, Right::HandleMoney)?;
    take_payouts(desk).await
}

async fn take_payouts(desk: &Desk) -> Result<(), DeskError> {
    let now = desk.clock.now();
    let payouts = desk.provider.payouts().await.unwrap_or_default();
    desk.store
        .write(move |tx| {
            books::ask_again(tx, "payouts", SignedDuration::ZERO, now)?;
            for p in payouts {
                if books::payout(tx, &p.id, p.amount, p.fees, now)? {
                    let line = |account, minor| LedgerLine { account, about: 0, minor };
                    let lines = [
                        line(Account::Bank, p.amount),
                        line(Account::Fees, p.fees),
                        line(Account::Provider, -p.amount - p.fees),
                    ];
                    if let Ok(Some(entry)) = Entry::new(lines) {
                        ledger::book(tx, &entry, None, "the card provider", "payout", now)?;
                    }
                }
            }
            Ok(())
        })
        .await
}

/// What a host is owed.
#[derive(Debug, Clone)]
pub struct Statement {
    /// The host.
    pub host: HostId,
    /// Their name.
    pub name: String,
    /// Their shares, with what each comes to now, in minor units.
    pub shares: Vec<(HostShare, i64)>,
    /// What they are owed now: what their shares come to, less what was paid out.
    pub owed: i64,
}

impl Statement {
    /// What was paid out to them so far, in minor units.
    #[must_use]
    pub fn paid(&self) -> i64 {
        self.shares.iter().map(|(_, minor)| minor).sum::<i64>() - self.owed
    }
}

/// Hosts' shares, and what is offered to make new ones of.
#[derive(Debug, Clone)]
pub struct Hosts {
    /// The house.
    pub house: House,
    /// A statement for each host with a share.
    pub statements: Vec<Statement>,
    /// Hosts, by key and name.
    pub hosts: Vec<(i64, String)>,
    /// Events with money, by key and title.
    pub events: Vec<(i64, String)>,
}

fn shares_now(conn: &Connection) -> Result<Vec<(HostShare, i64)>, DeskError> {
    let sums = books::by_event(conn)?;
    Ok(books::shares(conn)?
        .into_iter()
        .map(|s| {
            let event = sums.iter().find(|e| e.id == s.event);
            let minor =
                event.map_or_else(|| s.share.of(0, 0), |e| s.share.of(e.sold - e.tax, e.heads));
            (s, minor)
        })
        .collect())
}

/// The statements of hosts.
pub async fn hosts(desk: &Desk, staff: &Staff) -> Result<Hosts, DeskError> {
    require(staff.role, Right::HandleMoney)?;
    desk.store
        .read(|conn| {
            let owed: BTreeMap<i64, i64> =
                ledger::by_about(conn, Account::HostsOwed)?.into_iter().collect();
            let mut statements: Vec<Statement> = Vec::new();
            for (share, minor) in shares_now(conn)? {
                if statements.last().is_none_or(|s| s.host != share.host) {
                    statements.push(Statement {
                        host: share.host,
                        name: share.name.clone(),
                        shares: Vec::new(),
                        owed: -owed.get(&share.host.0).copied().unwrap_or(0),
                    });
                }
                if let Some(statement) = statements.last_mut() {
                    // What was earned since it was booked last is owed as well.
                    statement.owed += minor - share.booked;
                    statement.shares.push((share, minor));
                }
            }
            Ok(Hosts {
                house: house_of(conn)?,
                statements,
                hosts: places::hosts(conn)?.into_iter().map(|h| (h.id.0, h.name)).collect(),
                events: matricle_store::events::rows(conn)?
                    .into_iter()
                    .map(|e| (e.event.id.0, e.event.title))
                    .collect(),
            })
        })
        .await
}

/// Says what a host gets of an event.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn set_share(desk: &Desk, staff: &Staff, mut form: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::HandleMoney)?;
    desk.store
        .write(move |tx| {
            let currency = house_of(tx)?.currency;
            let event = form.number("event", 1, u32::MAX).map(|e| EventId(e.into()));
            let host = form.number("host", 1, u32::MAX).map(|h| HostId(h.into()));
            let kind = form.get("kind").to_owned();
            let amount = match kind.as_str() {
                "percent" | "after costs" => form.number(SHARE.name, 0, 100).map(i64::from),
                _ => form.amount(SHARE.name, currency),
            };
            let amount = form.need(SHARE.name, amount).unwrap_or(0);
            let costs = form.amount(COSTS.name, currency).unwrap_or(0);
            let share = Share::from_parts(&kind, amount, costs);
            if share.is_none() {
                form.fault("kind", Fault::Unknown);
            }
            let wrong = std::mem::take(&mut form.wrong);
            let (Some(event), Some(host), Some(share), true) =
                (event, host, share, wrong.is_empty())
            else {
                return Err(DeskError::Form(wrong));
            };
            books::set_share(tx, event, host, share)?;
            book_shares(tx, &turn.by.name, turn.now)?;
            turn.log(tx, "set a host’s share", "/office/money/hosts")
        })
        .await
}

/// Brings the ledger to what hosts' shares come to now.
fn book_shares(tx: &Tx<'_>, who: &str, now: Timestamp) -> Result<(), DeskError> {
    for (share, minor) in shares_now(tx)? {
        let (to, from) = ((Account::HostShares, share.event.0), (Account::HostsOwed, share.host.0));
        if let Some(entry) = Entry::move_money(to, from, minor - share.booked) {
            let what = format!("share of event {}", share.event);
            ledger::book(tx, &entry, None, who, &what, now)?;
        }
    }
    Ok(())
}

/// Books what shares come to, then marks all that a host is owed as paid by transfer.
pub async fn pay_host(desk: &Desk, staff: &Staff, host: HostId) -> Result<i64, DeskError> {
    let turn = desk.turn_of(staff, Right::HandleMoney)?;
    desk.store
        .write(move |tx| {
            book_shares(tx, &turn.by.name, turn.now)?;
            let owed = ledger::by_about(tx, Account::HostsOwed)?
                .into_iter()
                .find(|(about, _)| *about == host.0)
                .map_or(0, |(_, minor)| -minor);
            let entry = Entry::move_money((Account::HostsOwed, host.0), (Account::Bank, 0), owed);
            if let Some(entry) = entry.filter(|_| owed > 0) {
                ledger::book(tx, &entry, None, &turn.by.name, "paid out to a host", turn.now)?;
                turn.log(tx, "marked a host’s share as paid", "/office/money/hosts")?;
            }
            Ok::<_, DeskError>(owed.max(0))
        })
        .await
}
