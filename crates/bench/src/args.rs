//! What the measurements are told.

use clap::Args;

/// Arguments of `bench`.
#[derive(Debug, Args)]
pub struct BenchArgs {
    /// Scans and page views to measure; a quarter as many bookings.
    #[arg(long, default_value_t = 20_000)]
    pub count: u32,
    /// Connections at once.
    #[arg(long, default_value_t = 64)]
    pub connections: u32,
}

/// Arguments of `bench-season`.
#[derive(Debug, Args)]
pub struct SeasonArgs {
    /// Most dates.
    #[arg(long, default_value_t = 100_000)]
    pub most: u32,
}

/// Arguments of `bench-door`.
#[derive(Debug, Args)]
pub struct DoorArgs {
    /// People on the roster.
    #[arg(long, default_value_t = 100_000)]
    pub people: u32,
    /// For how many seconds scans come.
    #[arg(long, default_value_t = 20)]
    pub seconds: u32,
}

/// Arguments of `bench-review`.
#[derive(Debug, Args)]
pub struct ReviewArgs {
    /// How many published events there are.
    #[arg(long, default_value_t = 100_000)]
    pub events: u32,
}

/// Arguments of `bench-pages`.
#[derive(Debug, Args)]
pub struct PagesArgs {
    /// Events besides those of the demo.
    #[arg(long, default_value_t = 200)]
    pub events: u32,
    /// Bookings besides those of the demo.
    #[arg(long, default_value_t = 5_000)]
    pub bookings: u32,
    /// So many of the slowest pages are named.
    #[arg(long, default_value_t = 10)]
    pub most: usize,
}

/// Arguments of `bench-messages`.
#[derive(Debug, Args)]
pub struct MessagesArgs {
    /// Bookings of the date that moves; each has three messages or so planned.
    #[arg(long, default_value_t = 38_000)]
    pub bookings: u32,
    /// Mails handed over at each number at once.
    #[arg(long, default_value_t = 400)]
    pub mails: u32,
}

/// Arguments of `bench-invitations`.
#[derive(Debug, Args)]
pub struct InvitationsArgs {
    /// Addresses of the longest list.
    #[arg(long, default_value_t = 20_000)]
    pub most: u32,
}

/// Arguments of `bench-bookings`.
#[derive(Debug, Args)]
pub struct BookingsArgs {
    /// Most attendees.
    #[arg(long, default_value_t = 1_000_000)]
    pub most: u32,
}
