//! Who checks people in: somebody of the house, or a device that somebody of the house let join.

use jiff::Timestamp;
use matricle_core::people::acting::{Acting, Actor};
use matricle_core::people::staff::{Right, require};
use matricle_core::{DateId, DeviceId, PersonId};
use matricle_store::devices::Device;
use matricle_store::people::Staff;

use crate::DeskError;

/// Whoever stands at a door.
#[derive(Debug, Clone)]
pub enum Volunteer {
    /// Somebody of the house, who has signed in.
    Staff(Staff),
    /// A device that has joined.
    Device(Box<Device>),
}

impl From<&Staff> for Volunteer {
    fn from(staff: &Staff) -> Self {
        Self::Staff(staff.clone())
    }
}

impl From<&Self> for Volunteer {
    fn from(volunteer: &Self) -> Self {
        volunteer.clone()
    }
}

impl Volunteer {
    /// Lets whoever may check in pass.
    ///
    /// # Errors
    /// The role may not; the device was sent away, or its time is over.
    pub fn checks_in(&self, now: Timestamp) -> Result<(), DeskError> {
        match self {
            Self::Staff(staff) => Ok(require(staff.role, Right::CheckIn)?),
            Self::Device(device) => Ok(device.grant.stands(now)?),
        }
    }

    /// Lets whoever may check in at a date pass.
    ///
    /// # Errors
    /// As [`Self::checks_in`]; the device is for other dates.
    pub fn checks_in_at(&self, date: DateId, now: Timestamp) -> Result<(), DeskError> {
        self.checks_in(now)?;
        match self {
            Self::Staff(_) => Ok(()),
            Self::Device(device) => Ok(device.grant.at(date, now)?),
        }
    }

    /// Lets whoever may take money at a door pass.
    ///
    /// # Errors
    /// The device takes none.
    pub fn takes_money(&self) -> Result<(), DeskError> {
        match self {
            Self::Staff(_) => Ok(()),
            Self::Device(device) => Ok(device.grant.money()?),
        }
    }

    /// Whether they may take money.
    #[must_use]
    pub fn may_take_money(&self) -> bool {
        self.takes_money().is_ok()
    }

    /// Whether they are for a date.
    #[must_use]
    pub fn covers(&self, date: DateId) -> bool {
        match self {
            Self::Staff(_) => true,
            Self::Device(device) => device.grant.covers(date),
        }
    }

    /// The device, where it was sent away.
    #[must_use]
    pub fn sent_away(&self) -> Option<matricle_core::DeviceId> {
        match self {
            Self::Staff(_) => None,
            Self::Device(device) => device.grant.sent_away_at.map(|_| device.id),
        }
    }

    /// As whom they act.
    #[must_use]
    pub fn acting(&self) -> Acting {
        match self {
            Self::Staff(staff) => Acting::staff(Right::CheckIn, staff.id, &staff.name),
            Self::Device(device) => {
                Acting { kind: Actor::Door, key: Some(device.made_by), name: device.name.clone() }
            }
        }
    }

    /// The person, or who answers for the device.
    #[must_use]
    pub const fn person(&self) -> PersonId {
        match self {
            Self::Staff(staff) => staff.id,
            Self::Device(device) => device.made_by,
        }
    }

    /// The device, if it is one.
    #[must_use]
    pub const fn device(&self) -> Option<DeviceId> {
        match self {
            Self::Staff(_) => None,
            Self::Device(device) => Some(device.id),
        }
    }
}
