//! `matricle person`.

use std::io::{IsTerminal, stdin};

use anyhow::Context;
use matricle_core::people::staff::Role;
use matricle_core::words::address::is_address;
use matricle_desk::house::audit;
use matricle_desk::people::signin;

use crate::args::PersonArgs;
use crate::serve;

/// Gives somebody a role and a password.
///
/// # Errors
/// The role or address is none, the password is too short, or the server is running.
pub async fn run(args: &PersonArgs) -> anyhow::Result<()> {
    let role = Role::from_word(&args.role).with_context(|| {
        let known: Vec<_> = Role::ALL.iter().map(|r| r.word()).collect();
        format!("{:?} is not a role; the roles are: {}", args.role, known.join(", "))
    })?;
    anyhow::ensure!(is_address(&args.email), "{:?} is not an e-mail address", args.email);
    if stdin().is_terminal() {
        eprintln!("Type the password and press Enter; it is shown as you type.");
    }
    let mut password = String::new();
    stdin().read_line(&mut password).context("no password came in")?;
    let desk = serve::open(&args.config.load()?).await?;
    let password = password.trim_end_matches(['\r', '\n']).to_owned();
    let name = matricle_core::words::text::line(&args.name);
    signin::employ(&desk, name.clone(), args.email.clone(), role, password).await?;
    audit::by_command(&desk, format!("made {name} {}, with a new password", role.word())).await?;
    println!("{} can sign in as {}.", args.email, role.word());
    desk.store.close();
    Ok(())
}
