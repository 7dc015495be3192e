//! The log, on standard error.

use tracing_subscriber::filter::Targets;
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::util::SubscriberInitExt;
use tracing_subscriber::{Layer, Registry};

use crate::config::{LogConfig, LogFormat};

/// Starts the log; what `RUST_LOG` says comes before the configuration: a level, or levels of parts
/// of the program (`info,matricle_desk=debug`).
pub fn start(config: &LogConfig) {
    let own = std::env::var("RUST_LOG").ok().and_then(|said| said.parse::<Targets>().ok());
    let filter = own.or_else(|| config.level.parse().ok()).unwrap_or_default();
    let lines = tracing_subscriber::fmt::layer().with_writer(std::io::stderr);
    let lines: Box<dyn Layer<Registry> + Send + Sync> = match config.format {
        LogFormat::Text => lines.boxed(),
        LogFormat::Json => lines.json().flatten_event(true).boxed(),
    };
    tracing_subscriber::registry().with(lines.with_filter(filter)).init();
}
