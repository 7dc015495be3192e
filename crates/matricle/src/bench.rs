//! `matricle bench`.

use crate::cli::BenchArgs;

/// Placeholder until the next commit.
///
/// # Errors
/// None.
pub async fn run(_args: &BenchArgs) -> anyhow::Result<()> {
    Ok(())
}
