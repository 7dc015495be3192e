//! How many seats of one date one person may keep from everybody else while nothing is booked
//! for good: in holds, in questions and while money is awaited.

/// What is known when somebody wants to keep seats of a date.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct HoldFacts {
    /// Seats they want now.
    pub wanted: u32,
    /// Seats of the date that are not booked for good: free ones, and those that anybody keeps.
    pub open: u32,
    /// Bookings of the date that this browser keeps and has not finished, this one left out.
    pub by_browser: u32,
    /// Seats of the date that are kept from their network by people who have not proved an
    /// address.
    pub by_network: u32,
    /// They have proved their address.
    pub proved: bool,
}

/// Unfinished bookings of one date that one browser may have.
pub const MOST_BY_BROWSER: u32 = 3;
/// Unfinished bookings of one date that one address may have: as it is merely typed, and once
/// it is proved.
const MOST_BY_ADDRESS: (u32, u32) = (2, 8);
/// Seats that one network may always keep, however few are left.
const AT_LEAST: u32 = 10;

/// Why somebody may not keep more seats for now.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum KeepRefusal {
    /// This browser keeps seats of the date in several bookings already.
    #[error("this browser has {kept} unfinished bookings of the date")]
    Browser {
        /// How many.
        kept: u32,
    },
    /// So many seats are kept from this network that others would find none.
    #[error("{kept} seats are kept from this network, {most} may be")]
    Network {
        /// Seats kept.
        kept: u32,
        /// The most.
        most: u32,
    },
    /// This address has unfinished bookings of the date already.
    #[error("this address has {kept} unfinished bookings of the date")]
    Address {
        /// How many.
        kept: u32,
    },
}

/// Lets somebody keep seats, or says why not.
///
/// A thousand people may sit behind one network when a sale opens, and one person may send a
/// thousand requests from it: so a network may keep half of the seats that are not booked for
/// good, ten at least, and each booking that is finished makes room for the next. Whoever has proved an address is not
/// counted by network at all: a way through for everybody behind a crowded one.
///
/// # Errors
/// What is kept already.
pub const fn may_keep(facts: &HoldFacts) -> Result<(), KeepRefusal> {
    if facts.by_browser >= MOST_BY_BROWSER {
        return Err(KeepRefusal::Browser { kept: facts.by_browser });
    }
    let half = facts.open.div_ceil(2);
    let most = if half > AT_LEAST { half } else { AT_LEAST };
    if !facts.proved && facts.by_network > 0 && facts.by_network.saturating_add(facts.wanted) > most
    {
        return Err(KeepRefusal::Network { kept: facts.by_network, most });
    }
    Ok(())
}

/// Lets an address have one more booking of a date that waits for money or for an answer; it
/// has `kept` of them.
///
/// # Errors
/// It has as many as it may.
pub const fn may_wait(kept: u32, proved: bool) -> Result<(), KeepRefusal> {
    let most = if proved { MOST_BY_ADDRESS.1 } else { MOST_BY_ADDRESS.0 };
    if kept >= most { Err(KeepRefusal::Address { kept }) } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_network_never_keeps_everything_and_a_proved_address_passes() {
        let at = |open, by_network, wanted| HoldFacts {
            open,
            by_network,
            wanted,
            ..HoldFacts::default()
        };
        assert!(may_keep(&at(100, 40, 10)).is_ok());
        assert_eq!(may_keep(&at(100, 41, 10)), Err(KeepRefusal::Network { kept: 41, most: 50 }));
        assert!(may_keep(&HoldFacts { proved: true, ..at(100, 90, 10) }).is_ok());
        // A small hall, and a party larger than half of it that is the first to ask.
        assert!(may_keep(&at(8, 7, 1)).is_ok() && may_keep(&at(100, 0, 60)).is_ok());
        let many = HoldFacts { by_browser: MOST_BY_BROWSER, proved: true, ..at(100, 0, 1) };
        assert_eq!(may_keep(&many), Err(KeepRefusal::Browser { kept: 3 }));
        assert!(
            may_wait(1, false).is_ok() && may_wait(2, false).is_err() && may_wait(2, true).is_ok()
        );
    }
}
