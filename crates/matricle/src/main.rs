//! `matricle`: serve, demo, import and the rest.

use std::process::ExitCode;

use clap::Parser;
use matricle::cli::{Cli, Command};
use matricle::{
    bench, bench_bookings, bench_season, check, config, demo, import, person, serve, standins,
};

fn main() -> ExitCode {
    let cli = Cli::parse();
    // Only what goes wrong, unless RUST_LOG asks for more.
    let filter = tracing_subscriber::EnvFilter::try_from_default_env()
        .unwrap_or_else(|_| tracing_subscriber::EnvFilter::new("warn"));
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).init();
    match run(cli) {
        Ok(code) => code,
        Err(error) => {
            eprintln!("matricle: {error:#}");
            ExitCode::FAILURE
        }
    }
}

fn run(cli: Cli) -> anyhow::Result<ExitCode> {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build()?;
    runtime.block_on(async {
        match cli.command {
            Command::Demo(args) => demo::run(&args).await?,
            Command::Serve(args) => serve::run(&args.load()?).await?,
            Command::Standins(args) => standins::run(&args).await?,
            Command::Import(args) => import::run(&args).await?,
            Command::Person(args) => person::run(&args).await?,
            Command::Check(args) => return check::run(&args.load()?).await,
            Command::Bench(args) => bench::run(&args).await?,
            Command::BenchSeason(args) => bench_season::run(&args)?,
            Command::BenchBookings(args) => bench_bookings::run(&args).await?,
            Command::ExampleConfig => print!("{}", config::EXAMPLE),
            Command::ExampleEvent => print!("{}", matricle_desk::plan::EXAMPLE),
        }
        Ok(ExitCode::SUCCESS)
    })
}
