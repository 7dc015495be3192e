//! The rules of the job: seats, price, dates, bookings, ticket codes, the door.
//!
//! Every rule is a function of facts, a request and `now`. Nothing here reads a
//! clock, a file, the network or a source of randomness, so each rule is tested
//! on its own and the same rule serves the pages, the timers and the door.

pub mod accent;
pub mod acting;
pub mod acts;
pub mod announced;
pub mod availability;
pub mod backups;
pub mod booking;
pub mod choice;
pub mod clash;
pub mod codes;
pub mod confirm;
pub mod cue;
pub mod cues;
pub mod details;
pub mod documents;
pub mod door;
pub mod form;
pub mod foyer;
pub mod ids;
pub mod keeping;
pub mod ledger;
pub mod letters;
pub mod links;
pub mod marks;
pub mod money;
pub mod network;
pub mod occasion;
pub mod often;
pub mod pasted;
pub mod paying;
pub mod price;
pub mod promo;
pub mod quick;
pub mod refund;
pub mod repeats;
pub mod replies;
pub mod review;
pub mod rule;
pub mod rules;
pub mod schedule;
pub mod search;
pub mod seats;
pub mod sessions;
pub mod shares;
pub mod slots;
pub mod staff;
pub mod stamps;
pub mod state;
pub mod strip;
pub mod template;
pub mod text;
pub mod text_message;
pub mod transfer;
pub mod unasked;
pub mod undo;
pub mod waiting;
pub mod web_calendar;
pub mod who;
pub mod wish;
mod worded;
pub mod words;
pub mod worth;

pub use ids::{
    AttendeeId, BookingId, CueId, DateId, DeviceId, EventId, HostId, MessageId, PersonId, PoolId,
    QuestionId, RoomId, SessionId, SubmissionId, TagId, TaxRateId, TemplateId, TicketTypeId,
    VenueId,
};
pub use money::{Currency, Money};
