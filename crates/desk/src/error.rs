use jiff::civil;
use matricle_core::booking::details::{Field, Problem};
use matricle_core::booking::{ChoiceRefusal, Move, MoveRefusal, State};
use matricle_core::dates::schedule::SpanError;
use matricle_core::dates::sessions::SignUpRefusal;
use matricle_core::forms::form::Wrong;
use matricle_core::forms::quick;
use matricle_core::people::staff::RightRefusal;
use matricle_core::people::who::WhoRefusal;
use matricle_core::seats::hold_limits::KeepRefusal;
use matricle_core::{DateId, EventId};
use matricle_store::StoreError;

use crate::outside::provider::ProviderError;

/// A pool that holds more than a new capacity.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TooSmall {
    /// What is counted, and when.
    pub pool: String,
    /// Seats taken.
    pub taken: u32,
    /// The capacity asked for.
    pub capacity: u32,
    /// The bookers concerned: those who booked last, past the new capacity.
    pub people: Vec<String>,
}

/// Why a use case did not do what was asked. The pages word each.
#[derive(Debug, thiserror::Error)]
pub enum DeskError {
    /// There is nothing here, or not for this asker.
    #[error("not found")]
    NotFound,
    /// The house has not been set up.
    #[error("the house has not been set up")]
    NotSetUp,
    /// The role lacks the right.
    #[error(transparent)]
    Right(#[from] RightRefusal),
    /// The tickets cannot be kept.
    #[error(transparent)]
    Choice(#[from] ChoiceRefusal),
    /// One person, or one network, keeps too many seats already.
    #[error(transparent)]
    Keep(#[from] KeepRefusal),
    /// Asked for too often.
    #[error("asked too often; {seconds} seconds to wait")]
    TooOften {
        /// How long to wait.
        seconds: u64,
    },
    /// Much is being drawn and read already: in a moment there is room again.
    #[error("too much is being drawn and read at once")]
    Busy,
    /// A date that people have booked would be over already.
    #[error("it would lie in the past")]
    IntoPast,
    /// Mail to this address is refused for good: nothing goes there.
    #[error("no mail reaches {0}")]
    RefusesMail(String),
    /// Somebody has been let in with a ticket that is to be moved or cancelled.
    #[error("{name} is inside")]
    Inside {
        /// Who.
        name: String,
    },
    /// A device may not do it, or not any more.
    #[error(transparent)]
    Device(#[from] matricle_core::door::device::DeviceRefusal),
    /// The door of a date that is not on now, and that no organiser has opened.
    #[error("the door of this date is not open")]
    DoorShut,
    /// A scan's key was used before, for somebody else.
    #[error("this scan was of somebody else")]
    KeyOfAnother,
    /// As many are inside as may be.
    #[error("{inside} are inside, {most} may be")]
    HallFull {
        /// How many are inside.
        inside: u32,
        /// How many may be.
        most: u32,
    },
    /// Who came is settled, or the date has not begun.
    #[error("the list of who came is closed, or the date has not begun")]
    ListClosed,
    /// The price changed while the hold was over: the booker must see it first.
    #[error("the price changed from {old} to {new}")]
    PriceChanged {
        /// What it cost.
        old: matricle_core::Money,
        /// What it costs now.
        new: matricle_core::Money,
    },
    /// The booking's state does not allow it.
    #[error(transparent)]
    Move(#[from] MoveRefusal),
    /// Something cannot be done with a submission.
    #[error(transparent)]
    Submission(#[from] matricle_core::review::submission::Refusal),
    /// This booker may not book.
    #[error(transparent)]
    Who(#[from] WhoRefusal),
    /// The sessions cannot be had.
    #[error(transparent)]
    SignUp(#[from] SignUpRefusal),
    /// Fields of a form of the Office need another look, by their names.
    #[error("{} fields need another look", .0.len())]
    Form(Vec<Wrong>),
    /// Seats are in the way of what was asked.
    #[error("{} pools would be over-full", .0.len())]
    OverFull(Vec<TooSmall>),
    /// Something would be used twice at one time: shown, and done once that is accepted.
    #[error("{} things would be used twice", .0.len())]
    Clashes(Vec<crate::Clash>),
    /// Fields need another look.
    #[error("{} fields need another look", .0.len())]
    Details(Vec<(Field, Problem)>),
    /// Fields of the quick form need another look.
    #[error("{} fields need another look", .0.len())]
    Quick(Vec<(quick::Field, quick::Problem)>),
    /// Bookings wait for a yes that need not any more: what becomes of them is to be said.
    #[error("{} bookings wait that need not any more", bookings.len())]
    Freed {
        /// Reference and booker of each.
        bookings: Vec<(matricle_core::words::codes::Reference, String)>,
    },
    /// The same person has booked this date before: asked about, not forbidden.
    #[error("booked this date before, at {made_at}")]
    BookedBefore {
        /// When.
        made_at: jiff::Timestamp,
        /// What that booking comes to.
        total: matricle_core::Money,
    },
    /// A promo code is not taken.
    #[error("the promo code {code} is not taken: {refusal}")]
    Promo {
        /// The code.
        code: String,
        /// Why.
        refusal: matricle_core::money::promo::PromoRefusal,
    },
    /// A stamp card does not pay.
    #[error("the stamp card does not pay: {0}")]
    Stamps(matricle_core::money::stamps::StampRefusal),
    /// The booker may not do this: by the event's rules, or because it has begun.
    #[error("not by the booker")]
    NotByBooker,
    /// The house takes no transfers, or the date is too near for one.
    #[error("no bank transfer for this booking")]
    NoTransfer,
    /// Nobody need wait: the seats are free.
    #[error("the seats are free")]
    SeatsFree,
    /// The event is not in the Programme yet.
    #[error("the event is not published")]
    NotPublished,
    /// Only a draft is thrown away or publishes itself; what was thrown away is brought back
    /// before that.
    #[error("not a draft, or one that was thrown away")]
    NotADraft,
    /// An event that people have booked cannot vanish from the Programme.
    #[error("{bookings} bookings are in the way")]
    Booked {
        /// How many.
        bookings: u32,
    },
    /// Address and password do not belong together.
    #[error("address and password do not belong together")]
    SignIn,
    /// The mail server does not take a mail that somebody waits for.
    #[error("the mail server does not answer")]
    MailAway,
    /// A password that is too short to keep anybody out.
    #[error("a password needs at least {least} characters")]
    ShortPassword {
        /// The least number of characters.
        least: usize,
    },
    /// A plan that cannot be carried out.
    #[error("the plan cannot be used: {0}")]
    Plan(#[from] crate::PlanError),
    /// The scan cannot be undone: it let nobody in, or was undone before.
    #[error("there is nothing to undo")]
    NothingToUndo,
    /// The way back to a booking was mailed often enough.
    #[error("the link was mailed often enough")]
    EnoughLinks,
    /// A webhook that is not from the provider, or too old.
    #[error("the webhook is not signed as it should be")]
    Unsigned,
    /// The meeting-room service does not let anybody in just now.
    #[error(transparent)]
    Room(#[from] crate::outside::rooms::RoomError),
    /// The card provider failed.
    #[error(transparent)]
    Provider(#[from] ProviderError),
    /// The ticket could not be drawn.
    #[error(transparent)]
    Paper(#[from] matricle_papers::PaperError),
    /// A mail could not be put together.
    #[error(transparent)]
    Mail(#[from] matricle_formats::mail::MailError),
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Something that should not happen.
    #[error("{0}")]
    Internal(String),
}

/// The state does not allow it.
pub(crate) const fn refuse(state: State, by: Move) -> DeskError {
    DeskError::Move(MoveRefusal { state, by })
}

/// Something used twice at one time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Clash {
    /// What: *the long room*, *Ilse Karrow*, *protective suits*.
    pub what: String,
    /// The date that wants it, when it is written down already.
    pub mine: Option<DateId>,
    /// The start of the date that wants it, local.
    pub starts: jiff::civil::DateTime,
    /// The other date.
    pub other: DateId,
    /// The other date's event.
    pub event: EventId,
    /// Its title.
    pub title: String,
    /// When the other one is, local.
    pub span: (jiff::civil::DateTime, jiff::civil::DateTime),
}

/// Why a plan cannot be carried out.
#[derive(Debug, thiserror::Error)]
pub enum PlanError {
    /// Not TOML, or not these fields.
    #[error("{0}")]
    Toml(#[from] Box<toml::de::Error>),
    /// No name left after folding.
    #[error("the title needs at least one letter or digit")]
    NoTitle,
    /// Nothing to count.
    #[error("name at least one pool, such as `pools = [\"seats\"]`")]
    NoPools,
    /// Nothing to sell.
    #[error("add at least one [[tickets]]")]
    NoTickets,
    /// No happening.
    #[error("add at least one [[dates]]")]
    NoDates,
    /// A pool that is not named above.
    #[error("{place} names the pool {pool:?}, which is not among the pools")]
    UnknownPool {
        /// Where it is named.
        place: String,
        /// The name.
        pool: String,
    },
    /// A pool without a capacity.
    #[error("the date {date} gives no seats for the pool {pool:?}")]
    NoCapacity {
        /// Which date.
        date: civil::DateTime,
        /// Which pool.
        pool: String,
    },
    /// Not an amount.
    #[error("{text:?} is not an amount in {currency}; write it like \"36.00\"")]
    Amount {
        /// What was given.
        text: String,
        /// The house's currency.
        currency: String,
    },
    /// A ticket that lets nobody in, or more than a ticket can.
    #[error("the ticket {ticket:?} lets {admits} people in; 1 to 20 are possible")]
    Admits {
        /// Which ticket.
        ticket: String,
        /// How many.
        admits: u32,
    },
    /// Times that are none.
    #[error(transparent)]
    Span(#[from] SpanError),
}
