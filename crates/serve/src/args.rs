//! What the commands are told.

use std::path::PathBuf;

use clap::Args;
use matricle_core::people::staff::Role;

use crate::config::Config;

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
