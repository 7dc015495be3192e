//! Keys of records, one type each, so that a date's key is never taken for an event's.

use serde::{Deserialize, Serialize};

macro_rules! keys {
    ($($(#[$doc:meta])* $name:ident),* $(,)?) => {$(
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[serde(transparent)]
        pub struct $name(pub i64);

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                self.0.fmt(f)
            }
        }
    )*};
}

keys! {
    /// Key of an event.
    EventId,
    /// Key of a date of an event.
    DateId,
    /// Key of a named pool of seats on one date.
    PoolId,
    /// Key of a ticket type.
    TicketTypeId,
    /// Key of a question asked while booking.
    QuestionId,
    /// Key of a booking; people see its [`Reference`](crate::words::codes::Reference) instead.
    BookingId,
    /// Key of an attendee; the door sees the [`TicketCode`](crate::words::codes::TicketCode) instead.
    AttendeeId,
    /// Key of a person.
    PersonId,
    /// Key of a session of a date.
    SessionId,
    /// Key of a venue.
    VenueId,
    /// Key of a room of a venue.
    RoomId,
    /// Key of a host.
    HostId,
    /// Key of a tag.
    TagId,
    /// Key of a tax rate.
    TaxRateId,
    /// Key of a cue.
    CueId,
    /// Key of a template.
    TemplateId,
    /// Key of a message in the outbox.
    MessageId,
    /// Key of a submission.
    SubmissionId,
    /// Key of a device at a door.
    DeviceId,
}
