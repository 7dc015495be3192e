//! Events, their dates, pools, ticket types, questions and sessions.

mod change;
mod choices;
mod dates;
mod event;
mod list;
mod new;
mod patterns;
mod pictures;
mod plan;
mod questions;
mod rows;
pub mod sessions;
pub mod slots;
mod tickets;

pub use change::{
    add_date, add_pool_kind, add_run, call_off, change_date, date_changed, move_date,
    move_sessions, remove_date, runs_of, set_capacity, set_hosts, without_bookings,
};
pub use choices::{Choices, Planned, choices, choices_now, choices_of_date, planned};
pub(crate) use dates::span;
pub use dates::{
    Date, capacities, date_by_id, dates_of, inside, latest_online, longest, pools, that_begins,
};
pub use event::{
    Event, EventState, Format, by_id, by_slug, changed, free_slug, index, set, set_publish_at,
    set_slug, set_state, set_tags, set_thrown, slug_of_another, tags_of, to_publish, unmake,
    vocabulary, without_marks,
};
pub use list::{DateSummary, Found, Sought, list, months};
pub use new::{NewDate, NewEvent, NewOnline, NewQuestion, NewSession, NewTicketType, SlotPlan};
pub use patterns::{Pattern, drop_pattern, patterns, save_pattern};
pub use pictures::{Picture, drop_picture, picture, picture_bytes, set_picture};
pub use plan::{insert, read};
pub use questions::{add_question, drop_question, questions, set_question, set_question_place};
pub use rows::{EventRow, rows};
pub use tickets::{
    CardTicket, TicketRow, TicketType, add_ticket, drop_ticket, pool_kinds, set_ticket,
    set_ticket_place, ticket_rows, ticket_types,
};
pub(crate) use tickets::{JOINS_ONLINE, way};
