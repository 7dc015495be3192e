//! The log, on standard error.

use tracing_subscriber::EnvFilter;

use crate::config::{LogConfig, LogFormat};

/// Starts the log; what `RUST_LOG` says comes before the configuration.
pub fn start(config: &LogConfig) {
    let filter =
        EnvFilter::try_from_default_env().unwrap_or_else(|_| EnvFilter::new(&config.level));
    let log = tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr);
    match config.format {
        LogFormat::Text => log.init(),
        LogFormat::Json => log.json().flatten_event(true).init(),
    }
}
