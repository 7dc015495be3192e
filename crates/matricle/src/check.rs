//! `matricle check`.

use std::process::ExitCode;

use matricle_store::{Store, check};

use crate::config::{self, Config};

/// Verifies the whole data file and names each fault.
///
/// # Errors
/// The file cannot be opened; a fault is no error but an exit code.
pub async fn run(config: &Config) -> anyhow::Result<ExitCode> {
    config::whole_house(&config.data, &config.secret)?;
    anyhow::ensure!(
        config.data.join(matricle_store::FILE).exists(),
        "there is no house in {} yet",
        config.data.display()
    );
    let store = Store::open(&config.data)?;
    let faults = store.read(check::faults).await?;
    let now = matricle_desk::Clock::real().now();
    for idle in store.read(move |conn| check::idle_seats(conn, now)).await? {
        println!("{idle}; the list is served when the program runs");
    }
    for fault in &faults {
        println!("{fault}");
    }
    store.close();
    if faults.is_empty() {
        println!("All is well.");
        return Ok(ExitCode::SUCCESS);
    }
    println!("{} faults", faults.len());
    Ok(ExitCode::FAILURE)
}
