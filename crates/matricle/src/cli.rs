//! The command line.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};
use jiff::Timestamp;
use matricle_bench::args::{
    BenchArgs, BookingsArgs, DoorArgs, InvitationsArgs, MessagesArgs, PagesArgs, ReviewArgs,
    SeasonArgs,
};
use matricle_serve::args::{
    BackupArgs, CheckArgs, ConfigArgs, ImportArgs, PersonArgs, RestoreArgs,
};

/// Events, bookings and the door for clubs, associations and training organisers.
#[derive(Debug, Parser)]
#[command(version, propagate_version = true)]
pub struct Cli {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Start with a made-up beekeepers' association and simulated outside services.
    Demo(DemoArgs),
    /// Run it for real.
    Serve(ConfigArgs),
    /// Run only the simulated outside services: the card till and the mailbox.
    Standins(StandinArgs),
    /// Publish an event planned in a TOML file (see `example-event`); the server must be stopped.
    Import(ImportArgs),
    /// Give somebody a role and a password, read from standard input; the server must be stopped.
    Person(PersonArgs),
    /// Verify the whole data file; exits with 1 and names each fault; the server must be stopped.
    Check(CheckArgs),
    /// Make a backup of a house, also while the server runs.
    Backup(BackupArgs),
    /// Bring a backup back into an empty folder, and verify it.
    Restore(RestoreArgs),
    /// Measure scans, bookings and pages beside plain SQLite and bare Axum.
    Bench(BenchArgs),
    /// Measure what lists of many dates cost, beside the bare SQL they need.
    BenchSeason(SeasonArgs),
    /// Measures how long the door waits for a verdict, names, a roster and badges take.
    BenchDoor(DoorArgs),
    /// Measures what the checks of a submission cost among many published events.
    BenchReview(ReviewArgs),
    /// Measure booking and the list of bookings in growing files, beside plain SQL.
    BenchBookings(BookingsArgs),
    /// Measure every page in a house of many years, beside the limit of 300 ms.
    BenchPages(PagesArgs),
    /// Measures planning messages anew after a date moved, with a door at work, and sending mails.
    BenchMessages(MessagesArgs),
    /// Measure what a long list of people to be invited costs, with doors scanning meanwhile.
    BenchInvitations(InvitationsArgs),
    /// Print an example configuration.
    ExampleConfig,
    /// Print an example event for `import`.
    ExampleEvent,
}

/// Arguments of `demo`.
#[derive(Debug, Args)]
pub struct DemoArgs {
    /// The port of the pages; the stand-ins take the three after it. 0 takes any that are free.
    #[arg(long, default_value_t = 8420)]
    pub port: u16,
    /// A folder to keep the demo in; without it, it is forgotten at the end.
    #[arg(long)]
    pub data: Option<PathBuf>,
    /// A house of many years: 200 events and 5,000 bookings more.
    #[arg(long)]
    pub large: bool,
    /// Pretend that it is this time, such as 2027-05-14T17:30+02:00.
    #[arg(long)]
    pub now: Option<Timestamp>,
}

/// Arguments of `standins`.
#[derive(Debug, Args)]
pub struct StandinArgs {
    /// The port of the till; the mailbox's page and SMTP take the two after it.
    #[arg(long, default_value_t = 8421)]
    pub port: u16,
    /// A folder to keep payments and mails in.
    #[arg(long)]
    pub data: Option<PathBuf>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_command_line_is_sound_and_reads_the_demos_clock() {
        use clap::CommandFactory;
        Cli::command().debug_assert();
        let cli =
            Cli::try_parse_from(["matricle", "demo", "--now", "2027-05-14T17:30+02:00"]).unwrap();
        let Command::Demo(demo) = cli.command else { panic!("demo") };
        assert_eq!(demo.now.unwrap().to_string(), "2027-05-14T15:30:00Z");
        assert!(Cli::try_parse_from(["matricle", "demo", "--now", "soon"]).is_err());
    }
}
