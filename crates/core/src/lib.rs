//! The rules of the job: seats, price, dates, bookings, ticket codes, the door.
//!
//! Every rule is a function of facts, a request and `now`. Nothing here reads a
//! clock, a file, the network or a source of randomness, so each rule is tested
//! on its own and the same rule serves the pages, the timers and the door.

pub mod backups;
pub mod booking;
pub mod dates;
pub mod door;
pub mod forms;
pub mod ids;
pub mod messages;
pub mod money;
pub mod people;
pub mod review;
pub mod seats;
pub mod state;
pub mod worded;
pub mod words;

pub use ids::{
    AttendeeId, BookingId, CueId, DateId, DeviceId, EventId, HostId, MessageId, PersonId, PoolId,
    QuestionId, RoomId, SessionId, SubmissionId, TagId, TaxRateId, TemplateId, TicketTypeId,
    VenueId,
};
pub use money::{Currency, Money};
