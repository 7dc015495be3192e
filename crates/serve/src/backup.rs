//! `matricle backup` and `matricle restore`.

use anyhow::{Context, ensure};
use jiff::tz::TimeZone;
use matricle_desk::house::backup;
use matricle_store::{FILE, Store, check};

use crate::args::{BackupArgs, RestoreArgs};
use crate::config;

/// Makes a backup, also while the server runs.
///
/// # Errors
/// There is no house; the target cannot be written; the copy is damaged.
#[allow(clippy::disallowed_methods, reason = "a command asks the machine's clock")]
pub fn make(args: &BackupArgs) -> anyhow::Result<()> {
    let config = args.config.load()?;
    let database = config.data.join(FILE);
    ensure!(database.exists(), "there is no house in {} yet", config.data.display());
    let plan = config.backup_plan(args.target.clone())?;
    let made = backup::make(&database, &plan, jiff::Timestamp::now())?;
    if made.faults.is_empty() {
        println!("Backed up to {}, read through: all is well.", made.file.display());
    } else {
        println!(
            "Backed up to {}. The copy is whole, and has what is wrong in the house:",
            made.file.display()
        );
        tell(&made.faults);
    }
    Ok(())
}

/// Brings a backup back into an empty folder, and verifies it.
///
/// # Errors
/// The folder holds a house; the backup is none, damaged, or encrypted otherwise.
pub async fn restore(args: &RestoreArgs) -> anyhow::Result<()> {
    let there = args.into.join(FILE);
    ensure!(
        !there.exists(),
        "{} is there already; a backup is brought back into a folder without a house",
        there.display()
    );
    let passphrase = match &args.passphrase_file {
        Some(file) => {
            let text = std::fs::read_to_string(file)
                .with_context(|| format!("the passphrase {} cannot be read", file.display()))?;
            Some(text.lines().next().unwrap_or_default().to_owned())
        }
        None => None,
    };
    let label = backup::restore(&args.backup, &args.into, passphrase, |label| {
        if label.secret.is_empty() {
            return Ok(());
        }
        config::keep_secret(&args.into, &label.secret).map_err(std::io::Error::other)
    })?;
    let store = Store::open(&args.into)?;
    let faults = store.read(check::faults).await?;
    store.close();
    let made = label.made_at.to_zoned_datetime(TimeZone::UTC).strftime("%Y-%m-%d %H:%M");
    let into = args.into.display();
    if faults.is_empty() {
        println!("Brought back into {into}, as of {made} UTC; all is well.");
    } else {
        println!(
            "Brought back into {into}, as of {made} UTC. What was wrong in the house is wrong in it:"
        );
        tell(&faults);
    }
    Ok(())
}

/// Faults, and what can be done about them.
fn tell(faults: &[String]) {
    for fault in faults {
        println!("  {fault}");
    }
    println!("matricle check --mend works out anew what follows from facts, after a copy.");
}
