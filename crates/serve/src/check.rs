//! `matricle check`.

use std::process::ExitCode;

use matricle_store::{Store, backup, check};

use crate::config::{self, Config};

/// Verifies the whole data file and names each fault; with `mend`, after a copy, first works out
/// anew what follows from facts.
///
/// # Errors
/// The file cannot be opened; a fault is no error but an exit code.
pub async fn run(config: &Config, mend: bool) -> anyhow::Result<ExitCode> {
    config::whole_house(&config.data, &config.secret)?;
    anyhow::ensure!(
        config.data.join(matricle_store::FILE).exists(),
        "there is no house in {} yet",
        config.data.display()
    );
    let now = matricle_desk::Clock::real().now();
    if mend {
        let file = config.data.join(matricle_store::FILE);
        let stamp = now.to_string().replace([':', '.'], "-");
        let copy = config.data.join(format!("matricle.before-mending-{stamp}.sqlite"));
        let label = backup::Label { made_at: now, secret: String::new() };
        backup::copy(&file, &copy, &label)?;
        matricle_store::keep_to_oneself(&copy);
        println!("The file as it is lies in {}.", copy.display());
    }
    let store = Store::open(&config.data)?;
    if mend {
        for said in store.write(|tx| check::mend(tx)).await? {
            println!("{said}");
        }
    }
    let mut faults = store.read(check::faults).await?;
    faults.extend(store.read(move |conn| check::ahead_of_time(conn, now)).await?);
    let misplanned = store.read(move |conn| matricle_desk::telling::misplanned(conn, now)).await;
    match misplanned {
        Ok(found) => faults.extend(found),
        Err(error) => faults.push(format!("what is planned cannot be looked through: {error}")),
    }
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
    if !mend {
        println!("matricle check --mend works out anew what follows from facts, after a copy.");
    }
    Ok(ExitCode::FAILURE)
}
