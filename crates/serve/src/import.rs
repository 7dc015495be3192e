//! `matricle import`.

use anyhow::Context;
use matricle_desk::planning::plan;

use crate::args::ImportArgs;
use crate::serve;

/// Publishes an event planned in a TOML file.
///
/// # Errors
/// The file cannot be read or used, or the server is running.
pub async fn run(args: &ImportArgs) -> anyhow::Result<()> {
    let config = args.config.load()?;
    let text = std::fs::read_to_string(&args.event)
        .with_context(|| format!("the event {} cannot be read", args.event.display()))?;
    let desk = serve::open(&config).await?;
    let (_, slug) = plan::publish(&desk, &text)
        .await
        .with_context(|| format!("the event {} was not published", args.event.display()))?;
    println!("Published: {}/events/{slug}", config.public_url);
    desk.store.close();
    Ok(())
}
