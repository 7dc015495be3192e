//! The command line.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};
use jiff::Timestamp;
use matricle_core::people::staff::Role;

use crate::config::Config;

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

/// Arguments of commands that need the configuration.
#[derive(Debug, Args)]
pub struct ConfigArgs {
    /// The configuration file (see `example-config`).
    #[arg(long)]
    pub config: PathBuf,
}

impl ConfigArgs {
    /// Reads the configuration.
    ///
    /// # Errors
    /// The file cannot be read, or says something odd.
    pub fn load(&self) -> anyhow::Result<Config> {
        Config::load(&self.config, |name| std::env::var(name).ok())
    }
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

/// Arguments of `import`.
#[derive(Debug, Args)]
pub struct ImportArgs {
    /// The configuration.
    #[command(flatten)]
    pub config: ConfigArgs,
    /// The planned event.
    pub event: PathBuf,
}

/// Arguments of `person`.
#[derive(Debug, Args)]
pub struct PersonArgs {
    /// The configuration.
    #[command(flatten)]
    pub config: ConfigArgs,
    /// Their name.
    #[arg(long)]
    pub name: String,
    /// Their e-mail address, with which they sign in.
    #[arg(long)]
    pub email: String,
    /// The role.
    #[arg(long, value_parser = Role::ALL.map(Role::word))]
    pub role: String,
}

/// What `check` is told.
#[derive(Debug, Args)]
pub struct CheckArgs {
    /// Where the configuration is.
    #[command(flatten)]
    pub config: ConfigArgs,
    /// First work out anew what follows from facts (counters, words that are searched, planned
    /// messages), after a copy beside the file.
    #[arg(long)]
    pub mend: bool,
}

/// Arguments of `backup`.
#[derive(Debug, Args)]
pub struct BackupArgs {
    /// The configuration.
    #[command(flatten)]
    pub config: ConfigArgs,
    /// The folder it goes to; older backups in it are thinned by the rule of the configuration.
    pub target: PathBuf,
}

/// Arguments of `restore`.
#[derive(Debug, Args)]
pub struct RestoreArgs {
    /// The backup.
    pub backup: PathBuf,
    /// The data folder to bring it back into; it holds no house yet.
    #[arg(long)]
    pub into: PathBuf,
    /// A file with the passphrase it was encrypted with.
    #[arg(long)]
    pub passphrase_file: Option<PathBuf>,
}

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
